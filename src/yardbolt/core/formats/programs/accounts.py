"""Accounts: made, given a password, locked, removed (useradd(8), chpasswd(8), usermod(8); adduser, chpasswd, deluser of
BusyBox), and who may become root (sudoers(5))."""

from __future__ import annotations

from ..sshsections import SERVER
from .common import Program
from .ssh import SET

_THERE = r"""
there() { grep -q "^$1:" /etc/passwd; }
"""
_RIGHTS = r"""
# what sudo takes is checked under a name it does not read, and then put in its place
may_all() {
  have visudo || no 'there is no sudo, so only root has all rights here'
  s=/etc/sudoers.d/.yardbolt.new
  mkdir -p -m 750 /etc/sudoers.d; echo "$1 ALL=(ALL:ALL) ALL" >$s && chmod 440 $s || no 'no room for the rules of sudo'
  visudo -cqf $s >/dev/null 2>&1 || { rm -f $s; no "sudo would not take a rule for $1"; }
  rm -f $s; echo "$1 ALL=(ALL:ALL) ALL" | own "/etc/sudoers.d/yardbolt-$1" 440 || exit 9
  visudo -cq >/dev/null 2>&1 || { gone "/etc/sudoers.d/yardbolt-$1"; no 'sudo would not take its rules any more'; }
}
rights() {
  case $2 in
    full) may_all "$1";;
    *) [ -e "/etc/sudoers.d/yardbolt-$1" ] && gone "/etc/sudoers.d/yardbolt-$1"; :;;
  esac
}
"""
# how its password is kept: in a file that only root reads, or (as on small ones) where everybody may
KEPT_AS = r"""
kept_as() { f_=/etc/shadow; grep -qs "^$1:" $f_ || f_=/etc/passwd; sed -n "s/^$1:\([^:]*\):.*/\1/p" $f_ | sed -n 1p; }
"""
GIVE = (
    KEPT_AS
    + r"""
# over input, never as an argument; what it says is no answer, so what is kept is looked at
give() {
  was=$(kept_as "$1")
  # that of BusyBox keeps eight characters, unless it is told a method; where there is no PAM, the other one wants it told too
  if chpasswd --help 2>&1 | grep -q BusyBox; then printf '%s:%s\n' "$1" "$secret" | chpasswd -c sha512 >/dev/null 2>&1
  elif [ -d /etc/pam.d ] || [ -e /etc/pam.conf ]; then printf '%s:%s\n' "$1" "$secret" | chpasswd >/dev/null 2>&1
  else printf '%s:%s\n' "$1" "$secret" | chpasswd -c SHA512 >/dev/null 2>&1; fi
  now=$(kept_as "$1")
  case $now in ''|x|'!'*|'*'*) no "the password of $1 was not taken";; esac
  [ "$now" != "$was" ] || no "the password of $1 was not taken"
}
"""
)
JOIN = (
    """
# groups that its SSH server lets in, where it goes by them; one that brings rights with it only for who has all of them
joins() { keep /etc/group; if have usermod; then usermod -aG "$1" "$name" </dev/null >/dev/null 2>&1; else addgroup "$name" "$1" >/dev/null 2>&1; fi; }
let_in() (
  name=$1 role=$2
  groups=$( ("""
    + SERVER
    + r"""
[ "$kind" = openssh ] && sshd_ -T | sed -n 's/^allowgroups //p' | tr ' ' '\n') 2>/dev/null)
  has=" $(id -Gn "$name" 2>/dev/null) "
  for g in $groups; do case $has in *" $g "*) exit 0;; esac; done
  for some in plain any; do for g in $groups; do
    case $g in *[!A-Za-z0-9._-]*|-*) continue;; esac
    grep -q "^$g:" /etc/group || continue
    if [ $some = plain ] || [ "$role" != full ]; then
      case $g in root|wheel|sudo|admin|adm|disk|shadow|docker|lxd|kvm|kmem|staff|systemd-journal|tty|utmp|video|www-data) continue;; esac
      grep -rqs "^[^#]*[%:]$g\([^A-Za-z0-9._-]\|\$\)" /etc/sudoers /etc/sudoers.d /etc/doas.conf && continue
    fi
    joins "$g"
    exit 0
  done; done
  [ -n "$groups" ] || exit 0
  # none of them is for everybody: one of our own besides, in our own file
  ("""
    + SERVER
    + SET
    + r"""
  g=yardbolt-login; keep /etc/group
  grep -q "^$g:" /etc/group || if have groupadd; then groupadd $g; else addgroup $g; fi >/dev/null 2>&1
  change AllowGroups $g && joins $g
  )
  exit 0
)
"""
)
MAKE = (
    _THERE
    + JOIN
    + _RIGHTS
    + GIVE
    + r"""
sh=/bin/sh; [ -x /bin/bash ] && sh=/bin/bash
there "$name" || if have useradd; then useradd -m -s $sh "$name" </dev/null >/dev/null 2>&1; else adduser -D -s $sh "$name" </dev/null >/dev/null 2>&1; fi
there "$name" || no "the account $name could not be made"
let_in "$name" "$role"
give "$name"
rights "$name" "$role"
"""
)
ROLE = (
    _THERE
    + _RIGHTS
    + r"""
there "$name" || no "there is no account $name"
rights "$name" "$role"
"""
)
SECRET = (
    _THERE
    + GIVE
    + r"""
there "$name" || no "there is no account $name"
give "$name"
"""
)
# what ends: its keys (after a copy), its jobs (after a copy), whoever is inside as it
_END = r"""
h=$(sed -n "s|^$name:[^:]*:[^:]*:[^:]*:[^:]*:\([^:]*\):.*|\1|p" /etc/passwd | sed -n 1p)
u=$(sed -n "s|^$name:[^:]*:\([0-9]*\):.*|\1|p" /etc/passwd | sed -n 1p)
end_it() {
  [ "$u" = 0 ] && return
  for x in "$h/.ssh/authorized_keys" "$h/.ssh/authorized_keys2"; do
    [ -f "$x" ] && [ ! -h "$x" ] && { keep "$x"; rm -f "$x"; }
  done
  [ -f "/var/spool/cron/crontabs/$name" ] && { keep "/var/spool/cron/crontabs/$name"; rm -f "/var/spool/cron/crontabs/$name"; }
  for p in /proc/[0-9]*; do
    [ "$(sed -n 's/^Uid:[^0-9]*\([0-9]*\).*/\1/p' $p/status 2>/dev/null)" = "$u" ] && kill -9 "${p#/proc/}" 2>/dev/null
  done
  have faillock && faillock --user "$name" --reset >/dev/null 2>&1
  :
}
"""
# the day an account ends, where that is kept (shadow(5)): also where no program sets it. Where it is not, a key opens what has no
# password any more, so its shell ends it
_EXPIRY = r"""
shut_by_shell() {
  s_=$Y/shell-$1; n_=/bin/false
  if [ -n "$2" ]; then [ -e "$s_" ] || sed -n "s/^$1:.*:\([^:]*\)\$/\1/p" /etc/passwd | into "$s_" 600
  else n_=$(cat "$s_" 2>/dev/null || echo /bin/sh); rm -f "$s_"; fi
  keep /etc/passwd; sed "s|^\($1:.*:\)[^:]*\$|\1$n_|" /etc/passwd | into /etc/passwd /etc/passwd
}
expires() {
  grep -qs "^$1:" /etc/shadow || { shut_by_shell "$@"; return; }
  have usermod && { usermod -e "$2" "$1" </dev/null >/dev/null 2>&1; return; }
  keep /etc/shadow; sed "s/^\($1:\([^:]*:\)\{6\}\)[^:]*:/\1$2:/" /etc/shadow | into /etc/shadow /etc/shadow
}
"""
LOCK = (
    _THERE
    + KEPT_AS
    + _EXPIRY
    + _END
    + r"""
there "$name" || no "there is no account $name"
if [ "$value" = no ]; then
  if have usermod; then usermod -L "$name" </dev/null; else passwd -l "$name"; fi >/dev/null 2>&1
  expires "$name" 1
  case $(kept_as "$name") in '!'*|'*'*) ;; *) no "$name could not be locked";; esac
  end_it
else
  expires "$name" ''
  if have usermod; then usermod -U "$name" </dev/null; else passwd -u "$name"; fi >/dev/null 2>&1
  :
fi
"""
)
REMOVE = (
    _THERE
    + _END
    + r"""
there "$name" || exit 0
keep /etc/passwd; [ ! -e /etc/shadow ] || keep /etc/shadow; end_it
[ -e "/etc/sudoers.d/yardbolt-$name" ] && gone "/etc/sudoers.d/yardbolt-$name"
if have userdel; then userdel -f "$name" </dev/null >/dev/null 2>&1; else deluser "$name" </dev/null >/dev/null 2>&1; fi
there "$name" && no "$name could not be removed"
:
"""
)
PROGRAMS = (
    Program("make-account", "makes an account with its password and its rights", ("name", "role", "secret"), MAKE),
    Program("account-rights", "gives an account all rights by sudo, or takes that back", ("name", "role"), ROLE),
    Program("account-secret", "gives an account a new password", ("name", "secret"), SECRET),
    Program(
        "account-switch", "locks and expires an account, its keys gone, or opens it again", ("name", "value"), LOCK
    ),
    Program("remove-account", "removes an account; its home folder stays", ("name",), REMOVE),
)
