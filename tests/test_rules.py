"""Rules one by one, claims one by one, and the bench unit against its own manual."""

from __future__ import annotations

import dataclasses
from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.bare import BASELINE, DOORS, FAMILY, SITE, Watch, way_by
from yardbolt.bench.lineswitch import Board, LineSwitch
from yardbolt.core.addresses import ANYONE, NOBODY
from yardbolt.core.doors import Way
from yardbolt.core.job import GoesTo
from yardbolt.core.judge.baseline import judge, reach, wanted
from yardbolt.core.judge.rules.rule import State
from yardbolt.core.plane.edit import Draft
from yardbolt.core.plane.edit import leaves as leaves_of
from yardbolt.core.plane.kinds import ABSENT, NEVER, TRIAL_ENDS
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.plane.path import Path
from yardbolt.core.plane.table import LISTS
from yardbolt.core.run.proofs import Claim, KeySeen, Result, Sort, claims, settle
from yardbolt.core.secret import Ref
from yardbolt.core.talk.outcomes import (
    Asked,
    Cut,
    Locked,
    NoListener,
    NotReady,
    Open,
    Opened,
    Quiet,
    Refused,
    Refusing,
    Silent,
    Untried,
    spends_a_try,
    told,
)

F, H, U, N = State.FAILS, State.HOLDS, State.UNKNOWN, State.NOT_APPLICABLE
FACTORY, OURS = Ref("factory:1"), Ref(f"safe:{SITE.unit}/lt-works")


def plane_with(**leaves: Any) -> Plane:
    """A plane from `services__ssh__enabled=True`; a bare list name marks it as read whole."""
    draft = Draft()
    for name, value in leaves.items():
        path = tuple(name.split("__"))
        if path in LISTS:
            draft.whole(path)
        else:
            draft.put_all([(path, value)])
    return draft.freeze()


def trial(outcome: str, **more: Any) -> dict[str, Any]:
    return {
        **{f"trials__t__{leaf}": value for leaf, value in more.items()},
        "trials__t__service": "ssh",
        "trials__t__account": "foreman",
        "trials__t__secret": FACTORY,
        "trials__t__outcome": outcome,
        "trials": 1,
    }


BUNDLED = {
    "entry_lists__all__services": ("ssh",), "entry_lists__all__permitted": ANYONE, "entry_lists": 1,
    "interfaces__x__entry_list": "all", "interfaces__x__enabled": True,
}  # fmt: skip
NO_FILTER = {"packet_filter__default": ABSENT, "filter_rules": 1, "services__ssh__accounts": ABSENT}
SSH = {"services__ssh__enabled": True, "services__ssh__port": 22, "services__ssh__encrypted": True, "services": 1}
ANSWERS = {"answering__a__port": 22, "answering__a__speaks": "ssh", "answering": 1}
TABLE: list[tuple[str, dict[str, Any], set[State]]] = [
    ("factory-login", trial("opened"), {F}),
    ("factory-login", trial("asked"), {F}),
    ("factory-login", trial("refused"), {U}),
    ("factory-login", trial("refused", doubts=()), {H}),
    ("factory-login", trial("refused", doubts=("locked",)), {U}),
    ("factory-login", {**trial("refused", doubts=("starting",)), "accounts": 1}, {H}),
    ("factory-login", trial("nothing listens", doubts=()), {H}),
    ("factory-login", {**trial("nothing listens", doubts=("elsewhere",)), "accounts": 1}, {U}),
    ("factory-login", trial("cut"), {U}),
    ("factory-login", trial("not ready"), {U}),
    ("factory-login", trial("locked"), {U}),
    ("factory-login", trial("silent"), {U}),
    ("factory-login", trial("untried"), {U}),
    ("factory-login", {"accounts__foreman__storage": "factory"}, {F, U}),
    ("identity", {"identity__serial": "004417", "identity__hardware": "02:4C:38:00:44:17"}, {H}),
    ("identity", {"identity__serial": "4417", "identity__hardware": "02:4c:38:00:44:17"}, {F, H}),
    ("first-run", {"first_run__terms": "open", "first_run__forced": ()}, {F}),
    ("first-run", {"first_run__terms": "accepted", "first_run__forced": ("foreman",)}, {F}),
    ("first-run", {"first_run__terms": "accepted", "first_run__forced": ()}, {H}),
    ("first-run", {"first_run__forced": ()}, {U}),
    ("first-run", {"first_run__terms": "accepted"}, {U}),
    ("login-first", {"services__https__shows": ("accounts", "policy")}, {F}),
    ("login-first", {"services__https__shows": ()}, {H}),
    ("login-first", {"services__https__enabled": True, "name": "x"}, {U}),
    ("login-keys", {"services__ssh__authority": "/etc/ssh/ca.pub"}, {F, U}),
    ("login-keys", {"services__ssh__key_command": ABSENT}, {H, U}),
    ("weak-password", {"accounts__a__weakness": ("blank",)}, {F}),
    ("weak-password", {"accounts__a__weakness": ()}, {H}),
    ("weak-password", {"accounts__a__weakness": ("blank",), "accounts__a__enabled": False}, {N}),
    # it says so, and was let in all the same
    (
        "weak-password",
        {
            "accounts__a__weakness": ("blank",),
            "accounts__a__enabled": False,
            "trials__t__account": "a",
            "trials__t__outcome": "opened",
        },
        {F},
    ),
    ("weak-password", {"accounts__a__weakness": ("blank",), "accounts__a__storage": "locked"}, {N}),
    ("weak-password", {"accounts__a__role": "full"}, {U}),
    ("weak-password", {"accounts__a__storage": "locked", "accounts__a__keys": ()}, {N}),
    ("weak-password", {"accounts__a__storage": "locked"}, {U}),
    ("login-keys", {"accounts__root__keys": ("SHA256:x",), "accounts": 1}, {F}),
    ("login-keys", {"accounts__root__keys": (), "accounts__a__keys": ABSENT, "accounts": 1}, {H}),
    ("login-keys", {"accounts__root__storage": "one-way", "accounts": 1}, {U}),
    ("account-name", {"accounts__admin__storage": "one-way", "accounts": 1}, {F}),
    ("account-name", {"accounts__root__storage": "locked", "accounts__root__keys": (), "accounts": 1}, {H}),
    ("account-name", {"accounts__root__storage": "locked", "accounts__root__keys": ("SHA256:x",), "accounts": 1}, {F}),
    ("account-name", {"accounts__spanner__storage": "own"}, {F, U}),
    ("own-account", {"accounts__lt-works__role": "full", "accounts__lt-works__secret": OURS, "accounts": 1}, {F, H}),
    ("own-account", {"accounts__lt-works__role": "read", "accounts__lt-watch__role": "read", "accounts": 1}, {F, U}),
    ("unknown-account", {"accounts__ghost__role": "change", "accounts": 1}, {U}),
    ("unknown-account", {"accounts__ghost__storage": "one-way", "accounts": 1}, {F}),
    (
        "unknown-account",
        {"accounts__ghost__storage": "locked", "accounts__ghost__keys": ("SHA256:x",), "accounts": 1},
        {F},
    ),
    ("unknown-account", {"accounts__ghost__role": "none", "accounts__lt-works__role": "full", "accounts": 1}, {N}),
    ("plain-service", {**SSH, "services__telnet__encrypted": False, "services__telnet__enabled": True}, {F, H}),
    ("plain-service", {**SSH, "services__telnet__enabled": False, "services__telnet__port": 23}, {H}),
    (
        "plain-service",
        {
            **SSH,
            "services__telnet__enabled": False,
            "services__telnet__port": 23,
            "services__telnet__encrypted": False,
            "answering__a__port": 23,
        },
        {F, H},
    ),
    ("plain-service", {"answering__a__speaks": "http", "answering__a__port": 80, "services": 1}, {F}),
    ("plain-service", {"services__web__enabled": True, "services": 1}, {U}),
    ("open-sources", {**SSH, "services__ssh__permitted": ANYONE}, {F}),
    ("open-sources", {**SSH, "services__ssh__permitted": ABSENT}, {F}),
    ("open-sources", {**SSH, "services__ssh__permitted": SITE.meant_for("ssh")}, {H}),
    ("open-sources", SSH, {U}),
    (
        "open-sources",
        {
            **SSH,
            "services__ssh__permitted": ANYONE,
            "accounts__a__permitted": SITE.meant_for("ssh"),
            "accounts__a__enabled": True,
            "accounts": 1,
        },
        {H},
    ),
    ("needed-services", SSH, {U}),
    ("needed-services", {**SSH, "services__ssh__boot": True}, {H}),
    ("needed-services", {**SSH, "host__init": ABSENT, "services__ftp__enabled": True}, {F, H}),
    ("needed-services", {"services__ssh__enabled": False, "services": 1}, {F}),
    ("unexplained-port", {**SSH, **ANSWERS}, {H}),
    ("unexplained-port", {**SSH, **ANSWERS, "answering__b__port": 4444}, {F, H}),
    (
        "unexplained-port",
        {
            **ANSWERS,
            "listening__x__port": 22,
            "listening__x__transport": "tcp",
            "listening__x__program": "ssh",
            "listening": 1,
        },
        {F},
    ),
    ("unexplained-port", {**SSH, **ANSWERS, "answering__a__speaks": "unknown"}, {U}),
    ("unexplained-port", ANSWERS, {U}),
    ("password-length", {"policy__min_length": 12}, {H}),
    ("password-length", {"policy__min_length": 11}, {F}),
    ("password-length", {"policy__min_length": ABSENT}, {F}),
    ("password-classes", {"policy__classes": 2}, {F}),
    ("lock-out", {"lockout__tries": 5, "lockout__release": 60.0}, {H}),
    ("lock-out", {"lockout__tries": 11, "lockout__release": NEVER}, {F}),
    ("idle-timeout", {"idle": 600.0}, {H}),
    ("idle-timeout", {"idle": 0.0}, {F}),
    ("idle-timeout", {"idle": NEVER}, {F}),
    ("idle-timeout", {"idle": 300.0, **SSH, "services__ssh__idle": NEVER}, {F, H}),
    ("idle-timeout", {**SSH, "services__ssh__idle": 60.0, "services__web__enabled": True}, {H, U}),
    ("banner", {"banner": SITE.banner}, {H}),
    ("banner", {"banner": SITE.banner + "!"}, {F}),
    ("name", {"name": SITE.unit}, {H}),
    ("clock", {"clock__offset": -31.0}, {F}),
    ("clock", {"clock__offset": 30.0}, {H}),
    ("stores", {"stores__differences": 2}, {F}),
    ("stores", {"stores__differences": ABSENT}, {N}),
    ("sessions", {"sessions__1__source": SITE.laptop, "sessions": 1}, {H}),
    ("sessions", {"sessions__1__source": "127.83.4.99", "sessions__1__account": "x", "sessions": 1}, {F}),
    ("ssh-root", {**SSH, "services__ssh__root_login": "keys"}, {F}),
    ("ssh-root", {**SSH, "services__ssh__root_login": ABSENT}, {N}),
    ("ssh-blank", {**SSH, "services__ssh__blank_login": True}, {F}),
    ("ssh-tries", {**SSH, "services__ssh__tries": 4}, {H}),
    ("ssh-tries", {"services": 1, **ANSWERS}, {U}),
    ("ssh-blank", {"services": 1}, {N}),
    (
        "ssh-old",
        {**SSH, "services__ssh__ciphers": ("3des-cbc", "aes128-ctr"), "services__ssh__macs": ("hmac-sha2-256",)},
        {F, H, U},
    ),
    ("ssh-key-size", {**SSH, "services__ssh__rsa_bits": 2048}, {H}),
    ("ssh-key-size", {**SSH, "services__ssh__rsa_bits": 1024}, {F}),
    (
        "listening",
        {
            "listening__a__port": 69,
            "listening__a__transport": "udp",
            "listening__a__address": "0.0.0.0",
            "listening": 1,
        },
        {F},
    ),
    (
        "listening",
        {"listening__a__port": 40000, "listening__a__transport": "udp", "listening__a__address": "::", "listening": 1},
        {U},
    ),
    (
        "listening",
        {"listening__a__port": 161, "listening__a__transport": "udp", "listening__a__address": "::1", "listening": 1},
        {N},
    ),
    ("foreign-jobs", {"jobs__a__origin": "unknown", "jobs__b__origin": "package", "jobs": 1}, {F, H}),
    ("foreign-jobs", {}, {U}),
    ("foreign-files", {"files__a__origin": "unknown", "files__b__origin": "package", "files": 1}, {U, H}),
    (
        "root-powers",
        {"accounts__a__becomes_root": "freely", "accounts__b__becomes_root": "with its password", "accounts": 1},
        {F, H},
    ),
    (
        "root-powers",
        {"accounts__a__becomes_root": "is root", "accounts__root__becomes_root": "is root", "accounts": 1},
        {F},
    ),
    (
        "password-storage",
        {"accounts__a__storage": "outdated", "accounts__b__storage": "one-way", "accounts": 1},
        {F, H},
    ),
    ("dictionary", {"policy__dictionary": "missing"}, {F}),
    ("dictionary", {"policy__dictionary": "not used"}, {H}),
    ("log-destination", {"logs__destinations": ("udp 192.0.2.1 514",)}, {F}),
    ("log-destination", {"logs__destinations": ABSENT}, {N}),
    ("time-source", {"clock__synchronised": True, "clock__source": "192.0.2.1"}, {H}),
    ("time-source", {"clock__synchronised": False}, {F}),
    ("snmp-communities", {"snmp__communities": 1, "snmp__published": 0, "snmp__writing": 0}, {F, H}),
    ("snmp-communities", {"snmp__published": 1}, {F, U}),
    ("snmp-communities", dict.fromkeys(("snmp__communities", "snmp__published", "snmp__writing"), ABSENT), {N}),
    ("snmp-users", {"snmp__users__a__rights": "read", "snmp__users__a__level": "authPriv", "snmp__users": 1}, {F}),
    ("snmp-users", {"snmp__users__a__rights": "none", "snmp__users__a__level": ABSENT, "snmp__users": 1}, {H}),
    ("snmp-users", {}, {U}),
    ("guard-mode", {"mode": "easy"}, {F}),
    ("guard-mode", {"mode": "strict"}, {H}),
    (
        "nameless-files",
        {"answering__a__speaks": "tftp", "answering__b__speaks": "ftp", "answering__b__anonymous": False},
        {F, H},
    ),
    ("nameless-files", {"answering__b__speaks": "ftp"}, {U}),
    ("certificates", {"certificates__a__days_left": 9, "certificates__a__self_signed": False}, {H}),
    ("certificates", {"certificates__a__days_left": -1, "certificates__a__self_signed": False}, {F}),
    ("needed-services", {"services__telnet__enabled": False, "services__telnet__boot": True, "services": 1}, {F}),
    ("needed-services", {**SSH, "services__ssh__boot": False}, {F}),
    ("needed-services", {**SSH, "host__init": "sysv"}, {U}),
    ("needed-services", {**SSH, "host__init": "sysv", "services__ssh__boot": True}, {H}),
    ("alert-recipients", {"alerts__recipients": ("nobody@unit.invalid",)}, {F}),
    ("alert-recipients", {"alerts__recipients": ("somebody@elsewhere.tram",)}, {F}),
    ("alert-recipients", {"alerts__recipients": ABSENT}, {N}),
    ("alert-recipients", {}, {U}),
    ("stored-secrets", {"stored__sealed": False}, {F}),
    ("stored-secrets", {"stored__sealed": True}, {H}),
    ("stored-secrets", {}, {U}),
    ("open-sides", {**BUNDLED, "interfaces__x__side": "outside"}, {F}),
    ("open-sides", {**BUNDLED, "interfaces__x__side": "inside"}, {H}),
    ("open-sides", {**BUNDLED, "entry_lists__all__permitted": NOBODY, "interfaces__x__side": "wireless"}, {H}),
    ("open-sides", BUNDLED, {U}),
    (
        "open-sides",
        {
            **BUNDLED,
            **SSH,
            "interfaces__y__side": "outside",
            "interfaces__y__entry_list": ABSENT,
            "interfaces__x__side": "inside",
        },
        {F, H},
    ),
    ("open-sides", {**BUNDLED, "interfaces__x__side": "far"}, {U}),
    ("open-sides", {**BUNDLED, "entry_lists__all__services": ABSENT, "interfaces__x__side": "outside"}, {U}),
    ("open-sources", {**BUNDLED, **SSH, "services__ssh__permitted": ABSENT, "interfaces": 1, **NO_FILTER}, {F}),
    ("announcing", {"interfaces__x__side": "wireless", "interfaces__x__announces": True}, {F}),
    ("announcing", {"interfaces__x__side": "outside", "interfaces__x__announces": False}, {H}),
    ("old-tls", {"certificates__a__port": 443, "certificates__a__protocol": "TLSv1"}, {F}),
    (
        "old-tls",
        {"certificates__a__port": 443, "certificates__a__protocol": "TLSv1.2", "certificates__a__outdated": False},
        {H},
    ),
    (
        "old-tls",
        {"certificates__a__port": 443, "certificates__a__protocol": "TLSv1.2", "certificates__a__outdated": True},
        {F},
    ),
    ("old-tls", {"certificates__a__port": 443, "certificates__a__protocol": "TLSv1.2"}, {U}),
    ("old-tls", {"certificates__a__port": 443}, {U}),
    (
        "password-length",
        {"policy__min_length": 12, "accounts__a__own_rules": True, "accounts__a__own_length": ABSENT, "accounts": 1},
        {H, F},
    ),
    (
        "password-length",
        {"policy__min_length": 12, "accounts__a__own_rules": True, "accounts__a__own_length": 14, "accounts": 1},
        {H},
    ),
    ("password-classes", {"policy__classes": 3, "accounts__a__own_rules": True, "accounts": 1}, {H, U}),
    (
        "password-classes",
        {"policy__classes": 3, "accounts__a__own_rules": None, "accounts__a__role": "full", "accounts": 1},
        {H, U},
    ),
    ("second-factor", {"accounts__a__factor": "none", "accounts__a__mailbox": ABSENT, "accounts": 1}, {H}),
    ("second-factor", {"accounts__a__factor": "none", "accounts__a__mailbox": "x@home.example", "accounts": 1}, {F}),
    ("second-factor", {"accounts__a__factor": "mail", "accounts__a__mailbox": ABSENT, "accounts": 1}, {U}),
    ("second-factor", {"accounts__a__role": "full", "accounts": 1}, {U}),
    (
        "console-word",
        {"consoles__a__login": "secret", "consoles__a__storage": "factory", "consoles": 1},
        {F},
    ),
    ("console-word", {"consoles__a__login": "none", "consoles": 1}, {F}),
    ("console-word", {"consoles__a__login": ABSENT, "consoles": 1}, {U}),
    (
        "console-word",
        {"consoles__a__login": "secret", "consoles__a__storage": "own", "consoles": 1},
        {H},
    ),
    ("console-word", {"consoles__a__login": "secret", "consoles": 1}, {U}),
    (
        "console-word",
        {"consoles__a__login": "secret", "consoles__a__storage": ABSENT, "consoles": 1},
        {U},
    ),
    ("console-word", {}, {U}),
    ("radio-phrase", {"interfaces__x__side": "wireless", "interfaces__x__passphrase": "factory"}, {F}),
    ("radio-phrase", {"interfaces__x__side": "wireless", "interfaces__x__passphrase": "none"}, {F}),
    ("radio-phrase", {"interfaces__x__side": "wireless", "interfaces__x__passphrase": "own"}, {H}),
    ("radio-phrase", {"interfaces__x__side": "wireless", "interfaces__x__passphrase": None}, {U}),
    ("picture", {"picture__asks": "none"}, {F}),
    ("picture", {"picture__asks": "digest", "picture__viewers__a__storage": "own", "picture__viewers": 1}, {H}),
    ("picture", {"picture__asks": "digest", "picture__viewers__a__storage": "factory"}, {H, F}),
    ("picture", {"picture__asks": ABSENT}, {N}),
    ("support-code", {"stored__support_code": True}, {U}),
    ("support-code", {"stored__support_code": ABSENT}, {N}),
    ("own-role", {"roles": 1}, {N}),  # the job names none
    ("log-destination", {"logs__destinations": ("half-filled 192.0.2.1",)}, {F}),
    ("place", {"interfaces__x__addresses": ("192.0.2.1/24",)}, {N}),  # the job sends it nowhere
]
GOES = replace(SITE, at="192.0.2.1", goes_to=GoesTo("198.51.100.7/24", "field", "198.51.100.254"))


