#!/bin/sh
export LC_ALL=C PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin
from=$1; how=$2
#@ lib/at-work
[ "$how" = tried ] || [ "$how" = boot ] || end_work
same() { [ -f "$2" ] && cmp -s "$1" "$2"; }
back() { cp -p "$1" "${2%/*}/.yardbolt.back" && mv -f "${2%/*}/.yardbolt.back" "$2" && echo "$2 put back"; }
files() {
while read -r place number; do
  case $place in
    */) for x in "$place"* "$place".[!.]*; do [ -f "$x" ] && [ ! -e "$from/$number/${x##*/}" ] && rm -f "$x" && echo "$x removed"; done
        for x in "$from/$number/"* "$from/$number/".[!.]*; do [ -f "$x" ] && { same "$x" "$place${x##*/}" || back "$x" "$place${x##*/}"; }; done;;
    *) if [ -e "$from/$number" ]; then same "$from/$number" "$place" || back "$from/$number" "$place"
       else [ -e "$place" ] && rm -f "$place" && echo "$place removed"; fi;;
  esac
done <"$from/places"
}
told=$(files); [ -n "$told" ] && echo "$told"
# loaded in the very second of the change, nobody could tell later whether they were
x=$(date +%s); i=0; while [ -n "$told" ] && [ "$(date +%s)" = "$x" ] && [ $i -lt 15 ]; do sleep 0.1; i=$((i + 1)); done
# init has read its table before this hook runs, and must read it again
[ "$how" = boot ] && { case $told in *inittab*) kill -HUP 1;; esac; exit 0; }
#@ lib/no-limits
if [ -x /etc/yardbolt/load-limits ]; then /etc/yardbolt/load-limits; elif [ -e /etc/yardbolt/limits.nft ]; then nft -f /etc/yardbolt/limits.nft; fi
no_limits
. "$from/server"

#@ lib/ssh-listener
#@ lib/dropbear-line
#@ lib/ssh-files

#@ lib/ssh-loaded
l=$(listener)
if [ "$kind" = openssh ]; then
  about_to_load
  if "$exe" -t -f "$f" $a; then loads "$l"; else echo 'the settings that were put back do not pass'; fi
  sleep 0.2; n=0; while sleep 0.2; ! has_loaded && [ $n -lt 20 ]; do n=$((n + 1)); done
  has_loaded && marked; l=$(listener)
elif [ "$kind" = dropbear ]; then
  # its options stand in the line that starts it, and the notice it shows in a file; the sessions it has made stay
  at=; F=; read -r at F <<END
$(start_line)
END
  case $told in *"$F put back"*|*yardbolt-notice*)
    if [ "$F" = /etc/inittab ]; then kill -HUP 1; sleep 1; [ -n "$l" ] && kill "$l"; sleep 3
    elif [ -n "$F" ]; then [ -n "$l" ] && kill "$l"; sleep 0.5; fi
    l=$(listener);;
  esac
  # no matter who ended it, it does not stay ended: by init, or as it was started when this was armed
  if [ -z "$l" ] && [ "$F" != /etc/inittab ]; then
    set -f; o=; [ -n "$F" ] && o=$(sed -n "${at}p" "$F" | options_in | sed 's/ -F\( \|$\)/\1/')
    case $o in *'$'*|*'`'*|'') o=$started;; esac
    "$exe" $o </dev/null >/dev/null 2>&1; set +f; sleep 0.5; l=$(listener)
    [ -n "$l" ] && echo 'the SSH server was started again'
  fi
fi
if [ -z "$l" ]; then
  if [ -d /run/systemd/system ]; then
    systemctl reset-failed ssh.service sshd.service 2>/dev/null; systemctl start ssh.service 2>/dev/null || systemctl start sshd.service
  elif [ "$kind" = openssh ]; then mkdir -p -m 755 /run/sshd; "$exe" -f "$f" $a </dev/null >/dev/null 2>&1
  fi
  sleep 0.3; [ -n "$(listener)" ] && echo 'the SSH server was started again'
fi
exit 0
