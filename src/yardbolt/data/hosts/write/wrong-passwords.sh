#@ lib/by-pam
A=/usr/share/pam-configs/yardbolt-lock B=/usr/share/pam-configs/yardbolt-count
have pam-auth-update || no 'the stacks of PAM cannot be put together by a tool here'
for x in /lib/*/security /usr/lib/*/security /lib/security; do [ -e "$x/pam_faillock.so" ] && x=found && break; done
[ "$x" = found ] || no 'there is no pam_faillock'
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
