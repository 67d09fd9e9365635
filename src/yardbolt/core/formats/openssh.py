"""OpenSSH: effective server settings as `sshd -T` prints them (sshd_config(5)), and authorized keys (sshd(8))."""

from __future__ import annotations

import base64
import binascii
import hashlib

from ..plane.kinds import ABSENT, NEVER
from .decoder import Decoded, Decoder, Pairs, of_text

_SSH = ("services", "ssh")
_ROOT = {
    "yes": "yes",
    "no": "no",
    "without-password": "keys",
    "prohibit-password": "keys",
    "forced-commands-only": "keys",
}
_YES_NO = {"passwordauthentication": "password_login", "permitemptypasswords": "blank_login"}
_LISTS = {"hostkeyalgorithms": "key_types", "kexalgorithms": "exchanges", "ciphers": "ciphers", "macs": "macs"}


def _number(text: str) -> int | None:
    return int(text) if text.isascii() and text.isdigit() and len(text) < 10 else None


def decode_settings(reply: str, key: str = "") -> Decoded:
    """`keyword value` lines. A limit of 0 on ClientAliveInterval means that idle sessions never end."""
    facts: Pairs = [(_SSH, True), ((*_SSH, "enabled"), True), ((*_SSH, "encrypted"), True)]
    left: list[str] = []
    seen: dict[str, list[str]] = {}
    for line in reply.splitlines():
        word, _, value = line.strip().partition(" ")
        if not word:
            continue
        if not word.isascii() or not word.isalnum() or (not value and word not in ("banner",)):
            left.append(line)
            continue
        seen.setdefault(word.lower(), []).append(value.strip())
    if "port" not in seen or "permitrootlogin" not in seen:
        return Decoded((), (*left[:20], "the reply is not what sshd -T prints"))
    if (port := _number(seen["port"][0])) is not None:
        facts.append(((*_SSH, "port"), port))
    facts.append(((*_SSH, "root_login"), _ROOT.get(seen["permitrootlogin"][0])))
    facts += [
        ((*_SSH, leaf), {"yes": True, "no": False}.get(seen[word][0])) for word, leaf in _YES_NO.items() if word in seen
    ]
    facts += [((*_SSH, leaf), tuple(sorted(seen[word][0].split(",")))) for word, leaf in _LISTS.items() if word in seen]
    facts.append(((*_SSH, "tries"), _number(seen.get("maxauthtries", [""])[0])))
    grace = _number(seen.get("logingracetime", [""])[0])
    facts.append(((*_SSH, "grace"), None if grace is None else NEVER if grace == 0 else float(grace)))
    # keep-alives end dead connections only; an idle but live client stays unless ChannelTimeout ends it (sshd_config(5))
    facts.append(((*_SSH, "idle"), _channel_timeout(seen.get("channeltimeout", []))))
    allowed = [v for line in seen.get("allowusers", []) for v in line.split()]
    facts.append(
        (
            (*_SSH, "accounts"),
            tuple(sorted(allowed)) if allowed else None if "allowgroups" in seen or "denyusers" in seen else ABSENT,
        )
    )
    banner = seen.get("banner", ["none"])[0]
    facts.append((("banner",), ABSENT if banner in ("none", "") else None))
    return Decoded(tuple((p, v) for p, v in facts if v is not None), tuple(left[:20]))


def _channel_timeout(values: list[str]) -> float:
    for entry in (e for v in values for e in v.split()):
        kind, _, length = entry.partition("=")
        if kind in ("session", "session:shell", "*", "global") and length.isdigit() and int(length):
            return float(length)
    return NEVER


def decode_keys(reply: str, key: str = "") -> Decoded:
    """Authorized keys of account `key` as SHA-256 fingerprints; options before the key type are allowed, comments are
    dropped."""
    prints: list[str] = []
    left: list[str] = []
    for line in reply.splitlines():
        words = line.split()
        if not words or words[0].startswith("#"):
            continue
        at = next((i for i, w in enumerate(words) if w.startswith(("ssh-", "ecdsa-", "sk-"))), -1)
        try:
            blob = base64.b64decode(words[at + 1], validate=True) if at >= 0 and at + 1 < len(words) else b""
        except (binascii.Error, ValueError):
            blob = b""
        if blob:
            prints.append("SHA256:" + base64.b64encode(hashlib.sha256(blob).digest()).decode().rstrip("="))
        else:
            left.append("a line that is no key")
    return Decoded(((("accounts", key, "keys"), tuple(sorted(prints))),) if not left else (), tuple(left[:20]))


_FEEDS = (
    "root_login",
    "password_login",
    "blank_login",
    "key_types",
    "exchanges",
    "ciphers",
    "macs",
    "tries",
    "grace",
    "idle",
    "accounts",
    "port",
    "enabled",
    "encrypted",
)
DECODERS = (
    Decoder(
        "openssh-settings",
        "sshd_config(5)",
        of_text(decode_settings),
        frozenset({("services", "*"), ("banner",), *(("services", "*", x) for x in _FEEDS)}),
    ),
    Decoder("openssh-keys", "sshd(8)", of_text(decode_keys), frozenset({("accounts", "*", "keys")})),
)
