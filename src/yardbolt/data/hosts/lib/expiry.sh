# the day an account ends, where that is kept (shadow(5)): also where no program sets it. Where it is not, a key opens what has no
# password any more, so its shell ends it
shut_by_shell() {
  s_=$Y/shell-$1; n_=/bin/false
  if [ -n "$2" ]; then [ -e "$s_" ] || field "$1" 7 /etc/passwd | into "$s_" 600
  else n_=$(cat "$s_" 2>/dev/null || echo /bin/sh); rm -f "$s_"; fi
  keep /etc/passwd; with_field "$1" 7 "$n_" /etc/passwd | into /etc/passwd /etc/passwd
}
expires() {
  line_of "$1" /etc/shadow >/dev/null || { shut_by_shell "$@"; return; }
  have usermod && { usermod -e "$2" "$1" </dev/null >/dev/null 2>&1; return; }
  keep /etc/shadow; with_field "$1" 8 "$2" /etc/shadow | into /etc/shadow /etc/shadow
}
