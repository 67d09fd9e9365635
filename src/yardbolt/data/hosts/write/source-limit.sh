#@ known/taken
E=/etc/yardbolt L=/etc/yardbolt/limits M=$Y/limits-by-iptables

#@ lib/ssh-server

#@ lib/listens

#@ lib/no-limits

# by nft, or where that does not work by iptables
if have nft && nft list tables >/dev/null 2>&1; then means=nft
elif have iptables && iptables -S INPUT >/dev/null 2>&1; then
  means=iptables
  [ ! -e /proc/net/if_inet6 ] || ip6tables -S INPUT >/dev/null 2>&1 || no 'iptables works, and ip6tables does not: by IPv6 anyone would get past it'
else no 'neither nft nor iptables works here, so nothing limits who may come'; fi
# transport and port: where the trade knows it, and where what bears its name listens besides
places() {
  case $1 in
    ssh) if [ "$kind" = openssh ]; then sshd_ -T | sed -n 's/^port //p'; else
      d=$(tr '\0' '\n' </proc/$l/cmdline | sed -n '/^-p$/{n;p;}; s/^-p//p' | sed 's/.*://'); echo "${d:-22}"; fi | sort -u | sed 's/^/tcp:/';;
    *) ports_of "$1" | tr ' ' '\n'; for n in $(programs_of "$1"); do listens "$n"; done | grep -vx "$TAKEN" | sort -u;;
  esac
}
[ "$value" != none ] || ! places "$name" | grep -qx "tcp:$port" || no "$name has the port this very session came by"
was=$(cat $L 2>/dev/null | sed "/^$name /d")
new=$was; [ -n "$value" ] && new=$(printf '%s\n%s %s %s\n' "$was" "$name" "$(places "$name" | tr '\n' ',' | sed 's/,$//')" "$value" | sed '/^$/d')
# `row` for every service and transport (who, w, port, four, six, heard), between `first` and `last`
each() {
  first
  echo "$new" | while read -r who places from; do
    [ -n "$places" ] || exit 9
    # as it was written before transports were told
    case $places in *:*) ;; *) [ "$who" = snmp ] && w=udp || w=tcp; places=$(echo "$places" | tr , '\n' | sed "s/^/$w:/");; esac
    [ "$from" != none ] || from=
    four=$(echo "$from" | tr , '\n' | sed '/:/d' | tr '\n' ',' | sed 's/,$//'); six=$(echo "$from" | tr , '\n' | sed -n '/:/p' | tr '\n' ',' | sed 's/,$//')
    for w in tcp udp; do
      port=$(echo "$places" | tr , '\n' | sed -n "s/^$w://p" | tr '\n' ',' | sed 's/,$//'); [ -n "$port" ] || continue
      # what asks others from its own port hears their answers there
      heard=; case $w.$who in udp.ntp|udp.dns) heard=yes;; esac
      row
    done
  done || return 9
  last
}
by_nft() {
  first() {
    echo 'table inet yardbolt'; echo 'delete table inet yardbolt'
    echo 'table inet yardbolt {'; echo ' chain limits {'
    echo '  type filter hook input priority filter - 5; policy accept;'; echo '  iif lo accept'
  }
  row() {
    end='reject with tcp reset'; [ "$w" = tcp ] || end=reject
    [ -z "$heard" ] || echo "  udp dport { $port } ct state established accept comment \"$who\""
    [ -z "$four" ] || echo "  $w dport { $port } ip saddr { $four } accept comment \"$who\""
    [ -z "$six" ] || echo "  $w dport { $port } ip6 saddr { $six } accept comment \"$who\""
    echo "  $w dport { $port } $end comment \"$who\""
  }
  last() { echo ' }'; echo '}'; }
  each >"$1" || no "the port of $name is not known"
  said=$(nft -c -f "$1" 2>&1)
}
# a chain of our own, before all others: who it lets pass still meets them
by_iptables() {
  first() { echo '*filter'; echo ':yardbolt - [0:0]'; echo '-A yardbolt -i lo -j RETURN'; }
  row() {
    those=$four; [ $p = iptables ] || those=$six
    end='REJECT --reject-with tcp-reset'; [ "$w" = tcp ] || end=REJECT
    for o in $(echo "$port" | tr , ' '); do
      is="-p $w -m $w --dport $o -m comment --comment \"$who\""
      [ -z "$heard" ] || echo "-A yardbolt $is -m conntrack --ctstate ESTABLISHED -j RETURN"
      for x in $(echo "$those" | tr , ' '); do echo "-A yardbolt -s $x $is -j RETURN"; done
      echo "-A yardbolt $is -j $end"
    done
  }
  last() { echo COMMIT; }
  each >"$1" || no "the port of $name is not known"
  said=$($p-restore --test --noflush <"$1" 2>&1)
}
t=$Y/limits.new
refused() { rm -f $t; no "$1 would not take it: $(echo "$said" | sed -n 1p)"; }
if [ -n "$new" ]; then
  said=
  if [ $means = nft ]; then
    by_nft $t || refused nft
    own $E/limits.nft 600 <$t || exit 9
    other="$E/limits.iptables $E/limits.ip6tables"
  else
    other=$E/limits.nft
    for p in iptables ip6tables; do
      [ $p = iptables ] || [ -e /proc/net/if_inet6 ] || continue
      by_iptables $t || refused $p
      own $E/limits.$p 600 <$t || exit 9
    done
    : >$M
  fi
  rm -f $t
  echo "$new" | own $L 600 || exit 9
  own $E/load-limits 700 <<'END OF IT'
#@ host/load-limits
END OF IT
  case $(init) in
    systemd)
      own /etc/systemd/system/yardbolt-limits.service 644 <<'END OF IT'
#@ host/limits.service
END OF IT
      for x in nftables netfilter-persistent; do own /etc/systemd/system/$x.service.d/yardbolt.conf 644 <<'END OF IT'
#@ host/limits.beside
END OF IT
      done
      systemctl daemon-reload; systemctl enable yardbolt-limits.service >/dev/null 2>&1;;
    sysv)
      own /etc/init.d/yardbolt-limits 755 <<'END OF IT'
#@ host/limits.init
END OF IT
      ln -sf ../init.d/yardbolt-limits /etc/rcS.d/S99yardbolt-limits;;
    busybox) grep -qF "::sysinit:$E/load-limits" /etc/inittab 2>/dev/null || { cat /etc/inittab; echo "::sysinit:$E/load-limits boot"; } | theirs /etc/inittab || exit 9;;
  esac
  also_undo() { [ ! -x $E/load-limits ] || $E/load-limits >/dev/null 2>&1; no_limits; }
  said=$($E/load-limits 2>&1) || no "it passed, and could not be loaded: $(echo "$said" | sed -n 1p)"
  for x in $other; do [ ! -e "$x" ] || gone "$x"; done
  no_limits
else
  case $(init) in
    systemd) systemctl disable yardbolt-limits.service >/dev/null 2>&1
      gone /etc/systemd/system/yardbolt-limits.service /etc/systemd/system/nftables.service.d/yardbolt.conf /etc/systemd/system/netfilter-persistent.service.d/yardbolt.conf
      systemctl daemon-reload;;
    sysv) rm -f /etc/rcS.d/S99yardbolt-limits; gone /etc/init.d/yardbolt-limits;;
    busybox) sed '\|::sysinit:.*yardbolt/.*limits|d' /etc/inittab | theirs /etc/inittab || exit 9;;
  esac
  gone $E/limits.nft $E/limits.iptables $E/limits.ip6tables $E/load-limits $L
  no_limits
fi
