"""What every program that writes on a host begins with (POSIX shell), and what a program is.

Files are written whole or not at all: beside the old one, compared, synced, renamed. Files of our own are listed with their
sums before they are written; of files of others a copy is kept before the first change. The folder `/var/lib/yardbolt` holds
all of that, for root alone.
"""

from __future__ import annotations

from dataclasses import dataclass

from ...talk.script import SURROUNDINGS
from .leaving import TAKE_AWAY

FOLDER = "/var/lib/yardbolt"
# Whoever is cut off goes on: what he was told to do would be done after it was taken back. So one at a time, and whoever goes back
# ends what is at work. A number may be another's by now, so the time it started goes with it.
WORK = r"""
since_() { sed 's/^.*) //' "/proc/$1/stat" 2>/dev/null | cut -d' ' -f20; }
at_work() { p=; s=; read -r p s 2>/dev/null <WORK; [ -n "$p" ] && [ "$p" != $$ ] && [ "$p" != "$PPID" ] && [ "$(since_ "$p")" = "$s" ] && [ -n "$s" ] && echo "$p"; }
below() { for x in /proc/[0-9]*; do [ "$(sed 's/^.*) //' $x/stat 2>/dev/null | cut -d' ' -f2)" = "$1" ] && { echo "${x#/proc/}"; below "${x#/proc/}"; }; done; }
end_work() { w=$(at_work); [ -z "$w" ] || { kill -STOP "$w"; kill -9 $(below "$w") "$w"; rm -f WORK; } 2>/dev/null; }
""".replace("WORK", f"{FOLDER}/at-work")
ALONE = r"""
_i=0; while [ -n "$(at_work)" ] && [ $_i -lt 300 ]; do sleep 0.1; _i=$((_i + 1)); done
[ -z "$(at_work)" ] || no 'what was sent before is still at work here; wait, then run the same command again'
"""
BEGUN = r"""
trap 'rm -f $Y/at-work' EXIT
echo "$$ $(since_ $$)" >$Y/at-work || no "no room for $Y"
"""
BEGIN = f"{SURROUNDINGS}export DEBIAN_FRONTEND=noninteractive\n"
COMMON = (
    f"Y={FOLDER}"
    + r"""
no() { echo "$*" >&2; exit 9; }
have() { command -v "$1" >/dev/null 2>&1; }
[ -d $Y/before ] || mkdir -p $Y/before || no "no room for $Y"
next_second() { _x=$(date +%s); _i=0; while [ "$(date +%s)" = "$_x" ] && [ $_i -lt 15 ]; do sleep 0.1; _i=$((_i + 1)); done; }
init() { if [ -d /run/systemd/system ]; then echo systemd; elif [ -d /etc/rc2.d ]; then echo sysv; else echo busybox; fi; }
# into FILE like MODEL: what comes over input becomes the contents of FILE, with the rights of MODEL
into() {
  [ -h "$1" ] && no "$1 is a link, and nothing is written through it"
  _w=${1%/*}/.${1##*/}.new
  rm -f "$_w"; _c=$(cat; echo x)
  { if [ -e "$2" ]; then cp -p "$2" "$_w"; else : >"$_w" && chmod "$2" "$_w"; fi && printf %s "${_c%x}" >"$_w"; } 2>/dev/null
  [ "$(cat "$_w" 2>/dev/null; echo x)" = "$_c" ] || { rm -f "$_w"; no "$1 could not be written; is there room, and may it be written to?"; }
  sync "$_w" 2>/dev/null || sync
  mv -f "$_w" "$1" || no "$1 could not be put in its place"
}
# own FILE MODE: a file of ours, on the list before it is there
own() {
  _o=$(cat; echo x); _d=$(printf %s "${_o%x}" | sha256sum | cut -d' ' -f1)
  [ -d "${1%/*}" ] || mkdir -p -m 755 "${1%/*}" || no "no room for ${1%/*}"
  [ -x $Y/take-away ] || into $Y/take-away 700 <<'END OF TAKING AWAY'
TAKE AWAY
END OF TAKING AWAY
  { cat $Y/own 2>/dev/null | sed "\\| $1\$|d"; echo "$_d $1"; } | sort | into $Y/own 600 || exit 9
  printf %s "${_o%x}" | into "$1" "$2" || exit 9
}
gone() { for x in "$@"; do rm -f "$x"; cat $Y/own 2>/dev/null | sed "\\| $x\$|d" | into $Y/own 600 || exit 9; done; }
# keep FILE: how it was before us, once; theirs FILE: what comes over input becomes its contents, after a copy
keep() {
  _k=$Y/before/$(echo "$1" | tr / %)
  [ -e "$_k" ] || [ -e "$_k.none" ] && return
  if [ -e "$1" ]; then cp -p "$1" "$_k.new" 2>/dev/null && mv "$_k.new" "$_k" || no "no room for a copy of $1"; else : >"$_k.none"; fi
}
# noted FILE...: as it is now, it is as we left it
noted() { for x in "$@"; do
  { cat $Y/edited 2>/dev/null | sed "\\| $x\$|d"; echo "$(sha256sum <"$x" | cut -d' ' -f1) $x"; } | sort | into $Y/edited 600 || exit 9
done; }
theirs() {
  keep "$1"; _o=$(cat; echo x); _d=$(printf %s "${_o%x}" | sha256sum | cut -d' ' -f1)
  { cat $Y/edited 2>/dev/null | sed "\\| $1\$|d"; echo "$_d $1"; } | sort | into $Y/edited 600 || exit 9
  _m=644; [ -e "$1" ] && _m=$1
  printf %s "${_o%x}" | into "$1" "$_m" || exit 9
}
""".replace("TAKE AWAY", TAKE_AWAY.rstrip())
)


@dataclass(frozen=True)
class Program:
    """A program that writes: what it does, in words, what it takes, and its text, which finds each as a variable."""

    name: str
    meaning: str
    takes: tuple[str, ...]
    text: str
    ends: bool = False  # it ends what is at work, and does not wait for it
