#@ lib/again

#@ lib/snmp-mine

lapsed '\(r[ow]community\|com2sec\)'
[ -z "$(called snmpd)" ] || again snmpd
:
