steady() {
  _a=$(($1 - $(sed -n 's/^btime //p' /proc/stat) - $(sed 's/^.*) //' /proc/$l/stat | cut -d' ' -f20) / $(getconf CLK_TCK 2>/dev/null || echo 100)))
  [ $_a -ge -2 ] && [ $_a -le 20 ] && return  # a slow host takes its time to start one
  _b=; _c=; read -r _b _c _r 2>/dev/null </run/yardbolt-loaded; [ "$_b" = "$1" ] || return 1
  read -r _d _e </proc/uptime; _a=$(($(date -u +%s) - _b - ${_d%%.*} + _c))
  [ $_a -ge -2 ] && [ $_a -le 2 ]
}
