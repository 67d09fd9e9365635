#!/bin/sh
### BEGIN INIT INFO
# Provides:          yardbolt-return
# Required-Start:    $local_fs
# Required-Stop:
# Default-Start:     S
# Default-Stop:
# Short-Description: goes back to how it was, where nobody said in time that he still gets in
### END INIT INFO
export LC_ALL=C PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin
for armed in /var/lib/yardbolt/return/armed-*; do
  [ -d "$armed" ] || continue
  fired=/var/lib/yardbolt/return/fired-${armed##*-}
  mv "$armed" "$fired" && { sh /var/lib/yardbolt/return/restore "$fired" boot >"$fired/told" 2>&1; : >"$fired/done"; }
done
