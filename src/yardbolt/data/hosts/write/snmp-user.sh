#@ lib/again

#@ lib/snmp-mine

#@ lib/snmp-users

[ -z "$rights" ] || may "$rights"
next_second; next_second
away snmpd
[ -z "$(called snmpd)" ] || no 'its agent does not stop'
without "$mine"
[ -e $D/snmpd.conf ] || : | into $D/snmpd.conf 600
# an agent that starts makes keys of the passphrase, and takes it out of the file
q=$(printf %s "$secret" | sed 's/[\\"]/\\&/g')
{ cat $D/snmpd.conf; printf 'createUser %s SHA-256 "%s" AES "%s"\n' "$name" "$q" "$q"; } | into $D/snmpd.conf $D/snmpd.conf
back snmpd
i=0; until grep -q "^usmUser .* $hex .* [.]1[.]3[.]6[.]1[.]6[.]3[.]10[.]1[.]1[.]5 0x.* [.]1[.]3[.]6[.]1[.]6[.]3[.]10[.]1[.]2[.]4 0x" $D/snmpd.conf || [ $i -ge 50 ]; do sleep 0.1; i=$((i + 1)); done
if grep -q '^createUser' $D/snmpd.conf || [ $i -ge 50 ]; then
  away snmpd; without "$mine"; back snmpd; no "its agent did not take the user $name (RFC 7860, RFC 3826)"
fi