@pytest.mark.parametrize(
    ("leaves", "states"),
    [
        ({"interfaces__x__addresses": ("192.0.2.1/24",), "interfaces__x__gateway": ABSENT}, {F}),
        ({"interfaces__x__addresses": ("198.51.100.7/24",), "interfaces__x__gateway": "198.51.100.254"}, {H}),
        ({"interfaces__x__addresses": ("198.51.100.7/24",)}, {H, U}),
        ({"interfaces__x__enabled": True}, {U}),
    ],
)
def test_a_unit_that_goes_somewhere_is_there_or_not(leaves: dict[str, Any], states: set[State]) -> None:
    """Its address and its gateway; which socket it is must have been read."""
    assert {f.state for f in judge(plane_with(**leaves), BASELINE, GOES) if f.rule == "place"} == states


@pytest.mark.parametrize(("rule", "leaves", "states"), TABLE, ids=[f"{n}-{r[0]}" for n, r in enumerate(TABLE)])
def test_rules_say_what_they_see(rule: str, leaves: dict[str, Any], states: set[State]) -> None:
    """Each rule on small planes: both sides of its boundary, not set, not read, and nothing to apply to."""
    found = [f for f in judge(plane_with(**leaves), BASELINE, SITE) if f.rule == rule]
    assert {f.state for f in found} == states, [(f.subject, f.saw, f.state) for f in found]


def test_every_rule_of_the_baseline_stands_in_the_table() -> None:
    """No rule goes untried."""
    assert {r[0] for r in TABLE} == {line.rule for line in BASELINE.requirements}


def ours(path: Path) -> bool:
    """What we tried is known to us, only how it ended may not be; and of what is off, no setting was judged before."""
    return path[0] == "trials" and path[-1] not in ("outcome", "doubts") or path[0::2] == ("services", "enabled")


@st.composite
def hidden(draw: st.DrawFn) -> tuple[Plane, Plane]:
    """A plane, and the same with one thing less known: a leaf not read, a list not whole, a trial that ended in
    nothing."""
    leaves: dict[str, Any] = {}
    for _, known, _ in draw(st.lists(st.sampled_from([row for row in TABLE if row[1]]), min_size=1, max_size=5)):
        leaves |= known
    # a password that opened an account is known of no account that is off
    leaves |= {"accounts__a__enabled": True} if "accounts__a__weakness" in leaves else {}
    # what starts everything that is on has no list of what the next start brings
    leaves = {
        name: value
        for name, value in leaves.items()
        if name != "host__init" or not any("__boot" in one for one in leaves)
    }
    plane = plane_with(**leaves)
    listed = [path for path in LISTS if len(path) == 1 and getattr(plane, path[0]).complete]
    what = draw(
        st.sampled_from([*[path for path, value in leaves_of(plane) if value is not None and not ours(path)], *listed])
    )
    changed = Draft(plane)
    if what in listed:
        changed.whole(what, False)
    elif what[-1] == "outcome":
        changed.put(what, draw(st.sampled_from(["silent", "cut", "locked", "not ready", "untried"])))
    else:
        changed.put(what, None)
    return plane, changed.freeze()


@settings(max_examples=150)
@given(hidden())
def test_nothing_that_is_not_known_turns_good_or_disappears(planes: tuple[Plane, Plane]) -> None:
    """Hide any leaf, any end of a list, any end of a trial: no verdict becomes *holds*, and none vanishes."""
    before, after = ({(f.rule, f.subject, f.state) for f in judge(one, BASELINE, SITE)} for one in planes)
    held = {(rule, subject) for rule, subject, state in before if state is H}
    assert not {(rule, subject) for rule, subject, state in after if state is H} - held
    for rule, subject, _ in (one for one in before if one[2] is not N):
        told = [at for r, at, state in after if r == rule and state is not N]
        assert any(at[: len(subject)] == subject[: len(at)] for at in told), f"{rule} of {subject} vanished"


def test_demands_reach_a_fixed_point_and_then_want_nothing() -> None:
    """What is wanted, once reached, satisfies every rule that wanted it , accounts that come to be included."""
    leaves: dict[str, Any] = {
        **SSH,
        "services__ssh__permitted": ANYONE,
        "services__telnet__enabled": True,
        "services__telnet__encrypted": False,
        "idle": NEVER,
        "accounts": 1,
    }
    plane = plane_with(
        **leaves,
        accounts__foreman__role="full",
        policy__min_length=5,
        policy__classes=1,
        lockout__tries=5,
        lockout__release=60.0,
        name="x",
        banner=ABSENT,
    )
    target, gaps = wanted(plane, BASELINE, SITE)
    assert not gaps and {w.kind for w in target} == {"set", "gone", "present"}
    for w in target:
        plane = reach(plane, w)
    again, _ = wanted(plane, BASELINE, SITE)
    for w in again:
        plane = reach(plane, w)
    assert wanted(plane, BASELINE, SITE)[0] == again
    keeps = dataclasses.replace(SITE, allows=dataclasses.replace(SITE.allows, remove_factory_accounts=False))
    kept = wanted(plane_with(**leaves, accounts__foreman__role="full"), BASELINE, keeps)[0]
    assert [(w.kind, w.value) for w in kept if w.path[:2] == ("accounts", "foreman")] == [
        ("set", Ref(f"safe:{SITE.unit}/foreman"))
    ]


