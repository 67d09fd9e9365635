"""The secrets in hand for one unit."""

from __future__ import annotations

from dataclasses import dataclass, field

from yardbolt.core.credentials import BY_KEY, Credential, Key, Password
from yardbolt.core.ports import Safe
from yardbolt.core.secret import PUBLIC, Ref, Secret

from .facts import Facts

TYPED = Ref("typed:password")


@dataclass
class Held:
    """Every secret the work on one unit may use: published, typed, a key file, or from the safe. `keep`: a typed
    password that opens the unit is kept in the safe."""

    facts: Facts
    safe: Safe | None = None
    typed: dict[Ref, Secret] = field(default_factory=dict)
    key: Key | None = None
    keep: bool = False

    def secret(self, ref: Ref) -> Secret | None:
        """The value behind a reference: published, typed in, or from the safe."""
        if ref.entry.startswith(PUBLIC):
            known = dict(pair for own in self.facts.job.accounts for pair in own.public)
            return Secret(known.get(ref.entry.removeprefix(PUBLIC), ""))
        if published := self.facts.family.login(ref):
            return Secret(published.secret)
        # a blank password is one too; a key file is none, but what sudo asks for may stand beside it
        if ref == BY_KEY:
            return self.typed.get(ref) or None
        if ref in self.typed:
            return self.typed[ref]
        return self.safe.value(ref) if self.safe else None

    def credential(self, ref: Ref) -> Credential:
        """The credential that stands under this name in the record."""
        return self.key if ref == BY_KEY and self.key is not None else Password(ref)

    def scrub(self, text: str) -> str:
        """A text of the unit without any secret of the job; published logins are not scrubbed."""
        refs = self.safe.entries() if self.safe else ()
        published = {one.secret for one in self.facts.family.factory.logins}
        known = [value.reveal() for ref in refs if self.safe and (value := self.safe.value(ref))]
        hidden = [characters for characters in known if characters not in published]
        hidden += [typed.reveal() for typed in self.typed.values()]
        # the longest first: one value may be the beginning of another; shorter than four would blot out everything
        for characters in sorted((one for one in hidden if len(one) >= 4), key=len, reverse=True):
            text = text.replace(characters, "•••")
        return text
