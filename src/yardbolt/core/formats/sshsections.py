"""What is run on a host to read its SSH server: the one that carries this very session, its settings as it has them, and the keys
that open accounts (POSIX shell)."""

from __future__ import annotations

TAG = r"""
tag() { sed "s|^|$1 |"; }
have() { command -v "$1" >/dev/null 2>&1; }
"""

# The port this very session came by: what becomes of it becomes of us.
CAME_BY = r"""
came_by() { _p=$$; while [ "${_p:-0}" -gt 1 ]; do
  _o=$(tr '\0' '\n' 2>/dev/null </proc/$_p/environ | sed -n 's/^SSH_CONNECTION=.* //p'); [ -n "$_o" ] && { echo "$_o"; return; }
  _s=; read -r _s 2>/dev/null </proc/$_p/stat; _s=${_s##*) ? }; _p=${_s%% *}
done; }
"""

# The SSH server that carries this very session: the outermost above it. Its own title holds the options it was started
# with (sshd), or its command line does (dropbear); a server started for one connection has no listener above it, and one that
# was started again since is found where this session came in.
SERVER = (
    TAG
    + r"""
p=$$; l=; kind=; port=
while [ "${p:-0}" -gt 1 ]; do
  [ -n "$port" ] || port=$(tr '\0' '\n' 2>/dev/null </proc/$p/environ | sed -n 's/^SSH_CONNECTION=.* //p')
  c=; read -r c 2>/dev/null </proc/$p/comm
  case "$c|$(tr '\0' '\n' </proc/$p/cmdline 2>/dev/null | sed -n 1p)" in
    dropbear*|*'|dropbear'|*/dropbear) l=$p; kind=dropbear;;
    sshd*|*'|sshd: '*|*'|sshd-session: '*|*'|sshd-auth: '*|*': '*' [listener] '*' startups'*) l=$p; kind=openssh;;
  esac
  s=; read -r s 2>/dev/null </proc/$p/stat; s=${s##*) ? }; p=${s%% *}
done
[ -n "$l" ] || { echo 'no SSH server was seen above this session' >&2; exit 3; }
# a listener that was started again since has other options than the one this session came by
[ "$kind" = dropbear ] && case "$(tr '\0' ' ' </proc/$l/cmdline) " in *' -2 '*)
  for x in /proc/[0-9]*; do
    [ "$(readlink $x/exe)" = "$(readlink /proc/$l/exe)" ] || continue
    case "$(tr '\0' ' ' <$x/cmdline) " in *' -2 '*) ;; *) l=${x#/proc/}; break;; esac
  done;;
esac
exe=$(readlink /proc/$l/exe); f=/etc/ssh/sshd_config; a=
[ -n "$exe" ] || { echo 'which program the SSH server is needs root' >&2; exit 3; }
case $exe in *' (deleted)') echo 'the SSH server runs from a file that was replaced since' >&2; exit 3;; esac
if [ "$kind" = openssh ]; then
  w=$(tr '\0' ' ' </proc/$l/cmdline)
  case $w in
    *': '*'[listener]'*) w=${w%%'[listener]'*}; w=${w#*: };;
    sshd*:*)
      l=$(ss -Hltnp "sport = :$port" 2>/dev/null | tr , '\n' | sed -n 's/^pid=//p' | sort -u | while read -r x; do
        case "$(tr '\0' ' ' </proc/$x/cmdline)" in sshd*'[listener]'*) echo "$x";; esac
      done)
      case $l in ''|*[!0-9]*) echo 'the SSH server is started for each connection; its options are not known' >&2; exit 3;; esac
      exe=$(readlink /proc/$l/exe); w=$(tr '\0' ' ' </proc/$l/cmdline); w=${w%%'[listener]'*}; w=${w#*: };;
  esac
  set -f; set -- $w; shift
  while [ $# -gt 0 ]; do
    case $1 in
      -f) f=$2; shift;;
      -f*) f=${1#-f};;
      -o|-p|-h|-c|-g|-b) a="$a $1 $2"; shift;;
      -[ophcgb]*) a="$a $1";;
      -E|-u|-k|-C) shift;;
    esac
    shift
  done
  set +f
  case $f in /*) ;; *) echo "the SSH server was started with -f $f, and from where is not known" >&2; exit 3;; esac
fi
sshd_() { "$exe" "$@" -f "$f" $a; }
"""
)

FILES = r"""
files() {
  [ -r "$1" ] || { echo "$1"; return; }
  echo "$1"
  sed -n 's/^[[:space:]]*[Ii][Nn][Cc][Ll][Uu][Dd][Ee][[:space:]=]\{1,\}//p' "$1" | while read -r words; do
    for g in $words; do
      case $g in /*) ;; *) g=/etc/ssh/$g;; esac
      d=${g%/*}; [ -d "$d" ] && echo "$d"
      for x in $g; do [ -e "$x" ] && files "$x"; done
    done
  done
}
"""

# Has a server load its settings. One whose socket systemd holds would not get that back: it is started again, and nobody who is
# inside, or comes meanwhile, notices.
LOADS = r"""
loads() {
  if [ -d /run/systemd/system ] && systemctl is-active -q ssh.socket sshd.socket; then
    u=ssh.service; systemctl cat $u >/dev/null 2>&1 || u=sshd.service
    systemctl reset-failed $u 2>/dev/null; systemctl restart $u
  elif [ -n "$1" ]; then kill -HUP "$1"; fi
}
"""

# What we had a server load is told later by what its files held then, whatever became of the clock since: `marked` notes
# it with the server and its own note of when it was told; where both are still those, it was told nothing since.
LOADED = (
    LOADS
    + r"""
digest_() { files "$f" | while read -r x; do [ -f "$x" ] && { echo "$x"; cat "$x"; }; done | sha256sum | cut -d' ' -f1; }
noted_at() { "$exe" -T -f "$f" $a 2>/dev/null | sed -n 's/^pidfile //p'; }
# what it notes it notes anew; until then it has not loaded them yet, though it seems to listen
about_to_load() { d=$(digest_); at=$(noted_at); was_=; [ "$(cat "$at" 2>/dev/null)" = "$l" ] && was_=$(stat -c '%i %Z' "$at"); }
has_loaded() { [ -n "$(listener)" ] && { [ -z "$was_" ] || { [ -f "$at" ] && [ "$(stat -c '%i %Z' "$at" 2>/dev/null)" != "$was_" ]; }; }; }
marked() {
  [ -f "$at" ] && [ "$d" = "$(digest_)" ] || return 0
  read -r u r </proc/uptime; echo "$(stat -c %Y "$at") ${u%%.*} $(cat "$at") $d" >/run/yardbolt-loaded
}
"""
)

# steady LOADED: was the clock not set since then? It was not where the start, which the kernel tells and which moves with the clock,
# is still that second; nor where as much time went by as the host has been up since, for what we had loaded ourselves.
STEADY = r"""
steady() {
  _a=$(($1 - $(sed -n 's/^btime //p' /proc/stat) - $(sed 's/^.*) //' /proc/$l/stat | cut -d' ' -f20) / $(getconf CLK_TCK 2>/dev/null || echo 100)))
  [ $_a -ge -2 ] && [ $_a -le 20 ] && return  # a slow host takes its time to start one
  _b=; _c=; read -r _b _c _r 2>/dev/null </run/yardbolt-loaded; [ "$_b" = "$1" ] || return 1
  read -r _d _e </proc/uptime; _a=$(($(date -u +%s) - _b - ${_d%%.*} + _c))
  [ $_a -ge -2 ] && [ $_a -le 2 ]
}
"""
# The settings the files give the server, and what tells whether it has them: when each file, and each folder files are taken
# from, was changed, and when it was told to load them, or was started.
SETTINGS = (
    SERVER
    + FILES
    + LOADED
    + STEADY
    + r"""
echo "$kind" | tag daemon
if [ "$kind" = dropbear ]; then tr '\0' '\n' </proc/$l/cmdline | tag arg
else
  s=$(sshd_ -T 2>/dev/null) || { sshd_ -T >/dev/null; exit 3; }
  all=$(files "$f")
  echo "$all" | while read -r x; do stat -c '%Z %n' "$x" || echo "none $x"; done 2>/dev/null | tag changed
  m=$(echo "$all" | while read -r x; do
    [ -f "$x" ] && sed -n '/^[[:space:]]*[Mm][Aa][Tt][Cc][Hh][[:space:]=]/,$p' "$x"
  done)
  echo "$m" | tag block
  # what our own file says to all, where it is the first that is read, nothing after it can say otherwise
  o=/etc/ssh/sshd_config.d/+yardbolt.conf
  case $(sed 's/^[[:space:]]*//; /^#/d; /^$/d' "$f" | sed -n 1p) in
    "Include $o") n=$o;;
    'Include /etc/ssh/sshd_config.d/*.conf') n=$(for x in /etc/ssh/sshd_config.d/*.conf; do echo "$x"; done | sed -n 1p);;
    *) n=;;
  esac
  [ "$n" = "$o" ] && [ -f "$o" ] && sed -n '/^Match all$/,$p' "$o" | sed 1d | tag sure
  i=$(echo "$s" | sed -n 's/^pidfile //p')
  date -u +%s | tag now
  stat -c %Z /run/* 2>/dev/null | sort -n | sed -n 1p | tag oldest
  [ "$(cat "$i" 2>/dev/null)" = "$l" ] && { stat -c %Y "$i" | tag loaded; steady "$(stat -c %Y "$i")" && echo yes | tag steady
    _b=; _c=; _p=; _d=; read -r _b _c _p _d 2>/dev/null </run/yardbolt-loaded
    [ -n "$_d" ] && [ "$_p $_b" = "$l $(stat -c %Y "$i")" ] && [ "$_d" = "$(digest_)" ] && echo yes | tag same; }
  echo "$(sed -n 's/^btime //p' /proc/stat) $(sed 's/^.*) //' /proc/$l/stat | cut -d' ' -f20) $(getconf CLK_TCK 2>/dev/null || echo 100)" | tag started
fi
"""
)

