"""Rules about keeping order: idle sessions, notice, name, clock, live and saved settings, who is inside."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from ...job import GUARD_KEY, Site
from ...plane.edit import get
from ...plane.kinds import ABSENT, seconds
from ...plane.leaves import Plane
from ...plane.words import duration
from ..demands import Between, Demand, exactly
from .rule import Leaf, Param, Params, Rule, Severity, State, Verdict, about, on_leaf

STRICT = "strict"
MODE = Leaf(("mode",), lambda site: STRICT, lambda site: STRICT)
NAME = Leaf(("name",), lambda site: site.unit, lambda site: site.unit, must=True)
BANNER = Leaf(
    ("banner",),
    lambda site: site.banner or None,
    lambda site: "the owner's text",
    must=True,
    unasked="the job file gives no notice",
)
STORES = Leaf(
    ("stores", "differences"),
    lambda site: 0,
    lambda site: "none: what is live is what the next start brings",
    only_judged=True,
)


def _idle(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    limit: float = params["at most"]

    def good(value: float) -> bool:
        return 0 < value <= limit

    wanted = f"at most {duration(limit)}; 0 and never both fail"
    running = [s for s in plane.services if s.enabled is not False]
    for s in running:
        # one that was not read may be longer than the one of every way in
        if s.idle is not ABSENT:
            yield on_leaf(plane, ("services", s.key, "idle"), good, wanted)
    if plane.idle is not ABSENT:
        yield on_leaf(plane, ("idle",), good, wanted)
    if not plane.services.complete and plane.idle in (None, ABSENT):
        yield Verdict(
            ("services",), State.UNKNOWN, "the services were not all read, so one may never end a session", ""
        )


def _want_idle(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    if plane.idle is not ABSENT:
        yield Between(("idle",), "idle-timeout", 60.0, params["at most"])
    for s in plane.services:
        if s.key in site.needed and s.enabled is not False and s.idle is not ABSENT:
            yield Between(("services", s.key, "idle"), "idle-timeout", 60.0, params["at most"])


def _clock(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    path, limit = ("clock", "offset"), params["within"]
    offset = get(plane, path)
    if isinstance(offset, float):
        state = State.HOLDS if abs(offset) <= limit else State.FAILS
        side = "ahead of" if offset > 0 else "behind"
        yield Verdict(path, state, f"{duration(abs(offset))} {side} the laptop; at most {duration(limit)} wanted")
    else:
        yield Verdict(path, State.UNKNOWN, "not read", "")


def _want_clock(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    offset = get(plane, ("clock", "offset"))
    if isinstance(offset, float) and abs(offset) > params["within"]:
        yield Between(("clock", "offset"), "clock", 0.0, 0.0)


def _sessions(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    # a link-local address bears the laptop's own socket, which the unit does not know
    ours = {one.partition("%")[0] for one in (site.laptop, site.laptop_also) if one}
    for s in plane.sessions:
        if s.source not in ours:
            yield Verdict(
                ("sessions", s.key),
                State.FAILS if s.source else State.UNKNOWN,
                f"{s.account or 'somebody'} is logged in from {s.source or 'where was not read'} by {s.service or '?'}",
            )
    if ("sessions",) in site.manual and not len(plane.sessions):
        # that it shows nobody does not say that nobody is there
        yield Verdict(("sessions",), State.UNKNOWN, "it does not show who is logged in", "")
    elif not plane.sessions.complete:
        yield Verdict(("sessions",), State.UNKNOWN, "who is logged in was not all read", "")
    elif all(s.source in ours for s in plane.sessions):
        count = len(plane.sessions)
        yield Verdict(("sessions",), State.HOLDS, f"{count} session{'' if count == 1 else 's'}, all from this laptop")


def _same(wanted: str, value: str) -> bool:
    return value.lower() == wanted.lower()


def _identity(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for field, wanted in (("serial", site.serial), ("hardware", site.hardware)):
        if wanted:
            yield on_leaf(plane, ("identity", field), partial(_same, wanted), f"{wanted} (work order)")


NOBODY_READS = (".invalid", ".example", ".test", ".localhost", "example.com", "example.net", "example.org")


def _alerts(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    path, told = ("alerts", "recipients"), plane.alerts.recipients
    if path in site.manual:
        return
    if told is None:
        yield Verdict(path, State.UNKNOWN, "not read", "")
        return
    read = told if isinstance(told, tuple) else ()
    dummies = [one for one in read if one.lower().endswith(NOBODY_READS) or "@" not in one]
    strange = [one for one in read if one not in site.alerts]
    if dummies:
        yield Verdict(path, State.FAILS, f"it writes to {', '.join(dummies)}, which nobody reads")
    elif strange:
        yield Verdict(path, State.FAILS, f"it writes to {', '.join(strange)}, which the job does not name")
    elif missing := sorted(site.alerts - set(read)):
        yield Verdict(path, State.FAILS, f"it does not write to {', '.join(missing)}")
    elif read:
        yield Verdict(path, State.HOLDS, f"it writes to {', '.join(read)}")
    else:
        yield Verdict(path, State.NOT_APPLICABLE, "it writes to nobody, and the job names nobody")


def _want_alerts(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    if ("alerts", "recipients") not in site.manual and plane.alerts.recipients is not None:
        wanted = tuple(sorted(site.alerts))
        # which the job does not name is written to no more; where it names nobody, nobody is
        if wanted or plane.alerts.recipients is not ABSENT:
            yield exactly(("alerts", "recipients"), "alert-recipients", wanted or ABSENT)


def _stored(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    if plane.stored.sealed is not ABSENT:
        yield on_leaf(plane, ("stored", "sealed"), lambda v: v is True, "a key of the owner")


def _want_stored(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    if plane.stored.sealed is False:
        yield exactly(("stored", "guard"), "stored-secrets", site.secret(GUARD_KEY))


RULES = (
    about(
        MODE,
        "guard-mode",
        "its strictest mode is on",
        "its strictest mode is off",
        "The factory default is an easy mode, and what the strict mode brings is off.",
        Severity.MEDIUM,
    ),
    Rule(
        "alert-recipients",
        "alerts go to the people of the owner",
        "it alerts nobody, or somebody else",
        "An alert that nobody reads is useless; one that a stranger reads shows what goes wrong.",
        Severity.LOW,
        _alerts,
        _want_alerts,
    ),
    Rule(
        "stored-secrets",
        "what it stores is encrypted with the owner's key",
        "anyone with a copy can read what it stores",
        "A copy of its settings, or of its flash, gives away every password it uses itself.",
        Severity.MEDIUM,
        _stored,
        _want_stored,
    ),
    Rule(
        "identity",
        "it is the unit on the work order",
        "it is not the unit on the work order",
        "Fresh units look alike; work on the wrong one changes somebody else's.",
        Severity.CRITICAL,
        _identity,
    ),
    Rule(
        "idle-timeout",
        "idle sessions end",
        "idle sessions stay open",
        "An unattended session is an open door with your name on it.",
        Severity.MEDIUM,
        _idle,
        _want_idle,
        {"at most": Param(seconds, "longest idle time", 600.0, low=30, high=3600)},
    ),
    about(
        BANNER,
        "banner",
        "the owner's notice is shown at login",
        "the owner's notice is not shown at login",
        "It tells intruders that they are not allowed here. Not a strong control.",
        Severity.LOW,
    ),
    about(
        NAME,
        "name",
        "the unit carries its own name",
        "the unit does not carry its own name",
        "Logs, keys and backups of units without a name cannot be told apart.",
        Severity.LOW,
    ),
    Rule(
        "clock",
        "its clock is right",
        "its clock is wrong",
        "Log times, expiry and certificates rest on it.",
        Severity.MEDIUM,
        _clock,
        _want_clock,
        {"within": Param(seconds, "largest difference", 30.0, low=1, high=3600)},
    ),
    about(
        STORES,
        "stores",
        "live and saved settings agree",
        "live and saved settings differ",
        "What is not saved is gone after a power cut; what somebody left unsaved would be saved with our changes.",
        Severity.HIGH,
    ),
    Rule(
        "sessions",
        "nobody else is logged in",
        "somebody else is logged in",
        "It is the only place to find somebody who came before you.",
        Severity.HIGH,
        _sessions,
    ),
)
