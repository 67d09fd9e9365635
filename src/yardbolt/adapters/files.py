"""From our files to values of core: the job, its baseline, its families; shipped ones lie in the package, own ones
beside the job."""

from __future__ import annotations

import difflib
from functools import cache
from importlib.resources import files as resources
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yardbolt.core.errors import FileError, OperatorError

from .yamlfile import Document, document, fail

if TYPE_CHECKING:
    from yardbolt.core.family.model import Family
    from yardbolt.core.formats.library import Library
    from yardbolt.core.job import Job, OwnAccount, Segment, UnitEntry
    from yardbolt.core.judge.baseline import Baseline

    from .shapes.job import AccountShape, JobShape, UnitShape

SCHEMAS = ("job", "baseline", "family", "journal", "record")


def schema(which: str) -> dict[str, Any]:
    """The JSON Schema (2020-12) of one of our files, of an entry of the journal, or of a document of the record."""
    if which == "job":
        from .shapes.job import JobShape

        made = JobShape.model_json_schema(by_alias=True)
    elif which == "baseline":
        from .shapes.baseline import BaselineShape

        made = BaselineShape.model_json_schema(by_alias=True)
    elif which == "family":
        from .shapes.family import family_schema

        made = family_schema()
    else:
        from .documents import record_schema

        made = record_schema(which)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **made}


def shipped(kind: str) -> dict[str, Path]:
    """The files that come with the program: name -> path."""
    folder = Path(str(resources("yardbolt") / "data" / kind))
    return {p.stem: p for p in sorted(folder.glob("*.yaml"))}


def find(kind: str, name: str, beside: Path) -> Path:
    """A file of this name beside the job (`families/NAME.yaml`), or the shipped one. Raises OperatorError."""
    own = beside / kind / f"{name}.yaml"
    if own.is_file():
        return own
    known = shipped(kind)
    if name not in known:
        near = difflib.get_close_matches(name, known, 1)
        raise OperatorError(
            f"no {kind[:-3]}y called {name}"
            if kind == "families"
            else f"no baseline called {name}" + (f"; nearest is {near[0]}" if near else "")
        )
    return known[name]


def outline(path: Path) -> dict[str, Any]:
    """A family's tree of texts, unchecked, over what it is based on: enough to list it. Raises FileError where it is
    no YAML."""
    doc = document(path)
    base = doc.tree.get("based_on")
    return _on(doc, _base(path, doc, base).tree) if base else doc.tree


def load_family(path: Path) -> Family:
    """A family file. Raises FileError or FamilyError."""
    from yardbolt.core.family.building import family_of
    from yardbolt.core.family.unfold import unfolded

    from .shapes.family import FamilyShape, check_ways
    from .shapes.reading import read

    doc = document(path)
    if base := doc.tree.get("based_on"):
        doc.tree = _on(doc, _base(path, doc, base).tree)
    read(doc, FamilyShape)
    doc.tree, doc.wrote = unfolded(doc.tree)
    check_ways(doc)

    def library() -> Library:  # read where a family names something of it
        from .hosts import library as shipped_library

        return shipped_library()

    return family_of(doc.tree, doc.name, doc.line_of, library=library, groups=groups())


@cache
def groups() -> dict[str, list[str]]:
    """What a kind of unit can be without, as it ships: groups of leaves by name. A group may name other groups."""
    tree = document(Path(str(resources("yardbolt") / "data" / "without.yaml"))).tree
    return {name: [leaf for one in group for leaf in tree.get(one, [one])] for name, group in tree.items()}


def _base(path: Path, doc: Document, name: Any) -> Document:
    """The family another one is based on: beside it, or shipped. Raises FileError."""
    beside = path.with_name(f"{name}.yaml")
    known = beside if beside.is_file() else shipped("families").get(str(name))
    line = doc.line_of(("based_on",))
    if known is None:
        raise FileError(doc.name, line, "based_on", f"found {name!r}; families are {', '.join(shipped('families'))}")
    base = document(known)
    if "based_on" in base.tree:
        raise FileError(doc.name, line, "based_on", f"{name} is itself based on another; one level is all there is")
    return base