SAID: list[Any] = [
    Opened(),
    Asked("terms"),
    Refused(),
    Locked(),
    NotReady(),
    NoListener(),
    Cut(True),
    Cut(False),
    Silent(True),
    Silent(False),
    Untried("x"),
]


def test_every_outcome_says_what_it_costs_and_has_a_word_of_the_plane() -> None:
    """Whatever was sent and not accepted is a wrong try, whatever came back; each word is one the plane knows."""
    assert [told(o) for o in SAID if spends_a_try(o)] == ["refused", "locked", "not ready", "cut", "silent"]
    assert {told(o) for o in SAID} == set(TRIAL_ENDS)


CLAIMED: list[tuple[Sort, Any, bool, Result]] = [
    (Sort.OPENS, Opened(), True, Result.HOLDS), (Sort.OPENS, Refused(), True, Result.FAILS),
    (Sort.OPENS, Untried("no budget"), True, Result.NOT_TRIED), (Sort.KEY, KeySeen(True), True, Result.HOLDS),
    (Sort.KEY, KeySeen(False), True, Result.FAILS), (Sort.KEY, Silent(False), True, Result.NOT_TRIED),
    (Sort.FACTORY, Refused(), True, Result.HOLDS), (Sort.FACTORY, Refused(), False, Result.NOT_TRIED),
    (Sort.FACTORY, Asked("terms"), True, Result.FAILS), (Sort.FACTORY, Locked(), True, Result.NOT_TRIED),
    (Sort.FACTORY, Cut(True), True, Result.NOT_TRIED), (Sort.FACTORY, NotReady(), True, Result.NOT_TRIED),
    (Sort.FACTORY, NoListener(), True, Result.HOLDS), (Sort.ALTERED, Opened(), True, Result.FAILS),
    (Sort.CLOSED, Refusing(), True, Result.HOLDS), (Sort.CLOSED, Quiet(), True, Result.NOT_TRIED),
    (Sort.CLOSED, Open(), True, Result.FAILS), (Sort.STRANGER, Open(), True, Result.FAILS),
    (Sort.STRANGER, Refusing(), False, Result.NOT_TRIED), (Sort.STRANGER, Quiet(), True, Result.NOT_TRIED),
    (Sort.STRANGER, Refusing(), True, Result.HOLDS),
]  # fmt: skip


