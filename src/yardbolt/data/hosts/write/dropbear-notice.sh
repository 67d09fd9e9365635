N=/etc/ssh/yardbolt-notice
if [ -n "$value" ]; then printf '%s\n' "$value" | own $N 644 || exit 9; value=$N; fi
word=b

#@ lib/dropbear
