#@ lib/fields

#@ lib/end-account

#@ lib/rights

there "$name" || exit 0
keep /etc/passwd; [ ! -e /etc/shadow ] || keep /etc/shadow; end_it
no_rule "$name"
if have userdel; then userdel -f "$name" </dev/null >/dev/null 2>&1; else deluser "$name" </dev/null >/dev/null 2>&1; fi
there "$name" && no "$name could not be removed"
:
