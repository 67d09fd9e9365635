# all that rsyslog would load by a file, taken together by itself, and the files that comes from; nothing where it cannot tell
together() { rsyslogd -N1 -f "$1" -o /dev/stdout 2>/dev/null; }
taken_in() { sed -n 's/^##### BEGIN CONFIG: \(.*\) (put on stack)$/\1/p'; }
# by which file it was started: its command, in words
settings_of() { f=$(sed -n 's/^.* -f *\([^ ]*\).*$/\1/p'); echo "${f:-/etc/rsyslog.conf}"; }
