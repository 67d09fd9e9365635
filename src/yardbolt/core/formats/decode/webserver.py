"""The certificates web servers are set to show (x509(1)), from the files their settings name."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime

from .decoder import Decoded, Decoder, Pairs, of_text
from .tagged import digits, tagged

_DAY = 86_400
_UNTIL = "%b %d %H:%M:%S %Y GMT"  # as x509(1) writes a moment


def decode_web(reply: str, key: str = "") -> Decoded:
    """The section `web`: each file with the names in it, how long it is valid, and whether anybody else vouches for
    it."""
    seen, strange = tagged(reply, "now file cert")
    left = [*strange]
    now = (seen.get("now") or [""])[0].strip()
    told: dict[str, dict[str, str]] = {path: {} for path in seen.get("file", [])}
    for line in seen.get("cert", []):
        path, _, rest = line.partition(" ")
        name, _, value = rest.partition("=")
        told.setdefault(path, {})[name] = value.strip()
    facts: Pairs = []
    for path, parts in told.items():
        facts += _certificate(path, parts, int(now) if digits(now) else 0)
        if "subject" not in parts:
            left.append(f"the certificate {path[:80]} could not be read")
    return Decoded(tuple(facts), tuple(left[:20]))


def _certificate(path: str, parts: Mapping[str, str], now: int) -> Pairs:
    base = ("certificates", path)
    facts: Pairs = [(base, True)]
    if "subject" in parts:
        facts.append(((*base, "subject"), parts["subject"][:120]))
    if "subject" in parts and "issuer" in parts:
        facts.append(((*base, "self_signed"), parts["subject"] == parts["issuer"]))
    try:
        ends = datetime.strptime(parts.get("notAfter", ""), _UNTIL).replace(tzinfo=UTC).timestamp()
    except ValueError:
        return facts
    return [*facts, ((*base, "days_left"), int((ends - now) // _DAY))] if now else facts


DECODERS = (
    Decoder(
        "linux-web",
        "x509(1)",
        of_text(decode_web),
        frozenset(
            {
                ("certificates",),
                ("certificates", "*"),
                *(("certificates", "*", x) for x in ("subject", "days_left", "self_signed")),
            }
        ),
    ),
)
