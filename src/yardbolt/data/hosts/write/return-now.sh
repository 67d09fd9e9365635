#@ lib/return-state

#@ lib/return-hook

for x in $(find_ armed); do
  y=$H/fired-${x##*-}
  mv "$x" "$y" 2>/dev/null && { sh $H/restore "$y" asked >"$y/told" 2>&1; : >"$y/done"; }
done
i=0; for x in $(find_ fired); do
  while [ ! -e "$x/done" ] && [ $i -lt 100 ]; do sleep 0.2; i=$((i + 1)); done
  [ -e "$x/done" ] || no 'going back has not ended'
done
unhook
