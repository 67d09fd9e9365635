"""What an SSH server offers before anybody logs in: the name lists of SSH_MSG_KEXINIT (RFC 4253, sections 4.2, 6 and
7.1)."""

from __future__ import annotations

import struct

NAMES = ("exchanges", "key_types", "ciphers", "ciphers_back", "macs", "macs_back")


def decode_kexinit(packet: bytes) -> dict[str, tuple[str, ...]] | None:
    """The lists of one unencrypted binary packet, or None where it is not a whole KEXINIT. Any bytes give an answer."""
    if len(packet) < 22:
        return None
    length, padding, message = struct.unpack(">IBB", packet[:6])
    if message != 20 or not 20 < length <= 35000 or len(packet) < 4 + length:
        return None
    body = packet[22 : 4 + length - padding]
    out: dict[str, tuple[str, ...]] = {}
    for name in NAMES:
        if len(body) < 4:
            return None
        (size,) = struct.unpack(">I", body[:4])
        if size > len(body) - 4:
            return None
        out[name] = tuple(w for w in body[4 : 4 + size].decode("ascii", "replace").split(",") if w)
        body = body[4 + size :]
    return {k: v for k, v in out.items() if not k.endswith("_back")}
