each() { echo "$value" | tr , '\n' | sed '/^$/d'; }
if have chronyd; then
  O=/etc/chrony/sources.d/yardbolt.sources
  grep -qs '^sourcedir /etc/chrony/sources.d' /etc/chrony/chrony.conf || O=/etc/chrony/conf.d/yardbolt.conf
  [ -d ${O%/*} ] || no 'chrony takes no settings from a folder here'
  now=$(chronyc -n -c sources 2>/dev/null | cut -d, -f3)
  each | while read -r x; do [ -f $O ] && grep -q "^server $x " $O || { echo "$now" | grep -qxF "$x" && continue; }; echo "server $x iburst prefer"; done | own $O 644 || exit 9
  if chronyc tracking >/dev/null 2>&1 && [ $O = /etc/chrony/sources.d/yardbolt.sources ]; then chronyc reload sources >/dev/null 2>&1
  elif [ -d /run/systemd/system ]; then systemctl enable chrony >/dev/null 2>&1; systemctl restart chrony
  else update-rc.d chrony enable >/dev/null 2>&1; service chrony restart </dev/null >/dev/null 2>&1; fi
  i=0; while ! chronyc -n -c sources >/dev/null 2>&1 && [ $i -lt 50 ]; do sleep 0.1; i=$((i + 1)); done
  chronyc -n -c sources >/dev/null 2>&1 || no 'chronyd does not run'
elif [ -d /run/systemd/system ] && systemctl cat systemd-timesyncd >/dev/null 2>&1; then
  { echo '# written by Yard Bolt'; echo '[Time]'; echo "NTP=$(each | tr '\n' ' ')"; } | own /etc/systemd/timesyncd.conf.d/yardbolt.conf 644 || exit 9
  systemctl enable systemd-timesyncd >/dev/null 2>&1; systemctl restart systemd-timesyncd || no 'its time daemon did not start'
else no 'there is no daemon here that keeps the clock'
fi
