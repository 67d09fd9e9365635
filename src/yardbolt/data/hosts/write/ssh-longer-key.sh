#@ lib/ssh-server

#@ lib/ssh-set

have ssh-keygen || no 'there is no ssh-keygen'
# anyone who knows the server by its only key would not know it any more
for k in $(sshd_ -T | sed -n 's/^hostkey //p'); do case $(ssh-keygen -lf "$k" 2>/dev/null) in ''|*'(RSA)'*) ;; *) other=yes;; esac; done
[ "$other" = yes ] || no 'its RSA key is the only one it is known by: ssh-keygen -A makes others'
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
