# what limits who may come is out of force where nothing of it is kept
no_limits() {
  [ -e /etc/yardbolt/limits.nft ] || nft delete table inet yardbolt 2>/dev/null
  [ -e /var/lib/yardbolt/limits-by-iptables ] || return 0
  for p in iptables ip6tables; do
    [ -e /etc/yardbolt/limits.$p ] && continue
    while $p -D INPUT -j yardbolt 2>/dev/null; do :; done
    $p -F yardbolt 2>/dev/null && $p -X yardbolt
  done
}
