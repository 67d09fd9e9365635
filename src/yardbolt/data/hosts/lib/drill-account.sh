# an account made for trying something out, and taken away again whatever comes
#@ lib/fields
end() {
  there "$1" || return
  u=$(field "$1" 3 /etc/passwd)
  for p in /proc/[0-9]*; do
    [ "$(sed -n 's/^Uid:[^0-9]*\([0-9]*\).*/\1/p' $p/status 2>/dev/null)" = "$u" ] && kill -9 "${p#/proc/}" 2>/dev/null
  done
  have faillock && faillock --user "$1" --reset >/dev/null 2>&1; rm -f "/run/faillock/$1"
  if have userdel; then userdel -r -f "$1" </dev/null >/dev/null 2>&1; else deluser --remove-home "$1" </dev/null >/dev/null 2>&1; fi
  line_of "$1" /etc/security/opasswd >/dev/null && without "$1" /etc/security/opasswd | into /etc/security/opasswd /etc/security/opasswd
  there "$1" && no "untried: the account $1, made for this, could not be taken away again"
  :
}
begin() {
  end "$1"
  # whatever fails from here on, it does not stay
  also_undo() { end "$name"; }
  if have useradd; then useradd -m -s /bin/sh "$1" </dev/null >/dev/null 2>&1; else adduser -D -s /bin/sh "$1" </dev/null >/dev/null 2>&1; fi
  there "$1" || no 'untried: no account for it could be made'
}
