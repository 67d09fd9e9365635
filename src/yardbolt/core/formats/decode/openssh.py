"""OpenSSH: what the running server does, from its own effective settings (`sshd -T`, sshd_config(5)), and authorized
keys (sshd(8)).

What the files say is believed only where the daemon surely loaded them after their last change, and where what stands
under `Match` was tried for somebody it is meant for. Of what differs by source or account, the most that is let in
counts."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from fnmatch import fnmatchcase
from typing import Any

from ...plane.kinds import ABSENT, NEVER, seconds
from ..sshkeys import KINDS, fingerprint
from . import dropbear
from .decoder import Decoded, Decoder, Pairs, of_text
from .idle import at_a_prompt, shortest
from .tagged import digits, tagged

_SSH = ("services", "ssh")
_ROOT = {
    "yes": "yes",
    "no": "no",
    "without-password": "keys",
    "prohibit-password": "keys",
    "forced-commands-only": "keys",
}
_LISTS = {"hostkeyalgorithms": "key_types", "kexalgorithms": "exchanges", "ciphers": "ciphers", "macs": "macs"}
_YES = {"yes": True, "no": False}
_KEYWORD = re.compile(r"^\s*([A-Za-z0-9]+)(?:\s*=\s*|\s+|$)(.*)$")
_LISTEN = re.compile(r"Listen=(\S+:\d+) \(Stream\)")  # systemctl(1)
_RSA = re.compile(r"^(\d{3,6}) SHA256:\S+ .*\((RSA|DSA)\)\s*$")
CLEARLY = 60  # seconds in the future that no slow start explains
FORCE_TAGS = "daemon arg changed block sure now oldest loaded started steady same"
SERVER_TAGS = f"{FORCE_TAGS} exe notice config set socket version lost hostkey for tmout shell wrapped narrowed"
KEY_TAGS = f"{FORCE_TAGS} command authority strict looked key unread leads"
GLOBAL_TIMEOUT = (9, 7)  # the first level whose ChannelTimeout knows `global`


# ---- settings -------------------------------------------------------------------------------------------------------


class _Settings:
    """`keyword value` lines as the daemon would use them: for everybody, for those tried, and what stands under
    Match."""

    def __init__(
        self, everybody: Iterable[str], tried: Iterable[str], blocks: Iterable[str], sure: Iterable[str] = ()
    ) -> None:
        self.base = _keywords(everybody)
        self.probes: dict[tuple[str, str], dict[str, list[str]]] = {}
        for line in tried:
            user, _, rest = line.partition(" ")
            source, _, setting = rest.partition(" ")
            word, _, value = setting.partition(" ")
            self.probes.setdefault((user, source), {}).setdefault(word.lower(), []).append(value.strip())
        settled = _keywords(sure).keys()
        written = _keywords(line for line in blocks if not line.lstrip().startswith("#"))
        self.blocks = {word: values for word, values in written.items() if word not in settled}

    def values(self, word: str) -> set[str] | None:
        """Every value of a keyword for somebody; None where one stands under Match that nobody tried has."""
        known = {self.base[word][0]} if word in self.base else set()
        known |= {settings[word][0] for settings in self.probes.values() if word in settings}
        return known if {value.lower() for value in self.blocks.get(word, [])} <= {v.lower() for v in known} else None

    def most(self, word: str, meant: Callable[[str], Any], rank: Callable[[Any], Any]) -> Any:
        """The value that lets in most; None where one of them is not understood, or nobody knows for which accounts
        it is."""
        found = self.values(word)
        meanings = [meant(value) for value in found or ()]
        return max(meanings, key=rank) if meanings and None not in meanings else None


def _keywords(lines: Iterable[str]) -> dict[str, list[str]]:
    """Keyword and value, parted by blanks or one `=` (sshd_config(5))."""
    found: dict[str, list[str]] = {}
    for line in lines:
        if match := _KEYWORD.match(line):
            found.setdefault(match[1].lower(), []).append(match[2].strip())
    return found


def _number(text: str) -> int | None:
    return int(text) if digits(text) else None


def _length(text: str) -> float | None:
    try:
        return seconds(text)
    except ValueError:
        return None


def _first(seen: Mapping[str, list[str]], tag: str) -> str:
    return (seen.get(tag) or [""])[0].strip()


def decode_server(reply: str, key: str = "") -> Decoded:
    """The section `ssh`."""
    seen, strange = tagged(reply, SERVER_TAGS)
    if seen.get("daemon") == ["dropbear"]:
        return dropbear.decode_server(seen)
    facts: Pairs = [
        (_SSH, True),
        ((*_SSH, "enabled"), True),
        ((*_SSH, "encrypted"), True),
        ((*_SSH, "permitted"), ABSENT),
        ((*_SSH, "config"), _first(seen, "config")),
    ]
    settings = _Settings(seen.get("set", []), seen.get("for", []), seen.get("block", []), seen.get("sure", []))
    if "port" not in settings.base or "permitrootlogin" not in settings.base:
        return Decoded((), ("the reply is not what sshd -T prints",))
    if why := not_in_force(seen):
        # what else may block somebody stands in settings that are not in force, or not known to be
        return Decoded(tuple(fact for fact in facts if fact[0] != (*_SSH, "permitted")), (why,))
    facts += _effective(settings, seen.get("socket", []))
    facts += _banner(settings, seen)
    sizes = [int(match[1]) for line in seen.get("hostkey", []) if (match := _RSA.match(line))]
    if seen.get("hostkey"):
        facts.append(((*_SSH, "rsa_bits"), min(sizes) if sizes else ABSENT))
    facts.append(((*_SSH, "idle"), _idle(settings, seen)))
    left = [*strange]
    if "wrapped" in seen:
        facts = [fact for fact in facts if fact[0] != (*_SSH, "permitted")]
        left.append("hosts.allow and hosts.deny may block somebody; they are not judged")
    if _accounts(settings) is None or settings.base.keys() & {"allowgroups", "denygroups"}:
        left.append("AllowGroups, DenyUsers, DenyGroups or a Match may turn accounts away at SSH; that is not judged")
    if "narrowed" in seen:
        facts = [fact for fact in facts if fact[0] != (*_SSH, "accounts")]
        left.append("PAM may turn accounts away by their names, their addresses or the hour; that is not judged")
    return Decoded(tuple((p, v) for p, v in facts if v is not None), tuple(left))


def _idle(settings: _Settings, seen: Mapping[str, list[str]]) -> float | None:
    level = re.search(r"OpenSSH_(\d+)\.(\d+)", " ".join(seen.get("version", [])))
    known = settings.values("channeltimeout") is not None
    told = settings.base.get("channeltimeout", [])
    by_server = channel_timeout(told, tuple(map(int, level.groups())) if level else ()) if known else None
    return shortest(by_server, at_a_prompt(seen.get("tmout", []), seen.get("shell", [])))


def not_in_force(seen: Mapping[str, list[str]]) -> str:
    """Why the files do not tell what the daemon does; empty where they do."""
    changed = [line.split(" ", 1)[0] for line in seen.get("changed", [])]
    if not changed or not all(digits(one) for one in changed):
        return "when the files of the SSH server were changed could not be read"
    # we had it load them, nothing was sent to it since, and the files are unchanged
    if "same" in seen:
        return ""
    now, loaded, oldest = (_number(_first(seen, tag)) for tag in ("now", "loaded", "oldest"))
    times = [int(one) for one in changed]
    if "steady" in seen and now is not None and loaded is not None:
        # since it loaded them nobody set the clock, so what lies in the future was changed before
        times = [one for one in times if one <= now + CLEARLY] or [0]
    newest = max(times)
    if now is None or newest > now or (loaded or 0) > now:
        return (
            "the files of the SSH server, or its start, lie in the future: its clock was set back since; have it, or "
            "the host, "
            "started again"
        )
    if loaded is not None:
        if newest == loaded:
            return "a file of the SSH server was changed in the very second it was loaded; have it load them again"
        return (
            "the SSH server runs with older settings than its files; have it load them, or undo them"
            if newest > loaded
            else ""
        )
    started = _first(seen, "started").split()
    # started after the last change, it has read them, and a reload could only have read the same
    if len(started) == 3 and all(digits(word) for word in started):
        boot, ticks, hertz = map(int, started)
        # what lies in memory since the boot and is older than it shows that the clock was set forward since
        steady = oldest is not None and oldest >= boot - 10
        if steady and newest + 1 <= boot + ticks / (hertz or 100):
            return ""
    return "whether the SSH server has loaded its files since they were changed is not known"


def _effective(settings: _Settings, sockets: list[str]) -> Pairs:
    root = ("no", "keys", "yes")
    # a password may also be asked for by keyboard-interactive, where PAM stands behind it (RFC 4256)
    typed = [settings.most(w, lambda v: _YES.get(v), bool) for w in ("passwordauthentication", _interactive(settings))]
    by_pam = settings.most("usepam", lambda v: _YES.get(v), bool) if "usepam" in settings.base else False
    password = True if typed[0] or (typed[1] and by_pam) else None if None in (*typed, by_pam) else False
    grace = _length(settings.base.get("logingracetime", [""])[0])
    # where systemd holds its sockets, what the server's own settings say of them is nothing
    held = [match[1] for line in sockets if (match := _LISTEN.fullmatch(line.strip()))]
    bound = held if sockets else settings.base.get("listenaddress", [])
    ports = list(dict.fromkeys([one.rpartition(":")[2] for one in held] if sockets else settings.base["port"]))
    numbers = [number for port in ports if (number := _number(port)) is not None]
    facts: Pairs = [
        ((*_SSH, "port"), numbers[0] if numbers else None),
        ((*_SSH, "also"), tuple(f"tcp {number}" for number in numbers[1:]) or ABSENT if numbers else None),
        ((*_SSH, "root_login"), settings.most("permitrootlogin", lambda v: _ROOT.get(v), root.index)),
        ((*_SSH, "password_login"), password),
        ((*_SSH, "key_login"), settings.most("pubkeyauthentication", lambda v: _YES.get(v), bool)),
        ((*_SSH, "blank_login"), settings.most("permitemptypasswords", lambda v: _YES.get(v), bool)),
        ((*_SSH, "tries"), settings.most("maxauthtries", _number, int)),
        ((*_SSH, "grace"), NEVER if grace == 0 else grace),
        ((*_SSH, "accounts"), _accounts(settings)),
        ((*_SSH, "interfaces"), ABSENT if any(map(_anywhere, bound)) else None),
        ((*_SSH, "authority"), _file(settings, "trustedusercakeys")),
        ((*_SSH, "key_command"), _file(settings, "authorizedkeyscommand")),
    ]
    return facts + [
        ((*_SSH, leaf), tuple(sorted(settings.base[word][0].split(","))))
        for word, leaf in _LISTS.items()
        if word in settings.base
    ]


def _file(settings: _Settings, word: str) -> Any:
    """The file a keyword names for everybody; None where it is not told, or not the same for everybody."""
    found = settings.values(word) if word in settings.base else None
    named = next(iter(found)) if found and len(found) == 1 else None
    return ABSENT if named == "none" else named


def _anywhere(bound: str) -> bool:
    """Is it a socket for every address of a family?"""
    return bound.rpartition(":")[0].strip("[]") in ("0.0.0.0", "::", "*")  # noqa: S104  # compared, not bound to


def _interactive(settings: _Settings) -> str:
    new, old = "kbdinteractiveauthentication", "challengeresponseauthentication"
    return new if new in settings.base else old


def _accounts(settings: _Settings) -> Any:
    """The accounts named as let in but those another list blocks by name; a list under Match is not judged, nor are
    groups."""
    users, *others = ("allowusers", "allowgroups", "denyusers", "denygroups")
    if any(word in settings.blocks for word in (users, *others)):
        return None
    listed = {word: [e for line in settings.base.get(word, []) for e in line.split()] for word in (users, *others)}
    if not listed[users]:
        return None if any(listed[word] for word in others) else ABSENT
    # `*` and `?` stand for others, and nothing else does
    denied = [entry.replace("[", "[[]") for entry in listed["denyusers"] if "@" not in entry]
    return tuple(sorted({e for e in listed[users] if not any(fnmatchcase(e.partition("@")[0], d) for d in denied)}))


def _banner(settings: _Settings, seen: Mapping[str, list[str]]) -> Pairs:
    found = settings.values("banner")
    if found is None or len(found) > 1:
        return []
    shown = "\n".join(seen.get("notice", [])).strip()
    return [(("banner",), shown if shown and "lost" not in seen else ABSENT)]


def channel_timeout(values: Iterable[str], level: tuple[int, ...]) -> float | None:
    """The seconds after which an idle shell session is ended (sshd_config(5), ChannelTimeout); a type nobody knows at
    this level ends nothing."""
    limits = []
    for entry in (e for value in values for e in value.split()):
        kind, _, length = entry.partition("=")
        ends = kind in ("session:*", "session:shell", "*") or (kind == "global" and level >= GLOBAL_TIMEOUT)
        if kind == "global" and not level:
            return None
        if ends and (limit := _length(length)):
            limits.append(limit)
    return min(limits, default=NEVER)


# ---- keys -----------------------------------------------------------------------------------------------------------


def decode_keys(reply: str, key: str = "") -> Decoded:
    """The section `keys`: the SHA-256 fingerprints of each account's keys; options before the key type are allowed,
    comments are dropped. Where keys come from a command or an authority too, no account's are all known."""
    seen, strange = tagged(reply, KEY_TAGS)
    if why := _more_keys(seen):
        return Decoded((), (why,))
    found: dict[str, set[str]] = {name.strip(): set() for name in seen.get("looked", [])}
    left = [*strange]
    for line in seen.get("key", []):
        name, _, words = line.partition(" ")
        if not words.strip() or words.lstrip().startswith("#"):
            continue
        options, entry = parted(words)
        if "cert-authority" in options:
            left.append(f"certificates of an authority open {name} too")
            found.pop(name, None)
        elif print_ := fingerprint(entry):
            if name in found:
                found[name].add(print_)
        else:
            left.append(f"a line among the keys of {name} that is no key")
            found.pop(name, None)
    for line in seen.get("unread", []):
        left.append(f"the keys of {line.split(' ')[0]} could not be read")
        found.pop(line.split(" ")[0], None)
    return Decoded(
        (
            *((("accounts", name, "keys"), tuple(sorted(keys))) for name, keys in found.items()),
            *((("accounts", name, "keys_taken"), taken) for name, taken in _taken(seen).items() if name in found),
        ),
        tuple(left[:20]),
    )


