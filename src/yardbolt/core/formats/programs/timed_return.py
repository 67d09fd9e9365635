"""The timed return: a host goes back by itself to how it was, unless somebody says in time that he still gets in.

A watcher, and at the next boot a hook, put back copies of files and have the daemons load them. What decides is one rename
of one folder: `armed-N` becomes `fired-N` by the watcher, or `cancelled-N` by us, never both. The deadline counts in uptime
(proc(5)), for the clock is one of the things that are set. What takes everything back is tried, with nothing changed, before
it is armed.
"""

from __future__ import annotations

from ...talk.script import PATH
from ..sshsections import FILES, LISTENER, LOADED, SERVER
from .common import FOLDER, WORK, Program

HOME = f"{FOLDER}/return"

# restore FOLDER HOW: files back from its copies; then (how is not boot) the daemons load them
_RESTORE = r"""#!/bin/sh
ALONE
from=$1; how=$2
WORK
[ "$how" = tried ] || [ "$how" = boot ] || end_work
same() { [ -f "$2" ] && cmp -s "$1" "$2"; }
back() { cp -p "$1" "${2%/*}/.yardbolt.back" && mv -f "${2%/*}/.yardbolt.back" "$2" && echo "$2 put back"; }
files() {
while read -r place number; do
  case $place in
    */) for x in "$place"* "$place".[!.]*; do [ -f "$x" ] && [ ! -e "$from/$number/${x##*/}" ] && rm -f "$x" && echo "$x removed"; done
        for x in "$from/$number/"* "$from/$number/".[!.]*; do [ -f "$x" ] && { same "$x" "$place${x##*/}" || back "$x" "$place${x##*/}"; }; done;;
    *) if [ -e "$from/$number" ]; then same "$from/$number" "$place" || back "$from/$number" "$place"
       else [ -e "$place" ] && rm -f "$place" && echo "$place removed"; fi;;
  esac
done <"$from/places"
}
told=$(files); [ -n "$told" ] && echo "$told"
# loaded in the very second of the change, nobody could tell later whether they were
x=$(date +%s); i=0; while [ -n "$told" ] && [ "$(date +%s)" = "$x" ] && [ $i -lt 15 ]; do sleep 0.1; i=$((i + 1)); done
# init has read its table before this hook runs, and must read it again
[ "$how" = boot ] && { case $told in *inittab*) kill -HUP 1;; esac; exit 0; }
if command -v nft >/dev/null 2>&1; then
  if [ -f /etc/yardbolt/limits.nft ]; then nft -f /etc/yardbolt/limits.nft; else nft delete table inet yardbolt 2>/dev/null; fi
fi
. "$from/server"
LISTENER
MARKING
l=$(listener)
if [ "$kind" = openssh ]; then
  about_to_load
  if "$exe" -t -f "$f" $a; then loads "$l"; else echo 'the settings that were put back do not pass'; fi
  sleep 0.2; n=0; while sleep 0.2; ! has_loaded && [ $n -lt 20 ]; do n=$((n + 1)); done
  has_loaded && marked; l=$(listener)
else
  # its options stand in what starts it; the sessions it has made stay
  case $told in *inittab*) kill -HUP 1; sleep 1; [ -n "$l" ] && kill "$l"; sleep 3; l=$(listener);; esac
fi
if [ -z "$l" ]; then
  if [ -d /run/systemd/system ]; then
    systemctl reset-failed ssh.service sshd.service 2>/dev/null; systemctl start ssh.service 2>/dev/null || systemctl start sshd.service
  elif [ "$kind" = openssh ]; then mkdir -p -m 755 /run/sshd; "$exe" -f "$f" $a </dev/null >/dev/null 2>&1
  fi
  sleep 0.3; [ -n "$(listener)" ] && echo 'the SSH server was started again'
fi
exit 0
"""

_WATCH = f"""#!/bin/sh
ALONE
armed=$1
echo $$ >"$armed/pid"
read -r deadline <"$armed/deadline"
while [ -d "$armed" ]; do
  read -r up rest </proc/uptime
  if [ "${{up%%.*}}" -ge "$deadline" ]; then
    fired={HOME}/fired-${{armed##*-}}
    mv "$armed" "$fired" && {{ sh {HOME}/restore "$fired" time >"$fired/told" 2>&1; : >"$fired/done"; }}
    exit
  fi
  sleep 1
done
"""

_BOOT = f"""#!/bin/sh
### BEGIN INIT INFO
# Provides:          yardbolt-return
# Required-Start:    $local_fs
# Required-Stop:
# Default-Start:     S
# Default-Stop:
# Short-Description: goes back to how it was, where nobody said in time that he still gets in
### END INIT INFO
ALONE
for armed in {HOME}/armed-*; do
  [ -d "$armed" ] || continue
  fired={HOME}/fired-${{armed##*-}}
  mv "$armed" "$fired" && {{ sh {HOME}/restore "$fired" boot >"$fired/told" 2>&1; : >"$fired/done"; }}
done
"""
_UNIT = f"""[Unit]
Description=goes back to how it was, where nobody said in time that he still gets in
DefaultDependencies=no
After=local-fs.target
Before=network-pre.target ssh.service sshd.service ssh.socket sysinit.target
Wants=network-pre.target
[Service]
Type=oneshot
ExecStart=/bin/sh {HOME}/boot
"""

