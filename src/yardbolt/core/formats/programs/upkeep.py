"""Name, clock, logs, time sources, jobs and files nobody knows (hostname(1), rsyslog.conf(5), chrony.conf(5), crontab(5))."""

from __future__ import annotations

from ..sections import CALLED, STARTED
from ..sshsections import FILES, LISTENER, LOADED, SERVER
from .common import Program
from .ssh import LOAD

AGAIN = (
    CALLED
    + r"""
# away PROGRAM SERVICE: stopped; back: started again, as it was
away() {
  s=${2:-$1}; p=$(called "$1"); w=; [ -n "$p" ] && w=$(tr '\0' '\n' </proc/$(echo "$p" | sed -n 1p)/cmdline)
  if [ -d /run/systemd/system ]; then systemctl stop "$s" </dev/null >/dev/null 2>&1
  elif [ -x "/etc/init.d/$s" ]; then service "$s" stop </dev/null >/dev/null 2>&1
  elif [ -n "$p" ]; then kill $p
  fi
  i=0; while [ -n "$(called "$1")" ] && [ $i -lt 50 ]; do sleep 0.1; i=$((i + 1)); done
}
back() {
  s=${2:-$1}
  if [ -d /run/systemd/system ]; then systemctl start "$s" </dev/null >/dev/null 2>&1
  elif [ -x "/etc/init.d/$s" ]; then service "$s" start </dev/null >/dev/null 2>&1
  else
    [ -n "$w" ] || no "how $s is started is not known"
    n='
'; IFS=$n; set -f; set -- $w; unset IFS; set +f; rm -f "/run/$1.pid" "/run/${1##*/}.pid"; "$@" </dev/null >/dev/null 2>&1
  fi
  i=0; while [ -z "$(called "${1##*/}")" ] && [ $i -lt 30 ]; do sleep 0.1; i=$((i + 1)); done
  [ -n "$(called "${1##*/}")" ] || no "$s did not start again"
}
# again PROGRAM SERVICE: started anew, and not only told to read its files, so that it can be seen to have read them
again() {
  next_second; next_second  # a start is known to the second, and the boot it is counted from too
  # what a socket starts would come back between the two
  if [ -d /run/systemd/system ]; then systemctl restart "${2:-$1}" </dev/null >/dev/null 2>&1; else away "$@"; fi
  back "$@"
}
"""
)
NAME = r"""
old=$(uname -n)
echo "$value" | theirs /etc/hostname || exit 9
if grep -q '^127\.0\.1\.1' /etc/hosts; then sed "s/^\(127\.0\.1\.1[[:space:]].*\)\$/127.0.1.1 $value/" /etc/hosts
else sed "s/\([[:space:]]\)$(echo "$old" | sed 's/[.]/[.]/g')\([[:space:]]\|\$\)/\1$value\2/" /etc/hosts; grep -q "127\.0\..*[[:space:]]$old\([[:space:]]\|\$\)" /etc/hosts || echo "127.0.1.1 $value"
fi | theirs /etc/hosts || exit 9
hostname "$value" && [ "$(uname -n)" = "$value" ] || no 'the kernel did not take the name'
"""
CLOCK = (
    SERVER
    + FILES
    + STARTED
    + AGAIN
    + LISTENER
    + LOADED
    + LOAD
    + r"""
t=$(echo "$value" | sed 's/T/ /; s/[.].*//; s/[+Z].*//')
w=$(date -u +%s)
# who runs with the files he has, by the clock of now; by another clock nobody could tell
fresh=
for x in rsyslogd snmpd; do
  p=$(called $x | sed -n 1p); [ -n "$p" ] || continue
  case $x in rsyslogd) y='/etc/rsyslog.conf /etc/rsyslog.d /etc/rsyslog.d/*.conf';; *) y='/etc/snmp/snmpd.conf /etc/snmp/snmpd.conf.d /etc/snmp/snmpd.conf.d/*.conf';; esac
  [ -z "$(stale "$p" $y)" ] && fresh="$fresh $x"
done
if [ "$kind" = openssh ]; then
  i=$(sshd_ -T 2>/dev/null | sed -n 's/^pidfile //p'); m=0
  [ "$(cat "$i" 2>/dev/null)" = "$l" ] && m=$(stat -c %Y "$i")
  c=$(files "$f" | while read -r x; do stat -c %Z "$x"; done 2>/dev/null | sort -n | sed -n '$p')
  [ "${c:-$w}" -lt "$m" ] && [ "$m" -le "$w" ] && fresh="$fresh sshd"
fi
date -u -s "$t" >/dev/null 2>&1 || no 'the clock could not be set'
have hwclock && hwclock -w -u >/dev/null 2>&1
moved=$(($(date -u +%s) - w))
for x in $fresh; do case $x in
  sshd) [ $moved -lt -1 ] && sshd_ -t >/dev/null 2>&1 && load;;
  *) if [ $moved -lt -2 ] || [ $moved -gt 2 ]; then case $x in rsyslogd) again rsyslogd rsyslog;; *) again $x;; esac; fi;;
esac; done
:
"""
)
LOGS = (
    AGAIN
    + r"""
O=/etc/rsyslog.d/90-yardbolt.conf
[ -n "$(for p in /proc/[0-9]*; do c=; read -r c 2>/dev/null <$p/comm; [ "$c" = rsyslogd ] && echo x; done)" ] || no 'no rsyslog runs here'
new=$(echo "$value" | tr , '\n' | while read -r kind address port; do
  [ -n "$port" ] && echo "*.* action(type=\"omfwd\" target=\"$address\" port=\"$port\" protocol=\"$kind\" queue.type=\"LinkedList\" action.resumeRetryCount=\"-1\")"
done)
# what sends elsewhere and is not wanted is not ours: it is written out of force, after a copy
for x in /etc/rsyslog.conf /etc/rsyslog.d/*.conf; do
  [ -f "$x" ] && [ "$x" != $O ] || continue
  grep -q '^[^#].*\(@\|omfwd\)' "$x" || continue
  while IFS= read -r line; do
    case $line in
      '#'*) echo "$line";;
      *@*|*omfwd*) k=no; for a in $(echo "$value" | tr , '\n' | cut -d' ' -f2); do case $line in *"$a"*) k=yes;; esac; done
        [ $k = yes ] && echo "$line" || echo "#yardbolt# $line";;
      *) echo "$line";;
    esac
  done <"$x" | theirs "$x" || exit 9
done
if [ -n "$new" ]; then { echo '# written by Yard Bolt'; echo "$new"; } | own $O 644 || exit 9; else gone $O; fi
said=$(rsyslogd -N1 2>&1 | grep -i 'yardbolt' | sed -n 1p); [ -z "$said" ] || { gone $O; no "rsyslog would not take it: $said"; }
again rsyslogd rsyslog
"""
)
SMALL_LOGS = r"""
F=$(grep -l '^[^#]*syslogd' /etc/inittab /etc/init.d/rcS /etc/init.d/*syslog* 2>/dev/null | sed -n 1p)
[ -n "$F" ] || no 'what starts its logger was not found'
set -- $(echo "$value" | tr , '\n' | sed -n 1p)
[ "$1" = udp ] || no 'its logger sends by UDP only'
new=$(sed "/^[^#]*syslogd/{s/ -R *[^ ]*//; s/ -L\\b//; s/syslogd/syslogd -L -R $2:$3/; }" "$F")
echo "$new" | theirs "$F" || exit 9
p=$(for x in /proc/[0-9]*; do case "$(tr '\0' ' ' <$x/cmdline 2>/dev/null) " in *syslogd\ *) echo ${x#/proc/};; esac; done)
case $F in */inittab) kill -HUP 1; kill $p;; *) [ -n "$p" ] && kill $p; sleep 0.5; eval "$(echo "$new" | sed -n '/^[^#]*syslogd/p' | sed -n 1p)" </dev/null >/dev/null 2>&1;; esac
sleep 1
"""
TIME = r"""
each() { echo "$value" | tr , '\n' | sed '/^$/d'; }
if have chronyd; then
  O=/etc/chrony/sources.d/yardbolt.sources
  grep -qs '^sourcedir /etc/chrony/sources.d' /etc/chrony/chrony.conf || O=/etc/chrony/conf.d/yardbolt.conf
  [ -d ${O%/*} ] || no 'chrony takes no settings from a folder here'
  now=$(chronyc -n -c sources 2>/dev/null | cut -d, -f3)
  each | while read -r x; do [ -f $O ] && grep -q "^server $x " $O || { echo "$now" | grep -qxF "$x" && continue; }; echo "server $x iburst prefer"; done | own $O 644 || exit 9
  if chronyc tracking >/dev/null 2>&1 && [ $O = /etc/chrony/sources.d/yardbolt.sources ]; then chronyc reload sources >/dev/null 2>&1
  elif [ -d /run/systemd/system ]; then systemctl enable chrony >/dev/null 2>&1; systemctl restart chrony
  else update-rc.d chrony enable >/dev/null 2>&1; service chrony restart </dev/null >/dev/null 2>&1; fi
  i=0; while ! chronyc -n -c sources >/dev/null 2>&1 && [ $i -lt 50 ]; do sleep 0.1; i=$((i + 1)); done
  chronyc -n -c sources >/dev/null 2>&1 || no 'chronyd does not run'
elif [ -d /run/systemd/system ] && systemctl cat systemd-timesyncd >/dev/null 2>&1; then
  { echo '# written by Yard Bolt'; echo '[Time]'; echo "NTP=$(each | tr '\n' ' ')"; } | own /etc/systemd/timesyncd.conf.d/yardbolt.conf 644 || exit 9
  systemctl enable systemd-timesyncd >/dev/null 2>&1; systemctl restart systemd-timesyncd || no 'its time daemon did not start'
else no 'there is no daemon here that keeps the clock'
fi
"""
JOB = r"""
f=${name% *}; n=${name##* }
case $name in
  at\ *) have atrm && atrm "$n" || no "$name could not be removed";;
  /etc/cron.hourly/*|/etc/cron.daily/*|/etc/cron.weekly/*|/etc/cron.monthly/*) keep "$name"; rm -f "$name";;
  *.timer) systemctl disable --now "$name" >/dev/null 2>&1; systemctl mask "$name" >/dev/null 2>&1;;
  /*) [ -f "$f" ] || exit 0
    i=0; while IFS= read -r line; do
      case $line in
        ''|'#'*|[A-Za-z_]*=*) echo "$line"; continue;;
      esac
      i=$((i + 1)); [ "$i" = "$n" ] && echo "#yardbolt# $line" || echo "$line"
    done <"$f" | theirs "$f" || exit 9
    # where nothing is left that runs, nothing is left; the copy stays
    sed '/^[[:space:]]*#/d; /^[[:space:]]*$/d; /^[[:space:]]*[A-Za-z_][A-Za-z_0-9]*[[:space:]]*=/d' "$f" | grep -q . || [ "$f" = /etc/crontab ] || rm -f "$f";;
  *) no "how $name is removed is not known";;
esac
"""
FILE = r"""
case $name in /*) ;; *) no 'a file is named from the root';; esac
[ -f "$name" ] && { [ -h "$name" ] && no "$name is a link"; keep "$name"; rm -f "$name"; }
[ ! -e "$name" ] || no "$name could not be removed"
"""
PROGRAMS = (
    Program("host-name", "its name: to the kernel, in /etc/hostname and in /etc/hosts", ("value",), NAME),
    Program("set-clock", "its clock; what ran with the files it has is told to load them again", ("value",), CLOCK),
    Program("log-destinations", "where its logs go, by rsyslog", ("value",), LOGS),
    Program("small-log-destination", "where its logs go, by the logger of BusyBox", ("value",), SMALL_LOGS),
    Program("time-sources", "which time servers are asked, by chrony or by systemd", ("value",), TIME),
    Program("remove-job", "takes a job out of force, after a copy", ("name",), JOB),
    Program("remove-file", "removes a file, after a copy", ("name",), FILE),
)