def _taken(seen: Mapping[str, list[str]]) -> dict[str, bool]:
    """Does the server take the keys of an account, by the modes and owners of all that leads to them (StrictModes in
    sshd_config(5); dropbear(8) asks the same): no more may write there than the account and root. Accounts of which
    that was not read, or not understood, are left out."""
    told: dict[str, list[bool | None]] = {}
    for line in seen.get("leads", []):
        name, _, words = line.partition(" ")
        user, mode, owner = (*words.split(), "", "", "")[:3]
        known = user.isdigit() and owner.isdigit() and 0 < len(mode) < 6 and set(mode) <= set("01234567")
        told.setdefault(name, []).append(
            not int(mode, 8) & 0o022 and owner in ("0", user) if known and user.isascii() and owner.isascii() else None
        )
    strict = _first(seen, "strict") != "no"
    return {name: all(ways) or not strict for name, ways in told.items() if None not in ways}


def _more_keys(seen: Mapping[str, list[str]]) -> str:
    """Why the keys that were found may not be all that open; empty where they are."""
    if seen.get("daemon") == ["dropbear"]:
        return "keys may lie in another folder" if "D" in dropbear.options(seen.get("arg", [])) else ""
    if why := not_in_force(seen):
        return why
    under = _keywords(seen.get("block", [])).items()
    if any(
        word.startswith("authorized") and any(value.lower() != "none" for value in values) for word, values in under
    ):
        return "under Match keys come from elsewhere"
    # whose certificates open stands with the server, and is no matter of these keys
    return "a command gives more keys" if _first(seen, "command") not in ("none", "") else ""


