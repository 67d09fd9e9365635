since_() { sed 's/^.*) //' "/proc/$1/stat" 2>/dev/null | cut -d' ' -f20; }
at_work() { p=; s=; read -r p s 2>/dev/null </var/lib/yardbolt/at-work; [ -n "$p" ] && [ "$p" != $$ ] && [ "$p" != "$PPID" ] && [ "$(since_ "$p")" = "$s" ] && [ -n "$s" ] && echo "$p"; }
below() { for x in /proc/[0-9]*; do [ "$(sed 's/^.*) //' $x/stat 2>/dev/null | cut -d' ' -f2)" = "$1" ] && { echo "${x#/proc/}"; below "${x#/proc/}"; }; done; }
end_work() { w=$(at_work); [ -z "$w" ] || { kill -STOP "$w"; kill -9 $(below "$w") "$w"; rm -f /var/lib/yardbolt/at-work; } 2>/dev/null; }