def _on(doc: Document, base: dict[str, Any]) -> dict[str, Any]:
    """The tree of a family over that of its base: what it says itself counts, and what it leaves out is gone. Raises
    FileError where it leaves out what is not there."""
    tree = _over(base, {key: value for key, value in doc.tree.items() if key not in ("based_on", "leaves_out")})
    for place, written in enumerate(doc.tree.get("leaves_out", [])):
        part, _, name = str(written).partition("/")
        if name not in tree.get(part, {}) or not isinstance(tree[part], dict):
            raise FileError(
                doc.name,
                doc.line_of(("leaves_out", place)),
                "leaves_out",
                f"found {written!r}; its base has no such thing",
            )
        tree[part] = {key: value for key, value in tree[part].items() if key != name}
    return tree


def _over(under: dict[str, Any], over: dict[str, Any]) -> dict[str, Any]:
    # an ask or an op is replaced whole: half of one and half of another would be neither
    parts = {
        key: {**under[key], **value} if isinstance(value, dict) and isinstance(under.get(key), dict) else value
        for key, value in over.items()
    }
    return {**under, **parts}


def family_file(name: str, beside: Path) -> Path:
    """Where a family of this name lies. Raises OperatorError."""
    return find("families", name, beside)


def named_baseline(name: str, beside: Path) -> Baseline:
    """A baseline by name. Raises OperatorError or FileError."""
    return load_baseline(find("baselines", name, beside))


def load_baseline(path: Path) -> Baseline:
    """A baseline file. Raises FileError."""
    from yardbolt.core.judge.baseline import Baseline, Requirement
    from yardbolt.core.judge.rules import RULES
    from yardbolt.core.judge.rules.rule import Severity

    from .shapes.baseline import BaselineShape
    from .shapes.reading import read

    doc = document(path)
    shape = read(doc, BaselineShape)
    requirements = []
    for n, entry in enumerate(shape.lines):
        at = ("lines", n, "rule")
        if entry.rule not in RULES:
            near = difflib.get_close_matches(entry.rule, RULES, 1)
            raise FileError(
                doc.name,
                doc.line_of(at),
                ".".join(map(str, at)),
                f"found '{entry.rule}', which is no rule" + (f"; nearest is '{near[0]}'" if near else ""),
            )
        rule = RULES[entry.rule]
        params = {name: p.default for name, p in rule.params.items()}
        for name, raw in entry.set.items():
            key = ("lines", n, "set", name)
            if name not in rule.params:
                raise FileError(
                    doc.name,
                    doc.line_of(key),
                    name,
                    f"is not a number of {entry.rule}; allowed: {', '.join(rule.params) or 'none'}",
                )
            try:
                params[name] = rule.params[name].read(raw)
            except ValueError as e:
                raise FileError(doc.name, doc.line_of(key), name, str(e)) from None
        requirements.append(
            Requirement(n + 1, entry.rule, Severity(entry.severity) if entry.severity else rule.severity, params)
        )
    return Baseline(shape.baseline, shape.version, shape.meaning, tuple(requirements))


def _own(name: str, shape: AccountShape) -> OwnAccount:
    """An account of the owner; of a public key its type and its body count, and its fingerprint is its name."""
    from yardbolt.core.formats.sshkeys import fingerprint
    from yardbolt.core.job import OwnAccount

    public = {fingerprint(words): " ".join(words) for one in shape.keys if len(words := one.split()[:2]) == 2}
    prints = (one for one in shape.keys if one.startswith("SHA256:"))
    keys = tuple(dict.fromkeys((*prints, *public)))
    return OwnAccount(
        name, shape.rights, shape.whose, shape.until or "", keys, tuple(public.items()), shape.by or "", shape.codes_to
    )


