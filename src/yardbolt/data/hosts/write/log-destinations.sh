#@ lib/again

#@ lib/started

#@ lib/logger

O=/etc/rsyslog.d/90-yardbolt.conf
p=$(called rsyslogd | sed -n 1p)
[ -n "$p" ] || no 'no rsyslog runs here'
f=$(words $p | settings_of); every=$(together "$f" | taken_in); good=$(rsyslogd -N1 -f "$f" >/dev/null 2>&1 && echo yes)
new=$(echo "$value" | tr , '\n' | while read -r kind address port; do
  [ -n "$port" ] && echo "*.* action(type=\"omfwd\" target=\"$address\" port=\"$port\" protocol=\"$kind\" queue.type=\"LinkedList\" action.resumeRetryCount=\"-1\")"
done)
# what sends elsewhere and is not wanted is not ours: it is written out of force, after a copy
{ for x in /etc/rsyslog.conf /etc/rsyslog.d/*.conf; do echo "$x"; done; echo "$every"; } | while IFS= read -r x; do
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
done || exit 9
if [ -n "$new" ]; then { echo '# written by Yard Bolt'; echo "$new"; } | own $O 644 || exit 9; else gone $O; fi
said=$(rsyslogd -N1 2>&1 | grep -i 'yardbolt' | sed -n 1p); [ -z "$said" ] || { no "rsyslog would not take it: $said"; }
# an action over several lines is not taken apart: what it would load before and not now is left as it was
[ -z "$good" ] || rsyslogd -N1 -f "$f" >/dev/null 2>&1 || no 'rsyslog would not take its settings so'
again rsyslogd rsyslog
