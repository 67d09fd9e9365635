H=/var/lib/yardbolt/return
find_() { for x in $H/$1-*; do [ -d "$x" ] && echo "$x"; done; }
up() { read -r u rest </proc/uptime; echo "${u%%.*}"; }
