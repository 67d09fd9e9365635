#@ lib/fields

#@ lib/end-account

there "$name" || exit 0
keep /etc/passwd; [ ! -e /etc/shadow ] || keep /etc/shadow; end_it
s=/etc/sudoers.d/yardbolt-$(echo "$name" | tr . =); [ -e "$s" ] && gone "$s"
if have userdel; then userdel -f "$name" </dev/null >/dev/null 2>&1; else deluser "$name" </dev/null >/dev/null 2>&1; fi
there "$name" && no "$name could not be removed"
:
