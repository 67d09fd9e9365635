#@ known/spared
#@ known/web
#@ lib/came-by

#@ lib/listens

#@ lib/unit-of

ports=$(ports_of "$name") names=$(programs_of "$name") spare=
case $name in http|https) names=$WEB spare=$names
    # of several web servers only those that hold its port; what went off is noted, for it is that which comes on again
    held() { ss -Hltnp "sport $1 :443" | tr '(' '\n' | sed -n 's/^"\([^"]*\)".*/\1/p' | sort -u; }
    if [ "$value" = no ] && have ss; then
      sealed=$(held '=') other=$(held '!='); some=
      for n in $names; do
        if echo "$sealed" | grep -qx "$n"; then [ "$name" = https ] || echo "$other" | grep -qx "$n" || continue
        else [ "$name" = http ] || continue; fi
        some="$some $n"
      done
      names=$some
    fi;;
esac
names="$names $name"
off=$Y/off-$(echo "$name" | tr / %)
if [ "$value" != no ] && [ -s "$off" ]; then names=$(tr ' ' '\n' <"$off" | sed '/:/d' | tr '\n' ' '); rm -f "$off"; fi
M='#yardbolt# '
# of most, their name alone tells; a host with many processes has no time for more
runs() { for p in /proc/[0-9]*; do c=; w=; read -r c 2>/dev/null <$p/comm; [ "$c" = busybox ] && w=$(tr '\0' ' ' <$p/cmdline)
  for n in $names; do case "$c $w" in "$n "*|"busybox "*"busybox $n "*) echo "${p#/proc/}";; esac; done; done 2>/dev/null | sort -u; }
mine() { for n in $names; do [ -e "/etc/init.d/$n" ] && echo "$n"; done; }
# lines that start one of them, in a file of lines
lines() { e=; for n in $names; do e="$e$e2\\(.*[/:[:space:]]\\)\\{0,1\\}$n\\([[:space:]].*\\)\\{0,1\\}"; e2='\|'; done; e2=; echo "$e"; }
comment() { [ -f "$1" ] && grep -q "^\($(lines)\)\$" "$1" && { sed "/^#/!s~^\($(lines)\)\$~$M&~" "$1" | theirs "$1" || exit 9; }; }
uncomment() { [ -f "$1" ] && grep -q "^$M" "$1" && { sed "s~^$M\($(lines)\)\$~\1~" "$1" | theirs "$1" || exit 9; }; }
# who holds its ports under another name
others() { have ss && for x in $ports; do ss -Hln${x%%[cd]*}p "sport = :${x#*:}"; done | sed '/ \(127\.[0-9.]*\|\[::1\]\)\(%[^ ]*\)\{0,1\}:[0-9]* /d' | tr ',()' '\n\n\n' | sed -n 's/^pid=//p' | sort -u | while read -r p; do
  c=; read -r c 2>/dev/null </proc/$p/comm; case " $names $spare " in *" $c "*) continue;; esac
  case "||$SPARED|" in *"|$c|"*) ;; *) echo "$p $c";; esac
done; }
started_by() { for p in $(runs) $(others | cut -d' ' -f1); do unit_of $p; done
  # and what waits at its ports for somebody to come
  for x in $ports; do systemctl list-sockets --no-legend --no-pager --full 2>/dev/null | sed -n "/^127\.\|^\[::1\]/d; s/^[^ ]*:${x#*:}  *\([^ ]*\)\.socket .*/\1/p"; done; }
units() { for n in $names; do for x in $n.service $n.socket; do systemctl cat $x >/dev/null 2>&1 && echo $x; done; done; }
inetd() { p=$(for x in /proc/[0-9]*; do c=; read -r c 2>/dev/null <$x/comm; case $c in inetd|*-inetd) echo ${x#/proc/};; esac; done); for x in $p; do kill -HUP $x; done; }
if [ "$value" = no ]; then
  case " $(echo $ports) " in *" tcp:$(came_by) "*) no "$name has the port this very session came by";; esac
  if [ "$(init)" = systemd ]; then more=$(started_by)
  else more=$(others | while read -r p c; do { [ -e "/etc/init.d/$c" ] || [ -e "/etc/rcS.d/$c" ]; } && echo "$c"; done); fi
  names=$(echo $more $names | tr ' ' '\n' | sort -u | tr '\n' ' ')
  # and where they listen, for that is not seen any more when they are off
  at=$(for n in $names; do listens "$n"; done | sort -u)
  [ -s "$off" ] || echo $names $at >"$off" || no "no room for $Y"
  case $(init) in
    systemd) u=$(units); [ -n "$u" ] && {
        systemctl disable $u; systemctl --no-block stop $u; i=0
        # what does not end when it is told to may take longer than we are waited for
        while systemctl show -p ActiveState --value $u | grep -qx 'active\|deactivating\|reloading' && [ $i -lt 60 ]; do sleep 0.5; i=$((i + 1)); done
        [ $i -lt 60 ] || { systemctl kill --signal=KILL $u; sleep 1; }
        systemctl mask $u
      } >/dev/null 2>&1;;
    sysv) for n in $(mine); do service $n stop; update-rc.d $n disable; done </dev/null >/dev/null 2>&1;;
    busybox) comment /etc/inittab && kill -HUP 1
      for x in /etc/init.d/rcS; do comment $x; done
      for n in $(mine); do [ -x /etc/init.d/$n ] && { keep /etc/init.d/$n; chmod a-x /etc/init.d/$n; noted /etc/init.d/$n; }; done;;
  esac
  [ -f /etc/inetd.conf ] && grep -q "^${name}[[:space:]]\|^[^#]*[/[:space:]]\($(echo $names | sed 's/ /\\|/g')\)\([[:space:]]\|\$\)" /etc/inetd.conf && {
    sed "/^#/!s~^${name}[[:space:]].*~$M&~; /^#/!s~^.*[/[:space:]]\($(echo $names | sed 's/ /\\|/g')\)\([[:space:]].*\)\{0,1\}\$~$M&~" /etc/inetd.conf | theirs /etc/inetd.conf || exit 9
    inetd
  }
  for p in $(runs); do kill "$p"; done; sleep 0.3
  for p in $(runs); do kill -9 "$p"; done; sleep 0.2
  # what starts it is not known then, and is read so from now on
  [ -z "$(runs)$(others)" ] || { : >"$Y/again-$(echo "$name" | tr / %)"; no "$name was ended, and its port is held again, or still"; }
else
  case $(init) in
    systemd) u=$(units); for n in $names; do systemctl unmask $n.service $n.socket; done >/dev/null 2>&1; u=$(units)
      for x in $u; do systemctl enable --now $x && break; done >/dev/null 2>&1;;
    sysv) for n in $(mine); do update-rc.d $n enable; service $n start; done </dev/null >/dev/null 2>&1;;
    busybox) uncomment /etc/inittab && kill -HUP 1
      uncomment /etc/init.d/rcS && [ -z "$(runs)" ] && eval "$(grep "^\($(lines)\)\$" /etc/init.d/rcS)" </dev/null >/dev/null 2>&1;;
  esac
  [ -f /etc/inetd.conf ] && grep -q "^$M${name}[[:space:]]" /etc/inetd.conf && { sed "s~^$M\(${name}[[:space:]].*\)~\1~" /etc/inetd.conf | theirs /etc/inetd.conf || exit 9; inetd; }
  :
fi
