#@ lib/tag
#@ lib/jobs

nl='
'
some() {
  c=$1; shift
  for x in "$@"; do case $x in *"$nl"*) echo 'unread a file with a line break in its name';; *) [ -s "$x" ] && [ -f "$x" ] && echo "$c $x";; esac; done
}
have md5sum && have sha256sum && have stat || { echo 'the tools for sums are not there' >&2; exit 127; }
for x in /etc/crontab /etc/cron.d/* /etc/anacrontab /var/spool/cron/crontabs/* /var/spool/cron/root /etc/crontabs/*; do
  [ -f "$x" ] || continue
  jobs_only "$x" | tag "line $x"
done
if have atq; then atq 2>/dev/null | tag at
else for x in /var/spool/cron/atjobs/* /var/spool/at/*; do [ -f "$x" ] && echo "$x"; done | tag unread
fi
if [ -d /run/systemd/system ]; then
  t=$(systemctl show '*.timer' -p Id -p FragmentPath -p Unit -p DropInPaths -p TimersCalendar -p TimersMonotonic) || echo 'timers of systemd' | tag unread
  echo "$t" | sed 's/^$/-/' | tag timer
  for x in $(cut -d: -f6 /etc/passwd | sort -u); do [ -d "$x/.config/systemd/user" ] && echo "timers of users under $x" | tag unread; done
fi
all=$(
some job /etc/crontab /etc/cron.d/* /etc/anacrontab /var/spool/cron/crontabs/* /var/spool/cron/root /etc/crontabs/*
some timers $(echo "$t" | sed -n 's/^FragmentPath=//p')
some script /etc/cron.hourly/* /etc/cron.daily/* /etc/cron.weekly/* /etc/cron.monthly/*
for x in /etc/systemd/system/*.timer /etc/systemd/system/*.service /etc/systemd/system/*.socket /etc/systemd/system/*.d/*.conf \
  /etc/rc.local /etc/inittab /etc/init.d/* /etc/profile /etc/profile.d/* /etc/bash.bashrc /etc/ssh/sshrc /etc/ld.so.preload \
  /etc/sudoers /etc/sudoers.d/* /etc/pam.d/* /etc/udev/rules.d/* /etc/network/if-up.d/* /etc/network/if-pre-up.d/* /etc/environment; do
  [ -h "$x" ] || some file "$x"
done
some file $(sed 's/^[0-9a-f]* //' /var/lib/yardbolt/own 2>/dev/null)
awk -F: '$7 !~ /(nologin|false|sync|halt|shutdown)$/ { print $6 }' /etc/passwd | sort -u | while read -r h; do
  some home "$h/.bashrc" "$h/.profile" "$h/.bash_profile" "$h/.bash_login" "$h/.bash_logout" "$h/.ssh/rc" "$h/.ssh/environment" "$h/.forward"
done)
echo "$all"
# one call of each tool for all of them
set -f; IFS=$nl; set -- $(echo "$all" | sed -n 's/^\(job\|script\|file\|home\|timers\) //p' | sort -u); unset IFS; set +f
[ $# -gt 0 ] && { stat -c '%a %U %n' "$@" | tag stat; md5sum "$@" | tag md5; sha256sum "$@" | tag sha; }
# what we wrote ourselves, and what of others we changed after a copy
cat /var/lib/yardbolt/own 2>/dev/null | tag own
cat /var/lib/yardbolt/edited 2>/dev/null | tag edited
for x in /var/lib/yardbolt/before/*; do [ -f "$x" ] && echo "$(md5sum <"$x" | cut -d' ' -f1)  $(echo "${x##*/}" | tr % /)"; done | tag was
if [ -e /var/lib/dpkg/status ]; then
  awk '/^Conffiles:/ { c = 1; next } /^ / { if (c) print $2, $1; next } { c = 0 }' /var/lib/dpkg/status | tag known
  cat /var/lib/ucf/hashfile 2>/dev/null | tag known
  sed -n 's#^\([0-9a-f]\{32\}\)  \(etc/.*\|\(usr/\)\{0,1\}lib/systemd/system/.*[.]timer\)$#\1 /\2#p' /var/lib/dpkg/info/*.md5sums 2>/dev/null | tag known
  md5sum /etc/skel/.[!.]* /usr/share/base-files/* 2>/dev/null | tag model
fi
:
