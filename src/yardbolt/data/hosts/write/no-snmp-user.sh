#@ lib/again

#@ lib/snmp-mine

#@ lib/snmp-users

may none
next_second; next_second
away snmpd; [ -z "$(called snmpd)" ] || no 'its agent does not stop'
without "$mine"
back snmpd
