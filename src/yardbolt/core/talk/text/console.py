"""Talking to a console line by line: a prompt, commands, questions, pages. One event: `Turn` -> `Heard`.

A sign counts only as the whole last line and only after silence. A gate (licence terms, a forced password) is an
outcome and is never passed by itself. Nothing here reads a clock or a socket.
"""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass, field, replace
from itertools import takewhile
from typing import Any

from ...errors import Trouble, UnitError, clean
from ...secret import Ref, Slot, Text
from ..conversation import ADDED, ANSWER, TAKEN, Asking, Fetch, Fill, Order, Replies, Talk, Telling
from ..outcomes import Asked, Cut, Done, End, Ended, Locked, Login, Lost, No, NotReady, Opened, Refused, Silent, Unclear
from ..patterns import fill_in, sign, slot_key, slots
from ..replies import LONGEST_REASON, reason, row_for
from ..replies import Heard as Told
from ..rowsets import holds
from .consolechannel import AskHow, Block, Channel, Gate, OpHow, Prompt

MOST = 1024 * 1024  # characters of one answer
LONGEST_LINE = 16 * 1024
SETTLE = 0.05  # seconds of silence after which a sign on the last line is believed
SHORTEST = 0.004  # the same, where echo and the whole usual prompt came back
GREET = 12.0
MOST_QUESTIONS = 40


# ---- its event -----------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Turn:
    """Send this (a line, unless `line` is false), then wait for one of these signs: silence of `settle` seconds,
    `seconds` in all."""

    send: Text | None
    until: tuple[str, ...]
    settle: float = SETTLE
    seconds: float = ANSWER
    line: bool = True


@dataclass(frozen=True)
class Heard:
    """Which sign ended the turn, and the clean text before that sign."""

    sign: str
    text: str


@dataclass
class Listener:
    """Gathers what a unit says during one turn, and tells when a sign stands alone on the last line.

    `usual` is the very prompt that ended the turn before on this session.
    """

    turn: Turn
    usual: str = ""
    raw: str = ""
    last: str = field(default="", init=False)

    def feed(self, chunk: str) -> None:
        """Take more text. Raises UnitError beyond the limits."""
        self.raw += chunk
        if len(self.raw) > MOST:
            raise UnitError(Trouble.TOO_MUCH, f"the unit sent more than {MOST // 1024} KiB in one answer")
        if len(chunk) > 64 and "\n" not in self.raw[-LONGEST_LINE:] and len(self.raw) > LONGEST_LINE:
            raise UnitError(Trouble.TOO_MUCH, f"the unit sent a line longer than {LONGEST_LINE // 1024} KiB")

    def patience(self, round_trip: float) -> float:
        """How long it must be silent, in seconds, before a sign is believed.

        The full settling time guards against a prompt inside a reply. Where our own line came back as echo and the
        last line is the very prompt of the turn before, half a round trip of this session is enough: nothing else is
        on its way then.
        """
        sent = "".join(part if isinstance(part, str) else "\0" for part in self.turn.send or ()).strip()
        if not self.usual or not sent or not self.turn.line:
            return self.turn.settle
        # a sign without a place in it (a pager's) is as good as the very prompt
        ends = [self.usual, *(text for text in self.turn.until if "{" not in text)]
        end = next((one for one in ends if self.raw.endswith(one)), "")
        whole = bool(end) and sent in self.raw[: -len(end)]
        return min(self.turn.settle, max(SHORTEST, round_trip / 2)) if whole else self.turn.settle

    def decide(self) -> Heard | None:
        """It is quiet: does a sign stand alone on the last line?"""
        head, _, self.last = clean(self.raw).rpartition("\n")
        for text in self.turn.until:
            if sign(text).regex.match(self.last):
                return Heard(text, head)
        return None

    def lost(self, end: End) -> Lost:
        """The turn ended without a sign."""
        return Lost(end, clean(self.raw))


# ---- its conversations ---------------------------------------------------------------------------------------------


def login(
    channel: Channel, account: str, secret: Ref, authenticated: bool, consents: Fill
) -> Generator[Turn, Heard | Lost, Login]:
    """Log in; name and secret are typed unless the wire has given them. A gate without consent ends it as `Asked`."""
    gates = {gate.sign: gate for gate in channel.gates}
    signs = tuple(s for s in (channel.prompt, channel.account, channel.secret, channel.more, *gates) if s)
    said, passed = "", set[str]()
    # where the wire has logged in, being asked again is a refusal and not a first question
    name_sent = secret_sent = authenticated
    heard = yield Turn(None, signs, seconds=GREET)
    for _ in range(MOST_QUESTIONS):
        # what the unit said is evidence; a flood of it is not
        said = f"{said}\n{heard.text}"[-4000:]
        if isinstance(heard, Lost):
            return _lost(channel, heard, said, secret_sent)
        if heard.sign == channel.prompt:
            return Opened(said)
        if heard.sign == channel.account and not name_sent:
            name_sent = True
            heard = yield Turn((account,), signs, seconds=GREET)
        elif heard.sign == channel.secret and not secret_sent:
            secret_sent = True
            heard = yield Turn((Slot(secret),), signs, seconds=GREET)
        elif heard.sign in (channel.account, channel.secret):
            return _turned_away(channel, heard.text)  # asked again for what was given
        elif heard.sign == channel.more:
            heard = yield Turn((channel.turn,), signs, line=False)
        else:
            gate = gates[heard.sign].gate
            answer = consents.get(gate)
            if answer is None or gate in passed:
                return Asked(gate, heard.text if gate in passed else said)
            # a gate answered once and met again means that the answer was not taken
            passed.add(gate)
            heard = yield Turn(answer, signs)
    return Silent(secret_sent, "the unit keeps asking")


def _turned_away(channel: Channel, said: str) -> Login:
    found = row_for(channel.replies, Told(said), "locked", "not ready")
    if found is None:
        return Refused(said)
    return Locked(said) if found.means == "locked" else NotReady(said)


def _lost(channel: Channel, lost: Lost, said: str, secret_sent: bool) -> Login:
    """A connection that ended counts as a refusal only where the unit said so."""
    if secret_sent and row_for(channel.replies, Told(said), "refused", "locked", "not ready"):
        return _turned_away(channel, said)
    return Cut(secret_sent, said) if lost.end is End.CLOSED else Silent(secret_sent, said)


def message(how: AskHow | OpHow, fill: Fill) -> tuple[Text, tuple[tuple[str, Text], ...]]:
    """What is typed, and the answers to what may be asked. Raises ValueError where a slot stays open.

    A question for the present secret is left out where that is not known: a unit that asks it all the same is answered
    nothing.
    """
    own, common = (how.prompts, how.passwords) if isinstance(how, OpHow) else ((), ())
    prompts = [
        (prompt.sign, fill_in(prompt.send, fill))
        for prompt in own
        if all(name != "old" or slot_key(name, notation) in fill for name, notation in slots(prompt.send))
    ]
    # a question for a password is answered where there is one to give, and with nothing else
    asked = {prompt.sign for prompt in own}
    for prompt in common:
        if prompt.sign not in asked and all(_secret(fill.get(slot_key(*one))) for one in slots(prompt.send)):
            prompts.append((prompt.sign, fill_in(prompt.send, fill)))
    for line in (*how.place.into, how.place.out) if how.place else ():
        fill_in(line, fill)
    if how.lines() is not None:
        return tuple(part for line in _lines(fill, "") for part in line), tuple(prompts)
    return fill_in(how.say, fill), tuple(prompts)


def _lines(fill: Fill, source: str) -> list[Text]:
    """The lines that add and take away things of a set: what is new first, and of that the laptop's own address;
    then what goes, the laptop's own last."""

    def ours(key: str) -> bool:
        return holds((key[1:],), source)

    added = sorted((key for key in fill if key.startswith(ADDED)), key=lambda key: (not ours(key), key))
    taken = sorted((key for key in fill if key.startswith(TAKEN)), key=lambda key: (ours(key), key))
    return [fill[key] for key in (*added, *taken)]


def _secret(text: Text | None) -> bool:
    return text is not None and any(isinstance(part, Slot) for part in text)


def _unechoed(text: str, sent: str, whole: bool) -> tuple[str, bool]:
    """The text after the echo of what was sent, and whether that echo was there. Where a secret stands in it (`whole`
    is false), what comes before the secret is looked for."""
    lines = text.split("\n")
    # the echo may stand behind what was left on the line
    for place, line in enumerate(lines):
        if sent and (line.rstrip().endswith(sent.rstrip()) if whole else sent.rstrip() in line):
            return "\n".join(lines[place + 1 :]), True
    return text, not sent


def _converse(
    channel: Channel, say: Text, prompts: tuple[tuple[str, Text], ...], seconds: float
) -> Generator[Turn, Heard | Lost, Done[Replies] | No | Unclear | Ended]:
    """Send one command, answer the questions it is known to ask, turn its pages, and return the reply.

    A question asked twice is a no. If the echo of the command did not come back, an empty line settles whether the
    prompt heard was the real one.
    """
    answers = dict(prompts)
    inside = channel.prompts()
    signs = (*inside, *answers, *((channel.more,) if channel.more else ()))
    whole = not any(isinstance(part, Slot) for part in say)
    sent = "".join(part for part in takewhile(lambda part: isinstance(part, str), say) if isinstance(part, str))
    text, asked, doubted = "", set[str](), False
    heard = yield Turn(say, signs, seconds=seconds)
    while True:
        text = f"{text}\n{heard.text}" if text else heard.text
        if isinstance(heard, Lost):
            return _unheard(heard, seconds)
        if len(text) > MOST:
            return Unclear(f"the unit sent more than {MOST // 1024} KiB in one answer")
        if heard.sign in inside:
            body, echoed = _unechoed(text, sent, whole)
            body = channel.bare(body)
            if echoed or doubted:
                found = row_for(channel.replies, Told(body), "no")
                return No(reason(found, Told(body))) if found else Done(Replies(body))
            # late output of the command before may have ended in a prompt
            doubted = True
            heard = yield Turn((), signs, settle=SETTLE * 4, seconds=seconds)
        elif heard.sign == channel.more:
            heard = yield Turn((channel.turn,), signs, line=False, seconds=seconds)
        # answering the same question again would be guessing what the unit did not like
        elif heard.sign in asked:
            said = text.strip().rsplit("\n", 1)[-1][:LONGEST_REASON]
            return No(said or "asked the same question again", alive=False)
        else:
            asked.add(heard.sign)
            heard = yield Turn(answers[heard.sign], signs, seconds=seconds)


def _unheard(lost: Lost, seconds: float) -> Unclear | Ended:
    match lost.end:
        case End.CLOSED:
            return Ended(sent=True)
        case End.SILENT:
            return Unclear(f"no answer within {seconds:.0f} s")
        case End.TOO_MUCH:
            return Unclear(lost.why or f"the unit sent more than {MOST // 1024} KiB in one answer")


def _in_block(
    channel: Channel, how: AskHow, fill: Fill, seconds: float, source: str = ""
) -> Generator[Turn, Heard | Lost, Done[Replies] | No | Unclear | Ended]:
    """Say something in its block, where it has one: go in, say it, and go out again, also after a no. A no ends it."""
    say, prompts = message(how, fill)
    before = [fill_in(line, fill) for line in how.place.into] if how.place is not None else []
    says = [say] if how.lines() is None else _lines(fill, source)
    got: Done[Replies] | No | Unclear | Ended = Done(Replies())
    for number, line in enumerate((*before, *says)):
        got = yield from _converse(channel, line, prompts if number >= len(before) else (), seconds)
        if isinstance(got, Unclear | Ended) or (isinstance(got, No) and not got.alive):
            return got
        if isinstance(got, No) and number < len(before):
            got = replace(got, sent=False)
            if not number:
                return got
        if isinstance(got, No):
            break
    if how.place is None:
        return got
    out = yield from _converse(channel, fill_in(how.place.out, fill), (), seconds)
    if isinstance(out, Done):
        return got
    # going out may put the change in force, and be refused; nobody types on inside a block that does not end
    return replace(got if isinstance(got, No) else out, alive=False) if isinstance(out, No) else out


def ask(channel: Channel, fetch: Fetch, session: Any) -> Asking:
    """Ask one thing."""
    return (yield from _in_block(channel, fetch.how, fetch.fill, fetch.seconds))


def tell(channel: Channel, order: Order, session: Any) -> Telling:
    """Change one thing."""
    return (yield from _in_block(channel, order.how, order.fill, order.seconds, order.source))


def log_out(channel: Channel) -> Generator[Turn, Heard | Lost, None]:
    """Log out where the family knows how, for closing a window is not logging out."""
    if channel.log_out:
        yield Turn((channel.log_out,), (), seconds=1.0)


WIRES = {"ssh": "ssh:SshConsole", "telnet": "telnet:TelnetConsole"}
TALK = Talk("console", WIRES, Channel, AskHow, OpHow, message, login, ask, tell, log_out)

__all__ = ["TALK", "AskHow", "Block", "Channel", "Gate", "Heard", "OpHow", "Prompt", "Turn"]
