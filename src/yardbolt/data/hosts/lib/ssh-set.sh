#@ lib/ssh-listener

#@ lib/ssh-files

#@ lib/ssh-loaded

#@ lib/ssh-load
O=/etc/ssh/sshd_config.d/+yardbolt.conf
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
