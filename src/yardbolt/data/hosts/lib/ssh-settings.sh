#@ lib/ssh-server

#@ lib/ssh-files

#@ lib/ssh-loaded

#@ lib/ssh-steady

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
