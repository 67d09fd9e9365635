"""The library of sections: what is run on a host to read it, in POSIX shell, and which decoder takes what comes back.

A section prints lines that begin with a tag and a blank, so that nothing a file holds can pass for another part of it.
It says why on standard error, and ends with a status other than 0, where it cannot tell. Nothing in it writes.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from .holders import UNIT_OF
from .sshsections import CAME_BY, KEYS, SERVER, SSH, TAG


@dataclass(frozen=True)
class Section:
    """One section: what it reads, in words, its text, its decoder, and with which rights it runs: as the account, as
    root, or as root where that is to be had (`best`)."""

    name: str
    meaning: str
    text: str
    decode: str
    rights: Literal["", "root", "best"] = "root"


SYSTEM = (
    TAG
    + r"""
cat /etc/os-release 2>/dev/null | tag os
uname -n | tag name
cat /proc/uptime | tag uptime
if [ -d /run/systemd/system ]; then echo systemd
else case "$(readlink /proc/1/exe)" in *busybox*) echo busybox;; *) [ -d /etc/rc2.d ] && echo sysv;; esac
fi | tag init
for i in /sys/class/net/*; do
  [ -e "$i/address" ] && echo "${i##*/} $(cat $i/address) $(cat $i/operstate 2>/dev/null)"
done | tag link
if have ip; then ip -o addr show | tag addr; ip route show default | tag route; ip -6 route show default | tag route; fi
:
"""
)

ACCOUNTS = (
    TAG
    + r"""
cat /etc/passwd | tag passwd
have getent && getent passwd | tag passwd
sed -n 's/^passwd:[[:space:]]*//p' /etc/nsswitch.conf 2>/dev/null | tag source
cat /etc/group | tag group
cat /etc/shadow | tag shadow
date -u +%s | tag now
uname -n | tag host
if ! have sudo; then echo none | tag sudo
elif have cvtsudoers; then o=$(cvtsudoers -e -f sudoers /etc/sudoers 2>/dev/null) && echo "$o" | tag sudoers
fi
sed -n 's/^sudoers:[[:space:]]*//p' /etc/nsswitch.conf 2>/dev/null | tag rules
[ -e /etc/doas.conf ] && echo yes | tag doas
:
"""
)

# Which process holds which socket, where no program tells; lines of /proc/net with the number of a socket in column `$1`.
_HOLDERS = r"""
holders() {
  m=$(for p in /proc/[0-9]*; do ls -l $p/fd 2>/dev/null | sed -n "s|.*socket:\[\([0-9]*\)\].*|\1 ${p#/proc/}|p"; done)
  cut -d' ' -f$1 | while read -r i; do echo "$m" | sed -n "/^$i /p"; done | sort -u
}
pids_of() { tr ',()' '\n\n\n' | sed -n 's/^pid=\([0-9]*\)$/\1/p' | sort -u; }
"""

SERVICES = (
    TAG
    + CAME_BY
    + UNIT_OF
    + _HOLDERS
    + r"""
if have ss; then
  o=$(ss -H -l -n -t -u -p) || { echo 'ss tells no sockets' >&2; exit 1; }
  echo "$o" | tag ss
  pids=$(echo "$o" | pids_of)
else
  have awk || { echo 'neither ss nor awk is there' >&2; exit 127; }
  o=$(for x in tcp tcp6 udp udp6; do
    [ -r /proc/net/$x ] && awk -v f=$x 'NR > 1 && (f ~ /udp/ || $4 == "0A") { print f, $2, $10 }' /proc/net/$x
  done)
  echo "$o" | tag proc
  h=$(echo "$o" | holders 3)
  echo "$h" | tag inode
  pids=$(echo "$h" | cut -d' ' -f2 | sort -u)
fi
for p in $pids; do
  x=$(readlink /proc/$p/exe); u=$(sed -n 's|.*/\([^/]*\.\(service\|socket\)\)$|\1|p' /proc/$p/cgroup 2>/dev/null | sed -n 1p)
  echo "$p ${x:--} ${u:--} $(tr '\0' ' ' </proc/$p/cmdline)"