_HOOK = r"""
hook() {
  case $(init) in
    systemd) own /etc/systemd/system/yardbolt-return.service 644 <<'END OF IT'
UNIT
END OF IT
      mkdir -p /etc/systemd/system/sysinit.target.wants
      ln -sf ../yardbolt-return.service /etc/systemd/system/sysinit.target.wants/yardbolt-return.service
      systemctl daemon-reload;;
    sysv) own /etc/init.d/yardbolt-return 755 <$H/boot
      ln -sf ../init.d/yardbolt-return /etc/rcS.d/S99yardbolt-return;;
    busybox) grep -q "$H/boot" /etc/inittab 2>/dev/null || { cat /etc/inittab 2>/dev/null; echo "::sysinit:/bin/sh $H/boot"; } | theirs /etc/inittab || exit 9;;
  esac
}
unhook() {
  case $(init) in
    systemd) rm -f /etc/systemd/system/sysinit.target.wants/yardbolt-return.service; gone /etc/systemd/system/yardbolt-return.service
      systemctl daemon-reload;;
    sysv) rm -f /etc/rcS.d/S99yardbolt-return; gone /etc/init.d/yardbolt-return;;
    busybox) sed "\\|$H/boot|d" /etc/inittab | theirs /etc/inittab || exit 9;;
  esac
}
""".replace("UNIT", _UNIT.rstrip())

_STATE = (
    f"H={HOME}"
    + r"""
find_() { for x in $H/$1-*; do [ -d "$x" ] && echo "$x"; done; }
up() { read -r u rest </proc/uptime; echo "${u%%.*}"; }
"""
)

ARM = (
    (
        SERVER
        + _STATE
        + _HOOK
        + r"""
[ -n "$(find_ armed)" ] && no 'a timed return is armed already'
rm -rf $H/fired-* $H/cancelled-* $H/new-*
mkdir -p $H || no "no room for $H"
into $H/restore 700 <<'END OF IT'
RESTORE
END OF IT
into $H/watch 700 <<'END OF IT'
WATCH
END OF IT
into $H/boot 700 <<'END OF IT'
BOOT
END OF IT
n=$(up)x$$; w=$H/new-$n
mkdir "$w" || no "no room for $w"
i=0
for x in $holds; do
  i=$((i + 1)); echo "$x $i" >>"$w/places"
  case $x in
    */) mkdir "$w/$i"; for y in "$x"* "$x".[!.]*; do [ -f "$y" ] && { cp -p "$y" "$w/$i/" || no "no room for a copy of $y"; }; done;;
    *) [ -f "$x" ] && { cp -p "$x" "$w/$i" || no "no room for a copy of $x"; };;
  esac
done
cat >"$w/server" <<END
kind='$kind'; exe='$exe'; f='$f'; a='$a'
END
[ "$(sed -n '$=' "$w/places")" = "$i" ] && [ -s "$w/server" ] || no "no room for $w"
# what takes everything back is tried before it is needed: with nothing changed it must change nothing
told=$(sh $H/restore "$w" tried 2>&1) || no "taking back was tried, and failed: $told"
[ -z "$told" ] || no "taking back was tried with nothing changed, and said: $told"
hook
echo $(($(up) + seconds)) >"$w/deadline" && sync
mv "$w" "$H/armed-$n" || no 'it could not be armed'
if [ -d /run/systemd/system ] && have systemd-run; then
  systemd-run --quiet --collect --unit=yardbolt-watch-$n /bin/sh $H/watch "$H/armed-$n" </dev/null >/dev/null 2>&1
else setsid sh $H/watch "$H/armed-$n" </dev/null >/dev/null 2>&1 &
fi
i=0; while [ ! -s "$H/armed-$n/pid" ] && [ $i -lt 50 ]; do sleep 0.1; i=$((i + 1)); done
kill -0 "$(cat "$H/armed-$n/pid" 2>/dev/null)" 2>/dev/null || { mv "$H/armed-$n" "$H/cancelled-$n"; unhook; no 'its watcher does not run'; }
"""
    )
    .replace(
        "RESTORE",
        _RESTORE.rstrip()
        .replace("LISTENER", LISTENER.rstrip())
        .replace("WORK", WORK.strip())
        .replace("MARKING", (FILES + LOADED).strip()),
    )
    .replace("WATCH", _WATCH.rstrip())
    .replace("BOOT", _BOOT.rstrip())
    .replace("ALONE", f"export LC_ALL=C PATH={PATH}")
)

# one rename decides; who comes too late is told so
CANCEL = (
    _STATE
    + _HOOK
    + r"""
for x in $(find_ armed); do
  mv "$x" "$H/cancelled-${x##*-}" 2>/dev/null || no 'too late: it has gone back by itself'
done
x=$(find_ fired); [ -n "$x" ] && no "too late: it has gone back by itself"
[ -n "$(find_ cancelled)" ] || no 'no timed return was armed'
unhook
rm -rf $H/cancelled-*
"""
)

UNDO = (
    _STATE
    + _HOOK
    + r"""
for x in $(find_ armed); do
  y=$H/fired-${x##*-}
  mv "$x" "$y" 2>/dev/null && { sh $H/restore "$y" asked >"$y/told" 2>&1; : >"$y/done"; }
done
i=0; for x in $(find_ fired); do
  while [ ! -e "$x/done" ] && [ $i -lt 100 ]; do sleep 0.2; i=$((i + 1)); done
  [ -e "$x/done" ] || no 'going back has not ended'
done
unhook
"""
)

PROGRAMS = (
    Program("arm-return", "arms the timed return of the files and folders it holds", ("seconds", "holds"), ARM),
    Program("cancel-return", "cancels the timed return: what was changed stays", (), CANCEL),
    Program("return-now", "goes back at once to how it was when the timed return was armed", (), UNDO, ends=True),
)
