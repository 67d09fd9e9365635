O=/etc/security/pwquality.conf.d/50-yardbolt.conf
grep -qs pam_pwquality /etc/pam.d/common-password /etc/pam.d/passwd /etc/pam.d/system-auth || no 'nothing here checks the quality of passwords'
grep -qs "^[[:space:]]*${word}[[:space:]]*=" /etc/security/pwquality.conf && no "pwquality.conf says $word itself, and is read last"
old=$(cat $O 2>/dev/null | sed "/^#/d; /^$word = /d")
new=$old; [ -n "$value" ] && new=$(printf '%s\n%s\n' "$old" "$word = $value" | sed '/^$/d')
if [ -n "$new" ]; then printf '# written by Yard Bolt\n%s\n' "$new" | own $O 644 || exit 9; else gone $O; fi
