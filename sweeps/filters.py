"""Random packet filters, loaded into a real host, against real packets: python sweeps/filters.py [LISTS] [SEED]

Sets, maps, jumps, returns, negations, two base chains, both families; every answer that is sure must be what a connection meets.
"""

import json
import random
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.test_yard import connects
from tests.yard.hosts import OFFICE, STATION, STRANGER, TECHNICIAN, Host
from yardbolt.core.family.model import Ask, Family
from yardbolt.core.family.reading import extract, merge
from yardbolt.core.formats.sections import LIBRARY
from yardbolt.core.judge.filter import At, through
from yardbolt.core.talk.commands import AskHow
from yardbolt.core.talk.conversation import Replies

many = int(sys.argv[1]) if len(sys.argv) > 1 else 50
chance = random.Random(int(sys.argv[2]) if len(sys.argv) > 2 else 1)
FAMILY = Family("x", "x", {}, token_signs="_-.", token_longest=64)
ASK = Ask(
    "filter",
    "shell",
    AskHow("nft"),
    frozenset(),
    decode="nftables",
    whole=(("input_rules",), ("input_chains",), ("address_lists",)),
)
SECOND = Ask("families", "shell", AskHow("nft"), frozenset(), decode="filter-families")


def rule(host: Host, targets: list[str]) -> str:
    """One rule; jumps go only to the chains given."""
    four, six = host.network, host.network6
    whom = chance.choice([
        "", "", f"ip saddr {four}.{chance.choice((10, 11, 66))}", f"ip saddr != {four}.0/27", f"ip6 saddr {six}:a", "ip saddr @some", "ip saddr != @some",
        f"ip6 saddr {six}:/64", "meta nfproto ipv6", "ct state new", "ct state established,related", "iif lo", "iifname eth0", f"ip daddr {four}.1",
        f"ip saddr {{ {four}.11, {four}.64/26 }}", "meta l4proto tcp",
    ])  # fmt: skip
    what = chance.choice(
        [
            "accept",
            "drop",
            "reject with tcp reset",
            "return",
            "counter",
            *(f"jump {t}" for t in targets),
            *(f"goto {t}" for t in targets),
        ]
    )
    port = chance.choice(
        [
            "",
            "tcp dport 22",
            "tcp dport { 20-22, 80 }",
            "tcp dport 80",
            "th dport 22",
            "tcp dport != 80" if not whom else "",
        ]
    )
    if chance.random() < 0.1 and targets:
        return f"tcp dport vmap {{ 22 : jump {targets[0]}, 80 : drop }}"
    return " ".join(part for part in (whom, port, what) if part)


with tempfile.TemporaryDirectory() as folder:
    host = Host("plain", 9, "ssh-keygen -A >/dev/null", "/usr/sbin/sshd; busybox httpd -p 80 -h /srv", Path(folder))
    host.up()
    places = [host.at(who) for who in (TECHNICIAN, OFFICE, STATION, STRANGER)] + [
        f"{host.network6}:{who:x}" for who in (TECHNICIAN, STRANGER)
    ]
    wrong = sure = asked = 0
    for count in range(1, many + 1):
        chains = {"deep": [], "side": ["deep"], "one": ["side", "deep"], "two": ["side"]}
        lines = [
            f"set some {{ type ipv4_addr; flags interval; elements = {{ {host.network}.{chance.choice((0, 8, 64))}/29 }}; }}"
        ]
        for name, targets in chains.items():
            base = {
                "one": "type filter hook input priority -5; policy accept;",
                "two": f"type filter hook input priority 0; policy {chance.choice(('accept', 'drop'))};",
            }
            body = "\n".join(rule(host, targets) for _ in range(chance.randint(0, 5)))
            lines.append(f"chain {name} {{ {base.get(name, '')}\n{body}\n}}")
        text = "table inet sweep {\n" + "\n".join(lines) + "\n}\n"
        (Path(folder) / "upper" / "yard" / "f").write_text("flush ruleset\n" + text)
        host.shell("nft -f /yard/f")
        replies = Replies(tree=json.loads(host.shell("nft --json list ruleset")))
        families = Replies(host.shell(LIBRARY["filter-families"].text))
        plane = merge(FAMILY, (*extract(FAMILY, ASK, replies), *extract(FAMILY, SECOND, families))).plane
        for source in places:
            target = f"{host.network6}:1" if ":" in source else host.address
            for port in (22, 80):
                found = through(plane, At("tcp", port, target, "eth0"))
                said = True if source in found.surely_in else False if source not in found.let_in else None
                asked, sure = asked + 1, sure + (said is not None)
                if said is not None and said != connects(source, target, port):
                    wrong += 1
                    print(f"WRONG: {source} to {port}: said {said}\n{text}")
        print(f"{count} lists: {asked} asked, {sure} sure, {wrong} wrong", flush=True)
    host.down()
    sys.exit(bool(wrong))
