#@ lib/fields
h=$(field "$name" 6 /etc/passwd)
[ -n "$h" ] || no "there is no account $name"
have ssh-keygen || no 'there is no ssh-keygen to tell keys by'
has() { echo "$1" | ssh-keygen -lf - 2>/dev/null | cut -d' ' -f2; }
got=
for x in "$h/.ssh/authorized_keys" "$h/.ssh/authorized_keys2"; do
  [ -f "$x" ] || continue
  [ -h "$x" ] && no "$x is a link, and nothing is written through it"
  keep "$x"
  while IFS= read -r line || [ -n "$line" ]; do
    case $line in ''|'#'*) continue;; esac
    p=$(has "$line"); case ",$value," in *",$p,"*) [ -n "$p" ] && echo "$line";; esac
  done <"$x" | theirs "$x" || exit 9
  while IFS= read -r line || [ -n "$line" ]; do got="$got $(has "$line")"; done <"$x"
done
x=$h/.ssh/authorized_keys; add=
n='
'; IFS=,; for line in $lines; do
  unset IFS; p=$(has "$line"); case "$got " in *" $p "*) ;; *) add="$add$line$n";; esac
done; unset IFS
if [ -n "$add" ]; then
  o=$(stat -c %u:%g "$h")
  [ -d "$h/.ssh" ] || { mkdir -m 700 "$h/.ssh" && chown "$o" "$h/.ssh" || no "no room for $h/.ssh"; }
  [ -h "$h/.ssh" ] && no "$h/.ssh is a link, and nothing is written through it"
  { [ -f "$x" ] && cat "$x"; printf %s "$add"; } | theirs "$x" || exit 9
  chmod 600 "$x"; chown "$o" "$x"
fi