done | tag holder
# those of which it is known what starts them: they are their unit, or share their socket with what is
[ -d /run/systemd/system ] && for p in $pids; do
  a=$(parent_of $p); { unit_of $p || { echo "$pids" | grep -qx "$a" && unit_of $a; }; } >/dev/null && echo $p
done | tag main
came_by | tag ours
# a file may lie where /bin is a link to /usr/bin
have dpkg && dpkg -S $(for p in $pids; do x=$(readlink /proc/$p/exe) && echo "$x /usr$x ${x#/usr}"; done | sort -u) 2>/dev/null | tag owner
cat /etc/inetd.conf 2>/dev/null | sed '/^[[:space:]]*#/d; /^[[:space:]]*$/d' | tag inetd
[ -d /run/systemd/system ] && {
  systemctl list-unit-files --no-legend --no-pager --type=service,socket --state=enabled,enabled-runtime | tag unit
    systemctl list-unit-files --no-legend --no-pager --type=service,socket --state=disabled,masked | tag off; }
r=$(sed -n 's/^[^#:]*:\([0-9]\):initdefault:.*/\1/p' /etc/inittab 2>/dev/null | sed -n 1p)
for x in /etc/rcS.d/S* /etc/rc${r:-2}.d/S*; do [ -e "$x" ] && echo "${x##*/S??}"; done | tag script
for x in /etc/rc${r:-2}.d/K*; do [ -e "$x" ] && echo "${x##*/K??}"; done | tag off
for x in /var/lib/yardbolt/off-*; do [ -s "$x" ] && echo "${x##*/off-} $(tr '\n' ' ' <"$x")"; done | tag switched
for x in /var/lib/yardbolt/again-*; do [ -e "$x" ] && echo "${x##*/again-}"; done | tag again
sed -n 's/^#yardbolt# //p' /etc/inetd.conf /etc/inittab /etc/init.d/rcS 2>/dev/null | tag written-out
case "$(readlink /proc/1/exe)" in *systemd*) ;; *)
  sed '/^[[:space:]]*#/d' /etc/inittab 2>/dev/null | tag init
  [ -d /etc/rc2.d ] || cat /etc/init.d/rcS /etc/init.d/S* 2>/dev/null | sed '/^[[:space:]]*#/d' | tag rcs;;
esac
:
"""
)

# Connections that came in, and who is behind them: the account of the last process below the one that holds the socket.
INSIDE = (
    TAG
    + _HOLDERS
    + r"""
if have ss; then
  o=$(ss -H -n -t -p state established) || { echo 'ss tells no connections' >&2; exit 1; }
  ss -H -l -n -t | tag listen
  echo "$o" | tag ss
  pids=$(echo "$o" | pids_of)
else
  have awk || { echo 'neither ss nor awk is there' >&2; exit 127; }
  o=$(for x in tcp tcp6; do
    [ -r /proc/net/$x ] && awk -v f=$x 'NR > 1 && ($4 == "0A" || $4 == "01") { print f, $4, $2, $3, $10 }' /proc/net/$x
  done)
  echo "$o" | tag proc
  h=$(echo "$o" | sed -n '/^[^ ]* 01 /p' | holders 5)
  echo "$h" | tag inode
  pids=$(echo "$h" | cut -d' ' -f2 | sort -u)
fi
t=$(cat /proc/[0-9]*/stat 2>/dev/null | sed -n 's/^\([0-9]*\) (.*) [A-Za-z] \([0-9]*\) [0-9]* \([0-9]*\) \([0-9]*\) .*/\1 \2 \3 \4/p')
name() { u=$(sed -n 's/^Uid:[^0-9]*\([0-9]*\).*/\1/p' /proc/$1/status 2>/dev/null); sed -n "s/^\([^:]*\):[^:]*:${u:-x}:.*/\1/p" /etc/passwd | sed -n 1p; }
for p in $pids; do
  d=$p; n=0; w=$(name $p)
  while c=$(echo "$t" | sed -n "s/^\([0-9]*\) $d .*/\1/p" | sed -n 1p); [ -n "$c" ] && [ $n -lt 20 ]; do d=$c; n=$((n + 1)); x=$(name $d); w=${x:-$w}; done
  echo "$p $(cat /proc/$p/comm) $n ${w:--} $(tr '\0' ' ' </proc/$p/cmdline)"
done 2>/dev/null | tag holder
cat /proc/[0-9]*/cmdline 2>/dev/null | tr '\0' '\n' | sed 's|.*/||; s/:$//' | sort -u | sed -n '/^\(nginx\|apache2\|httpd\|lighttpd\|uhttpd\)$/p' | tag web
# at a console of its own: leaders of a session at a terminal of the kernel or a serial line (proc(5), tty_nr)
echo "$t" | while read -r p x s y; do
  [ "$p" = "$s" ] || continue
  case $((y / 256)) in 4|204) c=$(cat /proc/$p/comm); case $c in *getty|login) ;; *) echo "$y $(name $p) $c";; esac;; esac
done 2>/dev/null | tag console
:
"""
)

PAM = (
    TAG
    + "( "
    + SERVER
    + r"""
echo "$kind" | tag daemon
[ "$kind" = openssh ] && sshd_ -T 2>/dev/null | sed -n 's/^usepam //p' | tag usepam
: ) 2>/dev/null
if [ -d /etc/pam.d ]; then
  set --; for x in /etc/pam.d/*; do [ -f "$x" ] && set -- "$@" "$x"; done
  if have awk; then awk '{ sub(/^[ \t]+/, "") } /^[^#]/ { n = FILENAME; sub(/.*\//, "", n); print "pam", n, $0 }' "$@"
  else for x in "$@"; do sed 's/^[[:space:]]*//; /^#/d; /^$/d' "$x" | tag "pam ${x##*/}"; done
  fi
elif [ ! -e /etc/pam.conf ]; then echo none | tag nopam
fi
for x in /etc/security/pwquality.conf.d/*.conf /etc/security/pwquality.conf; do [ -r "$x" ] && sed 's/#.*//; /^[[:space:]]*$/d' "$x" | tag quality; done
for x in /etc/security/faillock.conf; do [ -r "$x" ] && sed 's/#.*//; /^[[:space:]]*$/d' "$x" | tag faillock; done
for x in /var/cache/cracklib/cracklib_dict.pwd /usr/share/cracklib/pw_dict.pwd /usr/share/cracklib/pw_dict.pwd.gz /usr/lib/cracklib_dict.pwd; do
  [ -e "$x" ] && echo "$x" | tag dictionary
done
:
"""
)

FILES = (
    TAG
    + r"""
