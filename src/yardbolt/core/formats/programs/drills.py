"""Drills: what is demanded is tried out on an account made for it and taken away again, and a mark is sent where logs go."""

from __future__ import annotations

from .accounts import GIVE, JOIN
from .common import Program

_END = r"""
there() { grep -q "^$1:" /etc/passwd; }
end() {
  there "$1" || return
  u=$(sed -n "s|^$1:[^:]*:\([0-9]*\):.*|\1|p" /etc/passwd)
  for p in /proc/[0-9]*; do
    [ "$(sed -n 's/^Uid:[^0-9]*\([0-9]*\).*/\1/p' $p/status 2>/dev/null)" = "$u" ] && kill -9 "${p#/proc/}" 2>/dev/null
  done
  have faillock && faillock --user "$1" --reset >/dev/null 2>&1; rm -f "/run/faillock/$1"
  if have userdel; then userdel -r -f "$1" </dev/null >/dev/null 2>&1; else deluser --remove-home "$1" </dev/null >/dev/null 2>&1; fi
  [ -f /etc/security/opasswd ] && grep -q "^$1:" /etc/security/opasswd && sed "/^$1:/d" /etc/security/opasswd | into /etc/security/opasswd /etc/security/opasswd
  there "$1" && no "untried: the account $1, made for this, could not be taken away again"
  :
}
begin() {
  end "$1"
  if have useradd; then useradd -m -s /bin/sh "$1" </dev/null >/dev/null 2>&1; else adduser -D -s /bin/sh "$1" </dev/null >/dev/null 2>&1; fi
  there "$1" || no 'untried: no account for it could be made'
}
"""
# root is not held to what is demanded, so the account itself changes its password
POLICY = (
    _END
    + GIVE
    + r"""
begin "$name"
give "$name"
have su && have passwd || { end "$name"; no 'untried: there is no su or no passwd'; }
change() { printf '%s\n%s\n%s\n' "$1" "$2" "$2" | su "$name" -s /bin/sh -c passwd >/dev/null 2>&1; }
change "$secret" "$weak"; w=$?
if [ $w = 0 ]; then change "$weak" "$strong"; else change "$secret" "$strong"; fi; s=$?
end "$name"
[ $w = 0 ] && no 'a weak password was taken'
[ $s = 0 ] || no 'untried: a strong one was refused as well, so that a weak one is says nothing'
"""
)
LEND = (
    _END
    + GIVE
    + JOIN
    + r"""
begin "$name"
let_in "$name" read
give "$name"
"""
)
TAKE_BACK = _END + '\nend "$name"\n'
MARK = r"""
have logger || no 'untried: there is no logger'
logger -p auth.notice -t yardbolt "mark $value" </dev/null || no 'untried: logger failed'
"""
PROGRAMS = (
    Program(
        "drill-policy",
        "tries a weak and a strong password on an account made for it",
        ("name", "secret", "weak", "strong"),
        POLICY,
    ),
    Program("lend-account", "makes an account to be locked by wrong passwords", ("name", "secret"), LEND),
    Program("take-back-account", "takes that account away again", ("name",), TAKE_BACK),
    Program("log-mark", "writes a numbered mark into the log", ("value",), MARK),
)
