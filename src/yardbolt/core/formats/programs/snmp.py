"""SNMP: users (RFC 3414) instead of communities (snmpd.conf(5))."""

from __future__ import annotations

from .common import Program
from .upkeep import AGAIN

_MINE = r"""
O=/etc/snmp/snmpd.conf.d/yardbolt.conf
# lapsed PATTERN: lines of others that begin so are written out of force, after a copy
lapsed() {
  for x in /etc/snmp/snmpd.conf /etc/snmp/snmpd.conf.d/*.conf; do
    [ -f "$x" ] && [ "$x" != $O ] && grep -q "^[[:space:]]*$1" "$x" || continue
    sed "s/^[[:space:]]*$1/#yardbolt# &/" "$x" | theirs "$x" || exit 9
  done
}
"""
COMMUNITIES = (
    AGAIN
    + _MINE
    + r"""
lapsed '\(r[ow]community\|com2sec\)'
[ -z "$(called snmpd)" ] || again snmpd
:
"""
)
_USERS = r"""
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
"""
USER = (
    AGAIN
    + _MINE
    + _USERS
    + r"""
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
"""
)
RIGHTS = AGAIN + _MINE + _USERS + '\nmay "$rights"; again snmpd\n'
NO_USER = (
    AGAIN
    + _MINE
    + _USERS
    + r"""
may none
next_second; next_second
away snmpd; [ -z "$(called snmpd)" ] || no 'its agent does not stop'
without "$mine"
back snmpd
"""
)
PROGRAMS = (
    Program("no-communities", "no SNMP community any more", (), COMMUNITIES),
    Program("snmp-user", "a user of SNMP with its passphrase (SHA-256, AES)", ("name", "rights", "secret"), USER),
    Program("snmp-rights", "what a user of SNMP may do", ("name", "rights"), RIGHTS),
    Program("no-snmp-user", "ends a user of SNMP", ("name",), NO_USER),
)
