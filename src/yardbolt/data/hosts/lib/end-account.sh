# what ends: its keys (after a copy), its jobs (after a copy), its sessions
h=$(field "$name" 6 /etc/passwd)
u=$(field "$name" 3 /etc/passwd)
running_as() { for p in /proc/[0-9]*; do [ "$(sed -n 's/^Uid:[^0-9]*\([0-9]*\).*/\1/p' "$p/status" 2>/dev/null)" = "$1" ] && echo "${p#/proc/}"; done; }
end_it() {
  [ "$u" = 0 ] && return
  case $u in ''|*[!0-9]*) return;; esac
  for x in "$h/.ssh/authorized_keys" "$h/.ssh/authorized_keys2"; do
    [ -f "$x" ] && [ ! -h "$x" ] && { keep "$x"; rm -f "$x"; }
  done
  [ -f "/var/spool/cron/crontabs/$name" ] && { keep "/var/spool/cron/crontabs/$name"; rm -f "/var/spool/cron/crontabs/$name"; }
  # two accounts of one number are one to the kernel: nobody is ended who may be the other
  [ "$(cut -d: -f3 /etc/passwd | grep -cx "$u")" = 1 ] && for p in $(running_as "$u"); do kill -9 "$p" 2>/dev/null; done
  have faillock && faillock --user "$name" --reset >/dev/null 2>&1
  :
}
