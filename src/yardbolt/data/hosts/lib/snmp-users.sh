D=/var/lib/snmp; [ -d $D ] || D=/var/lib/net-snmp
[ -d $D ] && have od || no 'where its agent keeps its users was not found'
hex=0x$(printf %s "$name" | od -An -tx1 | tr -d ' \n')
dots=$(echo "$name" | sed 's/[.]/[.]/g')
# what it may do: as nobody else's line says, and only with both keys
may() {
  lapsed "r[ow]user[[:space:]]\{1,\}$dots\([[:space:]]\|\$\)"
  { sed "/^r[ow]user $dots /d; /^#/d" $O 2>/dev/null; case $1 in change) echo "rwuser $name priv";; read) echo "rouser $name priv";; esac; } >$Y/.snmp || no "no room for $Y"
  if [ -s $Y/.snmp ]; then { echo '# written by Yard Bolt'; cat $Y/.snmp; } | own $O 644 || exit 9; else gone $O; fi
  rm -f $Y/.snmp
  grep -qs '^[[:space:]]*includeDir[[:space:]]\{1,\}/etc/snmp/snmpd.conf.d' /etc/snmp/snmpd.conf ||
    { cat /etc/snmp/snmpd.conf 2>/dev/null; echo 'includeDir /etc/snmp/snmpd.conf.d'; } | theirs /etc/snmp/snmpd.conf || exit 9
}
# without LINES: the agent's own file without them; only while it does not run
without() { [ ! -e $D/snmpd.conf ] || sed "$1" $D/snmpd.conf | into $D/snmpd.conf $D/snmpd.conf || exit 9; }
mine="/^usmUser [0-9]* [0-9]* [^ ]* \($hex\(00\)\{0,1\}\|\"$dots\"\) /d; /^createUser \(-e [^ ]* \)\{0,1\}$dots /d"
