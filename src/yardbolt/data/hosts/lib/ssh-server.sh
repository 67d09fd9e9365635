#@ lib/tag

p=$$; l=; kind=; port=
while [ "${p:-0}" -gt 1 ]; do
  [ -n "$port" ] || port=$(tr '\0' '\n' 2>/dev/null </proc/$p/environ | sed -n 's/^SSH_CONNECTION=.* //p')
  c=; read -r c 2>/dev/null </proc/$p/comm
  case "$c|$(tr '\0' '\n' </proc/$p/cmdline 2>/dev/null | sed -n 1p)" in
    dropbear*|*'|dropbear'|*/dropbear) l=$p; kind=dropbear;;
    sshd*|*'|sshd: '*|*'|sshd-session: '*|*'|sshd-auth: '*|*': '*' [listener] '*' startups'*) l=$p; kind=openssh;;
  esac
  s=; read -r s 2>/dev/null </proc/$p/stat; s=${s##*) ? }; p=${s%% *}
done
[ -n "$l" ] || { echo 'no SSH server was seen above this session' >&2; exit 3; }
# a listener that was started again since has other options than the one this session came by
[ "$kind" = dropbear ] && case "$(tr '\0' ' ' </proc/$l/cmdline) " in *' -2 '*)
  for x in /proc/[0-9]*; do
    [ "$(readlink $x/exe)" = "$(readlink /proc/$l/exe)" ] || continue
    case "$(tr '\0' ' ' <$x/cmdline) " in *' -2 '*) ;; *) l=${x#/proc/}; break;; esac
  done;;
esac
exe=$(readlink /proc/$l/exe); f=/etc/ssh/sshd_config; a=
[ -n "$exe" ] || { echo 'which program the SSH server is needs root' >&2; exit 3; }
case $exe in *' (deleted)') echo 'the SSH server runs from a file that was replaced since' >&2; exit 3;; esac
if [ "$kind" = openssh ]; then
  w=$(tr '\0' ' ' </proc/$l/cmdline)
  case $w in
    *': '*'[listener]'*) w=${w%%'[listener]'*}; w=${w#*: };;
    sshd*:*)
      l=$(ss -Hltnp "sport = :$port" 2>/dev/null | tr , '\n' | sed -n 's/^pid=//p' | sort -u | while read -r x; do
        case "$(tr '\0' ' ' </proc/$x/cmdline)" in sshd*'[listener]'*) echo "$x";; esac
      done)
      case $l in ''|*[!0-9]*) echo 'the SSH server is started for each connection; its options are not known' >&2; exit 3;; esac
      exe=$(readlink /proc/$l/exe); w=$(tr '\0' ' ' </proc/$l/cmdline); w=${w%%'[listener]'*}; w=${w#*: };;
  esac
  set -f; set -- $w; shift
  while [ $# -gt 0 ]; do
    case $1 in
      -f) f=$2; shift;;
      -f*) f=${1#-f};;
      -o|-p|-h|-c|-g|-b) a="$a $1 $2"; shift;;
      -[ophcgb]*) a="$a $1";;
      -E|-u|-k|-C) shift;;
    esac
    shift
  done
  set +f
  case $f in /*) ;; *) echo "the SSH server was started with -f $f, and from where is not known" >&2; exit 3;; esac
fi
sshd_() { "$exe" "$@" -f "$f" $a; }
