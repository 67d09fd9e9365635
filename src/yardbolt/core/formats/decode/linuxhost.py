"""A Linux host: what it is (os-release(5), proc(5), ip(8)), its accounts (passwd(5), shadow(5), group(5), sudo(8)), and
small texts."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from ipaddress import ip_interface
from typing import Any

from ...plane.kinds import ABSENT
from ...talk.conversation import Replies
from .decoder import Decoded, Decoder, Pairs, of_text
from .tagged import digits, tagged

NO_SHELL = ("nologin", "false", "sync", "halt", "shutdown")
_LOCAL_SOURCES = {"files", "compat", "systemd", "db"}
_DAY = 86_400


# ---- the system -----------------------------------------------------------------------------------------------------


def decode_system(reply: str, key: str = "") -> Decoded:
    """Make, level, name, how long it is up, how it starts services, its sockets and their addresses."""
    seen, left = tagged(reply, "os name uptime init link addr route")
    facts: Pairs = _os_release(seen.get("os", []))
    left = left if facts else (*left, "no os-release file")
    name = (seen.get("name") or [""])[0].split()
    if len(name) == 1:
        facts.append((("name",), name[0]))
    up = (seen.get("uptime") or [""])[0].split()
    if up and re.fullmatch(r"\d{1,12}(\.\d+)?", up[0]):
        facts.append((("identity", "uptime"), float(up[0])))
    for init in seen.get("init", [])[:1]:
        facts.append((("host", "init"), init.strip()))
    facts += _interfaces(seen.get("link", []), seen.get("addr", []), seen.get("route", []))
    return Decoded(tuple(facts), left)


def _os_release(lines: Iterable[str]) -> Pairs:
    pairs = dict(line.split("=", 1) for line in lines if "=" in line)
    names = {"ID": "make", "NAME": "model", "VERSION_ID": "software"}
    return [(("identity", leaf), pairs[k].strip().strip("\"'")) for k, leaf in names.items() if k in pairs]


def _interfaces(links: list[str], addresses: list[str], routes: list[str]) -> Iterator[tuple[tuple[str, ...], object]]:
    hardware = {words[0]: words[1:] for line in links if len(words := line.split()) >= 2 and words[0] != "lo"}
    gateways = {
        words[4]: words[2] for line in routes if len(words := line.split()) > 4 and words[1::2][:2] == ["via", "dev"]
    }
    for name, (mac, *state) in sorted(hardware.items()):
        path = ("interfaces", name)
        yield path, True
        yield (*path, "enabled"), state[:1] != ["down"]
        if re.fullmatch(r"([0-9a-f]{2}:){5}[0-9a-f]{2}", mac) and mac != "00:00:00:00:00:00":
            yield (*path, "hardware"), mac
        if addresses:
            mine = [words[3] for line in addresses if len(words := line.split()) > 3 and words[1] == name]
            yield (*path, "addresses"), tuple(one for one in mine if _is_address(one)) or ABSENT
            yield (*path, "gateway"), gateways.get(name, ABSENT)
    real = [mac for mac, *_ in hardware.values() if mac != "00:00:00:00:00:00"]
    if len(real) == 1:
        yield ("identity", "hardware"), real[0]


def _is_address(written: str) -> bool:
    try:
        return not ip_interface(written).ip.is_link_local
    except ValueError:
        return False


# ---- accounts -------------------------------------------------------------------------------------------------------


def decode_accounts(replies: Replies, key: str = "") -> Decoded:
    """Accounts, how their secrets are kept, and what they may do: uid 0, or root by sudo, is full. The values of
    shadow(5) go no further."""
    seen, strange = tagged(replies.text, "passwd source group shadow now host sudo rules doas")
    facts: Pairs = []
    left = [*strange]
    shadow = {parts[0]: parts for line in seen.get("shadow", []) if len(parts := line.split(":")) == 9}
    now = (seen.get("now") or ["0"])[0].strip()
    today = int(now) // _DAY if digits(now) else 0
    facts.append((("host", "elevates"), "doas" if "doas" in seen else ABSENT if "sudo" in seen else "sudo"))
    groups, rules = _groups(seen.get("group", [])), _rules(seen, replies.tree)
    for line in dict.fromkeys(seen.get("passwd", [])):
        parts = line.split(":")
        if len(parts) != 7 or not parts[0] or not digits(parts[2]):
            left.append("a row of the account list that is no account")
            continue
        facts.append((("accounts", parts[0]), True))
        facts += _rights(parts, rules, _of(groups, parts[0], parts[3]), _opens_by_word(parts, shadow.get(parts[0])))
        facts += _secret(parts, shadow.get(parts[0]), today)
    for words in (line.split("[")[0].split() for line in seen.get("source", [])):
        if elsewhere := [word for word in words if word not in _LOCAL_SOURCES]:
            left.append(f"accounts are taken from {', '.join(elsewhere)} too, which are not all listed")
    if not seen.get("passwd"):
        left.append("no account list")
    return Decoded(tuple(facts), tuple(dict.fromkeys(left))[:20])


def _rules(seen: Mapping[str, list[str]], told: Any) -> Sudoers | None:
    """The rules of sudo; None where they are not all known, or something else gives rights too."""
    if "doas" in seen or any(set(line.split()) - {"files"} for line in seen.get("rules", [])):
        return None
    host = (seen.get("host") or [""])[0].strip()
    return Sudoers((), host) if "sudo" in seen else sudoers(told, host)


def _logs_in(parts: list[str]) -> bool:
    shell = parts[6].strip()
    return shell == "" or shell.rsplit("/", 1)[-1] not in NO_SHELL


def _opens_by_word(parts: list[str], row: list[str] | None) -> bool:
    """Is there a password that opens it? Without a shell too one may tunnel with it (RFC 4254, section 7)."""
    kept = parts[1] if parts[1] != "x" else row[1] if row is not None else "*"
    return _storage(kept) != "locked"


def _rights(parts: list[str], rules: Sudoers | None, groups: set[str], opens: bool) -> Pairs:
    """What an account may do: uid 0, or root by sudo, is full."""
    name, uid = parts[0], int(parts[2])
    base, logs_in = ("accounts", name), _logs_in(parts)
    if uid == 0:
        facts: Pairs = [((*base, "role"), "full"), ((*base, "becomes_root"), "is root")]
    elif not logs_in:
        facts = [] if opens else [((*base, "role"), "none")]
    elif rules is not None and (granted := rules.of(name, uid, groups)) is not None:
        becomes, everything = granted
        # who cannot become root changes nothing here but what is his; who may by a way round has no rights to work with
        role = "read" if becomes == "no" else "full" if everything else "change"
        facts = [((*base, "role"), role), ((*base, "becomes_root"), becomes)]
    else:
        facts = []
    if name == "root" or (not logs_in and not opens and uid != 0 and (uid < 1000 or uid == 65534)):
        facts.append(((*base, "origin"), "system"))
    return facts


def _secret(parts: list[str], row: list[str] | None, today: int) -> Pairs:
    """How its password is kept, and whether the account has ended. `today` counts days since 1970; 0 is not known."""
    base = ("accounts", parts[0])
    facts: Pairs = []
    if parts[1] != "x":
        facts.append(((*base, "storage"), _storage(parts[1])))
    elif row is not None:
        facts.append(((*base, "storage"), _storage(row[1])))
    if row is not None and today:
        ends = row[7].strip()
        facts.append(((*base, "enabled"), not (digits(ends) and int(ends) < today)))
    elif row is None and parts[1] != "x":
        # where no end is kept, its password tells; without one, and with a shell, a key may open it still
        locked = parts[1].startswith(("!", "*"))
        facts += [] if locked and _logs_in(parts) else [((*base, "enabled"), not locked)]
    return facts


def _groups(lines: Iterable[str]) -> dict[str, set[str]]:
    """The groups of each member: their names and numbers. The primary group by number stands in passwd(5)."""
    found: dict[str, set[str]] = {}
    for line in lines:
        parts = line.split(":")
        for member in parts[3].split(",") if len(parts) == 4 else ():
            found.setdefault(member.strip(), set()).update((f"%{parts[0]}", parts[2]))
        if len(parts) == 4:
            found.setdefault(f"#{parts[2]}", set()).add(f"%{parts[0]}")
    return found


def _of(groups: dict[str, set[str]], name: str, primary: str) -> set[str]:
    return groups.get(name, set()) | groups.get(f"#{primary}", set()) | {primary}


@dataclass(frozen=True)
class Rule:
    """One rule of sudo, aliases expanded, as sets of kind and name: for which users, on which hosts, and what it
    grants. `odd`: names of it are exempted, or of a kind that nobody can tell here. `asks`: whether it asks for a
    password; None where it does not say."""

    users: frozenset[tuple[str, str]]
    hosts: frozenset[tuple[str, str]]
    odd: bool
    opens: bool
    asks: bool | None
    whole: bool


@dataclass(frozen=True)
class Default:
    """One setting of sudo, and for which users; nobody named is everybody."""

    name: str
    value: Any
    bound: frozenset[tuple[str, str]]
    odd: bool


@dataclass(frozen=True)
class Sudoers:
    """The rules of sudo on this host."""

    rules: tuple[Rule, ...]
    host: str
    defaults: tuple[Default, ...] = ()

    def of(self, name: str, uid: int, groups: set[str]) -> tuple[str, bool] | None:
        """How somebody may become root: freely, with its password, by some commands, or not; and whether by every
        command. None where nobody can tell here for which users, or where, a rule is."""
        found, everything = "no", False
        mine = {("username", name), ("username", "ALL"), ("userid", str(uid))}
        mine |= {("usergroup", one[1:]) if one.startswith("%") else ("usergid", one) for one in groups}
        here = {("hostname", "ALL"), ("hostname", self.host)}
        asked, own = (
            self._said(mine, "authenticate", True),
            [self._said(mine, word, usual) for word, usual in _OTHERWISE],
        )
        for rule in self.rules:
            # groups of the network may hold anybody
            if any(kind not in _KINDS for kind, _ in rule.users):
                return None
            if not mine & rule.users:
                continue
            asks = asked if rule.asks is None else rule.asks
            if rule.odd or not rule.hosts <= here or asks is None or not all(own):
                return None
            grant = "some commands" if not rule.opens else "with its password" if asks else "freely"
            found, everything = max(found, grant, key=_GRANTS.index), everything or rule.whole
        return found, everything

    def _said(self, mine: set[tuple[str, str]], name: str, usual: bool) -> bool | None:
        """Is a setting for somebody as it usually is? What is said for one user wins over what is said for all. None
        where nobody can tell here: what is said of a name may be about the account a command runs as too, for
        cvtsudoers(1) shows both alike."""
        found = True
        # sudoers(5): those for all first, then those of hosts, of users, and at last those of the account it runs as and of
        # commands
        for one in sorted((one for one in self.defaults if one.name == name), key=lambda one: bool(one.bound)):
            same = one.value is usual
            known = not one.odd and all(kind in _KINDS for kind, _ in one.bound)
            if not one.bound or (same and known and mine & one.bound):
                found = same
            elif found is not same and (not known or (mine | _ROOT) & one.bound):
                return None
        return found


_KINDS = frozenset({"username", "userid", "usergroup", "usergid"})
_ROOT = {("username", "root"), ("userid", "0")}
# whose password it asks for, as which account a command runs, and who is not asked, where nothing is said
_OTHERWISE = (
    ("rootpw", False), ("targetpw", False), ("runaspw", False), ("runas_default", False), ("exempt_group", False),
    ("root_sudo", True),
)  # fmt: skip
# by what somebody who may run it as root is root: shells, what starts one, and what writes wherever it is told to
_OPENS = frozenset(
    [
        "sh",
        "bash",
        "dash",
        "ash",
        "zsh",
        "ksh",
        "csh",
        "tcsh",
        "fish",
        "busybox",
        "su",
        "sudo",
        "login",
        "env",
        "nice",
        "nohup",
        "setsid",
        "timeout",
        "xargs",
        "find",
        "awk",
        "gawk",
        "mawk",
        "perl",
        "python",
        "python3",
        "ruby",
        "lua",
        "php",
        "node",
        "vi",
        "vim",
        "vim.tiny",
        "nano",
        "ed",
        "emacs",
        "less",
        "more",
        "man",
        "view",
        "tee",
        "dd",
        "cp",
        "mv",
        "install",
        "rsync",
        "tar",
        "cpio",
        "zip",
        "chmod",
        "chown",
        "ln",
        "sed",
        "mount",
        "systemctl",
        "journalctl",
        "crontab",
        "at",
        "visudo",
        "passwd",
        "chpasswd",
        "usermod",
        "useradd",
        "vipw",
        "dpkg",
        "apt",
        "apt-get",
        "rpm",
        "yum",
        "dnf",
        "git",
        "make",
        "gdb",
        "strace",
        "docker",
        "podman",
        "nsenter",
        "unshare",
        "chroot",
        "ssh",
        "scp",
        "socat",
        "nc",
        "ncat",
        "tcpdump",
        "screen",
        "tmux",
        "script",
        "watch",
    ]
)
_GRANTS = ("no", "some commands", "with its password", "freely")


def sudoers(told: Any, host: str) -> Sudoers | None:
    """The rules in the JSON form of cvtsudoers(1); None where one is not understood, or none could be read."""
    try:
        defaults = []
        for one in told.get("Defaults", ()):
            bound, odd = _named(one.get("Binding", ()))
            defaults += [
                Default(name, value, bound, odd) for option in one["Options"] for name, value in option.items()
            ]
        rules = tuple(rule for one in told["User_Specs"] for rule in _rules_of(one))
        return Sudoers(rules, host, tuple(defaults))
    except (ValueError, TypeError, KeyError, AttributeError, RecursionError):
        return None


def _rules_of(one: Any) -> Iterator[Rule]:
    """The rules of one entry. Raises TypeError, KeyError and AttributeError where it has another shape."""
    users, hosts = _named(one["User_List"]), _named(one["Host_List"])
    for spec in one["Cmnd_Specs"]:
        asks = [option["authenticate"] is not False for option in spec.get("Options", ()) if "authenticate" in option]
        run_as = _named(spec["runasusers"]) if "runasusers" in spec else None
        # without a word it is root; with a group alone oneself
        as_root = run_as is None and "runasgroups" not in spec
        as_root = as_root or bool(run_as and run_as[0] & {("username", "ALL"), ("username", "root"), ("userid", "0")})
        opening = [command for command in spec["Commands"] if not command.get("negated") and _opens(command["command"])]
        whole = as_root and any(command["command"] == "ALL" for command in opening)
        yield Rule(
            users[0], hosts[0], users[1] or hosts[1] or bool(run_as and run_as[1]),
            as_root and bool(opening), asks[-1] if asks else None,
            whole and not any(command.get("negated") for command in spec["Commands"]),
        )  # fmt: skip


def _named(members: Any) -> tuple[frozenset[tuple[str, str]], bool]:
    """Members by kind and name, and whether one is exempted."""
    found = {(kind, str(name)) for one in members for kind, name in one.items() if kind != "negated"}
    return frozenset(found), any(one.get("negated") for one in members)


def _opens(command: str) -> bool:
    """Is who may run it as root, root? What a pattern, or a folder, names may be anything that lies there, or is laid
    there."""
    path, *given = command.split() or [""]
    if command == "ALL" or path.startswith("^") or (path.startswith("/") and path.endswith("/")):
        return True
    return (path.startswith("/") and path.rsplit("/", 1)[-1] in _OPENS) or any(
        word.startswith("/") and any(sign in word for sign in "*?[") for word in (path, *given)
    )


def _storage(kept: str) -> str:
    """How a secret is kept (crypt(5)); what no password can give is locked."""
    if kept == "":
        return "blank"
    if kept[0] in "!*":
        return "locked"
    if kept.startswith(("$1$", "$md5")) or (len(kept) == 13 and "$" not in kept) or kept.startswith("_"):
        return "outdated"
    return "one-way" if kept.startswith("$") else "locked"


# ---- small texts ----------------------------------------------------------------------------------------------------


def decode_notice(reply: str, key: str = "") -> Decoded:
    """A notice, blank lines at its ends removed."""
    text = reply.strip()
    return Decoded(((("banner",), text if text else ABSENT),))


def decode_name(reply: str, key: str = "") -> Decoded:
    """The first word of the reply is the name."""
    words = reply.split()
    return Decoded(((("name",), words[0]),)) if len(words) == 1 else Decoded((), ("the reply is not one name",))


_ACCOUNTS = {("accounts", "*", leaf) for leaf in ("role", "origin", "storage", "enabled", "becomes_root")}
_SYSTEM = {
    ("name",), ("host", "init"), *(("identity", leaf) for leaf in ("make", "model", "software", "uptime", "hardware")),
    ("interfaces",), ("interfaces", "*"),
    *(("interfaces", "*", x) for x in ("enabled", "hardware", "addresses", "gateway")),
}  # fmt: skip
DECODERS = (
    Decoder("linux-system", "os-release(5), proc(5), ip(8)", of_text(decode_system), frozenset(_SYSTEM), (("interfaces",),)),
    Decoder(
        "linux-accounts", "passwd(5), shadow(5), sudo(8)", decode_accounts,
        frozenset({("accounts",), ("accounts", "*"), ("host", "elevates"), *_ACCOUNTS}), (("accounts",),), private=True,
    ),
    Decoder("notice", "sshd_config(5), Banner", of_text(decode_notice), frozenset({("banner",)})),
    Decoder("name", "hostname(1)", of_text(decode_name), frozenset({("name",)})),
)  # fmt: skip
