#@ lib/again

#@ lib/snmp-mine

#@ lib/snmp-users

may "$rights"; again snmpd
