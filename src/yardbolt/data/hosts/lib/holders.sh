holders() {
  m=$(for p in /proc/[0-9]*; do ls -l $p/fd 2>/dev/null | sed -n "s|.*socket:\[\([0-9]*\)\].*|\1 ${p#/proc/}|p"; done)
  cut -d' ' -f$1 | while read -r i; do echo "$m" | sed -n "/^$i /p"; done | sort -u
}
pids_of() { tr ',()' '\n\n\n' | sed -n 's/^pid=\([0-9]*\)$/\1/p' | sort -u; }
