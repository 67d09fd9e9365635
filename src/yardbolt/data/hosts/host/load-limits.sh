#!/bin/sh
# Who may come to the management services, put in force: at every start, and after others have loaded theirs. With 'boot' it is
# put in force again for some minutes, because whatever loads another filter later would empty this one.
export LC_ALL=C PATH=/usr/sbin:/usr/bin:/sbin:/bin
cd /etc/yardbolt || exit 1
load() {
  [ ! -e limits.nft ] || nft -f limits.nft || return 1
  for p in iptables ip6tables; do
    [ -e limits.$p ] || continue
    $p-restore -w --noflush <limits.$p 2>/dev/null || $p-restore --noflush <limits.$p || return 1
    # first of all, and once
    [ "$($p -S INPUT 1)" = '-A INPUT -j yardbolt' ] || $p -I INPUT 1 -j yardbolt || return 1
    while n=$($p -S INPUT | sed -n '/^-A/p' | grep -nxe '-A INPUT -j yardbolt' | sed -n '$s/:.*//p') && [ "${n:-1}" -gt 1 ]; do $p -D INPUT "$n" || return 1; done
  done
  return 0
}
load; ended=$?
[ "$1" = boot ] && [ -e limits.iptables ] && { for s in 2 4 8 15 30 60 120; do sleep $s; load; done >/dev/null 2>&1 & }
exit $ended
