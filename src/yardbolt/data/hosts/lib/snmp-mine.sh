O=/etc/snmp/snmpd.conf.d/yardbolt.conf
# lapsed PATTERN: lines of others that begin so are written out of force, after a copy
lapsed() {
  for x in /etc/snmp/snmpd.conf /etc/snmp/snmpd.conf.d/*.conf; do
    [ -f "$x" ] && [ "$x" != $O ] && grep -q "^[[:space:]]*$1" "$x" || continue
    sed "s/^[[:space:]]*$1/#yardbolt# &/" "$x" | theirs "$x" || exit 9
  done
}
