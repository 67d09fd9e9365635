#@ lib/fields

#@ lib/join

#@ lib/rights

#@ lib/give

# one that was made and could not be given everything does not stay
made=
also_undo() { [ "$made" = yes ] && if have userdel; then userdel -rf "$name" </dev/null >/dev/null 2>&1; else deluser --remove-home "$name" </dev/null >/dev/null 2>&1; fi; }
sh=/bin/sh; [ -x /bin/bash ] && sh=/bin/bash
there "$name" || ! have getent || ! getent passwd "$name" >/dev/null || no "another list of accounts (/etc/nsswitch.conf) has a $name already"
there "$name" || { made=yes; if have useradd; then useradd -m -s $sh "$name" </dev/null >/dev/null 2>&1; else adduser -D -s $sh "$name" </dev/null >/dev/null 2>&1; fi; }
there "$name" || no "the account $name could not be made"
let_in "$name" "$role"
give "$name"
rights "$name" "$role"
