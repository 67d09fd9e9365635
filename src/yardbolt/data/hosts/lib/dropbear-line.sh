# The one line that starts dropbear: its file and its number. Not one that ends it, asks for it or only names it, nor one whose options
# stand somewhere else: what cannot be read from the line cannot be changed in it.
start_line() {
  for _f in /etc/inittab /etc/init.d/rcS /etc/init.d/*dropbear* /etc/rc.local; do
    [ -f "$_f" ] || continue
    _n=$(grep -n 'dropbear\([[:space:]]\|$\)' "$_f" | grep -v '^[0-9]*:[[:space:]]*#' |
      grep -v 'kill\|pidof\|-K\|--stop\|rm[[:space:]]\|echo\|\[\|test[[:space:]]\|[A-Z_]=' | sed -n 's/^\([0-9]*\):.*/\1/p' | sed -n 1p)
    [ -n "$_n" ] && { echo "$_n $_f"; return; }
  done
}
# what stands behind the program in such a line
options_in() { sed 's/^.*dropbear//; s/[[:space:]]*&[[:space:]]*$//; s/[;|>].*$//'; }