@pytest.mark.parametrize(("sort", "tried", "control", "result"), CLAIMED)
def test_a_refusal_counts_only_beside_its_control_and_silence_never(
    sort: Sort, tried: Any, control: bool, result: Result
) -> None:
    """Outcome by outcome: only a refusal beside its control can hold, and what could not be tried says why."""
    proof = settle(Claim(sort, "t", DOORS["ssh"], SITE.laptop, control="c"), tried, control)
    assert proof.result is result and (proof.saw or result is not Result.NOT_TRIED)


def test_claims_follow_from_what_is_on_and_what_is_off() -> None:
    """A service that is on is tried as a stranger and with factory logins; one that is off must be closed; every claim
    names its port."""
    plane = plane_with(services__ssh__enabled=True, services__telnet__enabled=False, services=1)
    ways: list[Way] = [way_by("ssh", "lt-works", OURS.entry)]
    made = claims(FAMILY, plane, SITE, ways)
    assert [(c.sort, c.service) for c in made if c.sort in (Sort.CLOSED, Sort.STRANGER)] == [
        (Sort.CLOSED, "telnet"),
        (Sort.STRANGER, "ssh"),
    ]
    assert sum(c.sort is Sort.FACTORY for c in made) == 2 and all(c.door.port in (2022, 2023) for c in made)
    assert ("services", "ssh", "permitted") in next(c for c in made if c.sort is Sort.OPENS).backs


# ---- the bench unit does what its manual says
# --------------------------------------------------------------------------------


def at_board(**kw: Any) -> tuple[LineSwitch, Watch, Board]:
    watch = Watch()
    unit = LineSwitch(watch, **kw)
    unit.terms_taken = True
    unit.hands["foreman"].must_change = False
    return unit, watch, Board(unit, "shell", "127.83.4.10", "foreman")


def test_the_bench_counts_refusals_while_starting_and_locks() -> None:
    """Right logins are refused for the first seconds and counted; five wrong ones lock for a minute; a good one
    clears."""
    unit, watch, _ = at_board()
    assert [unit.try_phrase("foreman", "foreman") for _ in range(5)] == ["no"] * 5
    assert unit.try_phrase("foreman", "foreman") == "resting"
    watch.now += 61
    assert (
        unit.try_phrase("foreman", "foreman") == "in"
        and unit.try_phrase("spanner", "") == "in"
        and unit.try_phrase("ghost", "") == "no"
    )
    assert [unit.try_phrase("foreman", "x") for _ in range(4)] == ["no"] * 4 and unit.try_phrase(
        "foreman", "foreman"
    ) == "in"
    assert unit.try_phrase("foreman", "x") == "no" and unit.hands["foreman"].wrong == 1


