"""Random packet filters in a real host: what is sure must be what real packets meet: python sweeps/filters.py [LISTS]
[SEED]

Every third one is written by nft, the others by iptables: into tables of nft (which nft shows, or iptables alone),
and into the older filter."""

import json
import random
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))
from sweeps.variety.hostfeatures import Scripts
from tests.test_yard import connects
from tests.yard.hosts import OFFICE, STATION, STRANGER, TECHNICIAN
from yardbolt.adapters.hosts import library
from yardbolt.core.family.extracting import extract
from yardbolt.core.family.model import Ask, Family
from yardbolt.core.family.reading import merge
from yardbolt.core.judge.filter import At, through
from yardbolt.core.plane.edit import put as put_in
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.talk.conversation import Replies
from yardbolt.core.talk.host.commands import AskHow

# fmt: off
many, seed = (int(word) for word in (*sys.argv[1:], *("50", "1")[len(sys.argv) - 1 :]))
chance, FAMILY = random.Random(seed), Family("x", "x", {}, token_signs="_-.", token_longest=64)
ASKS = [Ask(name, "shell", AskHow("nft"), frozenset(), decode=decode, whole=whole) for name, decode, whole in (("filter", "packet-filter", (("filter_rules",), ("filter_stages",), ("named_addresses",))), ("filter-families", "filter-families", ()))]
BASES = {"one": "type filter hook input priority -5; policy accept;", "two": "type filter hook input priority 0; policy "}
WHAT, PORTS = ["accept", "drop", "reject with tcp reset", "return", "counter"], ["", "tcp dport 22", "tcp dport { 20-22, 80 }", "tcp dport 80", "th dport 22"]
WHOM = [
    "", "", "ip saddr N.10", "ip saddr N.66", "ip saddr != N.0/27", "ip6 saddr S:a", "ip saddr @some", "ip saddr != @some", "ip6 saddr S:/64",
    "meta nfproto ipv6", "ct state new", "ct state established,related", "iif lo", "iifname eth0", "ip daddr N.1", "ip saddr { N.11, N.64/26 }", "meta l4proto tcp",
]


def rule(targets: list[str], family: str = "inet") -> str:
    """One rule; jumps go only to the chains given."""
    who = [w for w in WHOM if family == "inet" or not w or w.startswith(("ct", "iif", "meta l4")) or w.startswith(f"{family} ") and "@" not in w]
    ways = WHAT + [f"{how} {target}{', 80 : drop }' * ('vmap' in how)}" for how in ("jump", "goto", "tcp dport vmap { 22 : jump") for target in targets]
    return f"{chance.choice(who)} {chance.choice(PORTS)} {chance.choice(ways)}".strip()


OPTIONS = [
    "", "", "-s N.10", "-s N.66", "! -s N.0/27", "-s S:a", "-s S:/64", "-m conntrack --ctstate NEW", "-m conntrack --ctstate RELATED,ESTABLISHED", "-i lo", "-i eth0", "-i eth+",
    "-d N.1", "-s N.64/26", "-m conntrack ! --ctstate INVALID", "-m limit --limit 100/s", "-m addrtype --dst-type LOCAL", "! -f",
]  # fmt: skip
TO = ["", "-p tcp -m tcp --dport 22", "-p tcp -m multiport --dports 20:22,80", "-p tcp -m tcp --dport 80", "-p tcp", "-p tcp -m tcp --dport 22 --syn", "-p udp -m udp --dport 22"]


def finding(word: str) -> list[str]:
    """Rules about single kinds of ICMPv6, now and then: finding a neighbour needs two of them."""
    kinds = [f"-A INPUT -p ipv6-icmp -m icmp6 --icmpv6-type {kind} -j {chance.choice(('ACCEPT', 'DROP'))}" for kind in (128, 135, 136)]
    return [kind for kind in kinds if word == "ip6tables" and chance.random() < 0.3]


