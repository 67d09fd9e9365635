#@ lib/tag

[ -d /var/lib/yardbolt/return ] || exit 0
read -r u rest </proc/uptime
for x in /var/lib/yardbolt/return/armed-*; do
  [ -d "$x" ] || continue
  w=alone; kill -0 "$(cat "$x/pid" 2>/dev/null)" 2>/dev/null && w=watched
  echo "$(($(cat "$x/deadline") - ${u%%.*})) $w" | tag armed
done
for x in /var/lib/yardbolt/return/fired-*; do [ -d "$x" ] && [ ! -e "$x/done" ] && echo yes | tag going; done
:
