#@ lib/ssh-server

#@ lib/ssh-files

#@ lib/started

#@ lib/again

#@ lib/ssh-listener

#@ lib/ssh-loaded

#@ lib/ssh-load

t=$(echo "$value" | sed 's/T/ /; s/[.].*//; s/[+Z].*//')
w=$(date -u +%s)
# who runs with the files he has, by the clock of now; by another clock nobody could tell
fresh=
for x in rsyslogd snmpd; do
  p=$(called $x | sed -n 1p); [ -n "$p" ] || continue
  case $x in rsyslogd) y='/etc/rsyslog.conf /etc/rsyslog.d /etc/rsyslog.d/*.conf';; *) y='/etc/snmp/snmpd.conf /etc/snmp/snmpd.conf.d /etc/snmp/snmpd.conf.d/*.conf';; esac
  [ -z "$(stale "$p" $y)" ] && fresh="$fresh $x"
done
if [ "$kind" = openssh ]; then
  i=$(sshd_ -T 2>/dev/null | sed -n 's/^pidfile //p'); m=0
  [ "$(cat "$i" 2>/dev/null)" = "$l" ] && m=$(stat -c %Y "$i")
  c=$(files "$f" | while read -r x; do stat -c %Z "$x"; done 2>/dev/null | sort -n | sed -n '$p')
  [ "${c:-$w}" -lt "$m" ] && [ "$m" -le "$w" ] && fresh="$fresh sshd"
fi
date -u -s "$t" >/dev/null 2>&1 || no 'the clock could not be set'
have hwclock && hwclock -w -u >/dev/null 2>&1
moved=$(($(date -u +%s) - w))
for x in $fresh; do case $x in
  sshd) [ $moved -lt -1 ] && sshd_ -t >/dev/null 2>&1 && load;;
  *) if [ $moved -lt -2 ] || [ $moved -gt 2 ]; then case $x in rsyslogd) again rsyslogd rsyslog;; *) again $x;; esac; fi;;
esac; done
:
