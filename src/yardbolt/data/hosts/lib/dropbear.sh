#@ lib/ssh-server
#@ lib/ssh-listener
#@ lib/dropbear-line
[ "$kind" = dropbear ] || no 'its SSH server is no dropbear'
read -r at F <<END
$(start_line)
END
[ -n "$F" ] || no 'the line that starts its SSH server was not found'
line=$(sed -n "${at}p" "$F")
# one with variables in it starts something else than it reads
case $line in *'$'*|*'`'*) no "the options of its SSH server stand elsewhere than in the line of $F that starts it";; esac
case $word in [Tbcr]|I) v=" $value";; *) v=;; esac
# the option out of that line, and in again behind the program
new=$(echo "$line" | sed "s/ -$word *\(\/[^ ]*\|[0-9][0-9]*\)\{0,1\}\( \|\$\)/\2/")
[ -n "$value" ] && new=$(echo "$new" | sed "s~\([^ :]*dropbear\)\( \|\$\)~\1 -$word$v\2~")
was=$l old=$(tr '\0' ' ' </proc/$l/cmdline | sed 's/^[^ ]* *//; s/ *$//')
options=$(echo "$new" | options_in)
# it goes on listening where it listens
ports() { set -f; for _o in $1; do case $_o in -p) _p=next;; -p*) echo "${_o#-p}";; *) [ "$_p" = next ] && echo "$_o"; _p=;; esac; done | sort; set +f; }
_p=; [ "$(ports "$old")" = "$(ports "$options")" ] || no "the line of $F that starts its SSH server names other ports than it listens on"
# what cannot start beside the old one would not start in its place
beside=$(echo "$options" | sed 's/ -p *[^ ]*//g; s/ -F\( \|$\)/\1/g; s/ -P *[^ ]*//g')
set -f; "$exe" $beside -F -p 127.0.0.1:47622 -P $Y/side.pid </dev/null >/dev/null 2>$Y/side.told & side=$!
sleep 0.7; kill -0 $side 2>/dev/null || { x=$(sed -n 1p $Y/side.told); rm -f $Y/side.told; no "the SSH server would not start so: $x"; }
kill $side; rm -f $Y/side.told $Y/side.pid; set +f
{ sed -n "1,$((at - 1))p" "$F" | sed "${at},\$d"; echo "$new"; sed "1,${at}d" "$F"; } | theirs "$F" || exit 9
# ended and started again with these options; where it does not come back, with those it had
again_with() { kill "$was" 2>/dev/null; sleep 0.3; set -f; "$exe" $(echo "$1" | sed 's/\(^\| \)-F\( \|$\)/\1\2/') </dev/null >/dev/null 2>&1; set +f; }
case $F in */inittab) kill -HUP 1; sleep 0.5; kill "$was";; *) again_with "$options";; esac
i=0; while sleep 0.2; now=$(listener); [ -z "$now" ] || [ "$now" = "$was" ]; do
  i=$((i + 1)); [ $i -lt 40 ] || { also_undo() { was=; case $F in */inittab) kill -HUP 1;; *) again_with "$old";; esac; }; no 'the SSH server did not start again'; }
done
