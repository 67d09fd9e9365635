"""Logging in and nothing more, at a service of which only its protocol is known: is this login good there?

Basic and Digest (RFC 7617, RFC 7616), file transfer (RFC 959) and SSH answer that by themselves; at a terminal (RFC
854) the words of the unit have to be read, and what they do not surely say is silence."""

from __future__ import annotations

from collections.abc import Generator, Mapping
from dataclasses import dataclass, field, replace
from typing import Literal

from ..secret import Ref, Slot, Text
from .conversation import Asking, Fill, Talk, Unprompted
from .outcomes import Asked, Cut, End, Locked, Login, Lost, Opened, Refused, Silent, Unclear
from .replies import ReplyRow
from .text.console import GREET, SETTLE, Heard, Turn

SERVICES: Mapping[str, Literal["sealed", "plain"]] = {
    "ssh": "sealed", "https": "sealed", "http": "plain", "telnet": "plain", "ftp": "plain",
}  # fmt: skip
NEVER_SENDS = frozenset({"snmp"})  # a user of it proves that it has its secret (RFC 3414)
NAME, SECRET, INSIDE = "name", "secret", "inside"
# What most show, so that most are answered at once; whatever else stands last on the screen is read after a silence.
USUAL = (
    "login: ",
    "{any} login: ",
    "Login: ",
    "login:",
    "Username: ",
    "Username:",
    "User: ",
    "Password: ",
    "Password:",
    "password: ",
)
PROMPT, PATIENCE = 1.5, 6.0  # seconds: until what is no usual prompt is looked at; a refusal is held back on purpose
NEW = (
    "new password",
    "change your password",
    "password expired",
    "password has expired",
    "password change required",
    "must change",
)
SHUT = ("locked", "too many")
SETTING = (
    "new",
    "create",
    "choose",
    "set ",
    "enter a ",
    "confirm",
    "again",
    "retype",
    "repeat",
    "host",
    "first",
    "change",
)
NO = ("incorrect", "denied", "fail", "invalid", "wrong", "not allowed", "refused", "bad ")


@dataclass(frozen=True)
class Channel(Unprompted):
    """No block of a family file: nothing is known of the make."""

    services: Mapping[str, Literal["sealed", "plain"]] = field(default_factory=lambda: SERVICES)
    replies: tuple[ReplyRow, ...] = ()
    talk: Literal["logon"] = "logon"


def login(
    channel: Channel, account: str, secret: Ref, authenticated: bool, consents: Fill
) -> Generator[Turn, Heard | Lost, Login]:
    """Log in where the wire has not done so. Inside is only what shows the same prompt twice."""
    if authenticated:
        return Opened()
    heard = yield Turn(None, USUAL, seconds=GREET / 2)
    said, sent = "", set[str]()
    for _ in range(4):
        text = all_of(heard)
        said = f"{said}\n{text}"[-4000:]
        ended = isinstance(heard, Lost) and not waits(heard)
        asked = None if ended else _asked(text)
        if SECRET in sent and (asked in (NAME, SECRET) or ended or says(text, *NEW, *SHUT, *NO)):
            return _answered(text, ended)
        if ended:
            return Cut(False, said)
        if asked == INSIDE:
            return (yield from _inside(text, said, bool(sent)))
        if asked is None or asked in sent:
            break
        sent.add(asked)
        typed = account if asked == NAME else Slot(secret)
        heard = yield Turn((typed,), USUAL, seconds=PROMPT)
        if waits(heard) and _asked(all_of(heard)) != INSIDE:
            more = yield Turn(None, USUAL, seconds=PATIENCE)
            heard = replace(more, text=f"{heard.text}{more.text}")
    return Silent(SECRET in sent, said)


def _inside(text: str, said: str, asked: bool) -> Generator[Turn, Heard | Lost, Login]:
    """It looks like a prompt of commands; one that stands there again after an empty line is one."""
    # where a name alone leads in, there is no password; where nothing was asked, nothing is typed
    if not asked:
        return Silent(False, "it shows a prompt before any login")
    again = yield Turn((), USUAL, settle=SETTLE * 4, seconds=PROMPT)
    same = _asked(all_of(again)) == INSIDE and last_line(all_of(again)) == last_line(text)
    return Opened(said) if same else Silent(True, said)


def _answered(text: str, ended: bool) -> Login:
    """What came after the password, where it was no way in."""
    if says(text, *NEW):
        return Asked("change", text)
    if says(text, *SHUT):
        return Locked(text)
    return Cut(True, text) if ended and not says(text, *NO) else Refused(text)


def waits(heard: Heard | Lost) -> bool:
    """Did the time end it, and not the unit?"""
    return isinstance(heard, Lost) and heard.end is End.SILENT


def all_of(heard: Heard | Lost) -> str:
    """All that was heard, its sign included."""
    return heard.text if isinstance(heard, Lost) else f"{heard.text}\n{heard.sign.removeprefix('{any} ')}"


def last_line(text: str) -> str:
    """What stands last on the screen."""
    return text.rstrip("\n").rpartition("\n")[2].strip()


def _asked(text: str) -> str | None:
    """What the last line asks for."""
    last = last_line(text).lower()
    # what asks for something to be set is no login, and an answer would be a write
    if last.endswith((":", ">", "?")) and not says(last, *SETTING):
        if says(last, "password", "passcode", "passwd"):
            return SECRET
        if says(last, "login", "logon", "user"):
            return NAME
    return INSIDE if last.endswith(("#", "$", ">", "%", "]")) else None


def says(text: str, *words: str) -> bool:
    """Does it hold one of these, in whatever letters?"""
    return any(word in text.lower() for word in words)


def log_out(channel: Channel) -> Generator[Turn, Heard | Lost, None]:
    """The connection is ended."""
    yield from ()


@dataclass(frozen=True)
class Nothing(Unprompted):
    """There is nothing to ask here, and nothing to order."""


def _message(how: Nothing, fill: Fill) -> Text:
    return ()


def _only_logins(channel: Channel, what: object, session: object) -> Asking:
    yield from ()
    return Unclear("one can only log in here")


WIRES = {
    "ssh": "ssh:SshCommands",
    "telnet": "telnet:TelnetConsole",
    "ftp": "ftp:FtpLogin",
    "http": "http:WebLogin",
    "https": "http:WebLogin",
    "snmp": "snmp:SnmpUser",
    "snmp-unsealed": "snmp:SnmpUser",
    "snmp-community": "snmp:SnmpUser",
}
TALK = Talk("logon", WIRES, Channel, Nothing, Nothing, _message, login, _only_logins, _only_logins, log_out)
