"""Who may come to a service, in a table of our own that only narrows (nft(8)): the base chain stands just before the usual
one, lets go on what is admitted and turns the rest away, of the ports it names and of no others. It is loaded as one, and again at
the next boot."""

from __future__ import annotations

from ..holders import LISTENS
from ..listening import PORTS
from ..sshsections import SERVER
from .common import Program

FILE = "/etc/yardbolt/limits.nft"
LIST = "/etc/yardbolt/limits"
_INIT = f"""#!/bin/sh
### BEGIN INIT INFO
# Provides:          yardbolt-limits
# Required-Start:    $local_fs
# Required-Stop:
# X-Start-Before:    ssh networking
# Default-Start:     S
# Default-Stop:
# Short-Description: who may come to the management services
### END INIT INFO
PATH=/usr/sbin:/usr/bin:/sbin:/bin
case $1 in start|restart|reload) exec nft -f {FILE};; esac
"""
_UNIT = f"""[Unit]
Description=who may come to the management services
DefaultDependencies=no
After=local-fs.target nftables.service yardbolt-return.service
Before=network-pre.target
Wants=network-pre.target
[Service]
Type=oneshot
RemainAfterExit=yes
ExecStart=/usr/sbin/nft -f {FILE}
ExecReload=/usr/sbin/nft -f {FILE}
[Install]
WantedBy=sysinit.target
"""
# a start or reload of the usual unit flushes every table
_BESIDE = f"[Service]\nExecStartPost=/usr/sbin/nft -f {FILE}\nExecReload=/usr/sbin/nft -f {FILE}\n"

LIMIT = (
    (
        f"F={FILE} L={LIST}\n"
        + SERVER
        + LISTENS
        + r"""
have nft || no 'there is no nft, so nothing here limits who may come'
# transport and port: where the trade knows it, and where what bears its name listens besides
places() {
  case $1 in
    ssh) if [ "$kind" = openssh ]; then sshd_ -T | sed -n 's/^port //p'; else
      d=$(tr '\0' '\n' </proc/$l/cmdline | sed -n '/^-p$/{n;p;}; s/^-p//p' | sed 's/.*://'); echo "${d:-22}"; fi | sort -u | sed 's/^/tcp:/';;
    *) standard "$1" | tr ' ' '\n'; for n in $(called "$1"); do listens "$n"; done | grep -vx 'TAKEN' | sort -u;;
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
UNIT
END OF IT
      own /etc/systemd/system/nftables.service.d/yardbolt.conf 644 <<'END OF IT'
BESIDE
END OF IT
      systemctl daemon-reload; systemctl enable yardbolt-limits.service >/dev/null 2>&1;;
    sysv)
      own /etc/init.d/yardbolt-limits 755 <<'END OF IT'
INIT
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
"""
    )
    .replace("TAKEN", r"\|".join(f"{kind}:{port}" for kind, port in sorted(PORTS)))
    .replace("UNIT", _UNIT.rstrip())
    .replace("BESIDE", _BESIDE.rstrip())
    .replace("INIT", _INIT.rstrip())
)
PROGRAMS = (
    Program("source-limit", "who may come to a service, in a packet filter table of our own", ("name", "value"), LIMIT),
)
