"""What is demanded of passwords, and what follows wrong ones, by PAM (pwquality.conf(5), pam_faillock(8),
pam-auth-update(8)): files of our own, and whether the stacks have them is looked at, for the tools say yes in any case."""

from __future__ import annotations

from ..sshsections import SERVER
from .common import Program
from .ssh import SET

QUALITY_FILE = "/etc/security/pwquality.conf.d/50-yardbolt.conf"
QUALITY = (
    f"O={QUALITY_FILE}"
    + r"""
grep -qs pam_pwquality /etc/pam.d/common-password /etc/pam.d/passwd /etc/pam.d/system-auth || no 'nothing here checks the quality of passwords'
grep -qs "^[[:space:]]*$word[[:space:]]*=" /etc/security/pwquality.conf && no "pwquality.conf says $word itself, and is read last"
old=$(cat $O 2>/dev/null | sed "/^#/d; /^$word = /d")
new=$old; [ -n "$value" ] && new=$(printf '%s\n%s\n' "$old" "$word = $value" | sed '/^$/d')
if [ -n "$new" ]; then printf '# written by Yard Bolt\n%s\n' "$new" | own $O 644 || exit 9; else gone $O; fi
"""
)
# an SSH server that does not go by the stacks is told to
_BY_PAM = f"""
by_pam() (
{SERVER}
[ "$kind" = openssh ] && sshd_ -T 2>/dev/null | grep -qix 'usepam no' || exit 0
{SET}
change UsePAM yes
)
"""
_P = "/usr/share/pam-configs"
LOCK = (
    _BY_PAM
    + f"A={_P}/yardbolt-lock B={_P}/yardbolt-count"
    + r"""
have pam-auth-update || no 'the stacks of PAM cannot be put together by a tool here'
[ -e /lib/*/security/pam_faillock.so ] || [ -e /usr/lib/*/security/pam_faillock.so ] || [ -e /lib/security/pam_faillock.so ] || no 'there is no pam_faillock'
m='common-auth common-account common-password common-session common-session-noninteractive'
args=$(sed -n 's/^.*pam_faillock.so preauth *//p' $A 2>/dev/null | tr ' ' '\n' | sed "/^$word=/d; /^\$/d")
[ -n "$value" ] && args="$args
$word=$value"
args=$(echo "$args" | sed '/^$/d' | sort | tr '\n' ' '); args=${args% }
for x in $m; do keep /etc/pam.d/$x; done
if [ -n "$args" ]; then
  own $A 644 <<END || exit 9
Name: Wrong passwords lock an account for a while (Yard Bolt)
Default: no
Priority: 1024
Auth-Type: Primary
Auth:
	requisite	pam_faillock.so preauth $args
Account-Type: Primary
Account:
	required	pam_faillock.so
END
  own $B 644 <<END || exit 9
Name: Wrong passwords are counted (Yard Bolt)
Default: no
Priority: 0
Auth-Type: Primary
Auth:
	[default=die]	pam_faillock.so authfail $args
END
  pam-auth-update --package --enable yardbolt-lock yardbolt-count </dev/null >/dev/null 2>&1
  for x in $m; do noted /etc/pam.d/$x; done
  grep -q "pam_faillock.so authfail $args" /etc/pam.d/common-auth && grep -q "pam_faillock.so preauth $args" /etc/pam.d/common-auth ||
    no 'pam-auth-update changed nothing: somebody has edited the stacks by hand'
  by_pam || exit 9
else
  pam-auth-update --package --remove yardbolt-lock yardbolt-count </dev/null >/dev/null 2>&1
  gone $A $B
  for x in $m; do noted /etc/pam.d/$x; done
fi
"""
)
PROGRAMS = (
    Program("password-quality", "one demand on passwords, in a file of our own", ("word", "value"), QUALITY),
    Program("wrong-passwords", "what follows wrong passwords, by two profiles of our own", ("word", "value"), LOCK),
)