def parted(line: str) -> tuple[str, list[str]]:
    """The options of a line of authorized keys, and its words from the type of the key on (sshd(8)): options end at
    the first blank outside of quotes, and what stands within quotes is no key."""
    text = line.strip()
    if text.startswith(KINDS):
        return "", text.split()
    quoted, at = False, 0
    while at < len(text) and (quoted or not text[at].isspace()):
        if text[at] == "\\" and text[at + 1 : at + 2] == '"':
            at += 1
        elif text[at] == '"':
            quoted = not quoted
        at += 1
    return text[:at], text[at:].split()


_LEAVES = (
    "root_login",
    "password_login",
    "key_login",
    "blank_login",
    "key_types",
    "exchanges",
    "ciphers",
    "macs",
    "tries",
    "grace",
    "idle",
    "authority",
    "key_command",
    "accounts",
    "port",
    "also",
    "permitted",
    "interfaces",
    "enabled",
    "encrypted",
    "config",
    "rsa_bits",
)
DECODERS = (
    Decoder(
        "ssh-server",
        "sshd_config(5), dropbear(8)",
        of_text(decode_server),
        frozenset({("services", "*"), ("banner",), *(("services", "*", x) for x in _LEAVES)}),
    ),
    Decoder(
        "ssh-keys",
        "sshd(8)",
        of_text(decode_keys),
        frozenset({("accounts", "*", "keys"), ("accounts", "*", "keys_taken")}),
    ),
)