KEYS = (
    SETTINGS
    + r"""
where=.ssh/authorized_keys
if [ "$kind" = openssh ]; then
  echo "$s" | sed -n 's/^authorizedkeyscommand //p' | tag command
  echo "$s" | sed -n 's/^trustedusercakeys //p' | tag authority
  where=$(echo "$s" | sed -n 's/^authorizedkeysfile //p')
fi
while IFS=: read -r n x u g c h y; do
  case $n in ''|[!A-Za-z0-9_]*|*[!A-Za-z0-9_.-]*) continue;; esac
  echo "looked $n"
  for x in $where; do
    [ "$x" = none ] && continue
    k=$x
    case $x in *%*) k=$(echo "$x" | sed "s|%h|$h|g; s|%u|$n|g; s|%U|$u|g; s|%%|%|g");; esac
    case $k in /*) ;; *) k=$h/$k;; esac
    [ -e "$k" ] && { cat "$k" | tag "key $n" || echo "$k" | tag "unread $n"; }
  done
done </etc/passwd
:
"""
)

SSH = (
    SETTINGS
    + r"""
echo "$exe" | tag exe
if [ "$kind" = dropbear ]; then
  b=$(tr '\0' '\n' </proc/$l/cmdline | sed -n '/^-b$/{n;p;}')
  [ -n "$b" ] && { cat "$b" 2>/dev/null | tag notice; }
else
  echo "$f" | tag config
  echo "$s" | tag set
  if [ -d /run/systemd/system ]; then
    for x in ssh.socket sshd.socket; do systemctl is-active -q $x && systemctl show -p Listen $x; done | tag socket
  fi
  have ssh && ssh -V 2>&1 | tag version
  # what may turn somebody away besides the server's own settings
  for x in /etc/hosts.allow /etc/hosts.deny; do [ -r "$x" ] && sed -n 's/#.*//; /[^[:space:]]/p' "$x" | tag wrapped; done
  for x in /etc/pam.d/sshd /etc/pam.d/common-account /etc/pam.d/common-auth; do
    [ -r "$x" ] && sed -n '/^[^#]*pam_\(access\|time\|listfile\|succeed_if\)\.so/p' "$x" | tag narrowed
  done
  b=$(echo "$s" | sed -n 's/^banner //p')
  if [ -n "$b" ] && [ "$b" != none ]; then cat "$b" 2>/dev/null | tag notice; [ -r "$b" ] || echo yes | tag lost; fi
  have ssh-keygen && echo "$s" | sed -n 's/^hostkey //p' | while read -r k; do ssh-keygen -lf "$k" 2>/dev/null; done | tag hostkey
  # where nothing stands under Match, it is the same for everybody
  [ -n "$m" ] && for u in $accounts; do for from in $sources; do
    sshd_ -T -C "user=$u,host=$from,addr=$from,laddr=${here:-127.0.0.1},lport=${port:-22}" 2>/dev/null | tag "for $u $from"
  done; done
fi
for x in /etc/profile /etc/profile.d/*.sh /etc/bash.bashrc; do
  [ -r "$x" ] && sed -n '/TMOUT/p' "$x" | tag tmout
done
cut -d: -f7 /etc/passwd | sort -u | while read -r x; do readlink -f "$x"; done | tag shell
:
"""
)

# The process that listens, of the server `$exe`: among those it has started for connections there is no other mark.
LISTENER = r"""
listener() {
  b=$(printf %.15s "${exe##*/}")  # what the kernel calls it; asking that starts no program, which a slow host notices
  for p in /proc/[0-9]*; do
    c=; read -r c 2>/dev/null <$p/comm; [ "$c" = "$b" ] || [ "$kind" = dropbear ] || continue
    [ "$(readlink $p/exe)" = "$exe" ] || continue
    case $kind in
      openssh) case "$(tr '\0' ' ' <$p/cmdline)" in *'[listener]'*) echo "${p#/proc/}";; esac;;
      *) case "$(tr '\0' ' ' <$p/cmdline) " in *' -2 '*) ;; *) echo "${p#/proc/}";; esac;;
    esac
  done | sed -n 1p
}
"""
