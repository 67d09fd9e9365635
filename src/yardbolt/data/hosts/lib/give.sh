#@ lib/kept-as

# over input, never as an argument; what it says is no answer, so what is kept is looked at
give() {
  was=$(kept_as "$1")
  # that of BusyBox keeps eight characters, unless it is told a method; where there is no PAM, the other one wants it told too
  if chpasswd --help 2>&1 | grep -q BusyBox; then printf '%s:%s\n' "$1" "$secret" | chpasswd -c sha512 >/dev/null 2>&1
  elif [ -d /etc/pam.d ] || [ -e /etc/pam.conf ]; then printf '%s:%s\n' "$1" "$secret" | chpasswd >/dev/null 2>&1
  else printf '%s:%s\n' "$1" "$secret" | chpasswd -c SHA512 >/dev/null 2>&1; fi
  now=$(kept_as "$1")
  case $now in ''|x|'!'*|'*'*) no "the password of $1 was not taken";; esac
  [ "$now" != "$was" ] || no "the password of $1 was not taken"
}
