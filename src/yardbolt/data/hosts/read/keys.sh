#@ lib/ssh-settings

# modes and owners of all that leads to a file of keys: a server takes none that others may write
leads() {
  p=$(readlink -f "$1") || p=$1; top=$(readlink -f "$h") || top=$h
  while :; do
    [ -e "$p" ] && stat -c '%a %u' "$p" | tag "leads $n $u"
    case $p in "$top"|/|''|[!/]*) return;; esac
    p=${p%/*}; p=${p:-/}
  done
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
