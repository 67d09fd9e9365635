"""Rules about what stands beside the logins: second factors, words of consoles, the phrases of radios, who sees a
picture, the codes of a maker's support."""

from __future__ import annotations

from collections.abc import Iterator

from ...job import Site, console_word
from ...plane.kinds import ABSENT
from ...plane.leaves import Plane
from ..demands import Demand, Present, exactly
from .logins import goes
from .rule import Params, Rule, Severity, State, Verdict

MAIL = "mail"
OURS, OPEN = ("own",), "none"


def _factors(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    wanted = {own.name: own.codes for own in site.accounts if own.codes and not site.ended(own)}
    unread = False
    for a in plane.accounts:
        path = ("accounts", a.key, "factor")
        owners = site.alerts | {wanted.get(a.key, "")}
        if a.factor is None:
            unread = True
        elif isinstance(a.mailbox, str) and a.mailbox not in owners:
            armed = "" if a.factor == MAIL else ", once it is switched on"
            yield Verdict(path, State.FAILS, f"codes for {a.key} go to {a.mailbox}{armed}, which the job does not name")
        elif a.factor is not ABSENT and a.mailbox is None:
            yield Verdict(path, State.UNKNOWN, f"where codes for {a.key} go was not read", "")
        elif a.factor == MAIL:
            where = a.mailbox if isinstance(a.mailbox, str) else "nobody"
            saw = f"codes for {a.key} go to {where}; whether they arrive was not tried"
            yield Verdict(path, State.UNKNOWN, saw, "")
        elif a.factor is ABSENT and a.key in wanted:
            yield Verdict(path, State.UNKNOWN, f"{a.key} is to be sent codes, and this make sends none", "")
        elif a.key in wanted:
            # by a letter that does not come nobody gets in: it is switched on where somebody sees one come
            saw = (
                f"{a.key} is asked only for its password: switch the second factor on, on site, once a test mail "
                f"arrived at {wanted[a.key]}"
            )
            yield Verdict(path, State.UNKNOWN, saw, "", "switched on once a test mail has arrived")
        elif a.factor is not ABSENT:
            also = "its password alone" if a.factor == "none" else f"{a.factor} with its password"
            yield Verdict(path, State.HOLDS, f"{a.key} is asked for {also}")
    if unread:
        yield Verdict(("accounts",), State.UNKNOWN, "what else accounts are asked for was not read", "")


def _want_mailboxes(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    wanted = {own.name: own.codes for own in site.accounts if not site.ended(own)}
    for a in plane.accounts:
        if a.factor in (None, ABSENT) or a.mailbox is None or goes(a, site):
            continue
        if wanted.get(a.key):
            yield exactly(("accounts", a.key, "mailbox"), "second-factor", wanted[a.key])
        elif isinstance(a.mailbox, str) and a.mailbox not in site.alerts and a.factor != MAIL:
            yield exactly(("accounts", a.key, "mailbox"), "second-factor", ABSENT)


def _roles(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    if ("roles",) in site.manual:
        for name in site.unmade:
            saw = f"{name} is not made here: this make knows no roles"
            yield Verdict(("accounts", name), State.NOT_APPLICABLE, saw, "")
        return
    for wanted in site.roles:
        path = ("roles", wanted.name)
        role = plane.roles.get(wanted.name)
        if role is None:
            if plane.roles.complete:
                yield Verdict(path, State.FAILS, f"there is no role {wanted.name}")
            else:
                yield Verdict(path, State.UNKNOWN, "the roles were not all read", "")
            continue
        told = {area.key: area.access for area in role.areas}
        missing = [area for area, _ in wanted.areas if area not in told]
        unlike = [
            f"{area} {may}, wanted {wanted.may(area)}"
            for area, may in told.items()
            if may is not None and may != wanted.may(area)
        ]
        if missing and role.areas.complete:
            yield Verdict(path, State.FAILS, f"there is no area {', '.join(missing)}; it has {', '.join(told)}")
        elif unlike:
            yield Verdict(path, State.FAILS, f"{wanted.name}: {'; '.join(unlike)}")
        elif None in told.values() or not role.areas.complete:
            yield Verdict(path, State.UNKNOWN, f"not all that {wanted.name} may do was read", "")
        else:
            may = ", ".join(f"{area} {may}" for area, may in told.items() if may != "none")
            yield Verdict(path, State.HOLDS, f"{wanted.name}: {may or 'nothing'}, and nothing else")


def _want_roles(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    # an area that no role here has cannot be set; that it is not there is said once the role is
    known = {area.key for role in plane.roles for area in role.areas}
    for wanted in site.roles if ("roles",) not in site.manual else ():
        path, role = ("roles", wanted.name), plane.roles.get(wanted.name)
        new = tuple((area, may) for area, may in wanted.areas if area in known or not known)
        areas = new if role is None else tuple((area.key, wanted.may(area.key)) for area in role.areas)
        yield Present(path, "own-role", tuple((f"areas/{area}/access", may) for area, may in areas))


def _consoles(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for line in plane.consoles:
        path = ("consoles", line.key)
        if line.enabled is False:
            yield Verdict(path, State.HOLDS, f"{line.key} cannot be used")
        elif line.login == "none":
            yield Verdict(path, State.FAILS, f"{line.key} lets in anyone who stands there")
        elif line.storage == "factory":
            yield Verdict(path, State.FAILS, f"{line.key} asks for the factory password, and for no account")
        # what is not a word the plane knows for asking is not known to ask
        elif line.login not in ("secret", "account") or (line.login == "secret" and line.storage != "own"):
            yield Verdict(path, State.UNKNOWN, f"what {line.key} asks for was not read", "")
        else:
            asked = "a password of its own" if line.storage == "own" else line.login
            yield Verdict(path, State.HOLDS, f"{line.key} asks for {asked}")
    if not plane.consoles.complete:
        yield Verdict(("consoles",), State.UNKNOWN, "what its consoles ask for was not all read", "")


def _want_words(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    for line in plane.consoles:
        if line.storage == "factory" and line.enabled is not False:
            yield exactly(("consoles", line.key, "secret"), "console-word", site.secret(console_word(line.key)))


def _radios(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for one in plane.interfaces:
        path = ("interfaces", one.key, "passphrase")
        # what has a passphrase is a radio, whatever side it is on
        no_radio = one.side not in ("wireless", None) and one.passphrase is None
        if no_radio or one.enabled is False or one.passphrase is ABSENT:
            continue
        if one.passphrase is None:
            yield Verdict(path, State.UNKNOWN, f"whose the passphrase of {one.key} is was not read", "")
        elif one.passphrase in OURS:
            yield Verdict(path, State.HOLDS, f"{one.key} has a passphrase that is not published")
        else:
            is_open = one.passphrase == OPEN
            saw = "is open" if is_open else "has the passphrase that is printed on its label"
            yield Verdict(path, State.FAILS, f"{one.key} {saw}; its own settings are for its owner to change")


def _picture(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    asks = plane.picture.asks
    if asks is ABSENT:
        return
    if asks is None:
        saw = "whether it shows a picture, and how it asks for a login, was not read"
        yield Verdict(("picture", "asks"), State.UNKNOWN, saw, "")
    elif asks in ("none", "basic"):
        saw = "to anybody" if asks == "none" else "by a password that goes over the line unencrypted"
        yield Verdict(("picture", "asks"), State.FAILS, f"it is shown {saw}")
    elif asks is not None:
        yield Verdict(("picture", "asks"), State.HOLDS, f"it is shown by {asks}")
    works = sorted(one.key for one in plane.picture.viewers if one.storage == "factory")
    if works:
        see = "sees" if len(works) == 1 else "see"
        saw = f"{' and '.join(works)} {see} it, and no settings, by the factory login"
        yield Verdict(("picture", "viewers"), State.FAILS, saw)
    if unread := sorted(one.key for one in plane.picture.viewers if one.storage is None):
        saw = f"whose the password of {' and '.join(unread)} is was not read"
        yield Verdict(("picture", "viewers"), State.UNKNOWN, saw, "")


def _support(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    path, has = ("stored", "support_code"), plane.stored.support_code
    if has is None:
        yield Verdict(path, State.UNKNOWN, "whether it has one was not read", "")
    elif has is not True:
        return
    elif site.code_noted:
        yield Verdict(path, State.HOLDS, f"noted: {site.code_noted}", "job file")
    else:
        saw = "write it down from the unit, put it in the safe, and say so in the job: support code noted: WHERE"
        yield Verdict(path, State.UNKNOWN, saw, "")


RULES = (
    Rule(
        "own-role",
        "the owner's roles may do what the job says, and nothing else",
        "a role of the owner's is missing, or may do more, or less",
        "A role is made by ticking areas, and one forgotten is a way to everything.",
        Severity.MEDIUM,
        _roles,
        _want_roles,
    ),
    Rule(
        "second-factor",
        "what is asked for beside a password is the owner's",
        "what is asked for beside a password goes to somebody else",
        "A person's mailbox leaves with the person, and a mail that does not arrive locks everybody out.",
        Severity.MEDIUM,
        _factors,
        _want_mailboxes,
    ),
    Rule(
        "console-word",
        "consoles ask for a password of the owner's",
        "a console asks for nothing, or for a published password",
        "Nothing else stops a person who stands at the unit. It is set apart from the logins, and so it is forgotten.",
        Severity.MEDIUM,
        _consoles,
        _want_words,
    ),
    Rule(
        "radio-phrase",
        "its radio has a passphrase that is not published",
        "its radio is open, or its passphrase published",
        "Anyone who parks near it can join, and reaches the login page.",
        Severity.MEDIUM,
        _radios,
    ),
    Rule(
        "picture",
        "its picture is shown to the owner's people",
        "its picture is shown to others",
        "It opens no settings, but it shows everybody what it sees.",
        Severity.LOW,
        _picture,
    ),
    Rule(
        "support-code",
        "the maker's support code is noted",
        "the maker's support code is not noted",
        "Without it the maker does not help on the day it is needed.",
        Severity.LOW,
        _support,
    ),
)