nl='
'
some() {
  c=$1; shift
  for x in "$@"; do case $x in *"$nl"*) echo 'unread a file with a line break in its name';; *) [ -s "$x" ] && [ -f "$x" ] && echo "$c $x";; esac; done
}
have md5sum && have sha256sum && have stat || { echo 'the tools for sums are not there' >&2; exit 127; }
for x in /etc/crontab /etc/cron.d/* /etc/anacrontab /var/spool/cron/crontabs/* /var/spool/cron/root /etc/crontabs/*; do
  [ -f "$x" ] || continue
  sed '/^[[:space:]]*#/d; /^[[:space:]]*$/d; /^[[:space:]]*[A-Za-z_][A-Za-z_0-9]*[[:space:]]*=/d' "$x" | tag "line $x"
done
if have atq; then atq 2>/dev/null | tag at
else for x in /var/spool/cron/atjobs/* /var/spool/at/*; do [ -f "$x" ] && echo "$x"; done | tag unread
fi
if [ -d /run/systemd/system ]; then
  t=$(systemctl show '*.timer' -p Id -p FragmentPath -p Unit -p DropInPaths -p TimersCalendar -p TimersMonotonic) || echo 'timers of systemd' | tag unread
  echo "$t" | sed 's/^$/-/' | tag timer
  for x in $(cut -d: -f6 /etc/passwd | sort -u); do [ -d "$x/.config/systemd/user" ] && echo "timers of users under $x" | tag unread; done
fi
all=$(
some job /etc/crontab /etc/cron.d/* /etc/anacrontab /var/spool/cron/crontabs/* /var/spool/cron/root /etc/crontabs/*
some timers $(echo "$t" | sed -n 's/^FragmentPath=//p')
some script /etc/cron.hourly/* /etc/cron.daily/* /etc/cron.weekly/* /etc/cron.monthly/*
for x in /etc/systemd/system/*.timer /etc/systemd/system/*.service /etc/systemd/system/*.socket /etc/systemd/system/*.d/*.conf \
  /etc/rc.local /etc/inittab /etc/init.d/* /etc/profile /etc/profile.d/* /etc/bash.bashrc /etc/ssh/sshrc /etc/ld.so.preload \
  /etc/sudoers /etc/sudoers.d/* /etc/pam.d/* /etc/udev/rules.d/* /etc/network/if-up.d/* /etc/network/if-pre-up.d/* /etc/environment; do
  [ -h "$x" ] || some file "$x"
done
some file $(sed 's/^[0-9a-f]* //' /var/lib/yardbolt/own 2>/dev/null)
awk -F: '$7 !~ /(nologin|false|sync|halt|shutdown)$/ { print $6 }' /etc/passwd | sort -u | while read -r h; do
  some home "$h/.bashrc" "$h/.profile" "$h/.bash_profile" "$h/.bash_login" "$h/.bash_logout" "$h/.ssh/rc" "$h/.ssh/environment" "$h/.forward"
done)
echo "$all"
# one call of each tool for all of them
set -f; IFS=$nl; set -- $(echo "$all" | sed -n 's/^\(job\|script\|file\|home\|timers\) //p' | sort -u); unset IFS; set +f
[ $# -gt 0 ] && { stat -c '%a %U %n' "$@" | tag stat; md5sum "$@" | tag md5; sha256sum "$@" | tag sha; }
# what we wrote ourselves, and what of others we changed after a copy
cat /var/lib/yardbolt/own 2>/dev/null | tag own
cat /var/lib/yardbolt/edited 2>/dev/null | tag edited
for x in /var/lib/yardbolt/before/*; do [ -f "$x" ] && echo "$(md5sum <"$x" | cut -d' ' -f1)  $(echo "${x##*/}" | tr % /)"; done | tag was
if [ -e /var/lib/dpkg/status ]; then
  awk '/^Conffiles:/ { c = 1; next } /^ / { if (c) print $2, $1; next } { c = 0 }' /var/lib/dpkg/status | tag known
  cat /var/lib/ucf/hashfile 2>/dev/null | tag known
  sed -n 's#^\([0-9a-f]\{32\}\)  \(etc/.*\|\(usr/\)\{0,1\}lib/systemd/system/.*[.]timer\)$#\1 /\2#p' /var/lib/dpkg/info/*.md5sums 2>/dev/null | tag known
  md5sum /etc/skel/.[!.]* /usr/share/base-files/* 2>/dev/null | tag model
fi
:
"""
)

# Processes by the names of their programs, of which the kernel keeps 15 characters.
CALLED = r"""
called() { for p in /proc/[0-9]*; do read -r c 2>/dev/null <$p/comm || continue; for n in "$@"; do [ "$c" = "$n" ] && echo "${p#/proc/}"; done; done; }
"""
STARTED = (
    CALLED
    + r"""
words() { tr '\0' ' ' </proc/$1/cmdline; echo; }
since() { echo $(($(sed -n 's/^btime //p' /proc/stat) + $(sed 's/^.*) //' /proc/$1/stat | cut -d' ' -f20) / $(getconf CLK_TCK 2>/dev/null || echo 100))); }
# runs it with the files it has now? When it started is told by the kernel, whose answer moves with the clock, and by the file of its
# number, which keeps the time of then: where the two differ the clock was set since, and nothing is known; where they do not, what lies
# in the future was changed before. Started in the very second of a change, it is not known either.
stale() {
  d=$(since "$1"); e=$(for x in /run/*.pid /run/*/*.pid; do [ "$(cat "$x" 2>/dev/null)" = "$1" ] && stat -c %Y "$x"; done | sort -n | sed -n 1p); shift
  n=$(date -u +%s); k=; [ -n "$e" ] && { k=yes; [ $((e - d)) -lt -3 ] || [ $((e - d)) -gt 20 ] && { echo yes; return; }; }
  for x in "$@"; do
    [ -e "$x" ] || continue
    c=$(stat -c %Z "$x" 2>/dev/null || echo "$d")
    [ "$c" -gt $((n + 60)) ] && [ -n "$k" ] && continue
    [ "$c" -ge "$d" ] && echo yes
  done
}
"""
)
UPKEEP = (
    TAG
    + STARTED
    + r"""
