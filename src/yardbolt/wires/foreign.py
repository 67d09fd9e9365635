"""What the errors of the libraries under the wires mean, in words."""

from __future__ import annotations

from yardbolt.core.errors import in_words

# httpx and httpcore, ssl, asyncssh, pysnmp
_MEANING = {
    "TimeoutException": "no answer in time",
    "NetworkError": "the connection was cut",
    "ProtocolError": "what it sends breaks the protocol",
    "DecodingError": "what it sends cannot be unpacked",
    "SSLCertVerificationError": "its certificate is not valid",
    "SSLError": "no TLS was agreed on",
    "ConnectionLost": "the connection was cut",
    "KeyExchangeFailed": "no encryption was agreed on",
    "HostKeyNotVerifiable": "its host key is not valid",
    "ChannelOpenError": "it opens no channel",
    "KeyImportError": "not in the form of a key",
    "PySnmpError": "what it sends is no SNMP",
}


def meaning(error: BaseException) -> str:
    """What an error of a library means."""
    return in_words(error, _MEANING)
