# Files of lines with fields between colons (passwd(5), shadow(5), group(5)): a line is found by its first field being just that,
# never by a pattern, for a name may hold what a pattern reads otherwise; a last line without an end counts too.
# line_of NAME FILE
line_of() { [ -r "$2" ] && while IFS= read -r _l || [ -n "$_l" ]; do case $_l in "$1":*) printf '%s\n' "$_l"; return;; esac; done <"$2"; return 1; }
# field NAME NUMBER FILE
field() { _f=$(line_of "$1" "$3") && printf '%s\n' "$_f" | cut -d: -f"$2"; }
there() { line_of "$1" /etc/passwd >/dev/null; }
# with_field NAME NUMBER VALUE FILE: the whole file, with that one field otherwise
with_field() {
  while IFS= read -r _l || [ -n "$_l" ]; do case $_l in
    "$1":*)
      _n=$(printf %s "$_l" | tr -cd : | wc -c); _h=$(printf '%s\n' "$_l" | cut -d: -f1-$(($2 - 1))); _t=
      [ "$2" -le "$_n" ] && _t=:$(printf '%s\n' "$_l" | cut -d: -f$(($2 + 1))-)
      printf '%s\n' "$_h:$3$_t";;
    *) printf '%s\n' "$_l";;
  esac; done <"$4"
}
# without NAME FILE: the whole file but that line
without() { while IFS= read -r _l || [ -n "$_l" ]; do case $_l in "$1":*) ;; *) printf '%s\n' "$_l";; esac; done <"$2"; }
