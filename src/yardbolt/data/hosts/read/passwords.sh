#@ lib/tag
( 
#@ lib/ssh-server

echo "$kind" | tag daemon
[ "$kind" = openssh ] && sshd_ -T 2>/dev/null | sed -n 's/^usepam //p' | tag usepam
: ) 2>/dev/null
if [ -d /etc/pam.d ]; then
  set --; for x in /etc/pam.d/*; do [ -f "$x" ] && set -- "$@" "$x"; done
  if have awk; then awk '{ sub(/^[ \t]+/, "") } /^[^#]/ { n = FILENAME; sub(/.*\//, "", n); print "pam", n, $0 }' "$@"
  else for x in "$@"; do sed 's/^[[:space:]]*//; /^#/d; /^$/d' "$x" | tag "pam ${x##*/}"; done
  fi
elif [ ! -e /etc/pam.conf ]; then echo none | tag nopam
fi
for x in /etc/security/pwquality.conf.d/*.conf /etc/security/pwquality.conf; do [ -r "$x" ] && sed 's/#.*//; /^[[:space:]]*$/d' "$x" | tag quality; done
for x in /etc/security/faillock.conf; do [ -r "$x" ] && sed 's/#.*//; /^[[:space:]]*$/d' "$x" | tag faillock; done
for x in /var/cache/cracklib/cracklib_dict.pwd /usr/share/cracklib/pw_dict.pwd /usr/share/cracklib/pw_dict.pwd.gz /usr/lib/cracklib_dict.pwd; do
  [ -e "$x" ] && echo "$x" | tag dictionary
done
:
