"""The section `filter`: what nft lists, and what iptables saves where nft does not show it."""

from __future__ import annotations

from collections.abc import Mapping

from ...plane.kinds import ABSENT
from ...talk.conversation import Replies
from . import iptables
from .decoder import Decoded, Decoder, Pairs
from .filtering import CHAINS, FEEDS, WHOLE
from .nftables import decode_ruleset
from .tagged import tagged

_UNSEEN = ("packet_filter", "unseen")
# tag: address family, and whether it is of the older filter
_SAVED = {"4": ("ip", False), "6": ("ip6", False), "o4": ("ip", True), "o6": ("ip6", True)}
_NUMBERS = {"1": "inet", "2": "ip", "5": "netdev", "7": "bridge", "10": "ip6"}  # NFPROTO_* of linux/netfilter.h
_WORDS = {"4": "IPv4", "6": "IPv6", "ip": "IPv4", "ip6": "IPv6"}


def decode_filter(replies: Replies, key: str = "") -> Decoded:
    """What anything on the host blocks; a table nobody shows is *unseen*, a family nobody shows is left over."""
    seen, strange = tagged(replies.text, "older read no nft sets " + " ".join(_SAVED))
    left = [*strange]
    listed = decode_ruleset(replies.tree) if replies.tree is not None else Decoded(())
    left += listed.leftovers
    shown = [tag for tag in _SAVED if tag in seen.get("read", []) and (replies.tree is None or tag[0] == "o")]
    every = [iptables.saved(seen.get(tag, []), *_SAVED[tag]) for tag in shown]
    older = [line.strip().partition(" ") for line in seen.get("older", [])]
    unseen = {f"{table} ({_WORDS.get(to, to)})" for to, _, table in older if f"o{to}" not in shown}
    families = {"ip"} if "ipv6" in seen.get("no", []) else {"ip", "ip6"}
    if replies.tree is None:
        lacks = families - {one.family for one in every}
        left += [f"neither nft nor iptables shows what is blocked by {_WORDS[family]}" for family in sorted(lacks)]
        # a list of theirs with nothing in it matches nobody; where no program works, that is not known
        listed = Decoded(() if lacks else ((("packet_filter", "empty_names"), "nobody"),))
        # what others put into tables of nft is shown by nft alone
        unseen |= _of_nft(seen, {one.family for one in every if not one.older})
    left += ["a line that iptables-save does not print" for one in every if one.strange]
    narrows = iptables.ours(every, frozenset(families))
    chains = sum(1 for path, _ in listed.facts if len(path) == 2 and path[0] == CHAINS)
    facts, unjudged = iptables.facts_of(every, chains)
    whole: Pairs = [*listed.facts, *facts, (_UNSEEN, tuple(sorted(unseen)) or ABSENT)]
    return Decoded(tuple(whole), (*left, *unjudged), (*listed.narrows, *narrows))


def _of_nft(seen: Mapping[str, list[str]], shown: set[str]) -> set[str]:
    """Tables of nft that iptables does not show, or not all of, as the kernel names them; it has none without that
    filter."""
    if "nftables" in seen.get("no", []):
        return set()
    if "tables" not in seen.get("read", []):
        return {"tables of nft"}
    tables, with_sets = (
        {(_NUMBERS.get(family, ""), table) for family, _, table in (line.partition(" ") for line in seen.get(tag, []))}
        for tag in ("nft", "sets")
    )
    mine = {(family, table) for family in shown for table in iptables.BUILT_IN}
    return {f"{table} ({family or 'of no known family'})" for family, table in (tables - mine) | with_sets}


DECODERS = (Decoder("packet-filter", "libnftables-json(5), iptables-save(8)", decode_filter, FEEDS | {_UNSEEN}, WHOLE),)