for p in $(called rsyslogd); do words $p | tag rsyslogd; stale $p /etc/rsyslog.conf /etc/rsyslog.d /etc/rsyslog.d/*.conf | tag oldlogs; done
cat /etc/rsyslog.conf /etc/rsyslog.d/*.conf 2>/dev/null | sed '/^[[:space:]]*#/d; /^[[:space:]]*$/d' | tag rsyslog
for p in $(called syslogd busybox); do words $p | sed -n '/syslogd /p'; done | tag syslogd
for p in $(called syslog-ng vector fluent-bit filebeat nxlog metalog socklog); do words $p; done | tag otherlogs
for p in $(called systemd-journal); do words $p | sed -n '/journal-upload/p'; done | tag otherlogs
c=$(called chronyd)
[ -n "$c" ] && have chronyc && { echo yes | tag chronyd; chronyc -n -c tracking 2>/dev/null | tag tracking; chronyc -n -c sources 2>/dev/null | tag source; }
[ -d /run/systemd/system ] && { timedatectl show 2>/dev/null | tag timedate; sed -n 's/^NTP=//p' /etc/systemd/timesyncd.conf /etc/systemd/timesyncd.conf.d/*.conf 2>/dev/null | tag ntp; }
for p in $(called ntpd busybox); do
  case "$(readlink /proc/$p/exe)" in *busybox*) words $p | sed -n '/ntpd /p' | tag ntpd;; *) echo yes | tag othertime;; esac
done
for p in $(called ntp-daemon openntpd ptp4l phc2sys sntp); do echo yes | tag othertime; done
:
"""
)

SNMP = (
    TAG
    + STARTED
    + r"""
for p in $(called snmpd); do words $p | tag snmpd; stale $p /etc/snmp/snmpd.conf /etc/snmp/snmpd.conf.d /etc/snmp/snmpd.conf.d/*.conf | tag oldsnmp; done
[ -r /etc/snmp/snmpd.conf ] && echo yes | tag snmpfile
for x in /etc/snmp/snmpd.conf /etc/snmp/snmpd.conf.d/*.conf; do
  [ -r "$x" ] && sed -n 's/^[[:space:]]*\(r[ow]community6\{0,1\}\)[[:space:]]\{1,\}\([^[:space:]]*\)\(.*\)$/\1 \2\3/p;
    s/^[[:space:]]*\(com2sec6\{0,1\}\)[[:space:]]\{1,\}[^[:space:]]*[[:space:]]\{1,\}[^[:space:]]*[[:space:]]\{1,\}\([^[:space:]]*\).*$/\1 \2/p' "$x"
done | sed 's/^\(r[ow]community6\{0,1\}\|com2sec6\{0,1\}\) \(public\|private\)\( .*\)\{0,1\}$/\1 published \2\3/; t
  s/^\(r[ow]community6\{0,1\}\|com2sec6\{0,1\}\) [^ ]*\( .*\)\{0,1\}$/\1 own\2/' | tag snmp
# of users their names, how they prove themselves and how they encrypt; never a key. A name is written in hexadecimal, or between signs.
for x in /var/lib/snmp/snmpd.conf /var/lib/net-snmp/snmpd.conf; do
  [ -r "$x" ] && sed -n 's/^usmUser [0-9]* [0-9]* [^ ]* \("[^" ]*"\|0x[0-9a-f]*\) [^ ]* [^ ]* \([.0-9]*\) [^ ]* \([.0-9]*\) .*$/\1 \2 \3/p; t
    s/^usmUser .*/odd/p' "$x"
