"""What is demanded of passwords, and what follows wrong ones, as PAM carries it out: the stacks in order
(pam.conf(5)), not the files that merely lie there (pwquality.conf(5), pam_unix(8), faillock.conf(5))."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

from ...plane.kinds import ABSENT, NEVER
from .decoder import Decoded, Decoder, Pairs, of_text
from .tagged import digits, tagged

_LINE = re.compile(r"^-?(auth|account|password|session)\s+(\[[^\]]*\]|\S+)\s+(\S+)(?:\s+(.*))?$")
UNIX_LENGTH, QUALITY_LENGTH, QUALITY_FLOOR = 6, 8, 6  # characters, where nothing else is set
DEEPEST = 8  # files that take in each other
UNREAD = "a file that was not read"
LOCK_TRIES, LOCK_SECONDS = 3, 600.0
_TRIES, _RELEASE = ("lockout", "tries"), ("lockout", "release")
_NO_LOCK: tuple[tuple[tuple[str, ...], object], ...] = ((_TRIES, ABSENT), (_RELEASE, ABSENT))
KINDS = ("dcredit", "ucredit", "lcredit", "ocredit")
CHECKS = frozenset(
    f"pam_{name}.so" for name in ("unix", "sss", "ldap", "krb5", "winbind", "systemd_home", "tcb", "deny")
)
# what passes whatever the password is
PASSES = frozenset(
    f"pam_{name}.so"
    for name in (
        "env",
        "permit",
        "faildelay",
        "nologin",
        "securetty",
        "cap",
        "faillock",
        "group",
        "shells",
        "motd",
        "mail",
        "limits",
        "keyinit",
    )
)


@dataclass(frozen=True)
class Entry:
    """One line of a stack."""

    control: str
    module: str
    arguments: tuple[str, ...]

    @property
    def settings(self) -> Mapping[str, str]:
        """Its arguments as name and value."""
        return {one.partition("=")[0]: one.partition("=")[2] for one in self.arguments}

    @property
    def binds(self) -> bool:
        """Does a no of it stand?"""
        return (
            self.control in ("required", "requisite") or "default=die" in self.control or "default=bad" in self.control
        )


def stack(files: Mapping[str, list[str]], service: str, kind: str, depth: int = 0) -> Iterator[Entry]:
    """The lines of one kind that a service runs through, in order, those of others included where they are named."""
    for line in files.get(service, files.get("other", [])):
        if line.startswith("@include"):
            yield from _included(files, line.removeprefix("@include").strip(), kind, depth)
        elif (match := _LINE.match(line)) and match[1] == kind:
            module = match[3].rsplit("/", 1)[-1]
            if match[2] in ("include", "substack"):
                yield from _included(files, module, kind, depth)
            else:
                yield Entry(match[2], module, tuple((match[4] or "").split()))


def _included(files: Mapping[str, list[str]], name: str, kind: str, depth: int) -> Iterator[Entry]:
    """The lines of another file. One that was not read may hold anything, so it stands as a module nobody knows."""
    if name in files and depth < DEEPEST:
        yield from stack(files, name, kind, depth + 1)
    else:
        yield Entry("requisite", UNREAD, ())


def decode_pam(reply: str, key: str = "") -> Decoded:
    """The section `passwords`."""
    seen, strange = tagged(reply, "daemon usepam pam nopam quality faillock dictionary")
    files: dict[str, list[str]] = {}
    for line in seen.get("pam", []):
        name, _, rest = line.partition(" ")
        files.setdefault(name, []).append(rest)
    if "nopam" not in seen and not files:
        return Decoded((), (*strange, "PAM takes its settings from elsewhere"))
    if "nopam" in seen:
        # what a bare passwd says of a short password it only says
        none = [("policy", leaf) for leaf in _POLICY]
        return Decoded((*((path, ABSENT) for path in none), *_NO_LOCK), strange)
    facts, left = _policy(files, _settings(seen.get("quality", [])), "dictionary" in seen)
    # what is not known of the server, is not known of its lock-out
    if "daemon" not in seen or (seen["daemon"] == ["openssh"] and "usepam" not in seen):
        return Decoded(tuple(facts), (*strange, *left, "whether the SSH server asks PAM is not known"))
    by_pam = seen.get("daemon") == ["openssh"] and seen.get("usepam") == ["yes"]
    more, also = _lockout(files, _settings(seen.get("faillock", [])), by_pam)
    return Decoded(tuple(facts + more), (*strange, *left, *also))


def _settings(lines: Iterable[str]) -> dict[str, str]:
    """`name = value` lines, and names alone; the last of a name counts."""
    return {name.strip(): value.strip() for line in lines for name, _, value in (line.partition("="),)}


# ---- what is demanded -----------------------------------------------------------------------------------------------


def _policy(files: Mapping[str, list[str]], written: Mapping[str, str], dictionary: bool) -> tuple[Pairs, list[str]]:
    entries = list(stack(files, "passwd", "password"))
    facts: Pairs = [(("policy", "history"), _history(entries) or ABSENT)]
    for entry in entries:
        if entry.module == "pam_unix.so":
            settings = entry.settings
            length = settings.get("minlen", str(UNIX_LENGTH))
            facts += [
                (("policy", "min_length"), int(length) if digits(length) else None),
                (("policy", "classes"), ABSENT),
            ]
            facts += [
                (("policy", "max_repeat"), ABSENT),
                (("policy", "max_run"), ABSENT),
                (("policy", "binds_root"), False),
            ]
            return [(path, value) for path, value in facts if value is not None], []
        if entry.module == "pam_pwquality.so":
            if not entry.binds:
                return facts, ["the check of password quality does not bind"]
            return facts + _quality({**written, **entry.settings}, dictionary), []
        if entry.module in ("pam_cracklib.so", "pam_passwdqc.so") or not entry.module.startswith("pam_"):
            return facts, [f"what {entry.module} demands is not known here"]
    return facts, ["nothing sets a password by PAM here"]


def _history(entries: Iterable[Entry]) -> int:
    for entry in entries:
        remember = entry.settings.get("remember", "10" if entry.module == "pam_pwhistory.so" else "")
        if entry.module in ("pam_pwhistory.so", "pam_unix.so") and digits(remember) and int(remember):
            return int(remember)
    return 0


def _quality(settings: Mapping[str, str], dictionary: bool) -> Pairs:
    def number(name: str, usual: int) -> int:
        text = settings.get(name, "")
        return int(text) if re.fullmatch(r"-?\d{1,6}", text) else usual

    if settings.get("enforcing") == "0":
        return [(("policy", leaf), ABSENT) for leaf in ("min_length", "classes", "max_repeat", "max_run")]
    credits = [number(kind, 0) for kind in KINDS]
    # a positive credit shortens what is demanded, a negative one demands that kind
    length = max(QUALITY_FLOOR, number("minlen", QUALITY_LENGTH) - sum(max(0, one) for one in credits))
    classes = max(number("minclass", 0), sum(one < 0 for one in credits))
    # the check of words needs its dictionary: without it users can set no password at all
    checked = number("dictcheck", 1) != 0
    return [
        (("policy", "min_length"), length),
        (("policy", "classes"), classes or ABSENT),
        (("policy", "max_repeat"), number("maxrepeat", 0) or ABSENT),
        (("policy", "max_run"), number("maxsequence", 0) or ABSENT),
        (("policy", "binds_root"), "enforce_for_root" in settings),
        (("policy", "dictionary"), ("there" if dictionary else "missing") if checked else "not used"),
    ]


# ---- what follows wrong ones ----------------------------------------------------------------------------------------


def _lockout(files: Mapping[str, list[str]], written: Mapping[str, str], by_pam: bool) -> tuple[Pairs, list[str]]:
    """What every way in does after wrong passwords, where all of them do the same."""
    if not by_pam:
        return list(_NO_LOCK), []
    found = [_lock(files, service, written) for service in ("sshd", "login") if service in files or service == "sshd"]
    if any(isinstance(one, str) for one in found):
        return [], [one for one in found if isinstance(one, str)]
    first = found[0]
    assert not isinstance(first, str)
    return (first, []) if all(one == first for one in found) else ([], ["not every way in locks alike"])


def _lock(files: Mapping[str, list[str]], service: str, written: Mapping[str, str]) -> Pairs | str:
    """The lock of one stack, or why it is not known."""
    entries = list(stack(files, service, "auth"))
    reached = _on_a_wrong_password(entries)
    if reached is None:
        return f"what {service} does after a wrong password is not known here"
    counter = next((e for e in reached if e.module == "pam_faillock.so" and "authfail" in e.arguments), None)
    guarded = any(e.module == "pam_faillock.so" and "preauth" in e.arguments for e in entries)
    guarded = guarded or any(e.module == "pam_faillock.so" for e in stack(files, service, "account"))
    # counted and never asked, or never counted: nobody is locked
    if counter is None or not guarded:
        return list(_NO_LOCK)
    settings = {**written, **counter.settings}
    deny, unlock = settings.get("deny", str(LOCK_TRIES)), settings.get("unlock_time", str(int(LOCK_SECONDS)))
    if not digits(deny) or not (digits(unlock) or unlock == "never"):
        return f"the lock of {service} is written in a way not known here"
    if deny == "0":
        return list(_NO_LOCK)
    release = NEVER if unlock in ("0", "never") else float(unlock)
    return [(_TRIES, int(deny)), (_RELEASE, release), (("lockout", "binds_root"), "even_deny_root" in settings)]


def _on_a_wrong_password(entries: list[Entry]) -> list[Entry] | None:
    """The lines that are reached when the password is wrong; None where that hangs on a module not known here."""
    at, reached = 0, []
    while at < len(entries):
        entry = entries[at]
        reached.append(entry)
        failed = entry.module in CHECKS or (entry.module == "pam_faillock.so" and "authfail" in entry.arguments)
        actions = dict(part.split("=", 1) for part in entry.control.strip("[]").split() if "=" in part)
        decides = entry.control in ("requisite", "sufficient", "binding") or any(
            action in ("die", "done") or digits(action) for action in actions.values()
        )
        if decides and entry.module not in CHECKS | PASSES:
            return None
        if entry.control == ("requisite" if failed else "sufficient"):
            return reached
        action = actions.get("auth_err", actions.get("default", "bad")) if failed else actions.get("success", "ok")
        if action in ("die", "done"):
            return reached
        at += 1 + (int(action) if digits(action) else 0)
    return reached


_POLICY = ("min_length", "classes", "max_repeat", "max_run", "history", "binds_root", "dictionary")
DECODERS = (
    Decoder(
        "pam",
        "pam.conf(5), pwquality.conf(5), faillock.conf(5)",
        of_text(decode_pam),
        frozenset(
            {*(("policy", x) for x in _POLICY), ("lockout", "tries"), ("lockout", "release"), ("lockout", "binds_root")}
        ),
    ),
)
