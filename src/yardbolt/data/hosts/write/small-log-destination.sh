F=$(grep -l '^[^#]*syslogd' /etc/inittab /etc/init.d/rcS /etc/init.d/*syslog* 2>/dev/null | sed -n 1p)
[ -n "$F" ] || no 'what starts its logger was not found'
set -- $(echo "$value" | tr , '\n' | sed -n 1p)
[ "$1" = udp ] || no 'its logger sends by UDP only'
new=$(sed "/^[^#]*syslogd/{s/ -R *[^ ]*//; s/ -L\\b//; s/syslogd/syslogd -L -R $2:$3/; }" "$F")
echo "$new" | theirs "$F" || exit 9
p=$(for x in /proc/[0-9]*; do case "$(tr '\0' ' ' <$x/cmdline 2>/dev/null) " in *syslogd\ *) echo ${x#/proc/};; esac; done)
case $F in */inittab) kill -HUP 1; kill $p;; *) [ -n "$p" ] && kill $p; sleep 0.5; eval "$(echo "$new" | sed -n '/^[^#]*syslogd/p' | sed -n 1p)" </dev/null >/dev/null 2>&1;; esac
sleep 1