def load_job(path: Path, edited: bool = True) -> Job:
    """The job file. Raises FileError; also where one part names another that is not there, or (`edited`) where the
    words of the template still stand."""
    from yardbolt.core.job import Allows, Job, OwnRole, Server, Waiver

    from .shapes.job import JobShape
    from .shapes.reading import read

    doc = document(path)
    shape = read(doc, JobShape)
    for name, unit in shape.units.items():
        if unit.segment not in shape.segments:
            raise FileError(
                doc.name,
                doc.line_of(("units", name, "segment")),
                f"units.{name}.segment",
                f"found '{unit.segment}'; segments are {', '.join(shape.segments)}",
            )
    if shape.safe.copy_ and Path(shape.safe.copy_) == Path(shape.safe.file):
        raise fail(doc, ("safe", "copy"), f"found '{shape.safe.copy_}', the safe itself; name a place on another disk")
    _families(doc, shape)
    _moves(doc, shape)
    _askers(doc, shape)
    _roles(doc, shape)
    _unique(doc, shape)
    _known_rules(doc, shape)
    _classes(doc, shape)
    if edited:
        _edited(doc, shape)
    segments = _segments(doc, shape)
    units = {name: _unit(name, unit, shape) for name, unit in shape.units.items()}
    return Job(
        shape.job,
        shape.owner,
        shape.technician,
        shape.baseline,
        segments,
        tuple(_own(k, a) for k, a in shape.accounts.items()),
        units,
        shape.banner,
        tuple(Server(s.kind, s.at, s.here) for s in shape.servers),
        Allows(
            shape.allows.restart,
            shape.allows.remove_factory_accounts,
            shape.allows.terms,
            frozenset(shape.allows.remove_foreign),
            shape.allows.drop_edits,
        ),
        tuple(Waiver(w.rule, w.unit, w.reason, w.owner, w.until) for w in shape.waivers),
        shape.safe.file,
        shape.safe.copy_,
        shape.safe.without_copy,
        frozenset(shape.monitored_by),
        frozenset(shape.alerts),
        tuple(OwnRole(name, tuple(areas.items())) for name, areas in shape.roles.items()),
    )


def _segments(doc: Document, shape: JobShape) -> dict[str, Segment]:
    """The networks. Raises FileError where a stranger is one of those who must get in."""
    from yardbolt.core.addresses import AddressSet
    from yardbolt.core.job import Segment

    segments = {
        k: Segment(
            k,
            AddressSet.of(s.network),
            AddressSet.of(*s.administrators),
            AddressSet.of(*s.monitoring),
            s.laptop,
            s.stranger or "",
            s.gateway or "",
            s.laptop_also or "",
            s.stranger_also or "",
            tuple(s.stands_in_for),
        )
        for k, s in shape.segments.items()
    }
    for k, s in segments.items():
        if any(one and one in s.administrators | s.monitoring for one in (s.stranger, s.stranger_also)):
            raise FileError(
                doc.name,
                doc.line_of(("segments", k, "stranger")),
                f"segments.{k}.stranger",
                "is one of the administrators or monitoring stations",
            )
    return segments


def _unit(name: str, u: UnitShape, shape: JobShape) -> UnitEntry:
    from yardbolt.core.job import GoesTo, UnitEntry

    needed = frozenset(shape.needs.get(u.class_ or "", shape.needs.get("all", [])))
    return UnitEntry(
        name,
        u.family,
        u.at,
        u.segment,
        u.serial,
        u.hardware,
        needed,
        dict(u.ports),
        u.login or "",
        u.note,
        u.also_at or "",
        GoesTo(u.goes_to.at, u.goes_to.segment, u.goes_to.through or "") if u.goes_to else None,
        u.outdated,
        u.support_code_noted,
    )


def _roles(doc: Document, shape: JobShape) -> None:
    """Rights are of the three kinds every make knows, or a role of this file, whose name is none of the three."""
    from yardbolt.core.job import RIGHTS

    for name, account in shape.accounts.items():
        allowed = RIGHTS if account.by else (*RIGHTS, *shape.roles)
        if account.rights not in allowed:
            keys = ("accounts", name, "rights")
            allows = f"found '{account.rights}'; allowed: {', '.join(allowed)}"
            raise FileError(doc.name, doc.line_of(keys), f"accounts.{name}.rights", allows)
    for name in shape.roles:
        if name in RIGHTS:
            raise FileError(
                doc.name, doc.line_of(("roles", name)), f"roles.{name}", "every make has rights of that name"
            )


def _families(doc: Document, shape: JobShape) -> None:
    """A second address is one of the other family, and what is sent to it leaves from one of the laptop's; who the
    laptop stands in for has business there."""
    from yardbolt.core.addresses import AddressSet

    for name, unit in shape.units.items():
        keys = ("units", name, "also at")
        if unit.also_at and (":" in unit.also_at) == (":" in unit.at):
            raise fail(
                doc, keys, f"found '{unit.also_at}', of the same family as 'at'; an address of the other is wanted"
            )
        if unit.also_at and not shape.segments[unit.segment].laptop_also:
            raise fail(doc, keys, f"needs 'laptop also' in segment {unit.segment}: from where it is looked at")
    for name, segment in shape.segments.items():
        for place, one in enumerate(segment.stands_in_for):
            if one not in AddressSet.of(*segment.administrators, *segment.monitoring):
                place_of = ("segments", name, "stands in for", place)
                raise fail(
                    doc, place_of, f"found '{one}', which is neither an administrator nor a monitoring station here"
                )
        if segment.laptop_also and (":" in segment.laptop_also) == (":" in segment.laptop):
            raise fail(
                doc, ("segments", name, "laptop also"), "is of the same family as 'laptop'; one of the other is wanted"
            )


def _moves(doc: Document, shape: JobShape) -> None:
    """Where a unit goes to is an address with its prefix, in a segment of the job, and another than the laptop's
    there."""
    from ipaddress import ip_address, ip_interface, ip_network

    for name, unit in shape.units.items():
        goes, keys = unit.goes_to, ("units", name, "goes to")
        if goes is None:
            continue
        if goes.segment not in shape.segments:
            raise fail(doc, (*keys, "segment"), f"found '{goes.segment}'; segments are {', '.join(shape.segments)}")
        try:
            at, network = ip_interface(goes.at), ip_network(shape.segments[goes.segment].network)
        except ValueError:
            raise fail(
                doc, (*keys, "at"), f"found '{goes.at}'; an address with prefix length is wanted: 192.0.2.7/24"
            ) from None
        if "/" not in goes.at or at.ip not in network:
            raise fail(
                doc, (*keys, "at"), f"found '{goes.at}'; an address of {network} with its prefix length is wanted"
            )
        ends = {at.network.network_address, at.network.broadcast_address} if at.network.num_addresses > 2 else set()
        if at.ip in ends:
            raise fail(
                doc, (*keys, "at"), f"found '{goes.at}', which is the network's own; an address within it is wanted"
            )
        taken = [shape.segments[goes.segment].laptop, shape.segments[goes.segment].stranger or "", goes.through or ""]
        others = [one.at for other, one in shape.units.items() if other != name]
        others += [
            one.goes_to.at.partition("/")[0] for other, one in shape.units.items() if other != name and one.goes_to
        ]
        if str(at.ip) in (*taken, *others):
            raise fail(doc, (*keys, "at"), f"found '{goes.at}', which somebody else of this job has")
        if goes.through and ip_address(goes.through) not in at.network:
            raise fail(doc, (*keys, "through"), f"found '{goes.through}', which is not on {at.network}")


def _askers(doc: Document, shape: JobShape) -> None:
    """A user of SNMP reads or changes, and an SSH key opens nothing there."""
    for name, one in shape.accounts.items():
        if one.by and one.rights == "full":
            raise fail(doc, ("accounts", name, "rights"), "found 'full'; a user of SNMP has 'read' or 'change'")
        if one.by and one.keys:
            raise fail(doc, ("accounts", name, "keys"), "open no SNMP: leave them out, or 'by: snmp'")


def _classes(doc: Document, shape: JobShape) -> None:
    """A class that nothing is needed for is a mistyped one."""
    for name, unit in shape.units.items():
        if unit.class_ and shape.needs and unit.class_ not in shape.needs:
            known = ", ".join(shape.needs)
            raise fail(doc, ("units", name, "class"), f"found '{unit.class_}'; 'needs' knows {known}")


def _edited(doc: Document, shape: JobShape) -> None:
    """The words of the template say what is to be written there; they are no job."""
    template = document(Path(str(resources("yardbolt") / "data" / "new.yaml"))).tree
    for key in ("job", "owner", "technician"):
        if getattr(shape, key) == template[key]:
            raise fail(doc, (key,), f"still says '{template[key]}': write it in its place")


def _known_rules(doc: Document, shape: JobShape) -> None:
    if not shape.waivers:
        return
    from yardbolt.core.judge.rules import RULES

    for place, waiver in enumerate(shape.waivers):
        if waiver.rule not in RULES:
            keys = ("waivers", place, "rule")
            raise fail(doc, keys, f"found '{waiver.rule}', which is no rule")


def _unique(doc: Document, shape: JobShape) -> None:
    for field in ("serial", "hardware"):
        seen: dict[str, str] = {}
        for name, unit in shape.units.items():
            value = getattr(unit, field).lower()
            if value and value in seen:
                raise FileError(
                    doc.name,
                    doc.line_of(("units", name, field)),
                    f"units.{name}.{field}",
                    f"found '{value}', which {seen[value]} has already",
                )
            seen.setdefault(value, name)