done | tag user
for x in /etc/snmp/snmpd.conf /etc/snmp/snmpd.conf.d/*.conf /var/lib/snmp/snmpd.conf /var/lib/net-snmp/snmpd.conf; do
  [ -r "$x" ] && sed -n 's/^[[:space:]]*\(r[ow]user\)[[:space:]]\{1,\}\([^-[:space:]][^[:space:]]*\)\([[:space:]].*\)\{0,1\}$/\1 \2\3/p; t
    s/^[[:space:]]*\(r[ow]user\|authuser\|authgroup\|authaccess\|access\|createUser\)[[:space:]].*$/\1/p' "$x"
done | tag access
:
"""
)

# The certificates that settings of web servers name; of their keys nothing is read.
WEB = (
    TAG
    + r"""
date -u +%s | tag now
all=$({ have nginx && nginx -T 2>/dev/null
  cat /etc/lighttpd/*.conf /etc/lighttpd/conf-enabled/*.conf /etc/apache2/sites-enabled/* /etc/httpd/conf.d/*.conf 2>/dev/null
  for p in /proc/[0-9]*; do
    read -r c 2>/dev/null <$p/comm || continue
    case $c in lighttpd|nginx|apache2|httpd) tr '\0' '\n' <$p/cmdline | sed -n '/^-f$/{n;p;}' | while read -r x; do [ -f "$x" ] && cat "$x"; done;; esac
  done
} | sed -n 's/^[[:space:]]*\(ssl_certificate\|SSLCertificateFile\)[[:space:]]\{1,\}"\{0,1\}\([^";[:space:]]*\).*/\2/p; s/^[[:space:]]*ssl\.pemfile[[:space:]]*=[[:space:]]*"\([^"]*\)".*/\1/p' | sort -u)
for x in $all; do
  echo "file $x"
  have openssl && openssl x509 -in "$x" -noout -subject -issuer -enddate -nameopt RFC2253 2>/dev/null | tag "cert $x"
done
:
"""
)

OTHER_FILTERS = (
    TAG
    + r"""
cat /proc/net/ip_tables_names /proc/net/ip6_tables_names 2>/dev/null | tag table
:
"""
)

FILTER_FAMILIES = (
    TAG
    + r"""
nft --debug=netlink list ruleset 2>/dev/null | awk '
  /^[a-z0-9]+ [^ ]+ [^ ]+ [0-9]+/ && $1 != "table" { if (r != "") print r; r = $0; next }
  /^  \[/ { sub(/^  /, ""); r = r " " $0; next }
  { if (r != "") print r; r = "" }
  END { if (r != "") print r }' | tag rule
:
"""
)

RETURN = (
    TAG
    + r"""
[ -d /var/lib/yardbolt/return ] || exit 0
read -r u rest </proc/uptime
for x in /var/lib/yardbolt/return/armed-*; do
  [ -d "$x" ] || continue
  w=alone; kill -0 "$(cat "$x/pid" 2>/dev/null)" 2>/dev/null && w=watched
  echo "$(($(cat "$x/deadline") - ${u%%.*})) $w" | tag armed
done
for x in /var/lib/yardbolt/return/fired-*; do [ -d "$x" ] && [ ! -e "$x/done" ] && echo yes | tag going; done
:
"""
)

LIBRARY: Mapping[str, Section] = {
    one.name: one
    for one in (
        Section("system", "what it is, its name, its sockets and how it starts services", SYSTEM, "linux-system", ""),
        Section(
            "accounts",
            "accounts, how their passwords are kept, and who may become root",
            ACCOUNTS,
            "linux-accounts",
            "best",
        ),
        Section("keys", "SSH keys of all accounts, from where the server looks for them", KEYS, "ssh-keys"),
        Section("ssh", "what the running SSH server does", SSH, "ssh-server"),
        Section(
            "services",
            "listening sockets, who holds them, and what starts at the next boot",
            SERVICES,
            "linux-services",
        ),
        Section("inside", "who is logged in, from where, by which service", INSIDE, "linux-inside"),
        Section("passwords", "what is demanded of passwords, and what follows wrong ones, as PAM does it", PAM, "pam"),
        Section(
            "files", "jobs, and files that run by themselves, and which package brought them", FILES, "linux-files"
        ),
        Section("filter-families", "for which address family rules are that reset", FILTER_FAMILIES, "filter-families"),
        Section("web", "the certificates web servers are set to show", WEB, "linux-web"),
        Section("other-filters", "packet filters whose rules are not shown", OTHER_FILTERS, "other-filters"),
        Section("return", "whether it goes back by itself, and when", RETURN, "timed-return"),
        Section("upkeep", "where logs go, and whose time it keeps", UPKEEP, "linux-upkeep"),
        Section("snmp", "which communities and users SNMP answers", SNMP, "snmp-agent"),
    )
}
