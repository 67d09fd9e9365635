#@ lib/return-state

#@ lib/return-hook

for x in $(find_ armed); do
  mv "$x" "$H/cancelled-${x##*-}" 2>/dev/null || no 'too late: it has gone back by itself'
done
x=$(find_ fired); [ -n "$x" ] && no "too late: it has gone back by itself"
[ -n "$(find_ cancelled)" ] || no 'no timed return was armed'
unhook
rm -rf $H/cancelled-*
