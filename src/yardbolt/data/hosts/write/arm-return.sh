#@ lib/ssh-server
#@ lib/return-state

#@ lib/return-hook

[ -n "$(find_ armed)" ] && no 'a timed return is armed already'
rm -rf $H/fired-* $H/cancelled-* $H/new-*
mkdir -p $H || no "no room for $H"
into $H/restore 700 <<'END OF IT'
#@ host/restore
END OF IT
into $H/watch 700 <<'END OF IT'
#@ host/watch
END OF IT
into $H/boot 700 <<'END OF IT'
#@ host/boot
END OF IT
hook
n=$(up)x$$; w=$H/new-$n
mkdir "$w" || no "no room for $w"
i=0
# what opens an account by key is held too, for it may be how one is inside
keys=$(cut -d: -f6 /etc/passwd | sort -u | while read -r h; do for x in "$h/.ssh/authorized_keys" "$h/.ssh/authorized_keys2"; do
  case $x in *[[:space:]]*) ;; *) [ -f "$x" ] && [ ! -h "$x" ] && echo "$x";; esac
done; done)
for x in $holds $keys; do
  i=$((i + 1)); echo "$x $i" >>"$w/places"
  case $x in
    */) mkdir "$w/$i"; for y in "$x"* "$x".[!.]*; do [ -f "$y" ] && { cp -p "$y" "$w/$i/" || no "no room for a copy of $y"; }; done;;
    *) [ -f "$x" ] && { cp -p "$x" "$w/$i" || no "no room for a copy of $x"; };;
  esac
done
cat >"$w/server" <<END
kind='$kind'; exe='$exe'; f='$f'; a='$a'; started='$(tr '\0' ' ' </proc/$l/cmdline | sed "s/^[^ ]* *//; s/'//g; s/\\(^\\| \\)-F\\( \\|\$\\)/\\1\\2/")'
END
[ "$(sed -n '$=' "$w/places")" = "$i" ] && [ -s "$w/server" ] || no "no room for $w"
# what takes everything back is tried before it is needed: with nothing changed it must change nothing
told=$(sh $H/restore "$w" tried 2>&1) || no "taking back was tried, and failed: $told"
[ -z "$told" ] || no "taking back was tried with nothing changed, and said: $told"
echo $(($(up) + seconds)) >"$w/deadline" && sync
mv "$w" "$H/armed-$n" || no 'it could not be armed'
if [ -d /run/systemd/system ] && have systemd-run; then
  systemd-run --quiet --collect --unit=yardbolt-watch-$n /bin/sh $H/watch "$H/armed-$n" </dev/null >/dev/null 2>&1
else setsid sh $H/watch "$H/armed-$n" </dev/null >/dev/null 2>&1 &
fi
i=0; while [ ! -s "$H/armed-$n/pid" ] && [ $i -lt 50 ]; do sleep 0.1; i=$((i + 1)); done
kill -0 "$(cat "$H/armed-$n/pid" 2>/dev/null)" 2>/dev/null || { mv "$H/armed-$n" "$H/cancelled-$n"; unhook; no 'its watcher does not run'; }
