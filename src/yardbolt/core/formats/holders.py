"""Who holds a port, where a program listens and which unit a process is (POSIX shell, ss(8), systemctl(1)): for what reads a
host, and for what writes on it."""

from __future__ import annotations

from .listening import INETD, PORTS, PROGRAMS

_CALLED = "\n".join(
    f"  {service}) echo '{' '.join(sorted(name for name, known in PROGRAMS.items() if known == service))}';;"
    for service in sorted({*PROGRAMS.values()} - {INETD})
)
_STANDARD = "\n".join(
    f"  {service}) echo '{' '.join(sorted(f'{by}:{port}' for (by, port), name in PORTS.items() if name == service))}';;"
    for service in sorted({*PORTS.values()})
)
# lines of ss without those only the host itself comes to
OUTWARD = r"/ \(127\.[0-9.]*\|\[::1\]\)\(%[^ ]*\)\{0,1\}:[0-9]* /d"
# called SERVICE: the programs that serve it; standard SERVICE: transport and port where the trade has it; listens PROGRAM: where
# one that bears this name does
LISTENS = rf"""
called() {{ case $1 in
{_CALLED}
esac; }}
standard() {{ case $1 in
{_STANDARD}
esac; }}
""" + r"""
listens() { have ss && ss -Hlntup | sed -n "OUTWARD; s/^\([a-z]*\)  *[^ ]*  *[0-9]*  *[0-9]*  *[^ ]*:\([0-9]*\) .*(\"$1\",.*/\1:\2/p" | sort -u; }
""".replace("OUTWARD", OUTWARD)
# unit_of PROCESS: the unit that is this process (or the shell that started it), and nothing else: not what a unit runs for
# somebody else, as those do that start jobs, visitors' servers, or whatever they are told to watch
UNIT_OF = r"""
parent_of() { sed -n 's/^PPid:[^0-9]*//p' "/proc/$1/status" 2>/dev/null; }
unit_of() {
  _u=$(sed -n '/user\.slice/d; s|.*/\([^/]*\)\.service$|\1|p' "/proc/$1/cgroup" 2>/dev/null | sed -n 1p); [ -n "$_u" ] || return 1
  case $_u in *inetd*|cron*|atd*|rc-local*) return 1;; esac
  _a=$(parent_of "$1"); _c=; read -r _c 2>/dev/null <"/proc/$_a/comm"
  case "$(systemctl show -p MainPID -p Type "$_u.service" 2>/dev/null | sort | tr '\n' ' ')" in
    *"MainPID=$1 "*) ;;
    *"MainPID=$_a "*) case $_c in sh|dash|bash|ash) ;; *) return 1;; esac;;
    *'MainPID=0 Type=forking '*) [ "$_a" = 1 ] || return 1;;
    *) return 1;;
  esac
  echo "$_u"
}
"""
