"""TLS as it is spoken to units, for which no authority vouches."""

from __future__ import annotations

import ssl
import warnings


def plain_context(outdated: bool) -> ssl.SSLContext:
    """What a TLS connection is made with that trusts nobody; `outdated` takes what RFC 8996 has put away."""
    made = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    made.check_hostname, made.verify_mode = False, ssl.CERT_NONE
    if outdated:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", DeprecationWarning)
            made.minimum_version = ssl.TLSVersion.TLSv1
        made.set_ciphers("ALL:@SECLEVEL=0")
    return made
