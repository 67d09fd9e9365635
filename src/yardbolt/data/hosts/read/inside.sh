#@ lib/tag

#@ lib/holders

if have ss; then
  o=$(ss -H -n -t -p state established) || { echo 'ss tells no connections' >&2; exit 1; }
  ss -H -l -n -t | tag listen
  echo "$o" | tag ss
  pids=$(echo "$o" | pids_of)
else
  have awk || { echo 'neither ss nor awk is there' >&2; exit 127; }
  o=$(for x in tcp tcp6; do
    [ -r /proc/net/$x ] && awk -v f=$x 'NR > 1 && ($4 == "0A" || $4 == "01") { print f, $4, $2, $3, $10 }' /proc/net/$x
  done)
  echo "$o" | tag proc
  h=$(echo "$o" | sed -n '/^[^ ]* 01 /p' | holders 5)
  echo "$h" | tag inode
  pids=$(echo "$h" | cut -d' ' -f2 | sort -u)
fi
t=$(cat /proc/[0-9]*/stat 2>/dev/null | sed -n 's/^\([0-9]*\) (.*) [A-Za-z] \([0-9]*\) [0-9]* \([0-9]*\) \([0-9]*\) .*/\1 \2 \3 \4/p')
name() { u=$(sed -n 's/^Uid:[^0-9]*\([0-9]*\).*/\1/p' /proc/$1/status 2>/dev/null); sed -n "s/^\([^:]*\):[^:]*:${u:-x}:.*/\1/p" /etc/passwd | sed -n 1p; }
for p in $pids; do
  d=$p; n=0; w=$(name $p)
  while c=$(echo "$t" | sed -n "s/^\([0-9]*\) $d .*/\1/p" | sed -n 1p); [ -n "$c" ] && [ $n -lt 20 ]; do d=$c; n=$((n + 1)); x=$(name $d); w=${x:-$w}; done
  echo "$p $(cat /proc/$p/comm) $n ${w:--} $(tr '\0' ' ' </proc/$p/cmdline)"
done 2>/dev/null | tag holder
cat /proc/[0-9]*/cmdline 2>/dev/null | tr '\0' '\n' | sed 's|.*/||; s/:$//' | sort -u | sed -n '/^\(nginx\|apache2\|httpd\|lighttpd\|uhttpd\)$/p' | tag web
# at a console of its own: leaders of a session at a terminal of the kernel or a serial line (proc(5), tty_nr)
echo "$t" | while read -r p x s y; do
  [ "$p" = "$s" ] || continue
  case $((y / 256)) in 4|204) c=$(cat /proc/$p/comm); case $c in *getty|login) ;; *) echo "$y $(name $p) $c";; esac;; esac
done 2>/dev/null | tag console
:
