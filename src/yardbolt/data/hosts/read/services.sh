#@ lib/tag

#@ lib/came-by

#@ lib/unit-of

#@ lib/holders

if have ss; then
  o=$(ss -H -l -n -t -u -p) || { echo 'ss tells no sockets' >&2; exit 1; }
  echo "$o" | tag ss
  pids=$(echo "$o" | pids_of)
else
  have awk || { echo 'neither ss nor awk is there' >&2; exit 127; }
  o=$(for x in tcp tcp6 udp udp6; do
    [ -r /proc/net/$x ] && awk -v f=$x 'NR > 1 && (f ~ /udp/ || $4 == "0A") { print f, $2, $10 }' /proc/net/$x
  done)
  echo "$o" | tag proc
  h=$(echo "$o" | holders 3)
  echo "$h" | tag inode
  pids=$(echo "$h" | cut -d' ' -f2 | sort -u)
fi
for p in $pids; do
  x=$(readlink /proc/$p/exe); u=$(sed -n 's|.*/\([^/]*\.\(service\|socket\)\)$|\1|p' /proc/$p/cgroup 2>/dev/null | sed -n 1p)
  echo "$p ${x:--} ${u:--} $(tr '\0' ' ' </proc/$p/cmdline)"
done | tag holder
# those of which it is known what starts them: they are their unit, or share their socket with what is
[ -d /run/systemd/system ] && for p in $pids; do
  a=$(parent_of $p); { unit_of $p || { echo "$pids" | grep -qx "$a" && unit_of $a; }; } >/dev/null && echo $p
done | tag main
came_by | tag ours
# a file may lie where /bin is a link to /usr/bin
have dpkg && dpkg -S $(for p in $pids; do x=$(readlink /proc/$p/exe) && echo "$x /usr$x ${x#/usr}"; done | sort -u) 2>/dev/null | tag owner
cat /etc/inetd.conf 2>/dev/null | sed '/^[[:space:]]*#/d; /^[[:space:]]*$/d' | tag inetd
[ -d /run/systemd/system ] && {
  systemctl list-unit-files --no-legend --no-pager --type=service,socket --state=enabled,enabled-runtime | tag unit
    systemctl list-unit-files --no-legend --no-pager --type=service,socket --state=disabled,masked | tag off; }
r=$(sed -n 's/^[^#:]*:\([0-9]\):initdefault:.*/\1/p' /etc/inittab 2>/dev/null | sed -n 1p)
for x in /etc/rcS.d/S* /etc/rc${r:-2}.d/S*; do [ -e "$x" ] && echo "${x##*/S??}"; done | tag script
for x in /etc/rc${r:-2}.d/K*; do [ -e "$x" ] && echo "${x##*/K??}"; done | tag off
for x in /var/lib/yardbolt/off-*; do [ -s "$x" ] && echo "${x##*/off-} $(tr '\n' ' ' <"$x")"; done | tag switched
for x in /var/lib/yardbolt/again-*; do [ -e "$x" ] && echo "${x##*/again-}"; done | tag again
sed -n 's/^#yardbolt# //p' /etc/inetd.conf /etc/inittab /etc/init.d/rcS 2>/dev/null | tag written-out
case "$(readlink /proc/1/exe)" in *systemd*) ;; *)
  sed '/^[[:space:]]*#/d' /etc/inittab 2>/dev/null | tag init
  [ -d /etc/rc2.d ] || cat /etc/init.d/rcS /etc/init.d/S* 2>/dev/null | sed '/^[[:space:]]*#/d' | tag rcs;;
esac
:
