#@ lib/called

words() { tr '\0' ' ' </proc/$1/cmdline; echo; }
since() { echo $(($(sed -n 's/^btime //p' /proc/stat) + $(sed 's/^.*) //' /proc/$1/stat | cut -d' ' -f20) / $(getconf CLK_TCK 2>/dev/null || echo 100))); }
# runs it with the files it has now? When it started is told by the kernel, whose answer moves with the clock, and by the file of its
# number, which keeps the time of then: where the two differ the clock was set since, and nothing is known; where they do not, what lies
# in the future was changed before. Started in the very second of a change, it is not known either.
stale() {
  d=$(since "$1"); e=$(for x in /run/*.pid /run/*/*.pid; do [ "$(cat "$x" 2>/dev/null)" = "$1" ] && stat -c %Y "$x"; done | sort -n | sed -n 1p); shift
  n=$(date -u +%s); k=; [ -n "$e" ] && { k=yes; [ $((e - d)) -lt -3 ] || [ $((e - d)) -gt 20 ] && { echo yes; return; }; }
  for x in "$@"; do
    [ -e "$x" ] || continue
    c=$(stat -c %Z "$x" 2>/dev/null || echo "$d")
    [ "$c" -gt $((n + 60)) ] && [ -n "$k" ] && continue
    [ "$c" -ge "$d" ] && echo yes
  done
}
