#@ lib/fields

#@ lib/kept-as

#@ lib/expiry

#@ lib/end-account

there "$name" || no "there is no account $name"
if [ "$value" = no ]; then
  if have usermod; then usermod -L "$name" </dev/null; else passwd -l "$name"; fi >/dev/null 2>&1
  expires "$name" 1
  case $(kept_as "$name") in '!'*|'*'*) ;; *) no "$name could not be locked";; esac
  end_it
else
  expires "$name" ''
  if have usermod; then usermod -U "$name" </dev/null; else passwd -u "$name"; fi >/dev/null 2>&1
  :
fi
