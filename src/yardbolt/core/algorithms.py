"""Which algorithms of SSH are outdated: broken, or so that they can be forced upon somebody (RFC 8758, RFC 9142)."""

from __future__ import annotations

OLD_KEYS = frozenset({"ssh-dss", "ssh-rsa"})
OLD_PARTS = ("-sha1", "group1-", "3des", "arcfour", "blowfish", "-cbc", "hmac-md5", "umac-64", "hmac-ripemd")


def outdated(name: str) -> bool:
    """Is it, by its name?"""
    return name in OLD_KEYS or any(part in name for part in OLD_PARTS)
