"""Rules about logins and accounts: published credentials, predictable names, accounts nobody asked for."""

from __future__ import annotations

from collections.abc import Iterator

from ...job import Site
from ...plane.edit import exists, get, item
from ...plane.kinds import ABSENT
from ...plane.leaves import Account, Plane
from ...plane.seen import Trial
from ...secret import Ref
from ..demands import Demand, Gone, Present, exactly
from .rule import Params, Rule, Severity, State, Verdict

PREDICTABLE = frozenset(
    [
        "admin",
        "administrator",
        "root",
        "user",
        "guest",
        "test",
        "operator",
        "manager",
        "master",
        "service",
        "support",
        "tech",
        "supervisor",
        "default",
        "system",
        "monitor",
        "setup",
    ]
)


def _factory_login(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for t in plane.trials:
        subject = ("accounts", t.account or "(no name)")
        how = f"{t.service} as {t.account or '(no name)'}"
        if t.outcome in ("opened", "asked"):
            blank = " (no password)" if t.blank else ""
            asks = ", then asks questions" if t.outcome == "asked" else ""
            cause = "open without a password" if t.blank else "open with the published password"
            yield Verdict(subject, State.FAILS, f"the published login opens {how}{blank}{asks}", "tried", cause)
        elif t.outcome in ("refused", "nothing listens"):
            gone = t.account is not None and exists(plane, subject) is False and t.outcome == "refused"
            if gone or t.doubts == ():
                why = "no such account" if gone else t.outcome
                yield Verdict(subject, State.HOLDS, f"{how}: {why}", "tried")
            else:
                yield Verdict(subject, State.UNKNOWN, f"{how}: {t.outcome}, but {_could_be(t)}", "tried")
        else:
            why = f", {t.why}" if isinstance(t.why, str) else ""
            yield Verdict(subject, State.UNKNOWN, f"{how}: {t.outcome or 'not known how it ended'}{why}", "tried")
    if site.factory and not (plane.trials and plane.trials.complete):
        yield Verdict(("accounts",), State.UNKNOWN, "not every published login was tried", "")
    for a in plane.accounts:
        if a.storage == "factory" or (isinstance(a.secret, Ref) and a.secret.factory and not plane.trials):
            cause = "open with the published password"
            yield Verdict(
                ("accounts", a.key), State.FAILS, "the unit says it still has its factory password", "read", cause
            )


DOUBTED = {
    "starting": "it may still be starting",
    "locked": "the account may be locked",
    "everybody": "no login opened by it to compare with",
    "elsewhere": "its service may answer on another port",
}


def _could_be(trial: Trial) -> str:
    found = trial.doubts if isinstance(trial.doubts, tuple) else ()
    return ", ".join(DOUBTED[doubt] for doubt in found) or "what else could explain it was not looked at"


def _remedy(plane: Plane, site: Site, rule: str) -> Iterator[Demand]:
    for a in plane.accounts:
        if a.key not in site.factory:
            continue
        # root is no account that could go: it gets a password of the owner's
        if goes(a, site):
            yield Gone(("accounts", a.key), rule)
        else:
            yield exactly(("accounts", a.key, "secret"), rule, site.secret(a.key))


def goes(a: Account, site: Site) -> bool:
    """Is it one the owner lets go?"""
    return a.key in site.factory and site.allows.remove_factory_accounts and not _stays(a)


def _stays(a: Account) -> bool:
    """Is it the system's own, that cannot go?"""
    return a.origin == "system" or (a.becomes_root == "is root" and a.key == "root")


def _no_factory_login(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    yield from _remedy(plane, site, "factory-login")


def can_log_in(a: Account) -> bool | None:
    """Can anybody log in with it? None where that was not read. A locked password does not keep a key out."""
    if a.enabled is False or a.role == "none":
        return False
    if a.storage == "locked":
        return bool(a.keys) if isinstance(a.keys, tuple) else False if a.keys is ABSENT else None
    return True if a.storage is not None or a.enabled is True or a.keys else None


def _predictable(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for a in plane.accounts:
        known = a.key in site.factory or a.key.lower() in PREDICTABLE
        opens = can_log_in(a)
        if a.becomes_root == "is root" and a.origin == "system" and _root_turned_away(plane):
            yield Verdict(("accounts", a.key), State.HOLDS, f"{a.key} logs in by no service")
            continue
        if known and opens is not False:
            kind = "the maker's own name" if a.key in site.factory else "one of the first names an attacker tries"
            more = "" if opens else "; whether it can log in was not read"
            state, cause = State.FAILS if opens else State.UNKNOWN, f"names an attacker tries first{more}"
            # where no list of accounts was read, a login showed that it is there
            basis = "read" if a.role is not None or plane.accounts.complete else "tried"
            yield Verdict(("accounts", a.key), state, f"{a.key} is {kind}{more}", basis, cause)
        elif known:
            yield Verdict(("accounts", a.key), State.HOLDS, f"{a.key} cannot log in")
    if not plane.accounts.complete:
        yield Verdict(("accounts",), State.UNKNOWN, "the accounts were not all read", "")


WITHOUT_LOGIN = frozenset({"ntp", "syslog", "dns", "mdns", "snmp"})


def _root_turned_away(plane: Plane) -> bool:
    """Does every service that runs turn root away? One that may ask for a login and says nothing of root does not."""
    runs = [s for s in plane.services if s.enabled is not False and s.key not in WITHOUT_LOGIN]
    return plane.services.complete and bool(runs) and all(s.root_login == "no" for s in runs)


def _no_predictable(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    for a in plane.accounts:
        if goes(a, site):
            yield Gone(("accounts", a.key), "account-name")


def _own(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for own in site.accounts:
        path = ("accounts", own.name)
        there = exists(plane, path)
        if site.ended(own):
            state = State.HOLDS if there is False else State.UNKNOWN if there is None else State.FAILS
            yield Verdict(path, state, f"its time ended on {own.until}" + ("; it is gone" if there is False else ""))
            continue
        if there is not True:
            yield (
                Verdict(path, State.UNKNOWN, "not read", "")
                if there is None
                else Verdict(path, State.FAILS, "no such account", "read", "missing")
            )
            continue
        role, secret = get(plane, (*path, "role")), get(plane, (*path, "secret"))
        if role is None:
            yield Verdict(path, State.UNKNOWN, "its rights were not read", "")
        elif role != own.role:
            yield Verdict(path, State.FAILS, f"its rights are {role}; wanted {own.role}")
        elif secret != site.secret(own.name):
            yield Verdict(path, State.UNKNOWN, "the entry in the safe has not opened it yet", "tried")
        else:
            yield Verdict(path, State.HOLDS, f"rights {role}; the entry in the safe opens it", "tried")


def _want_own(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    # where accounts cannot be switched off there is nothing to switch on
    switch = () if ("accounts", "*", "enabled") in site.manual else (("enabled", True),)
    for own in site.accounts:
        if site.ended(own):
            yield Gone(("accounts", own.name), "own-account")
            continue
        # keys the job gives are put there; of those it only names nobody can
        keys = (("keys", tuple(sorted(own.keys))),) if own.public and len(own.public) == len(own.keys) else ()
        leaves = (("role", own.role), ("secret", site.secret(own.name)), *switch, *keys)
        yield Present(("accounts", own.name), "own-account", leaves)
    names = {own.name for own in site.accounts if not site.ended(own) and own not in site.askers}
    for service in plane.services:
        # a list of those who may log in holds every account that is made
        listed = service.accounts if isinstance(service.accounts, tuple) else ()
        if listed and service.encrypted is True and not names <= set(listed):
            yield exactly(("services", service.key, "accounts"), "own-account", tuple(sorted({*listed, *names})))


def _weak(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    opened = {trial.account for trial in plane.trials if trial.outcome == "opened"}
    unclear = {trial.account for trial in plane.trials if trial.outcome not in ("opened", "refused")}
    for a in plane.accounts:
        path = ("accounts", a.key, "weakness")
        # an account that is off or locked opens nothing with it any more; whatever the unit says of one that was let
        # in just now
        locked = a.storage == "locked" and isinstance(a.weakness, tuple)
        if (can_log_in(a) is False or locked) and a.key not in opened:
            if a.key in unclear and can_log_in(a) is not False:
                yield Verdict(path, State.UNKNOWN, "whether a password still opens it is not known")
            continue
        if isinstance(a.weakness, tuple):
            bad = ", ".join(a.weakness)
            yield Verdict(
                path,
                State.FAILS if bad else State.HOLDS,
                bad or "nothing wrong with the password that opened it",
                "tried",
            )
        elif a.storage == "blank":
            yield Verdict(path, State.FAILS, "blank")
        else:
            saw = "its password is not known to us, so it was not analysed"
            yield Verdict(path, State.UNKNOWN, saw, "", "password not known to us, so not analysed")


def _want_strong(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    for a in plane.accounts:
        # root stays, no matter who may log in: its password is the owner's, and rests in the safe
        stays = a.key in {o.name for o in site.accounts} or a.becomes_root == "is root" and a.origin == "system"
        if isinstance(a.weakness, tuple) and a.weakness and stays:
            yield exactly(("accounts", a.key, "secret"), "weak-password", site.secret(a.key))


def _unknown_account(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    ours = {o.name for o in site.accounts}
    for a in plane.accounts:
        if a.key in ours or a.key in site.factory or a.origin == "system":
            continue
        if (opens := can_log_in(a)) is not False:
            more = "" if opens else "; whether it can log in was not read"
            known = "neither the maker's nor in the job file"
            state = State.FAILS if opens else State.UNKNOWN
            yield Verdict(("accounts", a.key), state, f"{a.key} is {known}{more}", "read", f"{known}{more}")
    if not plane.accounts.complete:
        yield Verdict(("accounts",), State.UNKNOWN, "the accounts were not all read", "")
    elif not any(item(plane, ("accounts", a.key)) for a in plane.accounts):
        yield Verdict(("accounts",), State.UNKNOWN, "no account was read", "")


def _end_unknown(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    if "accounts" not in site.allows.foreign:
        return
    ours = {own.name for own in site.accounts}
    for a in plane.accounts:
        if a.key in ours or a.key in site.factory or a.origin == "system" or can_log_in(a) is False:
            continue
        # root under another name is root as long as it is there; and where nobody can be switched off, he goes
        if a.becomes_root == "is root" or ("accounts", "*", "enabled") in site.manual:
            yield Gone(("accounts", a.key), "unknown-account")
        else:
            yield exactly(("accounts", a.key, "enabled"), "unknown-account", False)


def _want_known_keys(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    if "keys" not in site.allows.foreign:
        return
    ours = {own.name: set(own.keys) for own in site.accounts}
    for a in plane.accounts:
        # its keys go with it
        ends = a.becomes_root == "is root" and "accounts" in site.allows.foreign and a.origin != "system"
        if ends or goes(a, site):
            continue
        if isinstance(a.keys, tuple) and set(a.keys) - ours.get(a.key, set()):
            left = tuple(key for key in a.keys if key in ours.get(a.key, set()))
            yield exactly(("accounts", a.key, "keys"), "login-keys", left)
    for s in plane.services:
        for name in BESIDE_KEYS:
            if isinstance(getattr(s, name), str):
                yield exactly(("services", s.key, name), "login-keys", ABSENT)


def _keys(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    ours = {own.name: set(own.keys) for own in site.accounts}
    for a in plane.accounts:
        path = ("accounts", a.key, "keys")
        if a.keys is ABSENT:
            continue
        if a.keys is None:
            if a.enabled is not False and a.role != "none":
                saw = "which SSH keys open it was not read"
                yield Verdict(path, State.UNKNOWN, saw, "", "SSH keys not read")
        elif foreign := [key for key in a.keys if key not in ours.get(a.key, set())]:
            many = f"{len(foreign)} SSH keys open" if len(foreign) > 1 else "an SSH key opens"
            saw = f"{many} {a.key} that the job does not name: {', '.join(foreign[:3])}"
            yield Verdict(path, State.FAILS, saw, "read", "opened by an SSH key the job does not name")
        else:
            yield Verdict(path, State.HOLDS, "no SSH key but the owner's" if a.keys else "no SSH key opens it")
    if not plane.accounts.complete:
        yield Verdict(("accounts",), State.UNKNOWN, "the accounts were not all read", "")
    for s in plane.services:
        for name, what in BESIDE_KEYS.items():
            value, path = getattr(s, name), ("services", s.key, name)
            if s.enabled is False or s.key_login is False:
                continue
            if value is None and s.key == "ssh":
                yield Verdict(path, State.UNKNOWN, f"whether {what} was not read", "", "SSH keys not read")
            elif value is not None:
                bad = value is not ABSENT
                saw = f"{what} by {s.key}: {value}" if bad else f"no {what} by {s.key}"
                yield Verdict(path, State.FAILS if bad else State.HOLDS, saw, "read", f"{what} by {s.key}")


BESIDE_KEYS = {
    "authority": "certificates of an authority the job does not name open accounts",
    "key_command": "keys that a program gives open accounts",
}


def _first_run(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    terms, forced = plane.first_run.terms, plane.first_run.forced
    if terms == "open":
        yield Verdict(("first_run", "terms"), State.FAILS, "licence terms wait for somebody to accept them", "tried")
    if isinstance(forced, tuple) and forced:
        yield Verdict(
            ("first_run", "forced"), State.FAILS, f"a first password must be set for {', '.join(forced)}", "tried"
        )
    if terms == "open" or (isinstance(forced, tuple) and forced):
        return
    unread = [
        words
        for value, words in ((terms, "whether terms wait"), (forced, "whether a first password must be set"))
        if value is None
    ]
    if not unread:
        yield Verdict(("first_run",), State.HOLDS, "nothing is asked at login", "tried")
    elif site.factory:
        yield Verdict(("first_run",), State.UNKNOWN, f"not seen: {', '.join(unread)}", "")


def _shown(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for s in plane.services:
        path = ("services", s.key, "shows")
        if isinstance(s.shows, tuple) and s.enabled is not False:
            what = ", ".join(head.replace("_", " ") for head in s.shows)
            saw = f"without a login {s.key} shows {what}" if what else f"{s.key} shows no setting without a login"
            yield Verdict(path, State.FAILS if what else State.HOLDS, saw, "tried", "shown without a login")
        elif s.key.startswith("http") and s.enabled is not False and s.shows is None:
            yield Verdict(path, State.UNKNOWN, f"what {s.key} shows without a login was not tried", "")


RULES = (
    Rule(
        "factory-login",
        "no published login opens the unit",
        "a published login opens the unit",
        "Anybody with the manual is an administrator, and can plant programs and lock you out.",
        Severity.CRITICAL,
        _factory_login,
        _no_factory_login,
    ),
    Rule(
        "first-run",
        "nothing waits for the first visitor",
        "the unit waits for its first visitor",
        "The first visitor answers its questions and owns the unit.",
        Severity.HIGH,
        _first_run,
    ),
    Rule(
        "login-first",
        "no setting is shown without a login",
        "settings are shown without a login",
        "Anyone who reaches the unit reads its accounts and settings, without any password.",
        Severity.HIGH,
        _shown,
    ),
    Rule(
        "weak-password",
        "no password that opened the unit is weak",
        "a password that opened the unit is weak",
        "Guessing programs try names, common words and their usual variations first.",
        Severity.HIGH,
        _weak,
        _want_strong,
    ),
    Rule(
        "account-name",
        "no account carries a predictable name",
        "an account carries a predictable name",
        "A known name is half of a guessed login.",
        Severity.MEDIUM,
        _predictable,
        _no_predictable,
    ),
    Rule(
        "own-account",
        "the owner's accounts are there and open",
        "an account of the owner is missing, or not as wanted",
        "Shared or factory accounts do not show who did what, and cannot be taken from one person.",
        Severity.HIGH,
        _own,
        _want_own,
    ),
    Rule(
        "login-keys",
        "every SSH key that opens an account is the owner's",
        "an SSH key opens an account that the job does not name",
        "A key opens without a password, is not locked with it, and stays when the password is changed.",
        Severity.HIGH,
        _keys,
        _want_known_keys,
    ),
    Rule(
        "unknown-account",
        "every account has an owner",
        "an account has no owner",
        "An account that nobody knows is a door that nobody watches.",
        Severity.HIGH,
        _unknown_account,
        _end_unknown,
    ),
)
