#!/bin/sh
# Takes away what Yard Bolt wrote here: every file on the list beside this one that still holds what was written. Accounts and
# who may become root by them stay, and so does what was switched off. With 'all' as argument, files of others that were changed
# are put back from their copies too, and what they start comes back at the next boot.
export LC_ALL=C PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin DEBIAN_FRONTEND=noninteractive
Y=/var/lib/yardbolt
#@ lib/loads
[ "$(id -u)" = 0 ] || { echo 'this needs root' >&2; exit 1; }
for x in $Y/return/armed-*; do [ -d "$x" ] && { echo 'a timed return is armed; wait until it has gone back' >&2; exit 1; }; done
command -v pam-auth-update >/dev/null && [ -e /usr/share/pam-configs/yardbolt-lock ] &&
  pam-auth-update --package --remove yardbolt-lock yardbolt-count </dev/null >/dev/null 2>&1
if [ -d /run/systemd/system ]; then systemctl disable yardbolt-limits.service yardbolt-return.service >/dev/null 2>&1; fi
rm -f /etc/rcS.d/S99yardbolt-return /etc/rcS.d/S99yardbolt-limits /etc/systemd/system/sysinit.target.wants/yardbolt-return.service
for x in /etc/ssh/sshd_config /etc/inittab; do
  [ -f "$x" ] && grep -q yardbolt "$x" && { sed '/^# the next line is from Yard Bolt$/d; \|^Include .*/+yardbolt.conf$|d; \|::sysinit:.*yardbolt|d' "$x" >"$x.yardbolt" &&
    cat "$x.yardbolt" >"$x"; rm -f "$x.yardbolt"; }
done
while read -r sum file; do
  case $file in /etc/sudoers.d/*) echo "$file stays: by it somebody becomes root"; continue;; esac
  [ -f "$file" ] || continue
  if [ "$(sha256sum <"$file" | cut -d' ' -f1)" = "$sum" ]; then rm -f "$file" && echo "$file is gone"
  else echo "$file stays: somebody has changed it since"; fi
done <$Y/own
#@ lib/no-limits
no_limits
if [ "$1" = all ]; then
  while read -r sum file; do
    k=$Y/before/$(echo "$file" | tr / %)
    if [ "$file" = /etc/sudoers ]; then echo "$file stays: by it somebody becomes root"
    elif [ -f "$file" ] && [ "$(sha256sum <"$file" | cut -d' ' -f1)" != "$sum" ]; then echo "$file stays: somebody has changed it since"
    elif [ -f "$k" ]; then cp -p "$k" "$file" && echo "$file is as it was before"
    elif [ -e "$k.none" ]; then rm -f "$file" && echo "$file is gone, as it was before"; fi
  done <$Y/edited
fi
rmdir /etc/yardbolt /etc/security/pwquality.conf.d /etc/systemd/system/nftables.service.d /etc/systemd/system/netfilter-persistent.service.d 2>/dev/null
[ -d /run/systemd/system ] && systemctl daemon-reload
for p in /proc/[0-9]*; do
  c=; read -r c 2>/dev/null <$p/comm
  w=$(tr '\0' ' ' <$p/cmdline 2>/dev/null)
  case "$c $w" in
    *sshd*'[listener]'*) "$(readlink $p/exe)" -t && loads "${p#/proc/}" && echo 'the SSH server has its own settings again';;
    'rsyslogd '*) if [ -d /run/systemd/system ]; then systemctl restart rsyslog; else kill "${p#/proc/}"; sleep 1; $w; fi;;
    'chronyd '*) chronyc reload sources >/dev/null 2>&1;;
  esac
done
rm -rf $Y /run/yardbolt-loaded
