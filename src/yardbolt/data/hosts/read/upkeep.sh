#@ lib/tag

#@ lib/started

#@ lib/logger

said() { sed '/^[[:space:]]*#/d; /^[[:space:]]*$/d'; }
for p in $(called rsyslogd); do
  words $p | tag rsyslogd
  o=$(together "$(words $p | settings_of)")
  stale $p /etc/rsyslog.conf /etc/rsyslog.d /etc/rsyslog.d/*.conf | tag oldlogs
  echo "$o" | taken_in | while read -r x; do stale $p "$x"; done | tag oldlogs
  [ -n "$(echo "$o" | taken_in)" ] && { echo yes | tag together; echo "$o" | said | tag rsyslog; } || cat /etc/rsyslog.conf /etc/rsyslog.d/*.conf 2>/dev/null | said | tag rsyslog
done
for p in $(called syslogd busybox); do words $p | sed -n '/syslogd /p'; done | tag syslogd
for p in $(called syslog-ng vector fluent-bit filebeat nxlog metalog socklog); do words $p; done | tag otherlogs
for p in $(called systemd-journal); do words $p | sed -n '/journal-upload/p'; done | tag otherlogs
c=$(called chronyd)
[ -n "$c" ] && have chronyc && { echo yes | tag chronyd; chronyc -n -c tracking 2>/dev/null | tag tracking; chronyc -n -c sources 2>/dev/null | tag source; }
[ -d /run/systemd/system ] && { timedatectl show 2>/dev/null | tag timedate; sed -n 's/^NTP=//p' /etc/systemd/timesyncd.conf /etc/systemd/timesyncd.conf.d/*.conf 2>/dev/null | tag ntp; }
for p in $(called ntpd busybox); do
  case "$(readlink /proc/$p/exe)" in *busybox*) words $p | sed -n '/ntpd /p' | tag ntpd;; *) echo yes | tag othertime;; esac
done
for p in $(called ntp-daemon openntpd ptp4l phc2sys sntp); do echo yes | tag othertime; done
:
