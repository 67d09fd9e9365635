#@ lib/ssh-server

#@ lib/ssh-set
N=/etc/ssh/yardbolt-notice
if [ -n "$value" ]; then printf '%s\n' "$value" | own $N 644 || exit 9; change Banner $N; else change Banner ''; gone $N; fi
