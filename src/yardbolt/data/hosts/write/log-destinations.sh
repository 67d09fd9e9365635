#@ lib/again

O=/etc/rsyslog.d/90-yardbolt.conf
[ -n "$(for p in /proc/[0-9]*; do c=; read -r c 2>/dev/null <$p/comm; [ "$c" = rsyslogd ] && echo x; done)" ] || no 'no rsyslog runs here'
new=$(echo "$value" | tr , '\n' | while read -r kind address port; do
  [ -n "$port" ] && echo "*.* action(type=\"omfwd\" target=\"$address\" port=\"$port\" protocol=\"$kind\" queue.type=\"LinkedList\" action.resumeRetryCount=\"-1\")"
done)
# what sends elsewhere and is not wanted is not ours: it is written out of force, after a copy
for x in /etc/rsyslog.conf /etc/rsyslog.d/*.conf; do
  [ -f "$x" ] && [ "$x" != $O ] || continue
  grep -q '^[^#].*\(@\|omfwd\)' "$x" || continue
  while IFS= read -r line || [ -n "$line" ]; do
    case $line in
      '#'*) echo "$line";;
      *@*|*omfwd*) k=no; for a in $(echo "$value" | tr , '\n' | cut -d' ' -f2); do case $line in *"$a"*) k=yes;; esac; done
        [ $k = yes ] && echo "$line" || echo "#yardbolt# $line";;
      *) echo "$line";;
    esac
  done <"$x" | theirs "$x" || exit 9
done
if [ -n "$new" ]; then { echo '# written by Yard Bolt'; echo "$new"; } | own $O 644 || exit 9; else gone $O; fi
said=$(rsyslogd -N1 2>&1 | grep -i 'yardbolt' | sed -n 1p); [ -z "$said" ] || { no "rsyslog would not take it: $said"; }
again rsyslogd rsyslog
