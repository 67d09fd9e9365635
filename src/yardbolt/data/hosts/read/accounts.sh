#@ lib/tag

cat /etc/passwd | tag passwd
have getent && getent passwd | tag passwd
sed -n 's/^passwd:[[:space:]]*//p' /etc/nsswitch.conf 2>/dev/null | tag source
cat /etc/group | tag group
cat /etc/shadow | tag shadow
date -u +%s | tag now
uname -n | tag host
if ! have sudo; then echo none | tag sudo
elif have cvtsudoers; then o=$(cvtsudoers -e -f sudoers /etc/sudoers 2>/dev/null) && echo "$o" | tag sudoers
fi
sed -n 's/^sudoers:[[:space:]]*//p' /etc/nsswitch.conf 2>/dev/null | tag rules
[ -e /etc/doas.conf ] && echo yes | tag doas
:
