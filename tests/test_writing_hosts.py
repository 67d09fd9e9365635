"""Writing on hosts without one: programs over input, families on top of others, what a table of our own means, what
is a gap."""

from __future__ import annotations

import copy
import re
import subprocess
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from yardbolt.adapters.files import load_family, shipped
from yardbolt.adapters.hosts import library
from yardbolt.core.addresses import ANYONE, NOBODY, AddressSet
from yardbolt.core.credentials import Key, Password
from yardbolt.core.doors import Door, Way
from yardbolt.core.errors import FamilyError, FileError
from yardbolt.core.family.bound import bind
from yardbolt.core.family.extracting import extract
from yardbolt.core.family.parts import Fact, Narrowed
from yardbolt.core.family.reading import Merging, asks_for, merge
from yardbolt.core.family.writing import op_for
from yardbolt.core.formats.decode import DECODERS
from yardbolt.core.formats.decode.openssh import not_in_force
from yardbolt.core.job import Allows, OwnAccount, Site
from yardbolt.core.judge.access import admit
from yardbolt.core.judge.demands import Want
from yardbolt.core.plan.difference import changes
from yardbolt.core.plane.change import Drop, Make, Set
from yardbolt.core.plane.edit import Draft, exists, get, put
from yardbolt.core.plane.evidence import Leftover
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.secret import Ref, Slot
from yardbolt.core.talk.conversation import Replies
from yardbolt.core.talk.host import commands
from yardbolt.core.talk.host.script import whole
from yardbolt.core.talk.outcomes import No

PROGRAMS = library().programs
SERVER, SMALL = (load_family(shipped("families")[name]) for name in ("linux-server", "linux-small"))
SHELLS = (["dash"], ["bash"], ["busybox", "ash"])


def host_plane(**more: Any) -> Plane:
    """A host of which the settings of its SSH server were read."""
    facts: dict[Any, Any] = {("services", "ssh", leaf): value for leaf, value in {
        "enabled": True, "port": 22, "permitted": ABSENT, "root_login": "yes", "config": "/etc/ssh/sshd_config", "tries": 9}.items()}  # fmt: skip
    facts |= {
        ("accounts", "root", "role"): "full",
        ("accounts", "root", "becomes_root"): "is root",
        ("policy", "binds_root"): False,
    }
    return (
        Draft()
        .put_all((tuple(k.split("__")) if isinstance(k, str) else k, v) for k, v in {**facts, **more}.items())
        .freeze()
    )


@pytest.mark.parametrize("name", PROGRAMS)
def test_programs_are_parsed_whole_by_every_shell_and_take_hostile_values_as_data(name: str) -> None:
    """dash, bash and ash read each program without running it; a value of quotes, braces and dollars arrives as it
    is, and a script that is cut runs nothing."""
    given = {argument: (f"$(touch {argument}) `id` '\"\\n{{}};", ) for argument in PROGRAMS[name].takes}  # fmt: skip
    script = "".join(str(part) for part in whole(PROGRAMS[name].text, given))
    shown = "".join(
        str(part) for part in whole("".join(f'printf "%s\\n" "${argument}"\n' for argument in given), given)
    )
    for shell in SHELLS:
        read = subprocess.run([*shell, "-n"], input=script, capture_output=True, text=True, check=False)
        assert read.returncode == 0 and not read.stderr, (shell, read.stderr)
        cut = subprocess.run(
            [*shell, "-s"], input=script[: len(script) // 2], capture_output=True, text=True, check=False
        )
        assert not cut.stdout and cut.returncode, (shell, cut.stderr)
        out = subprocess.run([*shell, "-s"], input=shown, capture_output=True, text=True, check=False).stdout
        assert out.splitlines() == [value for (value,) in given.values()], shell


MADE, CALLED = (
    re.compile(r"^\s*([a-z][a-z_]+)\(\) *\{", re.M),
    re.compile(r"(?:^|[;&|{(!]|\bthen|\bdo|\belse|\bif)\s*([a-z][a-z_]+)\b(?!=)", re.M),
)


def test_every_program_brings_what_it_calls() -> None:
    """No shell reads a program so closely that it misses a function before it is called."""
    texts = {name: re.sub(r"(?m)(^|\s)#\s.*$", "", program.text) for name, program in PROGRAMS.items()}
    ours = {found for text in texts.values() for found in MADE.findall(text)}
    missing = {name: (set(CALLED.findall(text)) & ours) - set(MADE.findall(text)) for name, text in texts.items()}
    assert len(ours) > 20 and not {name: lacks for name, lacks in missing.items() if lacks}


def test_what_is_written_goes_over_input_and_as_root_only_after_a_yes(tmp_path: Path) -> None:
    """No value and no secret stands in a command line; without root nothing of the program is sent."""
    make = Make(("accounts", "lt-works"), (("role", "full"), ("secret", Ref("safe:x/lt-works"))))
    order = bind(SERVER, make, host_plane()).order
    channel, session = SERVER.channels["shell"], commands.Session("account", Ref("safe:x/me"))
    asked = commands.tell(channel, order, session)  # type: ignore[arg-type]
    first = next(asked)
    assert isinstance(first, commands.Run) and "sudo -n true" in str(first.command)
    sent = asked.send(commands.Ran("", 0))
    assert Slot(Ref("safe:x/lt-works")) in sent.input and not any(isinstance(part, Slot) for part in sent.command)
    assert not any("lt-works" in str(part) for part in sent.command)
    again = commands.tell(channel, order, session)  # type: ignore[arg-type]
    next(again)
    with pytest.raises(StopIteration) as ended:
        again.send(commands.Ran("", 127))
    assert ended.value.value == No("needs root, and there is no sudo", sent=False)


def test_a_family_stands_on_another_and_says_what_is_wrong(tmp_path: Path) -> None:
    """Ask by ask and op by op; what it leaves out is gone; what is no program, or takes something else, is one line."""
    all_of, some = ({path for op in one.ops for path in op.sets} for one in (SERVER, SMALL))
    assert all_of > some
    assert [ask.name for ask in SMALL.asks] == [ask.name for ask in SERVER.asks]
    ops = {role: op_for(SMALL, Make(("accounts", "a"), (("role", role),))) for role in ("full", "read")}
    assert {role: bool(op and op.needs) for role, op in ops.items()} == {"full": True, "read": False}
    file = tmp_path / "own.yaml"
    head = "family: own\ntitle: Own\nbased_on: linux-server\n"
    for text, said in {
        "family: own\ntitle: Own\nbased_on: nobody\n": "found 'nobody'",
        "family: own\ntitle: Own\nbased_on: linux-small\n": "one level",
        f"{head}leaves_out: [ops/nothing]\n": "no such thing",
        f"{head}ops: {{x: {{set: [name], program: nothing}}}}\n": "not a program of the library",
        f"{head}ops: {{x: {{set: [name], program: host-name}}}}\n": "also takes value",
        f"{head}ops: {{x: {{set: [name], program: host-name, say: x, given: {{value: y}}}}}}\n": "give say or program, one of the two",
        f"{head}ops: {{x: {{set: [name]}}}}\n": "give say or program, one of the two",
        f"{head}ops: {{x: {{set: [name], say: x, effects: {{listening: none}}}}}}\n": "all that can be said of it is unknown",
        f"{head}ops: {{x: {{set: [services/*/enabled], say: x, only: [perhaps]}}}}\n": "does not suit",
        "family: own\ntitle: Own\nbased_on: harrowfen-gd6\nops: {x: {on: notice, set: [policy/min_length], put: /x}}\n": "nothing fills it",
    }.items():
        file.write_text(text)
        with pytest.raises((FileError, FamilyError)) as wrong:
            load_family(file)
        assert said in str(wrong.value), (text, str(wrong.value))


RULES: list[dict[str, Any]] = [
    {"expr": [{"match": {"op": "==", "left": {"meta": {"key": "iif"}}, "right": "lo"}}, {"accept": None}]},
    {"comment": "ssh", "expr": [{"match": {"op": "==", "left": {"payload": {"protocol": "tcp", "field": "dport"}}, "right": 22}},
     {"match": {"op": "==", "left": {"payload": {"protocol": "ip", "field": "saddr"}}, "right": "192.0.2.10"}}, {"accept": None}]},
    {"comment": "ssh", "expr": [{"match": {"op": "==", "left": {"payload": {"protocol": "tcp", "field": "dport"}}, "right": 22}},
     {"reject": {"type": "tcp reset"}}]},
]  # fmt: skip
CHAIN = {
    "family": "inet",
    "table": "yardbolt",
    "name": "limits",
    "type": "filter",
    "hook": "input",
    "prio": -5,
    "policy": "accept",
}
OURS: dict[str, Any] = {"nftables": [
    {"metainfo": {}}, {"table": {"family": "inet", "name": "yardbolt"}}, {"chain": CHAIN},
    *({"rule": {"family": "inet", "table": "yardbolt", "chain": "limits", "handle": place, **more}} for place, more in enumerate(RULES)),
]}  # fmt: skip


def test_a_table_of_ours_is_what_its_services_are_limited_to() -> None:
    """Read as the limit of the service, not as rules; changed by anybody in the least it is a table like any other; a
    port it does not name is not limited by it."""
    ask = next(ask for ask in SERVER.asks if ask.decode == "packet-filter")
    parts = extract(SERVER, ask, Replies(tree=OURS))
    assert [part.sources for part in parts if isinstance(part, Narrowed)] == [AddressSet.of("192.0.2.10")]
    assert not [part for part in parts if isinstance(part, Fact) and part.path[0] in ("filter_rules", "filter_stages")]
    facts = [
        Fact(("services", "ssh"), True, "ssh"),
        Fact(("services", "ssh", "port"), 22, "ssh"),
        Fact(("services", "ssh", "permitted"), ABSENT, "ssh"),
    ]
    limited = merge(SERVER, [*facts, *parts]).plane
    assert get(limited, ("services", "ssh", "permitted")) == AddressSet.of("192.0.2.10")
    elsewhere = merge(SERVER, [facts[0], Fact(("services", "ssh", "port"), 2222, "ssh"), facts[2], *parts]).plane
    assert get(elsewhere, ("services", "ssh", "permitted")) is ABSENT
    unread = merge(SERVER, [*facts[:2], *parts]).plane
    assert get(unread, ("services", "ssh", "permitted")) is None, "hosts.deny may block more"
    somewhere = merge(SERVER, [facts[0], facts[2], *parts]).plane
    assert get(somewhere, ("services", "ssh", "permitted")) is None, "where it listens was not read"
    asked = copy.deepcopy(OURS)
    heard = {"match": {"op": "in", "left": {"ct": {"key": "state"}}, "right": "established"}}
    asked["nftables"].insert(4, copy.deepcopy(asked["nftables"][4]))
    asked["nftables"][4]["rule"]["expr"] = [asked["nftables"][-1]["rule"]["expr"][0], heard, {"accept": None}]
    assert (
        DECODERS["nftables"].decode(Replies(tree=asked), "").narrows
        == DECODERS["nftables"].decode(Replies(tree=OURS), "").narrows
    )
    for place, change in enumerate([{"prio": 0}, {"policy": "drop"}, {"hook": "forward"}]):
        tree = copy.deepcopy(OURS)
        tree["nftables"][2]["chain"] |= change
        assert not DECODERS["nftables"].decode(Replies(tree=tree), "").narrows, place
    for place in range(3, 6):
        tree = copy.deepcopy(OURS)
        tree["nftables"][place]["rule"]["expr"][-1] = {"drop": None}
        assert not DECODERS["nftables"].decode(Replies(tree=tree), "").narrows, place
    assert not [part for part in parts if isinstance(part, Leftover)]


def saved(family: str, source: str) -> list[str]:
    return [f"{family} {line}" for line in (
        "*filter", ":INPUT ACCEPT [0:0]", ":yardbolt - [0:0]", "-A INPUT -j yardbolt", "-A INPUT -p tcp -m tcp --dport 9 -j DROP", "-A yardbolt -i lo -j RETURN",
        f"-A yardbolt -s {source} -p tcp -m tcp --dport 22 -m comment --comment ssh -j RETURN",
        "-A yardbolt -p tcp -m tcp --dport 22 -m comment --comment ssh -j REJECT --reject-with tcp-reset", "COMMIT",
    )]  # fmt: skip


def test_a_chain_of_ours_is_what_its_services_are_limited_to() -> None:
    """Where there is no nft: in both address families, first of all, and just as it was written; else a chain like
    any other."""
    decode = DECODERS["packet-filter"].decode
    four, six = saved("4", "192.0.2.10/32"), saved("6", "2001:db8::/64")

    def limits(*lines: str) -> tuple[Any, ...]:
        return decode(Replies("\n".join(("read 4", "read 6", *lines))), "").narrows

    assert limits(*four, *six) == (("ssh", "tcp", ("22",), AddressSet.of("192.0.2.10", "2001:db8::/64")),)
    assert limits(*four, "no ipv6") == (("ssh", "tcp", ("22",), AddressSet.of("192.0.2.10")),)
    facts = dict(decode(Replies("\n".join(("read 4", "read 6", *four, *six))), "").facts)
    nines = {f"{family} filter INPUT: -p tcp --dport 9 -j DROP" for family in ("ip", "ip6")}
    assert {path[1] for path in facts if path[0] == "filter_rules"} == nines
    assert facts["packet_filter", "unseen"] == ("tables of nft",), "which nobody shows without nft"
    for there, unseen in (
        ("nft 2 filter", ABSENT),
        ("nft 2 filter\nsets 2 filter", ("filter (ip)",)),
        ("nft 2 filter\nnft 1 gate", ("gate (inet)",)),
    ):
        facts = dict(decode(Replies("\n".join(("read 4", "read 6", "read tables", there, *four, *six))), "").facts)
        assert facts["packet_filter", "unseen"] == unseen
    assert not limits(*four) and not limits(*four, *six[:3], *six[4:]), "by IPv6 anyone may come"
    for place in (3, 5, 6, 7):
        spoiled = four[place].replace("-j ", "-m mark --mark 1 -j ")
        assert not limits(*four[:place], spoiled, *four[place + 1 :], *six), four[place]
        assert place == 6 or not limits(*four[:place], *four[place + 1 :], *six), four[place]
    assert not limits(*four[:3], four[4], four[3], *four[5:], *six), "what stands before it decides first"
    remark = "4 # Table `filter' is incompatible, use 'nft' tool."
    assert decode(Replies("\n".join(("read 4", "read 6", remark, *six))), "").leftovers, (
        "what only nft can say is there"
    )
    kinds = [f"6 -A INPUT -p ipv6-icmp -m icmp6 --icmpv6-type {kind} -j DROP" for kind in (135, 128)]
    lines = ("read 4", "read 6", "6 *filter", "6 :INPUT ACCEPT [0:0]", *kinds)
    found = dict(decode(Replies("\n".join(lines)), "").facts)
    opaque = [value for path, value in found.items() if path[-1] == "opaque"]
    assert opaque == [True, False], "one half of finding a neighbour may end it; an echo does not"
    unread = decode(Replies("read 4\n" + "\n".join(four)), "")
    assert unread.leftovers == ("neither nft nor iptables shows what is blocked by IPv6",)


def test_root_is_told_from_others_where_the_service_does() -> None:
    """Root by SSH is let in as its setting says; a key may open where passwords do not; others are not touched by
    it."""
    door, held = Door("ssh", "192.0.2.1", 22, "ssh"), Ref("safe:x/root")
    way = Way("192.0.2.10", door, "root", Password(held))
    by_key = replace(way, credential=Key("SHA256:x"))
    whole_plane = host_plane(accounts__root__secret=held, accounts__root__enabled=True)
    plane = put(put(whole_plane, ("packet_filter", "default"), ABSENT), ("accounts", "root", "permitted"), ABSENT)
    plane = put(put(plane, ("services", "ssh", "interfaces"), ABSENT), ("services", "ssh", "accounts"), ABSENT)
    for leaf, value in (("password_login", True), ("key_login", True)):
        plane = put(plane, ("services", "ssh", leaf), value)
    plane = put(put(plane, ("accounts", "root", "keys"), ("SHA256:x",)), ("accounts", "root", "keys_taken"), True)
    for told, admitted, keyed in (("yes", True, True), ("no", False, False), ("keys", False, True)):
        seen = put(plane, ("services", "ssh", "root_login"), told)
        assert (admit(seen, way).admitted, admit(seen, by_key).admitted) == (admitted, keyed), told
    other = put(plane, ("accounts", "root", "becomes_root"), "with its password")
    assert admit(put(other, ("services", "ssh", "root_login"), "no"), way).admitted is True


def test_what_a_class_cannot_do_is_a_gap_with_its_reason() -> None:
    """No program for it, a value it cannot write, or something it needs that was not read: each says why; the rest is
    planned."""
    site = Site("u", "192.0.2.10", ANYONE, accounts=(OwnAccount("lt-works", "full", "x"),), allows=Allows())
    plane = Draft(host_plane()).whole(("accounts",)).freeze()
    wants = (
        Want(("accounts", "lt-works"), "own-account", "present", (("role", "full"), ("secret", Ref("safe:u/lt-works")))),
        Want(("services", "ssh", "permitted"), "open-sources", "set", AddressSet.of("192.0.2.10")),
        Want(("services", "ssh", "root_login"), "ssh-root", "set", "no"), Want(("services", "ssh", "tries"), "ssh-tries", "set", 4),
    )  # fmt: skip
    todo, gaps = changes(put(plane, ("host", "elevates"), ABSENT), wants, SMALL, site)
    assert [change.path for change in todo] == [("services", "ssh", "tries")]
    assert {gap.path: gap.why for gap in gaps}[("accounts", "lt-works")].startswith("without sudo")
    assert "root's login must stay" in {gap.path: gap.why for gap in gaps}[("services", "ssh", "root_login")]
    plane = put(plane, ("host", "elevates"), "sudo")
    todo, gaps = changes(plane, wants, SERVER, site)
    assert {gap.path for gap in gaps} == {("services", "ssh", "permitted")} and "was not read" in gaps[0].why
    assert Make(("accounts", "lt-works"), wants[0].value, "own-account") in todo
    unread = put(plane, ("services", "ssh", "root_login"), None)
    keys = Want(("accounts", "root", "keys"), "login-keys", "set", ("SHA256:x",))
    assert not changes(unread, (*wants[3:], keys), SERVER, site)[0], "what somebody left unloaded is not published"
    assert [change.path for change in changes(plane, (keys,), SERVER, site)[0]] == [keys.path]
    made = replace(wants[0], value=(*wants[0].value, ("keys", ("SHA256:x",))))
    todo, gaps = changes(put(unread, ("services", "ssh", "root_login"), None), (made,), SERVER, site)
    assert [type(change) for change in todo] == [Make] and "root by ssh was not read" in gaps[0].why, (todo, gaps)
    policy = Want(("policy", "min_length"), "password-length", "set", 12)
    known = put(put(unread, ("policy", "dictionary"), "not used"), ("policy", "min_length"), 8)
    assert "root by ssh was not read" in changes(known, (policy,), SERVER, site)[1][0].why, "nothing is armed either"
    with pytest.raises(ValueError, match="may not be put into a command"):
        bind(SERVER, Drop(("accounts", "x;reboot")), plane)
    assert bind(SERVER, Drop(("jobs", "/etc/cron.d/x y 1")), plane).order.fill["key"] == ("/etc/cron.d/x y 1",)
    with pytest.raises(ValueError, match="may not be put into a command"):
        bind(SERVER, Drop(("jobs", "/etc/cron.d/x\n1")), plane)
    assert op_for(SERVER, Set(("snmp", "communities"), 3)) is None and replace(site, unit="v")


def test_what_one_web_server_serves_two_ways_goes_off_in_one_step_or_stays() -> None:
    """Where both go, one step is enough; where one is needed, the other is a gap; two servers are no pair."""
    site = Site("u", "192.0.2.10", ANYONE, allows=Allows())
    off = [Want(("services", name, "enabled"), "plain-service", "set", False) for name in ("http", "https")]
    line = 'tcp LISTEN 0 9 0.0.0.0:{} 0.0.0.0:* users:(("{}",pid=1,fd=3))'
    for second, planned, gap in (("nginx", ["http"], "https too"), ("lighttpd", ["http", "https"], "")):
        told = "\n".join(f"ss {line.format(*one)}" for one in ((80, second), (443, "nginx")))
        draft = Draft(host_plane())
        for path, value in DECODERS["linux-services"].decode(Replies(told), "").facts:
            draft.make(path) if value is True and len(path) == 2 else draft.put(path, value)
        plane = draft.freeze()
        todo, gaps = changes(plane, tuple(off), SERVER, site)
        assert [change.path[1] for change in todo] == planned and not gaps, (todo, gaps)
        assert (exists(bind(SERVER, todo[0], plane).after, ("services", "https")) is True) is (not gap)
        todo, gaps = changes(plane, tuple(off[:1]), SERVER, site)
        assert [one.path[1] for one in todo] == ([] if gap else ["http"]) and all(gap in one.why for one in gaps)
    bare = line.partition(" users")[0]
    cases = {
        "on": "unit nginx.service enabled\nss " + line.format(443, "nginx"), "off": "off nginx.service masked\nswitched https nginx https",
        "unknown": f"ss {bare.format(80)}\nss {bare.format(443)}",
    }  # fmt: skip
    seen = {name: dict(DECODERS["linux-services"].decode(Replies(text), "").facts) for name, text in cases.items()}
    at = ("services", "https")
    for name, on in (("on", True), ("off", False)):
        assert (
            seen[name][(*at, "boot")] is seen[name][(*at, "enabled")] is on and ("services", "http") not in seen[name]
        )
    assert seen["unknown"][at] and (*at, "together") not in seen["unknown"], "who holds them was not told"
    idle = Want(("services", "https", "idle"), "idle", "set", 60.0)
    assert "only its SSH server" in changes(plane, (idle,), SERVER, site)[1][0].why


def held(*sockets: tuple[str, int, str], more: str = "") -> Plane:
    """A host whose outward sockets are held by these programs, each by the process of its place."""
    lines = [
        f'ss {by} LISTEN 0 9 0.0.0.0:{port} 0.0.0.0:* users:(("{who}",pid={place},fd=3))'
        for place, (by, port, who) in enumerate(sockets, 7)
    ]
    draft = Draft(put(host_plane(), ("packet_filter", "empty_names"), "nobody"))
    for path, value in DECODERS["linux-services"].decode(Replies("\n".join([*lines, more])), "").facts:
        draft.make(path) if value is True and len(path) == 2 else draft.put(path, value)
    return draft.freeze()


OFF, SHUT = "enabled", "permitted"


@pytest.mark.parametrize(
    ("sockets", "more", "service", "planned", "why"),
    [
        ([("tcp", 23, "telnetd")], "", "telnet", OFF, ""),
        ([("tcp", 23, "shoreline")], "main 7", "telnet", OFF, ""),
        ([("tcp", 23, "shoreline")], "script shoreline", "telnet", OFF, ""),
        ([("tcp", 23, "shoreline")], "", "telnet", SHUT, "what starts telnet was not read"),
        ([("tcp", 23, "systemd")], "", "telnet", OFF, ""),
        ([("tcp", 23, "shoreline"), ("tcp", 6767, "shoreline")], "main 7", "telnet", SHUT, "tcp 6767 too"),
        ([("udp", 514, "rsyslogd")], "main 7", "syslog", SHUT, "its own log too"),
        ([("udp", 123, "chronyd")], "script chronyd", "ntp", SHUT, "its own clock too"),
    ],
)
def test_a_service_goes_off_whoever_holds_its_port_or_is_shut(
    sockets: list[tuple[str, int, str]], more: str, service: str, planned: str, why: str
) -> None:
    """By whatever starts its holder; where that does more, or is not known, nobody is let in to it, and the sheet
    says why."""
    want = Want(("services", service, "enabled"), "needed-services", "set", False)
    site = Site("u", "192.0.2.10", ANYONE, allows=Allows())
    plane = held(*sockets, more=more)
    todo, gaps = changes(plane, (want,), SERVER, site)
    assert [change.path[-1] for change in todo] == [planned] and all(why in gap.why for gap in gaps)
    assert bool(gaps) is bool(why) and all(gap.why.endswith("shut to everybody instead") for gap in gaps)
    if planned is SHUT:
        assert bind(SERVER, todo[0], plane).order.fill["value"] == ("none",)
        shut = put(plane, todo[0].path, NOBODY)
        assert changes(shut, (want,), SERVER, site) == ((), gaps), "a second run changes nothing, and says the same"
        assert not changes(put(plane, ("packet_filter", "empty_names"), None), (want,), SERVER, site)[0]


@pytest.mark.parametrize(("who", "more"), [("sshd", "main 7"), ("dropbear", ""), ("systemd", "ours 443")])
def test_what_we_came_by_is_an_ssh_server_wherever_it_listens(who: str, more: str) -> None:
    """At the port of another service as well: it is not switched off, nor shut, for being that."""
    plane = held(("tcp", 443, who), more=more)
    assert exists(plane, ("services", "https")) is not True and exists(plane, ("services", "ssh")) is True


def test_a_service_is_limited_only_where_all_its_ports_are() -> None:
    """The place the trade knows is its own, in whatever order its sockets are told; a limit at one of two is none."""
    several = [("tcp", 8080, "nginx"), ("tcp", 80, "nginx"), ("udp", 53, "named"), ("tcp", 53, "named")]
    for order in (several, several[::-1]):
        plane = held(*order)
        assert [get(plane, ("services", "http", leaf)) for leaf in ("port", "also")] == [80, ("tcp 8080",)]
        assert [get(plane, ("services", "dns", leaf)) for leaf in ("transport", "also")] == ["tcp", ("udp 53",)]
    for noted, port in (("tcp:8080 tcp:443", 8080), ("tcp:8080 tcp:80", 80), ("", 80)):
        off = dict(
            DECODERS["linux-services"]
            .decode(Replies(f"off nginx.service masked\nswitched http nginx {noted}"), "")
            .facts
        )
        assert off["services", "http", "port"] == port and off["services", "http", "boot"] is False, noted
    facts = [Fact(("services", "http"), True, "x"), Fact(("services", "http", "port"), 80, "x")]
    facts.append(Fact(("services", "http", "also"), ("tcp 8080",), "x"))
    for ports, limited in ((("80",), None), (("80", "8080"), NOBODY)):
        found = merge(SERVER, [*facts, Narrowed("http", "tcp", ports, NOBODY)]).plane
        assert get(found, ("services", "http", "permitted")) == limited, ports
    # read back by itself, what the SSH server says of itself is not all there is to say of who may come
    ssh = asks_for(SERVER, [("services", "ssh", "tries")])
    for asked, told in ((ssh, None), (None, ABSENT)):
        half = Merging(SERVER, asked)
        half.add([Fact(("services", "ssh"), True, "ssh"), Fact(("services", "ssh", "permitted"), ABSENT, "ssh")])
        assert get(half.reading().plane, ("services", "ssh", "permitted")) == told


LOADED = {
    "loaded after the change": ("changed 100 /x\nloaded 200\nnow 300", ""),
    "changed after": ("changed 250 /x\nloaded 200\nnow 300", "older settings"),
    "in the very second": ("changed 200 /x\nloaded 200\nnow 300", "the very second"),
    "changed while the clock was ahead, and started since": (
        "changed 9000 /x\nchanged 100 /y\nloaded 200\nsteady yes\nnow 300",
        "",
    ),
    "the same, and changed after that": (
        "changed 9000 /x\nchanged 250 /y\nloaded 200\nsteady yes\nnow 300",
        "older settings",
    ),
    "the same, and the clock was set since": ("changed 9000 /x\nloaded 200\nnow 300", "lie in the future"),
    "hardly in the future": ("changed 320 /x\nloaded 200\nsteady yes\nnow 300", "lie in the future"),
    "loaded in the future": ("changed 100 /x\nloaded 9000\nnow 300", "lie in the future"),
    "older by its clock, and it holds what we had it load": ("changed 250 /x\nloaded 200\nsame yes\nnow 100", ""),
    "nothing known": ("changed none /x\nloaded 200\nnow 300", "could not be read"),
}


@pytest.mark.parametrize("case", LOADED)
def test_whether_a_server_has_its_files_is_told_by_a_clock_that_may_have_been_set(case: str) -> None:
    """What lies in the future was changed before, where nobody set the clock since the server loaded its files; else
    nobody knows, and a server that nobody knows of is not judged."""
    told, why = LOADED[case]
    seen: dict[str, list[str]] = {}
    for line in told.splitlines():
        tag, _, rest = line.partition(" ")
        seen.setdefault(tag, []).append(rest)
    said = not_in_force(seen)
    assert (why in said) and bool(why) == bool(said), said
