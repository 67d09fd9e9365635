#@ lib/ssh-settings

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
