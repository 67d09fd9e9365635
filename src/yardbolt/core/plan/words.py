"""Changes and steps in words, for sheets, journal and screen."""

from __future__ import annotations

from ..addresses import AddressSet
from ..family.bound import NoWayBack
from ..plane.change import Change, Drop, Make, Rename, Reorder, Set
from ..plane.edit import get
from ..plane.leaves import Plane
from ..plane.table import holds_secret
from ..plane.words import brief, human, spoken
from ..secret import Ref
from .precedence import OPEN
from .rehearse import Kind, Step

ALGORITHMS = frozenset({"key_types", "exchanges", "ciphers", "macs"})


def short(change: Change, near: str = "") -> str:
    """A change in as few words as say it; addresses next to `near` by their last number."""
    match change:
        case Set():
            return _said(change, near) or _set_up(change, near) or _as_read(change)
        case Make(("roles", name), _):
            return f"make role {name}"
        case Make(path, _):
            return f"make {spoken(path)}"
        case Drop(path):
            return f"remove {spoken(path)}"
        case Rename(path, key):
            return f"{spoken(path)}: called {key} from now on"
        case Reorder(path, keys):
            return f"{spoken(path)}: in this order: {', '.join(keys)}"


def _said(change: Set, near: str) -> str:
    """What is set of services and rights, in the words of the trade; empty where there are none of its own."""
    match change:
        case Set(("stored", "guard"), _):
            return "a key of its own for what it stores"
        case Set(path, _) if holds_secret(path):
            return f"{path[-2]}: new password"
        case Set(("services", name, "permitted"), AddressSet() as sources):
            return f"{name} from {brief(sources, near)}"
        case Set(("services" | "accounts", name, "enabled"), bool() as on):
            return f"{name} {'on' if on else 'off'}"
        case Set(("services", name, "key_types" | "exchanges" | "ciphers" | "macs"), tuple()):
            return f"{spoken(change.path)}: none outdated"
        case Set(("services", name, "boot"), bool() as on):
            return f"{name} {'on' if on else 'off'} at the next start"
        case Set(("interfaces", name, "announces"), bool() as on):
            return f"{name} {'tells' if on else 'tells no'} neighbour{'s' if on else ''} what it is"
        case Set(("interfaces", name, "lends"), bool() as on):
            return f"{name} {'lends' if on else 'lends no'} addresses"
        case Set(("services", name, "keyed"), True):
            return f"{name}: a key of its own"
        case Set(("roles", name, "areas", area, "access"), value):
            return f"role {name}: {area} {value}"
    return ""


def _set_up(change: Set, near: str) -> str:
    """The same of interfaces, entry lists, names and what else there is one of."""
    match change:
        case Set(("interfaces", name, "mode"), value):
            return f"{name}: {'an address of its own' if value == 'fixed' else value}"
        case Set(("interfaces", name, "services"), tuple() as value):
            return f"{name} lets in {', '.join(value) or 'nobody'}"
        case Set(("interfaces", name, "entry_list"), value):
            return f"{name} gets the entry list {value}"
        case Set(("interfaces", name, "addresses"), tuple() as value):
            return f"{name} moves to {', '.join(value)}"
        case Set(("interfaces", name, "gateway"), value):
            return f"{name} goes out by {human(change.path, value)}"
        case Set(("entry_lists", name, "permitted"), AddressSet() as sources):
            return f"entry list {name} from {brief(sources, near)}"
        case Set(("accounts", name, "own_rules"), False):
            return f"{name} keeps to the policy"
        case Set(("accounts", name, "mailbox"), value):
            return f"codes for {name} to {value if isinstance(value, str) else 'nobody'}"
        case Set(("clock", "offset"), _):
            return "clock"
        case Set(("alerts", "recipients"), tuple() as value):
            return f"alerts to {', '.join(value)}"
        case Set(("alerts", "recipients"), _):
            return "alerts to nobody"
        case Set((("name" | "banner") as leaf,), _):
            return leaf
        case Set(("policy", "min_length" | "classes"), value):
            return human(change.path, value)
        case Set(("services", name, "root_login"), "no"):
            return f"no root by {name}"
        case Set(("snmp", "communities"), 0):
            return "no SNMP communities"
    return ""


def _as_read(change: Set) -> str:
    """What is set, as its leaf is called and its value is read."""
    what, how = spoken(change.path), human(change.path, change.value)
    number, _, unit = how.partition(" ")
    return f"{what} {number if unit in what.split() else how}"


def describe(change: Change, before: Plane) -> str:
    """A change for people, with what was there before."""
    match change:
        case Set(path, value) if not (
            holds_secret(path) or path == ("clock", "offset") or isinstance(value, bool) or path[-1] in ALGORITHMS
        ):
            return f"{spoken(path)}: {human(path, get(before, path))} -> {human(path, value)}"
        case Make(_, values) if role := dict(values).get("role"):
            return f"{short(change)} (rights {role})"
    return short(change)


def describe_step(step: Step, before: Plane) -> str:
    """What a step does, for people."""
    match step.kind:
        case Kind.WRITE:
            assert step.change is not None
            return describe(step.change, before)
        case Kind.PROVE:
            assert step.way is not None
            return f"log in again as {step.way.account} by {step.way.service}"
        case Kind.SAVE:
            return "save: keep what is live for the next start"
        case Kind.ACTIVATE:
            return "put the staged edits in force"
        case Kind.CONFIRM:
            return "confirm: no going back by itself any more"
        case Kind.ARM:
            return "arm the timed return"
        case Kind.RESTART:
            return "restart the unit, wait, log in again"
        case Kind.TRY if step.phase == OPEN:
            return "try out: weak passwords refused, wrong ones lock"
        case Kind.TRY:
            return "try out: strangers blocked, closed services closed"


NO_WAY_BACK = "no way back"


def way_back(step: Step) -> str:
    """How the change of a step is taken back, in words; why it cannot be, where it cannot; empty where it changes
    nothing."""
    if step.bound is None:
        return ""
    if step.guarded:
        return "by itself, until a new login proves it"
    back = step.bound.back
    if isinstance(back, NoWayBack):
        return "none needed" if back.needless else f"{NO_WAY_BACK}: {back.why}"
    match back.change:
        case Set(path, Ref() as ref):
            return "back to the published password" if ref.factory else "back to the password before"
        case Set(path, value):
            return f"back to {human(path, value)}"
    return describe(back.change, back.before)
