hook() {
  case $(init) in
    systemd) own /etc/systemd/system/yardbolt-return.service 644 <<'END OF IT'
#@ host/return.service
END OF IT
      mkdir -p /etc/systemd/system/sysinit.target.wants
      ln -sf ../yardbolt-return.service /etc/systemd/system/sysinit.target.wants/yardbolt-return.service
      systemctl daemon-reload;;
    sysv) own /etc/init.d/yardbolt-return 755 <$H/boot
      ln -sf ../init.d/yardbolt-return /etc/rcS.d/S99yardbolt-return;;
    busybox) grep -q "$H/boot" /etc/inittab 2>/dev/null || { cat /etc/inittab 2>/dev/null; echo "::sysinit:/bin/sh $H/boot"; } | theirs /etc/inittab || exit 9;;
  esac
}
unhook() {
  case $(init) in
    systemd) rm -f /etc/systemd/system/sysinit.target.wants/yardbolt-return.service; gone /etc/systemd/system/yardbolt-return.service
      systemctl daemon-reload;;
    sysv) rm -f /etc/rcS.d/S99yardbolt-return; gone /etc/init.d/yardbolt-return;;
    busybox) sed "\\|$H/boot|d" /etc/inittab | theirs /etc/inittab || exit 9;;
  esac
}
