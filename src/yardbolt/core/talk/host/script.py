"""One framed script for many commands (POSIX shell): few round trips, and each section known to have come whole.

The script goes over input, never as an argument, to a plain `/bin/sh`, whatever shell the account has. Each section
runs in a shell of its own, with its input closed, in one language and with a path of ours. Its output is framed by a
nonce of this run, its exit status, and its sum (POSIX cksum, which counts the bytes too, or what else the host has);
only what agrees with all of them counts."""

from __future__ import annotations

import hashlib
import shlex
import zlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from ...secret import Slot, Text

SECTION_SECONDS = 60  # asked of each account from each source, a slow SSH server takes long over its settings
BEGIN = "from here on it is a script"
AS_ONESELF = "exec /bin/sh -s"
# sudo takes the first line for the password only where it asks for one; so lines are dropped until the script begins
_SKIP = f"while IFS= read -r l; do [ \"$l\" = '{BEGIN}' ] && exec /bin/sh -s; done; exit 97"
AS_ROOT = f"sudo -S -p '' -- /bin/sh -c {shlex.quote(_SKIP)}"
PATH = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
SURROUNDINGS = f"""export LC_ALL=C PATH={PATH}:$PATH
unset ENV BASH_ENV TMOUT CDPATH IFS
umask 077
"""
_HEAD = f"""{{
{SURROUNDINGS}export RES_OPTIONS='timeout:1 attempts:1'
T=; timeout 2 true </dev/null >/dev/null 2>&1 && T='timeout {SECTION_SECONDS}'
K=none; for k in cksum sha256sum md5sum; do echo | $k >/dev/null 2>&1 && K=$k && break; done
section() {{
  b=$($T /bin/sh -c "$2" </dev/null 2>/dev/null); r=$?
  case $r in 0|124|143) ;; *) b=$($T /bin/sh -c "$2" </dev/null 2>&1 >/dev/null | sed -n 1,3p);; esac
  s=$(printf %s "$b" | $K 2>/dev/null) || s=none
  echo; echo "$N begin $1"; printf '%s\\n' "$b"; echo "$N end $1 $r $K $s"
}}
"""
_REVERSED = bytes(int(f"{byte:08b}"[::-1], 2) for byte in range(256))


@dataclass(frozen=True)
class Frame:
    """What one section wrote, and how it ended; where it failed, `body` is what it said on standard error."""

    status: int
    body: bytes


def script(sections: Sequence[str], nonce: str, given: Mapping[str, str]) -> str:
    """The script for these sections. `given` are variables they may use. The nonce stands in it in two pieces, so that
    nothing that shows the script shows a frame."""
    half = len(nonce) // 2
    lines = [_HEAD, f"N='{nonce[:half]}''{nonce[half:]}'\n"]
    lines += [f"export {name}={shlex.quote(value)}\n" for name, value in given.items()]
    lines += [f"section {place} {shlex.quote(text)}\n" for place, text in enumerate(sections)]
    # parsed whole before anything runs, so that no command can eat what is left of it
    return "".join((*lines, 'echo "$N done"; exit 0; }\n'))


_GIVEN = "end of what is given"


def whole(text: str, given: Mapping[str, Text]) -> Text:
    """One script that finds what it is given as variables, of one line each. It is parsed whole before anything of it
    runs, so that a line that is cut runs none of it, and no command can eat what is left of it."""
    parts: list[str | Slot] = ["{\n"]
    for name, value in given.items():
        parts += [f"IFS= read -r {name} <<'{_GIVEN}'\n", *value, f"\n{_GIVEN}\n"]
    return (*parts, text, "\nexit 0\n} </dev/null\n")


def cksum(data: bytes) -> int:
    """The sum of POSIX cksum (IEEE 1003.1): a CRC most significant bit first, over the data and its length."""
    length, size = len(data), bytearray()
    while length:
        size.append(length & 0xFF)
        length >>= 8
    turned = zlib.crc32((data + bytes(size)).translate(_REVERSED), 0xFFFFFFFF)
    return int(f"{turned:032b}"[::-1], 2)


def _sums(data: bytes) -> Iterator[list[str]]:
    """What each of the tools would say of it."""
    yield ["cksum", str(cksum(data)), str(len(data))]
    yield ["sha256sum", hashlib.sha256(data).hexdigest(), "-"]
    yield ["md5sum", hashlib.md5(data, usedforsecurity=False).hexdigest(), "-"]


def frames(output: bytes, nonce: str) -> dict[int, Frame]:
    """The sections that came whole, by their place; what is cut, changed or came twice is not there."""
    found: dict[int, Frame] = {}
    twice: set[int] = set()
    sign = b"\n" + nonce.encode() + b" "
    for part in (b"\n" + output).split(sign + b"begin ")[1:]:
        head, _, rest = part.partition(b"\n")
        body, end, tail = rest.rpartition(sign + b"end " + head + b" ")
        words = tail.partition(b"\n")[0].decode("ascii", "replace").split()
        if not end or len(words) != 4 or not head.isdigit() or not words[0].isdigit():
            continue
        place, status = int(head), int(words[0])
        if place in found:
            twice.add(place)
        if words[1:] in _sums(body):
            found[place] = Frame(status, body)
    return {place: frame for place, frame in found.items() if place not in twice}
