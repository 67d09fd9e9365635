# groups that its SSH server lets in, where it goes by them; one that brings rights with it only for who has all of them
joins() { keep /etc/group; if have usermod; then usermod -aG "$1" "$name" </dev/null >/dev/null 2>&1; else addgroup "$name" "$1" >/dev/null 2>&1; fi; }
let_in() (
  name=$1 role=$2
  groups=$( (
#@ lib/ssh-server

[ "$kind" = openssh ] && sshd_ -T | sed -n 's/^allowgroups //p' | tr ' ' '\n') 2>/dev/null)
  has=" $(id -Gn "$name" 2>/dev/null) "
  for g in $groups; do case $has in *" $g "*) exit 0;; esac; done
  for some in plain any; do for g in $groups; do
    case $g in *[!A-Za-z0-9._-]*|-*) continue;; esac
    line_of "$g" /etc/group >/dev/null || continue
    if [ $some = plain ] || [ "$role" != full ]; then
      case $g in root|wheel|sudo|admin|adm|disk|shadow|docker|lxd|kvm|kmem|staff|systemd-journal|tty|utmp|video|www-data) continue;; esac
      dots=$(echo "$g" | sed 's/[.]/[.]/g'); grep -rqs "^[^#]*[%:]$dots\([^A-Za-z0-9._-]\|\$\)" /etc/sudoers /etc/sudoers.d /etc/doas.conf && continue
    fi
    joins "$g"
    exit 0
  done; done
  [ -n "$groups" ] || exit 0
  # none of them is for everybody: one of our own besides, in our own file
  (
#@ lib/ssh-server

#@ lib/ssh-set

  g=yardbolt-login; keep /etc/group
  line_of "$g" /etc/group >/dev/null || if have groupadd; then groupadd $g; else addgroup $g; fi >/dev/null 2>&1
  change AllowGroups $g && joins $g
  )
  exit 0
)
