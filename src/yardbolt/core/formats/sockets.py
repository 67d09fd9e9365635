"""Listening sockets as `ss -H -l -n -t -u -p` lists them (ss(8))."""

from __future__ import annotations

from .decoder import Decoded, Decoder, Pairs, of_text


def decode_sockets(reply: str, key: str = "") -> Decoded:
    """One listening socket a line: transport, state, queues, local address and port, peer, and the program where the
    rights allow."""
    facts: Pairs = []
    left: list[str] = []
    for line in reply.splitlines():
        words = line.split()
        if not words:
            continue
        transport = words[0]
        address, _, port = words[4].rpartition(":") if len(words) > 5 else ("", "", "")
        if transport not in ("tcp", "udp") or not port.isdigit() or int(port) > 65535:
            left.append("a line that is no socket")
            continue
        bound = address.strip("[]").partition("%")[0].strip("[]") or "*"
        name = f"{transport} {bound} {port}"
        base = ("listening", name)
        facts += [
            (base, True),
            ((*base, "port"), int(port)),
            ((*base, "transport"), transport),
            ((*base, "address"), bound),
        ]
        who = " ".join(words[6:])
        if '(("' in who:
            facts.append(((*base, "program"), who.split('(("', 1)[1].split('"', 1)[0]))
    return Decoded(tuple(facts), tuple(left[:20]))


_FEEDS = {("listening", "*", x) for x in ("port", "transport", "address", "program")}
DECODERS = (
    Decoder(
        "sockets",
        "ss(8)",
        of_text(decode_sockets),
        frozenset({("listening",), ("listening", "*"), *_FEEDS}),
        (("listening",),),
    ),
)
