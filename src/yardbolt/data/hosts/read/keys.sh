#@ lib/ssh-settings

# modes and owners of all that leads to a file of keys: a server takes none that others may write
leads() {
  p=$1; [ -h "$p" ] && p=$(readlink -f "$p")
  top=$(cd "$h" 2>/dev/null && pwd -P) || return 0
  d=$(cd "${p%/*}" 2>/dev/null && pwd -P) || d=$top
  set --; [ -e "$p" ] && set -- "$p"
  while set -- "$@" "$d"; do case $d in "$top"|/) break;; esac; d=${d%/*}; d=${d:-/}; done
  stat -c '%a %u' "$@" | tag "leads $n $u"
}
where=.ssh/authorized_keys
if [ "$kind" = openssh ]; then
  echo "$s" | sed -n 's/^authorizedkeyscommand //p' | tag command
  echo "$s" | sed -n 's/^trustedusercakeys //p' | tag authority
  echo "$s" | sed -n 's/^strictmodes //p' | tag strict
  where=$(echo "$s" | sed -n 's/^authorizedkeysfile //p')
fi
while IFS=: read -r n x u g c h y; do
  case $n in ''|[!A-Za-z0-9_]*|*[!A-Za-z0-9_.-]*) continue;; esac
  echo "looked $n"
  case $y in */nologin|*/false|*/sync) person=;; *) person=yes;; esac
  for x in $where; do
    [ "$x" = none ] && continue
    k=$x
    case $x in *%*) k=$(echo "$x" | sed "s|%h|$h|g; s|%u|$n|g; s|%U|$u|g; s|%%|%|g");; esac
    case $k in /*) ;; *) k=$h/$k;; esac
    [ "$person" ] && leads "$k"
    [ -e "$k" ] && { cat "$k" | tag "key $n" || echo "$k" | tag "unread $n"; }
  done
done </etc/passwd
:
