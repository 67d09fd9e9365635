#@ lib/tag

#@ lib/started

for p in $(called snmpd); do words $p | tag snmpd; stale $p /etc/snmp/snmpd.conf /etc/snmp/snmpd.conf.d /etc/snmp/snmpd.conf.d/*.conf | tag oldsnmp; done
[ -r /etc/snmp/snmpd.conf ] && echo yes | tag snmpfile
for x in /etc/snmp/snmpd.conf /etc/snmp/snmpd.conf.d/*.conf; do
  [ -r "$x" ] && sed -n 's/^[[:space:]]*\(r[ow]community6\{0,1\}\)[[:space:]]\{1,\}\([^[:space:]]*\)\(.*\)$/\1 \2\3/p;
    s/^[[:space:]]*\(com2sec6\{0,1\}\)[[:space:]]\{1,\}[^[:space:]]*[[:space:]]\{1,\}[^[:space:]]*[[:space:]]\{1,\}\([^[:space:]]*\).*$/\1 \2/p' "$x"
done | sed 's/^\(r[ow]community6\{0,1\}\|com2sec6\{0,1\}\) \(public\|private\)\( .*\)\{0,1\}$/\1 published \2\3/; t
  s/^\(r[ow]community6\{0,1\}\|com2sec6\{0,1\}\) [^ ]*\( .*\)\{0,1\}$/\1 own\2/' | tag snmp
# of users their names, how they prove themselves and how they encrypt; never a key. A name is written in hexadecimal, or between signs.
for x in /var/lib/snmp/snmpd.conf /var/lib/net-snmp/snmpd.conf; do
  [ -r "$x" ] && sed -n 's/^usmUser [0-9]* [0-9]* [^ ]* \("[^" ]*"\|0x[0-9a-f]*\) [^ ]* [^ ]* \([.0-9]*\) [^ ]* \([.0-9]*\) .*$/\1 \2 \3/p; t
    s/^usmUser .*/odd/p' "$x"
done | tag user
for x in /etc/snmp/snmpd.conf /etc/snmp/snmpd.conf.d/*.conf /var/lib/snmp/snmpd.conf /var/lib/net-snmp/snmpd.conf; do
  [ -r "$x" ] && sed -n 's/^[[:space:]]*\(r[ow]user\)[[:space:]]\{1,\}\([^-[:space:]][^[:space:]]*\)\([[:space:]].*\)\{0,1\}$/\1 \2\3/p; t
    s/^[[:space:]]*\(r[ow]user\|authuser\|authgroup\|authaccess\|access\|group\|createUser\)[[:space:]].*$/\1/p' "$x"
done | tag access
:
