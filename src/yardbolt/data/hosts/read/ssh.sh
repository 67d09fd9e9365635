#@ lib/ssh-settings

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
  # what may block somebody besides the server's own settings
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
