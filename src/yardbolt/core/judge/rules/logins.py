"""Rules about logins and accounts: published credentials, predictable names, accounts nobody asked for."""

from __future__ import annotations

from collections.abc import Iterator

from ...job import Site
from ...plane.edit import exists, get, item
from ...plane.kinds import ABSENT
from ...plane.table import Account, Plane
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
            yield Verdict(
                subject,
                State.FAILS,
                f"the published login opens {how}" + (", then asks questions" if t.outcome == "asked" else ""),
                "tried",
            )
        elif t.outcome in ("refused", "nothing listens"):
            yield Verdict(subject, State.HOLDS, f"{how}: {t.outcome}", "tried")
        else:
            yield Verdict(subject, State.UNKNOWN, f"{how}: {t.outcome}", "tried")
    if site.factory and not plane.trials:
        yield Verdict(("accounts",), State.UNKNOWN, "no published login was tried", "")
    for a in plane.accounts:
        if a.storage == "factory" or (isinstance(a.secret, Ref) and a.secret.factory and not plane.trials):
            yield Verdict(("accounts", a.key), State.FAILS, "the unit says it still has its factory password")


def _remedy(plane: Plane, site: Site, rule: str) -> Iterator[Demand]:
    for a in plane.accounts:
        if a.key not in site.factory:
            continue
        if site.allows.remove_factory_accounts:
            yield Gone(("accounts", a.key), rule)
        else:
            yield exactly(("accounts", a.key, "secret"), rule, site.secret(a.key))


def _no_factory_login(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    yield from _remedy(plane, site, "factory-login")


def _opens(a: Account) -> bool:
    return a.enabled is not False and a.storage != "locked" and a.role != "none"


def _predictable(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for a in plane.accounts:
        known = a.key in site.factory or a.key.lower() in PREDICTABLE
        if known and _opens(a):
            kind = "the maker's own name" if a.key in site.factory else "one of the first names anybody tries"
            sure = a.storage is not None or a.enabled is True
            yield Verdict(("accounts", a.key), State.FAILS if sure else State.UNKNOWN, f"{a.key} is {kind}")
        elif known:
            yield Verdict(("accounts", a.key), State.HOLDS, f"{a.key} cannot log in with a password")
    if not plane.accounts.complete:
        yield Verdict(("accounts",), State.UNKNOWN, "the accounts were not all read", "")


def _no_predictable(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    if site.allows.remove_factory_accounts:
        for a in plane.accounts:
            if a.key in site.factory:
                yield Gone(("accounts", a.key), "account-name")


def _own(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for own in site.accounts:
        path = ("accounts", own.name)
        there = exists(plane, path)
        if there is not True:
            yield (
                Verdict(path, State.UNKNOWN, "not read", "")
                if there is None
                else Verdict(path, State.FAILS, "no such account")
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
    for own in site.accounts:
        yield Present(
            ("accounts", own.name),
            "own-account",
            (("role", own.role), ("secret", site.secret(own.name)), ("enabled", True)),
        )


def _weak(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for a in plane.accounts:
        path = ("accounts", a.key, "weakness")
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
        elif _opens(a):
            yield Verdict(path, State.UNKNOWN, "its password is not known to us, so it was not analysed", "")


def _want_strong(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    for a in plane.accounts:
        if isinstance(a.weakness, tuple) and a.weakness and a.key in {o.name for o in site.accounts}:
            yield exactly(("accounts", a.key, "secret"), "weak-password", site.secret(a.key))


def _unknown_account(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    ours = {o.name for o in site.accounts}
    for a in plane.accounts:
        if a.key in ours or a.key in site.factory or a.origin == "system":
            continue
        if _opens(a):
            yield Verdict(("accounts", a.key), State.FAILS, f"{a.key} is neither the maker's nor in the job file")
    if not plane.accounts.complete:
        yield Verdict(("accounts",), State.UNKNOWN, "the accounts were not all read", "")
    elif not any(item(plane, ("accounts", a.key)) for a in plane.accounts):
        yield Verdict(("accounts",), State.UNKNOWN, "no account was read", "")


def _first_run(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    terms, forced = plane.first_run.terms, plane.first_run.forced
    if terms == "open":
        yield Verdict(("first_run", "terms"), State.FAILS, "licence terms wait for somebody to accept them", "tried")
    if isinstance(forced, tuple) and forced:
        yield Verdict(
            ("first_run", "forced"), State.FAILS, f"a first password must be set for {', '.join(forced)}", "tried"
        )
    if terms != "open" and (forced is ABSENT or forced == ()):
        yield Verdict(("first_run",), State.HOLDS, "nothing is asked at login", "tried")
    elif terms is None and forced is None and site.factory:
        yield Verdict(("first_run",), State.UNKNOWN, "nobody has logged in yet", "")


RULES = (
    Rule(
        "factory-login", "no published login opens the unit",
        "Anybody with the manual is an administrator: he can plant programs, lock you out and stay.",
        Severity.CRITICAL, _factory_login, _no_factory_login,
    ),
    Rule(
        "first-run", "nothing waits for the first visitor",
        "Whoever comes first answers the questions, and owns the unit.",
        Severity.HIGH, _first_run,
    ),
    Rule(
        "weak-password", "no password that opened the unit is weak",
        "Guessing programs try names, common words and their usual variations first.",
        Severity.HIGH, _weak, _want_strong,
    ),
    Rule(
        "account-name", "no account carries a predictable name",
        "A known name is half of a guessed login.",
        Severity.MEDIUM, _predictable, _no_predictable,
    ),
    Rule(
        "own-account", "the owner's accounts are there and open",
        "Shared or factory accounts cannot be told apart or taken from one person.",
        Severity.HIGH, _own, _want_own,
    ),
    Rule(
        "unknown-account", "every account has an owner",
        "An account nobody knows is an open door nobody watches.",
        Severity.HIGH, _unknown_account,
    ),
)  # fmt: skip
