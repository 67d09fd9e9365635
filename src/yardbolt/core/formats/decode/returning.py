"""The timed return of a host, as its own folder shows it: is one armed, and when does it go back?"""

from __future__ import annotations

from ...plane.kinds import ABSENT, NEVER
from .decoder import Decoded, Decoder, of_text
from .tagged import digits, tagged

_PATH = ("stores", "returning")


def decode_return(reply: str, key: str = "") -> Decoded:
    """Seconds left; never, where nothing watches it any more and only the next start goes back."""
    seen, strange = tagged(reply, "armed going")
    ends = [line.split() for line in seen.get("armed", [])]
    if any(len(words) != 2 or not digits(words[0].lstrip("-")) for words in ends):
        return Decoded((), (*strange, "the timed return is armed in a way not known here"))
    if ends:
        left = [max(0.0, float(words[0])) if words[1] == "watched" else NEVER for words in ends]
        return Decoded(((_PATH, min(left)),), strange)
    return Decoded(((_PATH, 0.0 if "going" in seen else ABSENT),), strange)


DECODERS = (Decoder("timed-return", "proc(5)", of_text(decode_return), frozenset({_PATH})),)
