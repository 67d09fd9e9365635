Y=/var/lib/yardbolt
no() { echo "$*" >&2; exit 9; }
# what a program that fails has written is as it was before it, in this very run; what else it did, it undoes itself
U=$Y/undo.$$
also_undo() { :; }
saved() {
  [ -d $U ] || mkdir -m 700 $U || no "no room for $Y"
  grep -qxF "$1" $U/places 2>/dev/null && return
  _s=$(($(sed -n '$=' $U/places 2>/dev/null || echo 0) + 0)); [ ! -e "$1" ] || cp -p "$1" "$U/$_s" || no "no room for a copy of $1"
  echo "$1" >>$U/places
}
undone() {
  [ -e $U/places ] && { _s=0; while IFS= read -r _p; do
    if [ -e "$U/$_s" ]; then cp -p "$U/$_s" "${_p%/*}/.yardbolt.undo" && mv -f "${_p%/*}/.yardbolt.undo" "$_p"; else rm -f "$_p"; fi
    _s=$((_s + 1))
  done <$U/places; }
  also_undo
}
have() { command -v "$1" >/dev/null 2>&1; }
[ -d $Y/before ] || mkdir -p $Y/before || no "no room for $Y"
next_second() { _x=$(date +%s); _i=0; while [ "$(date +%s)" = "$_x" ] && [ $_i -lt 15 ]; do sleep 0.1; _i=$((_i + 1)); done; }
init() { if [ -d /run/systemd/system ]; then echo systemd; elif [ -d /etc/rc2.d ]; then echo sysv; else echo busybox; fi; }
# into FILE like MODEL: what comes over input becomes the contents of FILE, with the rights of MODEL
into() {
  [ -h "$1" ] && no "$1 is a link, and nothing is written through it"
  saved "$1"
  _w=${1%/*}/.${1##*/}.new
  rm -f "$_w"; _c=$(cat; echo x)
  { if [ -e "$2" ]; then cp -p "$2" "$_w"; else : >"$_w" && chmod "$2" "$_w"; fi && printf %s "${_c%x}" >"$_w"; } 2>/dev/null
  [ "$(cat "$_w" 2>/dev/null; echo x)" = "$_c" ] || { rm -f "$_w"; no "$1 could not be written; is there room, and may it be written to?"; }
  sync "$_w" 2>/dev/null || sync
  mv -f "$_w" "$1" || no "$1 could not be put in its place"
}
# but FILE LIST: a list of sums and files without that file
but() { [ ! -e "$2" ] || while IFS= read -r _l || [ -n "$_l" ]; do case $_l in *" $1") ;; *) printf '%s\n' "$_l";; esac; done <"$2"; }
# own FILE MODE: a file of ours, on the list before it is there
own() {
  _o=$(cat; echo x); _d=$(printf %s "${_o%x}" | sha256sum | cut -d' ' -f1)
  [ -d "${1%/*}" ] || mkdir -p -m 755 "${1%/*}" || no "no room for ${1%/*}"
  [ -x $Y/take-away ] || into $Y/take-away 700 <<'END OF TAKING AWAY'
#@ host/take-away
END OF TAKING AWAY
  { but "$1" $Y/own; echo "$_d $1"; } | sort | into $Y/own 600 || exit 9
  printf %s "${_o%x}" | into "$1" "$2" || exit 9
}
gone() { for x in "$@"; do saved "$x"; rm -f "$x"; but "$x" $Y/own | into $Y/own 600 || exit 9; done; }
# keep FILE: how it was before us, once; theirs FILE: what comes over input becomes its contents, after a copy
keep() {
  _k=$Y/before/$(echo "$1" | tr / %)
  [ -e "$_k" ] || [ -e "$_k.none" ] && return
  if [ -e "$1" ]; then cp -p "$1" "$_k.new" 2>/dev/null && mv "$_k.new" "$_k" || no "no room for a copy of $1"; else : >"$_k.none"; fi
}
# noted FILE...: as it is now, it is as we left it
noted() { for x in "$@"; do
  { but "$x" $Y/edited; echo "$(sha256sum <"$x" | cut -d' ' -f1) $x"; } | sort | into $Y/edited 600 || exit 9
done; }
theirs() {
  keep "$1"; _o=$(cat; echo x); _d=$(printf %s "${_o%x}" | sha256sum | cut -d' ' -f1)
  { but "$1" $Y/edited; echo "$_d $1"; } | sort | into $Y/edited 600 || exit 9
  _m=644; [ -e "$1" ] && _m=$1
  printf %s "${_o%x}" | into "$1" "$_m" || exit 9
}
