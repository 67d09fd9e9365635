"""Jobs (crontab(5), at(1)), and files that run by themselves; a file is the package's where its sum is the one the
package brought (dpkg(1), ucf(1)), or a model's that a package brings for copying."""

from __future__ import annotations

import re
from collections.abc import Mapping

from .decoder import Decoded, Decoder, Pairs, of_text
from .tagged import tagged

_MD5 = re.compile(r"^([0-9a-f]{32})\s+(\S.*)$")
_WHEN = re.compile(r"\bOn\w+=([^;]+?) ;")
_SYSTEM_TABLES = ("/etc/crontab", "/etc/cron.d/", "/etc/anacrontab")


def decode_files(reply: str, key: str = "") -> Decoded:
    """The section `files`: each file with owner, mode, digest and origin; each job with the account it runs as, and
    when."""
    seen, strange = tagged(
        reply, "job line script at unread timer timers file home stat md5 sha known model own edited was"
    )
    known: set[tuple[str, str]] = set()
    for line in seen.get("known", []):
        if match := _MD5.match(line):
            known.add((match[1], match[2]))
    models = {match[1] for line in seen.get("model", []) if (match := _MD5.match(line))}
    ours, changed = (
        {(words[0], words[1]) for line in seen.get(tag, []) if len(words := line.split(" ", 1)) == 2}
        for tag in ("own", "edited")
    )
    was = {match[2]: match[1] for line in seen.get("was", []) if (match := _MD5.match(line))}

    def by_package(tag: str, path: str, md5: str) -> bool:
        return (md5, path) in known or (tag in ("home", "file") and md5 in models)

    facts: Pairs = []
    left = [
        *strange,
        *(f"{line} are not judged" if " of " in line else f"{line} was not read" for line in seen.get("unread", [])),
    ]
    origins: dict[str, str] = {}
    modes = {words[2]: words[:2] for line in seen.get("stat", []) if len(words := line.split(" ", 2)) == 3}
    sums, digests = _sums(seen.get("md5", [])), _sums(seen.get("sha", []))
    for tag in ("job", "script", "timers", "file", "home"):
        for path in seen.get(tag, []):
            if not (path in modes and path in sums and path in digests):
                left.append(f"{path[:80]} could not be read")
                continue
            (mode, owner), md5, sha = modes[path], sums[path], digests[path]
            origin = "package" if by_package(tag, path, md5) else "unknown"
            # what holds what we last wrote is ours; of what we only changed a copy tells whose it was
            if (sha, path) in ours or ((sha, path) in changed and by_package(tag, path, was.get(path, ""))):
                origin = "ours"
            origins[path] = origin
            base = ("files", path)
            facts += [(base, True), ((*base, "owner"), owner), ((*base, "mode"), mode), ((*base, "digest"), sha)]
            facts += [((*base, "origin"), origins[path]), ((*base, "written"), (sha, path) in ours | changed)]
            if tag == "script":
                facts += _job(f"{path}", "root", path.split("/")[2].removeprefix("cron."), origins[path])
    facts += _timers(seen.get("timer", []), origins)
    count: dict[str, int] = {}
    for line in seen.get("line", []):
        table, _, entry = line.partition(" ")
        count[table] = count.get(table, 0) + 1
        # one that was taken out of force keeps its number, so that the others keep theirs
        if entry.startswith("#yardbolt# "):
            continue
        facts += _cron(table, count[table], entry, origins.get(table, "unknown"))
    for line in seen.get("at", []):
        if told_at := line.split():
            facts += _job(f"at {told_at[0]}", told_at[-1], " ".join(told_at[1:-2]), "unknown")
    return Decoded(tuple(facts), tuple(dict.fromkeys(left))[:20])


def _sums(lines: list[str]) -> dict[str, str]:
    """The sum of each file, as md5sum(1) and sha256sum(1) list them; a name they had to escape is left out."""
    rows = (line.split("  ", 1) for line in lines if not line.startswith("\\"))
    return {row[1]: row[0] for row in rows if len(row) == 2}


def _timers(lines: list[str], origins: Mapping[str, str]) -> Pairs:
    """Timers as systemctl(1) shows them: a package's only where its file is, and nothing is set beside it."""
    timers: list[dict[str, str]] = [{}]
    for line in lines:
        name, _, value = line.partition("=")
        if line.strip() == "-":
            timers += [{}]
        else:
            timers[-1][name] = timers[-1].get(name, "") + value
    facts: Pairs = []
    for one in timers:
        if named := one.get("Id", ""):
            origin = "unknown" if one.get("DropInPaths") else origins.get(one.get("FragmentPath", ""), "unknown")
            when = " ".join(_WHEN.findall(one.get("TimersCalendar", "") + one.get("TimersMonotonic", "")))
            facts += _job(named, "root", when, origin, one.get("Unit", ""))
    return facts


def _cron(path: str, place: int, line: str, origin: str) -> Pairs:
    words = line.split()
    many = 1 if line.startswith("@") else 5
    if len(words) <= many:
        return []
    system = path.startswith(_SYSTEM_TABLES)
    owner = words[many] if system and path != "/etc/anacrontab" else "root" if system else path.rsplit("/", 1)[-1]
    rest = words[many + (1 if system and path != "/etc/anacrontab" else 0) :]
    # the program alone: what is given to it may be a secret
    return _job(f"{path} {place}", owner, " ".join(words[:many]), origin, rest[0] if rest else "")


def _job(name: str, owner: str, schedule: str, origin: str, runs: str = "") -> Pairs:
    base = ("jobs", name)
    told = {"owner": owner, "schedule": schedule, "origin": origin, "runs": runs}
    return [(base, True), *(((*base, leaf), value) for leaf, value in told.items() if value)]


DECODERS = (
    Decoder(
        "linux-files", "crontab(5), dpkg(1)", of_text(decode_files),
        frozenset({
            ("jobs",), ("jobs", "*"), *(("jobs", "*", x) for x in ("owner", "schedule", "origin", "runs")),
            ("files",), ("files", "*"), *(("files", "*", x) for x in ("owner", "mode", "digest", "origin", "written")),
        }),
        (("jobs",), ("files",)),
    ),
)  # fmt: skip
