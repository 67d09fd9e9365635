"""Public keys of SSH (RFC 4253, section 6.6) and their SHA-256 fingerprints."""

from __future__ import annotations

import base64
import binascii
import hashlib

KINDS = ("ssh-", "ecdsa-", "sk-")


def fingerprint(words: list[str]) -> str:
    """The SHA-256 fingerprint of a key, its type first and then its body; empty where it is none."""
    try:
        blob = base64.b64decode(words[1], validate=True) if len(words) > 1 and words[0].startswith(KINDS) else b""
    except (binascii.Error, ValueError):
        return ""
    return "SHA256:" + base64.b64encode(hashlib.sha256(blob).digest()).decode().rstrip("=") if blob else ""


def public_key(words: list[str]) -> str:
    """The fingerprint of a public key whose body names its own type (RFC 4253, section 6.6); empty where it is none."""
    kind = words[0].encode() if words else b""
    try:
        blob = base64.b64decode(words[1], validate=True) if len(words) > 1 else b""
    except (binascii.Error, ValueError):
        return ""
    return (
        fingerprint(words) if blob[4 : 4 + len(kind)] == kind and int.from_bytes(blob[:4], "big") == len(kind) else ""
    )
