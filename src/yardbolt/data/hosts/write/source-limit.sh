#@ known/taken
F=/etc/yardbolt/limits.nft L=/etc/yardbolt/limits

#@ lib/ssh-server

#@ lib/listens

have nft || no 'there is no nft, so nothing here limits who may come'
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
rules() {
  echo 'table inet yardbolt'; echo 'delete table inet yardbolt'
  echo 'table inet yardbolt {'; echo ' chain limits {'
  echo '  type filter hook input priority filter - 5; policy accept;'; echo '  iif lo accept'
  echo "$new" | while read -r who places from; do
    [ -n "$places" ] || exit 9
    # as it was written before transports were told
    case $places in *:*) ;; *) [ "$who" = snmp ] && w=udp || w=tcp; places=$(echo "$places" | tr , '\n' | sed "s/^/$w:/");; esac
    [ "$from" != none ] || from=
    four=$(echo "$from" | tr , '\n' | sed '/:/d' | tr '\n' ',' | sed 's/,$//'); six=$(echo "$from" | tr , '\n' | sed -n '/:/p' | tr '\n' ',' | sed 's/,$//')
    for w in tcp udp; do
      port=$(echo "$places" | tr , '\n' | sed -n "s/^$w://p" | tr '\n' ',' | sed 's/,$//'); [ -n "$port" ] || continue
      # what asks others from its own port hears their answers there
      case $w.$who in udp.ntp|udp.dns) echo "  udp dport { $port } ct state established accept comment \"$who\"";; esac
      end='reject with tcp reset'; [ "$w" = tcp ] || end=reject
      [ -n "$four" ] && echo "  $w dport { $port } ip saddr { $four } accept comment \"$who\""
      [ -n "$six" ] && echo "  $w dport { $port } ip6 saddr { $six } accept comment \"$who\""
      echo "  $w dport { $port } $end comment \"$who\""
    done
  done || return 9
  echo ' }'; echo '}'
}
t=$Y/limits.new
if [ -n "$new" ]; then
  rules >$t || no "the port of $name is not known"
  said=$(nft -c -f $t 2>&1) || { rm -f $t; no "nft would not take it: $(echo "$said" | sed -n 1p)"; }
  own $F 600 <$t || exit 9
  echo "$new" | own $L 600 || exit 9
  rm -f $t
  case $(init) in
    systemd)
      own /etc/systemd/system/yardbolt-limits.service 644 <<'END OF IT'
#@ host/limits.service
END OF IT
      own /etc/systemd/system/nftables.service.d/yardbolt.conf 644 <<'END OF IT'
#@ host/limits.beside
END OF IT
      systemctl daemon-reload; systemctl enable yardbolt-limits.service >/dev/null 2>&1;;
    sysv)
      own /etc/init.d/yardbolt-limits 755 <<'END OF IT'
#@ host/limits.init
END OF IT
      ln -sf ../init.d/yardbolt-limits /etc/rcS.d/S99yardbolt-limits;;
    busybox) grep -qF "nft -f $F" /etc/inittab 2>/dev/null || { cat /etc/inittab; echo "::sysinit:/usr/sbin/nft -f $F"; } | theirs /etc/inittab || exit 9;;
  esac
  nft -f $F || no 'it passed, and could not be loaded'
else
  nft delete table inet yardbolt 2>/dev/null
  case $(init) in
    systemd) systemctl disable yardbolt-limits.service >/dev/null 2>&1; gone /etc/systemd/system/yardbolt-limits.service /etc/systemd/system/nftables.service.d/yardbolt.conf; systemctl daemon-reload;;
    sysv) rm -f /etc/rcS.d/S99yardbolt-limits; gone /etc/init.d/yardbolt-limits;;
    busybox) sed "\|nft -f $F|d" /etc/inittab | theirs /etc/inittab || exit 9;;
  esac
  gone $F $L
fi
