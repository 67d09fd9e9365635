#@ lib/tag

cat /etc/os-release 2>/dev/null | tag os
uname -n | tag name
cat /proc/uptime | tag uptime
if [ -d /run/systemd/system ]; then echo systemd
else case "$(readlink /proc/1/exe)" in *busybox*) echo busybox;; *) [ -d /etc/rc2.d ] && echo sysv;; esac
fi | tag init
for i in /sys/class/net/*; do
  [ -e "$i/address" ] && echo "${i##*/} $(cat $i/address) $(cat $i/operstate 2>/dev/null)"
done | tag link
if have ip; then ip -o addr show | tag addr; ip route show default | tag route; ip -6 route show default | tag route; fi
:
