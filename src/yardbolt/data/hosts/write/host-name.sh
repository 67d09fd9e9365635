old=$(uname -n)
echo "$value" | theirs /etc/hostname || exit 9
# a line keeps what else it names, and the loopback keeps its own names, whatever the host was called
renamed() {
  while IFS= read -r line || [ -n "$line" ]; do
    case $line in
      127.0.1.1[[:space:]]*) line="127.0.1.1 $value";;
      ''|'#'*|127.0.0.1[[:space:]]*|::1[[:space:]]*) ;;
      *) set -f; all=; for word in $line; do [ "$word" = "$old" ] && word=$value; all="$all${all:+ }$word"; done; set +f
        case " $line " in *[[:space:]]"$old"[[:space:]]*) line=$all;; esac;;
    esac
    printf '%s\n' "$line"
  done </etc/hosts
}
[ -e /etc/hosts ] || : | theirs /etc/hosts || exit 9
{ renamed; renamed | grep -q '^127[.]0[.]1[.]1[[:space:]]' || renamed | while read -r at words; do case " $words " in *" $value "*) echo yes;; esac; done | grep -q . || echo "127.0.1.1 $value"; } >$Y/.hosts || no "no room for $Y"
theirs /etc/hosts <$Y/.hosts || exit 9
rm -f $Y/.hosts
hostname "$value" && [ "$(uname -n)" = "$value" ] || { hostname "$old"; no 'the kernel did not take the name'; }