def test_the_bench_asks_first_and_keeps_its_settings_shut() -> None:
    """Terms, then the forced change with its minimum length and confirmation; nothing can be read before, from any
    hand."""
    unit = LineSwitch(Watch(), shy=0)
    first = Board(unit, "talk", "127.0.0.1")
    assert (
        first.greet().endswith("Hand: ")
        and first.hear("foreman") == "Phrase: "
        and first.hear("foreman").endswith("(take/refuse)? ")
    )
    assert (
        first.hear("take").endswith("New phrase: ")
        and "Too short by 2." in first.hear("abc")
        and first.hear("abcdef") == "Once more: "
    )
    other = Board(unit, "shell", "127.0.0.1", "spanner")
    other.greet()
    assert other.hear("look plate").startswith("No: locked until")
    assert (
        "They differ." in first.hear("abcdeg")
        and first.hear("abcdef") == "Once more: "
        and first.hear("abcdef").startswith("Changed.")
    )
    assert (
        other.hear("look gates").startswith("gate")
        and Board(unit, "shell", "127.0.0.1", "spanner").greet() == "ql8-new |> "
    )


def test_the_bench_replaces_lists_forgets_what_is_not_kept_and_asks_before_it_restarts() -> None:
    """A source list replaces the old one and is enforced; empty is anyone; restart loses what was not kept and ends
    every board."""
    unit, _, board = at_board()
    board.hear("gate shell from 127.83.4.10,127.83.4.20")
    board.hear("gate shell from 127.83.4.30-127.83.4.33")
    assert not unit.takes("shell", "127.83.4.10") and unit.takes("shell", "127.83.4.31")
    assert board.hear("look kept").startswith("unlike: gate shell\n1 unlike") and not board.ended
    board.hear("gate shell from ")
    assert unit.takes("shell", "9.9.9.9")
    (
        board.hear("engrave rest 5"),
        board.hear("keep"),
        board.hear("engrave rest 9"),
        board.hear("hire mate watcher"),
        board.hear("phrase-1"),
        board.hear("phrase-1"),
    )
    assert board.hear("wheel").endswith("(yes/no): ") and "not wheeled" in board.hear("no")
    board.hear("wheel")
    board.hear("yes")
    assert board.ended and unit.live.rest == 5 and "mate" in unit.hands and not unit.connections


def test_the_bench_guards_itself() -> None:
    """Out of range, unknown words, the last chief, oneself, watchers who write: each a No and no change; long answers
    turn pages."""
    unit, _, board = at_board()
    before = (dict(unit.hands), unit.live.rest)
    for line in (
        "engrave rest 999",
        "engrave shortest 3",
        "gate window open",
        "dismiss foreman",
        "dance",
        "rekey",
        "hire foreman chief",
        "engrave clock noon",
        f"engrave greeting {'x' * 73}",
    ):
        assert board.hear(line).startswith("No: "), line
    assert (dict(unit.hands), unit.live.rest) == before
    first = board.hear("look plate")
    assert first.endswith("-- turn over --") and first.count("\n") == 12 and board.hear(" ").endswith("|> ")
    board.hear("hire mate watcher"), board.hear("phrase-1"), board.hear("phrase-1")
    mate = Board(unit, "talk", "127.0.0.1", "mate")
    assert mate.hear("engrave rest 5") == "No: a watcher only looks.\nql8-new |> " and mate.hear(
        "look kept"
    ).startswith("0 unlike")
    assert board.hear("rekey foreman") == "Present phrase: " and board.hear("wrong").startswith("No: that is not")


def test_a_clock_that_asks_nobody_is_a_finding_where_it_could_ask() -> None:
    """Not set is not what the make does not have."""
    needs = replace(SITE, time_servers=frozenset({"192.0.2.9"}))
    for site, asked in ((needs, True), (replace(needs, manual=frozenset({("clock", "servers")})), False)):
        plane = plane_with(clock__servers=ABSENT)
        assert any(f.rule == "time-source" and f.state is F for f in judge(plane, BASELINE, site)) is asked
        target, _ = wanted(plane, BASELINE, site)
        assert any(want.path == ("clock", "servers") for want in target) is asked
