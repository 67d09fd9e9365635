"""Settings of the SSH server, in one early file of our own that surely wins (sshd_config(5)): what may stand under `Match` in
a block for all that comes first, what is for the whole daemon bare before it.

It is tried (`sshd -t`, with the options the running server has) before the server is told to load it, and the server is
looked for afterwards. Loading takes the listener away for a moment; sessions stay.
"""

from __future__ import annotations

from ..sshsections import FILES, LISTENER, LOADED, SERVER
from .common import Program

OWN = "/etc/ssh/sshd_config.d/+yardbolt.conf"
NOTICE = "/etc/ssh/yardbolt-notice"

LOAD = r"""
load() {
  # loaded in the very second of the change, nobody could tell later whether it has it
  next_second
  about_to_load
  loads "$l" || no 'the SSH server could not be told to load its settings'
  sleep 0.3  # until it has gone away to come back
  i=0; while sleep 0.1; [ $i -lt 50 ]; do
    i=$((i + 1))
    has_loaded && { marked; return; }
  done
  [ -n "$(listener)" ] || no 'the SSH server does not listen any more'
}
"""
# set_one WORD VALUE: into our own file, whole; an empty value takes the setting out
SET = (
    LISTENER
    + FILES
    + LOADED
    + LOAD
    + f"O={OWN}"
    + r"""
[ "$kind" = openssh ] || no 'its SSH server has no file of settings'
set_one() {
  old=$(cat $O 2>/dev/null | sed '/^#/d')
  bare=$(echo "$old" | sed -n '/^Match all$/q; p' | sed "/^$1 /d; /^\$/d")
  block=$(echo "$old" | sed -n '/^Match all$/,$p' | sed "1d; /^  $1 /d; /^\$/d")
  if [ -n "$2" ]; then case $1 in
    AllowUsers|AllowGroups|UsePAM|Ciphers|MACs|KexAlgorithms|HostKeyAlgorithms|LoginGraceTime|HostKey|ListenAddress) bare="$bare
$1 $2";;
    *) block="$block
  $1 $2";;
  esac; fi
  { echo '# written by Yard Bolt; /var/lib/yardbolt tells how to take it away'; echo "$bare"; [ -n "$block" ] && { echo 'Match all'; echo "$block"; }; } | sed '/^$/d'
}
# our file is taken in first of all, where the main file does not already do so
taken_in() {
  first=$(sed 's/^[[:space:]]*//; /^#/d; /^$/d' "$f" | sed -n 1p)
  case $first in [Ii]nclude*sshd_config.d/\*.conf) return;; esac
  grep -qxF "Include $O" "$f" && return
  { echo '# the next line is from Yard Bolt'; echo "Include $O"; cat "$f"; } | theirs "$f" || exit 9
}
# started beside itself with the settings it is to load, and asked for its keys, where a port is free: what cannot start so, or
# agrees on nothing with anybody, is not loaded
beside() {
  "$exe" -f "$f" $a -o Port=47622 -o ListenAddress=127.0.0.1 -o PidFile=$Y/side.pid -D -e </dev/null >/dev/null 2>$Y/side.told & s=$!
  sleep 0.3
  if kill -0 $s 2>/dev/null; then
    have ssh-keyscan && ssh-keyscan -T 3 -p 47622 127.0.0.1 >/dev/null 2>&1
    kill $s 2>/dev/null; sed -n '/^fatal/p' $Y/side.told | sed -n 1p; rm -f $Y/side.told $Y/side.pid
  else sed -n '/in use/d; p' $Y/side.told | sed -n 1p; rm -f $Y/side.told; fi
}
change() {
  taken_in
  before=$(cat $O 2>/dev/null; echo x)
  set_one "$1" "$2" | sed -n '2,$p' | sed -n '$=' | grep -q . && { set_one "$1" "$2" | own $O 644 || exit 9; } || gone $O
  said=$(sshd_ -t 2>&1) && said=$(beside) && [ -z "$said" ] || {
    if [ "$before" = x ]; then gone $O; else printf %s "${before%x}" | own $O 644 || exit 9; fi
    no "the SSH server would not take it: $(echo "$said" | sed -n 1p)"
  }
  load
}
"""
)
SETTING = (
    SERVER
    + SET
    + r"""
change "$word" "$value"
"""
)
BANNER = (
    SERVER
    + SET
    + f"N={NOTICE}"
    + r"""
if [ -n "$value" ]; then printf '%s\n' "$value" | own $N 644 || exit 9; change Banner $N; else change Banner ''; gone $N; fi
"""
)
KEYS = r"""
h=$(sed -n "s|^$name:[^:]*:[^:]*:[^:]*:[^:]*:\([^:]*\):.*|\1|p" /etc/passwd | sed -n 1p)
[ -n "$h" ] || no "there is no account $name"
have ssh-keygen || no 'there is no ssh-keygen to tell keys by'
has() { echo "$1" | ssh-keygen -lf - 2>/dev/null | cut -d' ' -f2; }
got=
for x in "$h/.ssh/authorized_keys" "$h/.ssh/authorized_keys2"; do
  [ -f "$x" ] || continue
  [ -h "$x" ] && no "$x is a link, and nothing is written through it"
  keep "$x"
  while IFS= read -r line; do
    case $line in ''|'#'*) continue;; esac
    p=$(has "$line"); case ",$value," in *",$p,"*) [ -n "$p" ] && echo "$line";; esac
  done <"$x" | theirs "$x" || exit 9
  while IFS= read -r line; do got="$got $(has "$line")"; done <"$x"
done
x=$h/.ssh/authorized_keys; add=
n='
'; IFS=,; for line in $lines; do
  unset IFS; p=$(has "$line"); case "$got " in *" $p "*) ;; *) add="$add$line$n";; esac
done; unset IFS
if [ -n "$add" ]; then
  o=$(stat -c %u:%g "$h")
  [ -d "$h/.ssh" ] || { mkdir -m 700 "$h/.ssh" && chown "$o" "$h/.ssh" || no "no room for $h/.ssh"; }
  [ -h "$h/.ssh" ] && no "$h/.ssh is a link, and nothing is written through it"
  { [ -f "$x" ] && cat "$x"; printf %s "$add"; } | theirs "$x" || exit 9
  chmod 600 "$x"; chown "$o" "$x"
fi
"""
# where the line stands that starts it, by the one option it must have
DROPBEAR = (
    SERVER
    + LISTENER
    + r"""
[ "$kind" = dropbear ] || no 'its SSH server is no dropbear'
F=$(grep -l '^[^#]*dropbear' /etc/inittab /etc/init.d/rcS /etc/init.d/*dropbear* 2>/dev/null | sed -n 1p)
[ -n "$F" ] || no 'what starts its SSH server was not found'
case $word in [Tbcr]|I) v=" $value";; *) v=;; esac
# the option out wherever it stands by itself, and in again behind the program
new=$(sed "/^[^#]*dropbear/{s/ -$word *\(\/[^ ]*\|[0-9][0-9]*\)\{0,1\}\( \|\$\)/\2/; }" "$F")
[ -n "$value" ] && new=$(echo "$new" | sed "/^[^#]*dropbear/s~\([^ :]*dropbear\)\( \|\$\)~\1 -$word$v\2~")
old=$(tr '\0' '\n' </proc/$l/cmdline | sed 1d)
# what cannot start beside the old one would not start in its place
set -f; args=$(echo "$new" | sed -n 's/^[^#]*dropbear\( .*\)$/\1/p' | sed -n 1p | sed 's/ -p *[^ ]*//g; s/ -F//g'); set +f
"$exe" $args -F -p 127.0.0.1:47622 -P $Y/side.pid </dev/null >/dev/null 2>$Y/side.told & side=$!
sleep 0.7; kill -0 $side 2>/dev/null || { x=$(sed -n 1p $Y/side.told); rm -f $Y/side.told; no "the SSH server would not start so: $x"; }
kill $side; rm -f $Y/side.told $Y/side.pid
echo "$new" | theirs "$F" || exit 9
was=$l
case $F in */inittab) kill -HUP 1; sleep 0.5; kill "$was";; *) kill "$was"; sleep 0.3; set -f; "$exe" $(echo "$new" | sed -n 's/^[^#]*dropbear\( .*\)$/\1/p' | sed -n 1p | sed 's/ -F//g'); set +f;; esac
i=0; while sleep 0.2; now=$(listener); [ -z "$now" ] || [ "$now" = "$was" ]; do i=$((i + 1)); [ $i -lt 40 ] || no 'the SSH server did not start again'; done
"""
)
DROPBEAR_NOTICE = (
    f"N={NOTICE}"
    + r"""
if [ -n "$value" ]; then printf '%s\n' "$value" | own $N 644 || exit 9; value=$N; fi
word=b
"""
    + DROPBEAR
)
LONGER = (
    SERVER
    + SET
    + r"""
have ssh-keygen || no 'there is no ssh-keygen'
for k in $(sshd_ -T | sed -n 's/^hostkey //p'); do
  case $(ssh-keygen -lf "$k" 2>/dev/null) in *'(RSA)'*) ;; *) continue;; esac
  [ "$(ssh-keygen -lf "$k" | cut -d' ' -f1)" -lt "$value" ] || continue
  keep "$k"; keep "$k.pub"; n=${k%/*}/.yardbolt.key; rm -f "$n" "$n.pub"
  ssh-keygen -q -t rsa -b "$value" -N '' -C "$(uname -n)" -f "$n" </dev/null || no 'no new key could be made'
  into "$k" "$k" <"$n" && into "$k.pub" "$k.pub" <"$n.pub" || exit 9
  rm -f "$n" "$n.pub"
done
sshd_ -t || no 'the SSH server would not take the new key'
load
"""
)
PROGRAMS = (
    Program("ssh-longer-key", "a new RSA host key of so many bits, the old one kept", ("value",), LONGER),
    Program("ssh-setting", "one setting of the SSH server, in a file of our own that wins", ("word", "value"), SETTING),
    Program(
        "dropbear-option",
        "one option of dropbear, in the line that starts it; tried beside the old one first",
        ("word", "value"),
        DROPBEAR,
    ),
    Program("dropbear-notice", "the notice dropbear shows before a login", ("value",), DROPBEAR_NOTICE),
    Program("ssh-notice", "the notice the SSH server shows before a login", ("value",), BANNER),
    Program(
        "ssh-keys",
        "leaves an account those of its SSH keys that are named, by their fingerprints, and gives it those the job holds, and gives it those the job holds",
        ("name", "value", "lines"),
        KEYS,
    ),
)