def older(word: str) -> str:
    """Rules in three chains of one family, as iptables-restore takes them."""
    lines = ["*filter", f":INPUT {chance.choice(('ACCEPT', 'DROP'))} [0:0]", ":SIDE - [0:0]", ":deep - [0:0]", *finding(word), *["-A INPUT -p ipv6-icmp -j ACCEPT"] * (word == "ip6tables")]
    for chain, targets in {"INPUT": ["SIDE", "deep"], "SIDE": ["deep"], "deep": []}.items():
        for _ in range(chance.randint(0, 5)):
            who = [w for w in OPTIONS if ("S:" not in w if word == "iptables" else "N." not in w and w != "! -f")]
            ends = ["-j ACCEPT", "-j DROP", "-j REJECT", "-j RETURN", "-j LOG --log-prefix x", "", *(f"{how} {target}" for how in ("-j", "-g") for target in targets)]
            lines.append(f"-A {chain} {chance.choice(TO)} {chance.choice(who)} {chance.choice(ends)}")
    return "\n".join([*lines, "COMMIT\n"])


def newer() -> str:
    """A table for both families with chains that jump, and one of one family, as nft takes them."""
    lines = [f"set some {{ type ipv4_addr; flags interval; elements = {{ N.{chance.choice((0, 8, 64))}/29 }}; }}"]
    for name, targets in {"deep": [], "side": ["deep"], "one": ["side", "deep"], "two": ["side"]}.items():
        base = BASES.get(name, "") + (f"{chance.choice(('accept', 'drop'))};" if name == "two" else "")
        lines.append("\n".join([f"chain {name} {{ {base}", *(["icmpv6 type nd-neighbor-" + chance.choice(("solicit", "advert")) + " drop"] * (name in BASES and chance.random() < 0.2)), *["meta l4proto ipv6-icmp accept"] * (name in BASES and chance.random() < 0.8), *(rule(targets) for _ in range(chance.randint(0, 5))), "}"]))
    family, policy = chance.choice(("ip", "ip6")), chance.choice(("accept", "drop"))
    lines += ["}", f"table {family} gate {{ chain three {{ type filter hook input priority 5; policy {policy};", *["meta l4proto ipv6-icmp accept"] * (family == "ip6"), *(rule([], family) for _ in range(chance.randint(0, 4))), "}"]
    return "\n".join(["flush ruleset", "table inet sweep {", *lines, "}\n"])


def put(tool: str, rules: str) -> None:
    """Have a tool of the host load rules."""
    host.shell(f"{tool} <<'END'\n{rules.replace('N.', f'{host.network}.').replace('S:', f'{host.network6}:')}END\n")


NONE = "*filter\n:INPUT ACCEPT [0:0]\nCOMMIT\n"
with tempfile.TemporaryDirectory() as folder:
    (host := Scripts("plain", 9, "ssh-keygen -A >/dev/null", "/usr/sbin/sshd; busybox httpd -p 80 -h /srv", Path(folder))).up()
    places = [host.at(who) for who in (TECHNICIAN, OFFICE, STATION, STRANGER)] + [f"{host.network6}:{who:x}" for who in (TECHNICIAN, STRANGER)]
    asked = sure = wrong = 0
    for at in range(many):
        loaded = {"nft -f -": newer()} if at % 3 == 0 else {f"{p}-{at % 3 == 1 and 'nft' or 'legacy'}-restore": older(p) for p in ("iptables", "ip6tables")}
        for p in ("iptables", "ip6tables"):
            put(f"{p}-legacy-restore", NONE)
        put("nft -f -", "flush ruleset\n")
        for tool, rules in loaded.items():
            put(tool, rules)
        hidden = "nft() { return 1; }; " if at % 3 and chance.random() < 0.5 else ""
        told = []
        for ask in ASKS:
            text, _, below = host.shell(hidden + library().sections[ask.name].text).partition("\njson\n")
            told.append(Replies(text, json.loads(below) if below.strip() else None))
        plane = merge(FAMILY, [part for ask, replies in zip(ASKS, told, strict=True) for part in extract(FAMILY, ask, replies)]).plane
        # tables of nft that nobody showed are not there: what else is sure is looked at all the same
        plane = put_in(plane, ("packet_filter", "unseen"), ABSENT) if hidden else plane
        for source, port in [(source, port) for source in places for port in (22, 80)]:
            found = through(plane, At("tcp", port, target := f"{host.network6}:1" if ":" in source else host.address, "eth0"))
            said = source in found.surely_in or (None if source in found.let_in else False)
            asked, sure = asked + 1, sure + (said is not None)
            if said is not None and said != connects(source, target, port):
                wrong += print(f"WRONG: {source} to {port}: said {said}\n{loaded}\n{hidden}") is None
    print(f"{many} lists: {asked} asked, {sure} sure, {wrong} wrong")
    sys.exit(host.down() or bool(wrong))
