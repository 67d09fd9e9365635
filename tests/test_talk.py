"""What units say: dialogues, rows, decoders. Fed whole, byte by byte, with rubbish around; hostile text gives no value
and no harm."""

from __future__ import annotations

import json
import shutil
import struct
import subprocess
import time
from base64 import b64decode, b64encode
from dataclasses import replace
from datetime import UTC, datetime
from hashlib import sha256
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.bare import BOARD, FAMILY, Bare, Watch, run_on, way_by
from yardbolt.bench.lineswitch import Hand, LineSwitch
from yardbolt.core.addresses import ANYONE, FOUR, NOBODY, AddressSet
from yardbolt.core.errors import UnitError, clean
from yardbolt.core.family.bound import bind
from yardbolt.core.family.building import family_of
from yardbolt.core.family.extracting import extract
from yardbolt.core.family.parts import Fact, Whole
from yardbolt.core.family.reading import merge
from yardbolt.core.family.spelling import spelled
from yardbolt.core.formats.decode import DECODERS
from yardbolt.core.formats.kexinit import decode_kexinit
from yardbolt.core.plane.change import Drop, Make, Set
from yardbolt.core.plane.edit import get, make, put, whole
from yardbolt.core.plane.evidence import Leftover
from yardbolt.core.plane.kinds import ABSENT, NEVER
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.plane.path import Path
from yardbolt.core.secret import Ref, Slot
from yardbolt.core.talk import logon
from yardbolt.core.talk.conversation import Fetch, Order, Replies
from yardbolt.core.talk.host import commands
from yardbolt.core.talk.host.script import AS_ROOT, BEGIN, cksum, frames, script
from yardbolt.core.talk.outcomes import (
    Asked,
    Cut,
    Done,
    End,
    Ended,
    Locked,
    Lost,
    No,
    NotReady,
    Opened,
    Refused,
    Silent,
    Unclear,
    said_by,
)
from yardbolt.core.talk.patterns import fill_in, row
from yardbolt.core.talk.replies import ReplyRow, reread
from yardbolt.core.talk.text import console
from yardbolt.core.talk.text.console import SETTLE, Channel, Heard, Listener, Turn
from yardbolt.core.talk.tree import MISSING, depth, one, pick

assert isinstance(BOARD, Channel)
CONSOLE: Channel = BOARD
ASK = {a.name: a for a in FAMILY.asks}
HANDS = "hand          rank     state    phrase\nforeman       chief    working  worksmade\nhand          chief    working  own\nspanner       chief    working  none\n"


@given(st.lists(st.integers(1, 9), max_size=30), st.sampled_from(["\r\n", "\n"]))
def test_a_sign_counts_only_alone_on_the_last_line_after_silence(cuts: list[int], end: str) -> None:
    """Fed in any pieces, the prompt inside a reply ends nothing; the real one does, once it is quiet."""
    said = f"look plate{end}a |> b{end}ql8-new |> {end}\x1b[1mdone\x1b[0m\x07{end}ql8-new |> "
    ears = Listener(Turn((), ("{any} |> ",)))
    while said:
        n = cuts.pop() if cuts else 400
        ears.feed(said[:n])
        said = said[n:]
    heard = ears.decide()
    assert heard is not None and heard.text.endswith("ql8-new |> \ndone") and "\x1b" not in heard.text
    half = Listener(Turn((), ("{any} |> ",)))
    half.feed("half ql8-new |> ")
    assert half.decide() is None


def test_only_an_echo_and_the_very_prompt_end_a_turn_early() -> None:
    """The guard against a prompt inside a reply stays whole unless our own line came back and the last line is the
    usual prompt."""
    turn = Turn(("look kept",), ("{any} |> ",))

    def patience(usual: str, raw: str, sent: Turn = turn) -> float:
        listener = Listener(sent, usual)
        listener.feed(raw)
        return listener.patience(0.01)

    assert patience("a |> ", "look kept\r\n0 unlike\r\na |> ") == 0.005
    for usual, raw in (("", "look kept\r\na |> "), ("a |> ", "0 unlike\r\na |> "), ("a |> ", "look kept\r\nb |> "),
                       ("a |> ", "look kept\r\na |> \r\nmore"), ("a |> ", "a |> look kept")):  # fmt: skip
        assert patience(usual, raw) == SETTLE, (usual, raw)
    assert patience("a |> ", "x\r\na |> ", Turn((Slot(Ref("x")),), ("{any} |> ",))) == SETTLE


def replay(conversation: Any, answers: list[Any]) -> Any:
    """Run a conversation on answers given beforehand; its end, and what it had sent."""
    left, sent = list(answers), []

    def answer(event: Any) -> Any:
        sent.append(event.send if isinstance(event, Turn) else event)
        return left.pop(0)

    return run_on(answer, conversation), sent


ASK_KEPT = Fetch(console.AskHow("look kept"))


def test_an_answer_cut_early_is_settled_by_an_empty_line() -> None:
    """A prompt before the echo of the command is not its answer: late output of the command before never counts as the
    reply."""
    prompt = CONSOLE.prompt
    heard = [Heard(prompt, "late words"), Heard(prompt, "look kept\n0 unlike")]
    reply, sent = replay(console.ask(CONSOLE, ASK_KEPT, None), heard)
    assert reply == Done(Replies("0 unlike")) and sent == [("look kept",), ()]


FRAMED = console.Channel(
    {"telnet": "plain"}, "box# ", more="-- on --", frame="|", rulers="+-", ignore=("% {time} fan at {n:number}",),
    blocks={"set": console.Block(("setup", "doors"), "done", "box(set)# ")},
    passwords=(console.Prompt("Old: ", "{old}"), console.Prompt("New: ", "{secret}")),
    replies=(ReplyRow("no", starts="no: "),),
)  # fmt: skip


def test_what_a_channel_says_once_holds_for_every_reply_and_block() -> None:
    """Frames, rulers, lines of a log and turned pages are no part of a reply; a block is gone into before and left
    after, also after a no; a password is given where one goes with the change, and nothing else ever is."""
    shown = "look\n+----+\n| a 1 |\n% 10:01:02 fan at 3\n-- on --\n|----|\n| b  |\n+----+"
    reply, _ = replay(console.ask(FRAMED, Fetch(console.AskHow("look")), None), [Heard("box# ", shown)])
    assert reply == Done(Replies("a 1\nb"))
    out = console.OpHow("port 3", block="set").in_channel(FRAMED, False)
    inside, outside = "box(set)# ", "box# "
    into = [Heard(inside, "setup"), Heard(inside, "doors")]
    no, gone = Heard(inside, "port 3\n| no: taken |"), Heard(outside, "done")
    for heard, end, said in (
        ([*into, Heard(inside, "port 3"), gone], Done(Replies()), 4),
        ([*into, no, gone], No("no: taken"), 4),
        ([*into, Heard(inside, "port 3"), Heard(inside, "done\nno: not all")], No("no: not all", alive=False), 4),
        ([into[0], Heard(inside, "doors\nno: not there"), gone], No("no: not there", sent=False), 3),
        ([Heard(outside, "setup\nno: not you")], No("no: not you", sent=False), 1),
        ([into[0], Lost(End.CLOSED)], Ended(sent=True), 2),
    ):
        got, sent = replay(console.tell(FRAMED, Order(out), None), list(heard))
        assert (got, len(sent)) == (end, said) and sent[: len(sent) - 1] == [("setup",), ("doors",), ("port 3",)][
            : len(sent) - 1
        ]
    word = console.OpHow("word x").in_channel(FRAMED, True)
    assert console.message(word, {"secret": (Slot(Ref("s")),)})[1] == (("New: ", (Slot(Ref("s")),)),)
    assert console.message(word, {"secret": ("10 min",)})[1] == ()
    own = replace(word, prompts=(console.Prompt("New: ", "twice"),))
    assert console.message(own, {"secret": (Slot(Ref("s")),)})[1] == (("New: ", ("twice",)),)


HUT: dict[str, Any] = {
    "family": "hut", "title": "Hut",
    "channels": {"line": {"talk": "console", "services": {"telnet": "plain"}, "prompt": "hut> ", "replies": [{"starts": "no: ", "means": "no"}]}},
    "values": {
        "services/*/permitted": {"empty": "anyone"}, "idle": {"codec": "minutes:seconds"}, "lockout/release": {"codec": "hours:minutes:seconds"},
        "logs/destinations": {"empty": "not set", "codec": "udp-address:port"}, "accounts/*/role": {"words": {"may do all": "full", "may look": "read"}},
    },
    "asks": {
        "doors": {"say": "doors", "lines": [
            {"row": "let {from} {mask} to {key}", "take": {"{from}/{mask}": "services/*/permitted"}},
            {"row": "door {key} at {port:number}", "take": {"port": "services/*/port"}},
            {"row": "log to {at}", "take": {"at": "logs/destinations"}, "none": {"logs/destinations": "not set"}}]},
        "one": {"say": "door {key}", "each": "services", "lines": [{"row": "open", "none": {"services/*/permitted": "nobody"}}, {"row": "let {from}", "take": {"from": "services/*/permitted"}, "none": {"services/*/permitted": "anyone"}}]},
        "folk": {"say": "folk", "rows": {"aligned": "yes", "heading": "who      rank        away  since", "row": "{key} {role} {enabled} {skip}", "into": "accounts", "whole": "yes"}},
        "rest": {"say": "rest", "pairs": {"between": ":", "take": {"idle": "idle", "lock": "lockout/release", "up": "identity/uptime", "time": "clock/servers"}}},
    },
    "ops": {
        "from": {"set": ["services/*/permitted"], "adds": "let {address} {mask} to {key}", "takes": "bar {value} from {key}", "writes": ["live", "kept"]},
        "log": {"set": ["logs/destinations"], "adds": "log to {address} port {port}", "takes": "log no more to {address}"},
        "rest": {"set": ["idle"], "say": "rest {value}"},
        "time": {"set": ["clock/servers"], "adds": "ask {value}", "takes": "ask {value} no more"},
    },
}  # fmt: skip


def test_sets_of_a_console_are_read_line_by_line_and_written_a_line_each() -> None:
    """Lines that each name one thing make a set; what is new is said first, the laptop's own before all, and what goes
    last; from what was not read, or to what no line says, nothing is sent."""
    hut = family_of(HUT)
    line = hut.channels["line"]
    assert isinstance(line, Channel)
    asks = {ask.name: ask for ask in hut.asks}
    shown = "door web at 80\nlet 192.0.2.8 255.255.255.254 to web\nlet 198.51.100.0 255.255.255.0 to web"
    read = {part.path: part.value for part in extract(hut, asks["doors"], Replies(shown)) if isinstance(part, Fact)}
    assert read == {
        ("services", "web", "port"): 80, ("logs", "destinations"): ABSENT,
        ("services", "web", "permitted"): AddressSet.of("192.0.2.8/31", "198.51.100.0/24"),
    }  # fmt: skip
    # the odd line may name one more of the set, and a unit that says nothing says nothing of what it lacks
    doubtful = extract(hut, asks["doors"], Replies(f"{shown}\nwhat is this"))
    assert [one.path for one in doubtful if isinstance(one, Fact)] == [("services", "web", "port")]
    assert extract(hut, asks["doors"], Replies("")) == extract(hut, asks["one"], Replies(""), "ssh") == ()
    (alone,) = (
        one for one in extract(hut, asks["one"], Replies("let 192.0.2.9\nopen"), "ssh") if isinstance(one, Fact)
    )
    assert (alone.path, alone.value) == (("services", "ssh", "permitted"), AddressSet.of("192.0.2.9"))
    here: Path = ("services", "web", "permitted")
    plane = put(make(Plane(), ("services", "web")), here, AddressSet.of("192.0.2.66", "198.51.100.0/24"))
    wanted = AddressSet.of("192.0.2.10", "198.51.100.0/24", "203.0.113.0/28")
    order = replace(bind(hut, Set(here, wanted), plane).order, source="203.0.113.5")
    prompt = "hut> "
    got, sent = replay(console.tell(line, order, None), [Heard(prompt, f"{one}\n") for one in (
        "let 203.0.113.0 255.255.255.240 to web", "let 192.0.2.10 255.255.255.255 to web", "bar 192.0.2.66 from web")])  # fmt: skip
    assert isinstance(got, Done) and ["".join(one) for one in sent] == [
        "let 203.0.113.0 255.255.255.240 to web", "let 192.0.2.10 255.255.255.255 to web", "bar 192.0.2.66 from web",
    ]  # fmt: skip
    refused, sent = replay(
        console.tell(line, order, None),
        [Heard(prompt, "let 203.0.113.0 255.255.255.240 to web\nno: full")],
    )
    assert refused == No("no: full") and len(sent) == 1
    opened = bind(hut, Set(here, ANYONE), plane).order
    assert sorted(name[0] for name in opened.fill if name[0] in "+-") == ["-", "-"]
    for value, before, told in (
        (NOBODY, plane, "no way to write"),
        (wanted, make(Plane(), ("services", "web")), "was not read"),
    ):
        with pytest.raises(ValueError, match=told):
            bind(hut, Set(here, value), before)
    logs = bind(
        hut, Set(("logs", "destinations"), ("udp 192.0.2.20 514",)), put(Plane(), ("logs", "destinations"), ABSENT)
    )
    assert logs.order.fill["+192.0.2.20:514"] == ("log to ", "192.0.2.20", " port ", "514")


def test_columns_stand_below_their_heading_and_times_are_written_in_many_ways() -> None:
    """A cell may be empty or hold blanks; what runs into the next column is no row."""
    hut = family_of(HUT)
    asks = {ask.name: ask for ask in hut.asks}
    shown = (
        "who      rank        away  since\nboss     may do all  no    1 May\neye      may look\n"
        "dim      may see all no    1 May\noverlongname may look"
    )
    parts = extract(hut, asks["folk"], Replies(shown))
    read = {part.path: part.value for part in parts if isinstance(part, Fact)}
    assert read[("accounts", "boss", "role")] == "full" and read[("accounts", "boss", "enabled")] is False
    assert read[("accounts", "eye", "role")] == "read" and ("accounts", "eye", "enabled") not in read
    lines = [one.line for one in parts if isinstance(one, Leftover)]
    assert lines[-2:] == ["dim      may see all no    1 May", "overlongname may look"]
    assert Whole(("accounts",), "folk") not in parts
    times = extract(hut, asks["rest"], Replies("idle: 10:30\nlock: 01:00:05\nup: 00h40m23s"))
    assert [part.value for part in times if isinstance(part, Fact)] == [630.0, 3605.0, 2423.0]
    assert bind(hut, Set(("idle",), 600.0), Plane()).order.fill["value"] == ("10:00",)
    with pytest.raises(ValueError):
        bind(hut, Set(("idle",), NEVER), Plane())


def test_gates_are_never_passed_by_themselves() -> None:
    """Terms and forced changes end a login as asked unless they are answered; a question asked twice is a no."""
    terms, change = CONSOLE.gates[0].sign, CONSOLE.gates[1].sign
    end, _ = replay(console.login(CONSOLE, "a", Ref("x"), True, {}), [Heard(terms, "THE TERMS")])
    assert end == Asked("terms", "\nTHE TERMS") and CONSOLE.gate_answer("terms") == ("take",)
    assert CONSOLE.gate_answer("change") is None, "a new password is ours to choose"
    new = (Slot(Ref("safe:u/a")),)
    answers = [Heard(change, ""), Heard(change, "Too short by 3.")]
    end, sent = replay(console.login(CONSOLE, "a", Ref("x"), True, {"change": new}), answers)
    assert end == Asked("change", "Too short by 3.") and sent.count(new) == 1


NAME, WORD = [Heard("Hand: ", "")], [Heard("Hand: ", ""), Heard("Phrase: ", "")]
ENDS: list[tuple[list[Any], Any]] = [
    ([*WORD, Heard("Hand: ", "Not known here.")], Refused("Not known here.")),
    ([*WORD, Heard("Hand: ", "That hand is resting.")], Locked("That hand is resting.")),
    ([*WORD, Lost(End.CLOSED, "Not known here.")], Refused("\n\n\nNot known here.")),
    ([*WORD, Lost(End.CLOSED, "bye")], Cut(True, "\n\n\nbye")),
    ([*NAME, Lost(End.CLOSED)], Cut(False, "\n\n")),
    ([*WORD, Lost(End.SILENT)], Silent(True, "\n\n\n")),
    ([Lost(End.SILENT)], Silent(False, "\n")),
    ([Heard(CONSOLE.prompt, "hello")], Opened("\nhello")),
]


@pytest.mark.parametrize(("heard", "end"), ENDS)
def test_a_login_ends_as_what_it_was(heard: list[Any], end: Any) -> None:
    """A cut after the secret is a refusal only where the unit said so; silence and a cut say whether the secret had
    been sent."""
    got, _ = replay(console.login(CONSOLE, "a", Ref("x"), False, {}), heard)
    assert got == end


@pytest.mark.parametrize(
    ("heard", "end"),
    [
        (["login: ", "Password: ", "Welcome\nbox# ", "box# "], Opened),
        (["Username:", "Password:", "% denied\nUsername:"], Refused),
        (["User name > ", "", "Password: ", "Login incorrect\n", ""], Refused),
        (["Welcome\nEnter host name: "], Silent),
        (["Create a user name: "], Silent),
        (["login: ", "Set password: ", ""], Silent),
        (["login: ", "Password: ", "Your account is locked\nlogin: "], Locked),
        (["login: ", "Password: ", "You must choose a New password: ", ""], Asked),
        (["login: ", "Password: ", Lost(End.CLOSED, "bye")], Cut),
        (["box# "], Silent),
        (["login: ", "box# ", "box# "], Opened),
        (["login: ", "Password: ", "1) Status\n2) Set\nChoose", ""], Silent),
        (["login: ", "Password: ", "progress 50 %", "progress 90 %", ""], Silent),
        ([Lost(End.CLOSED)], Cut),
    ],
)
def test_a_terminal_nobody_described_is_believed_only_where_it_is_clear(heard: list[Any], end: Any) -> None:
    """Inside is a prompt that stands there twice; asked again, or told no, is refused; the rest is silence."""

    def as_heard(said: Any) -> Any:
        if isinstance(said, Lost):
            return said
        text, _, last = said.rpartition("\n")
        return Heard(last, text) if last in logon.USUAL else Lost(End.SILENT, said)

    talk = logon.login(logon.Channel(), "works", Ref("factory:1"), False, {})
    assert isinstance(replay(talk, [as_heard(one) for one in heard])[0], end)


def test_an_order_that_is_not_answered_finishes_the_session() -> None:
    """Silence is unclear, an end is an end, a question asked again is a no on a session nobody types into any more."""
    order = Order(
        console.OpHow("hire x", prompts=(console.Prompt("Phrase: ", "{secret}"),)), {"secret": (Slot(Ref("s")),)}
    )

    def told(*heard: Any) -> Any:
        return replay(console.tell(CONSOLE, order, None), list(heard))[0]

    assert told(Lost(End.SILENT)) == Unclear("no answer within 30 s")
    assert told(Lost(End.CLOSED)) == Ended(sent=True)
    assert told(Lost(End.TOO_MUCH, why="too much")) == Unclear("too much")
    assert told(Heard("Phrase: ", "hire x"), Heard("Phrase: ", "No: again")) == No("No: again", alive=False)
    assert told(Heard(CONSOLE.prompt, "hire x\nNo: taken.\n")) == No("No: taken.")
    with pytest.raises(ValueError, match="nothing fills"):
        fill_in("rest {value:minutes}", {"value": ("1",)})


def test_commands_run_with_the_rights_they_need() -> None:
    """Root is learned at the login; else sudo is asked, first without a password, then once with it, over input; the
    script goes only after its yes. Each section that did not come whole, or failed, is a no with its reason."""
    ran, sudo = commands.Ran, commands.Channel({}, "sudo")
    opened, _ = replay(commands.login(sudo, "a", Ref("x"), True, {}), [ran("0\n", 0)])
    assert opened.rights == "root"
    how, plain = commands.AskHow("cat '/x y'", rights="root", tree="json"), commands.Session("account", Ref("x"))
    all_of = commands.RanAll({0: commands.Part("{}", 0, {})})
    reply, sent = replay(commands.ask(sudo, Fetch(how), plain), [ran("", 1), ran("", 0), all_of])
    kinds = [event.__class__ for event in sent]
    assert reply == Done(Replies("{}", {})) and kinds == [commands.Run, commands.AskedBySudo, commands.RunAll]
    assert not sent[1].taken(sent[1].withheld("no try left"))
    assert (
        sent[1].input == (Slot(Ref("x")), "\n") and sent[2].before[0] == Slot(Ref("x")) and "cat" not in sent[2].command
    )
    reply, sent = replay(commands.ask(sudo, Fetch(how), plain), [ran("", 1), ran("", 1, "Sorry, try again.\n")])
    assert reply == No("needs root, and sudo says: wrong password", sent=False) and len(sent) == 2
    free = replay(commands.tell(sudo, Order(commands.OpHow("x", "root")), plain), [ran("", 0), ran("done", 0)])
    assert free[0] == Done(Replies("done")) and free[1][1].input[0] == BEGIN and free[1][1].command == (AS_ROOT,)
    assert replay(commands.ask(commands.Channel({}), Fetch(how), plain), []) == (No("needs root", sent=False), [])
    for part, said in (
        (commands.Part("x", 0), "the answer is no json"), (commands.Part("cat: no\nmore", 1), "cat: no"),
        (commands.Part("", 124), "it took too long"),
    ):  # fmt: skip
        assert replay(commands.ask(sudo, Fetch(how), opened.session), [commands.RanAll({0: part})])[0] == No(said)
    cut = replay(commands.ask(sudo, Fetch(how), opened.session), [commands.RanAll({}, "killed")])[0]
    assert cut == No("its answer did not come whole (killed)")
    assert replay(commands.ask(sudo, Fetch(how), opened.session), [Lost(End.CLOSED)])[0] == Ended(sent=True)


def test_a_framed_script_tells_what_came_whole() -> None:
    """Any shell runs it; sections that fail, are missing or write anything at all are told apart; what is cut, changed,
    comes twice, or is planted in what a file holds, does not count."""
    nonce = "0123456789abcdef"
    sections = (
        "printf 'a\\n\\nb'",
        "echo why >&2; exit 3",
        "no-such-tool",
        ":",
        f"echo '{nonce} end 0 0 1 1'; echo é",
        "cat",
    )
    text = script(sections, nonce, {"given": "it's"})
    assert text.count(nonce) == 1, "but for what a section plants"
    for shell in ("bash", "dash", "busybox"):
        if path := shutil.which(shell):
            argv = [path, *(["ash"] if shell == "busybox" else []), "-s"]
            out = subprocess.run(argv, input=b"echo noise\n" + text.encode(), capture_output=True, check=True).stdout
            got = frames(out, nonce)
            assert [got[n].status for n in range(6)] == [0, 3, 127, 0, 0, 0], shell
            assert (got[0].body, got[1].body, got[3].body, got[5].body) == (b"a\n\nb", b"why", b"", b"")
            assert got[4].body == f"{nonce} end 0 0 1 1\né".encode()
            assert 0 not in frames(out.replace(b"a\n\nb", b"a\n\nc"), nonce) and 0 not in frames(out + out, nonce)
            assert set(frames(out[: out.index(b"why")], nonce)) == {0}
    assert cksum(b"hello") == 3287646509 and cksum(b"") == 4294967295
    for tool, total in (
        ("sha256sum", sha256(b"x").hexdigest()),
        ("md5sum", "9dd4e461268c8034f5c8564e155c67a6"),
        ("none", "none"),
    ):
        told = frames(f"\nNONCE begin 0\nx\nNONCE end 0 0 {tool} {total} -\n".encode(), "NONCE")
        assert bool(told) is (tool != "none"), tool


def test_one_table_says_what_an_answer_means() -> None:
    """The first row that fits, among those that can be meant; a refusal the wire met is read again by the same
    table."""
    rows = (ReplyRow("locked", text="resting"), ReplyRow("not ready", text="starting"), ReplyRow("no", starts="No: "))
    assert reread(rows, Refused("you are resting")) == Locked("you are resting")
    assert reread(rows, Cut(True, "still starting")) == NotReady("still starting")
    assert reread(rows, Refused("who?")) == Refused("who?") and reread(rows, Opened("resting")) == Opened("resting")
    talk = replace(CONSOLE, replies=rows)
    body = "resting: No: is no line\n"
    assert replay(console.ask(talk, ASK_KEPT, None), [Heard(CONSOLE.prompt, f"look kept\n{body}")])[0] == Done(
        Replies(body)
    )


def test_trees_are_picked_by_path() -> None:
    """Names, every item, the item itself, its key; one is passed through where many were meant; what is not there is
    missing."""
    tree = {"a": [{"b": 1}, {"b": None}, {"c": "x"}], "one": [{"deep": {"er": True}}], "map": {"k": {"v": 2}}}
    assert list(pick(tree, "a/*/b")) == [(("0",), 1), (("1",), None)]
    assert one(tree, "one/deep/er") is True and one(tree, "a/*/b") is MISSING and one(tree, "nothing") is MISSING
    assert list(pick(tree, "map/*/#")) == [(("k",), "k")] and one(tree, "map/k/.") == {"v": 2}
    nest: Any = "x"
    for _ in range(500):
        nest = [nest]
    assert depth(nest) == 64 and depth(tree) == 4


def test_endless_and_shapeless_output_is_bounded() -> None:
    """A megabyte in one answer, or a line without end, is an error and not a memory."""
    for chunk in ("x" * 70000, "words of no end\n" * 5000):
        ears = Listener(Turn((), ("> ",)))
        with pytest.raises(UnitError):
            for _ in range(40):
                ears.feed(chunk)
    assert clean("a\x1b]0;title\x07b\x9bc\u202ed\r\ne\x00") == "abcd\ne"


def read(name: str, reply: str) -> Any:
    return extract(FAMILY, ASK[name], Replies(reply), now=datetime(2026, 1, 1, tzinfo=UTC))


def test_headings_go_by_position_and_lines_not_understood_leave_a_list_open() -> None:
    """An account called like the heading stays; one strange line, a missing heading or a hostile key and the list is
    not whole."""
    plane = merge(FAMILY, read("hands", HANDS)).plane
    assert [a.key for a in plane.accounts] == ["foreman", "hand", "spanner"] and plane.accounts.complete
    assert (
        get(plane, ("accounts", "foreman", "storage")) == "factory"
        and get(plane, ("accounts", "foreman", "permitted")) is ABSENT
    )
    for spoiled in (
        HANDS + "?? ghost\n",
        HANDS.split("\n", 1)[1],
        HANDS + "a;reboot     chief    working  own\n",
        HANDS + "odd         boss    working  own\n" * 0 + "x y z\n",
    ):
        got = read("hands", spoiled)
        assert any(isinstance(p, Leftover) for p in got) and not any(isinstance(p, Whole) for p in got), spoiled


def test_values_keep_their_meaning() -> None:
    """Empty sources are anyone, never is infinite, (none) is not set, units convert; two answers that disagree are
    unknown."""
    plate = "nameplate ......... a..b\nrest after ........ never\ngreeting .......... (none)\nclock ............. 2026-01-01 00:01:00 +00:00\nlocked for ........ 60 s\n"
    plane = merge(FAMILY, read("plate", plate)).plane
    assert (plane.name, plane.idle, plane.banner, plane.clock.offset, plane.lockout.release) == (
        "a..b",
        NEVER,
        ABSENT,
        60.0,
        60.0,
    )
    gates = merge(
        FAMILY, read("gates", "gate wire state from\nshell 2022 open\ntalk 2023 shut 10.0.0.0/8,192.0.2.1-192.0.2.2\n")
    ).plane
    assert (
        get(gates, ("services", "ssh", "permitted")) == ANYONE
        and str(get(gates, ("services", "telnet", "permitted"))) == "10.0.0.0/8, 192.0.2.1, 192.0.2.2"
    )
    both = merge(FAMILY, read("plate", "nameplate ... one\n") + read("plate", "nameplate ... two\n"))
    assert both.plane.name is None and both.conflicts == (("name",),)
    assert [p for p in read("plate", "shortest phrase ... many\n") if isinstance(p, Leftover)]


@given(st.text(max_size=300))
def test_any_text_gives_parts_and_never_an_exception(text: str) -> None:
    """Every extractor and every decoder takes anything; a decoder that understood nothing claims nothing whole without
    saying so."""
    for name in ASK:
        read(name, text)
    for d in DECODERS.values():
        got = d.decode(Replies(text), "x")
        assert all(len(line) < 1000 for line in got.leftovers)
        d.decode(Replies("\n".join([text] * 2)), "x")


def test_no_line_makes_a_row_crawl() -> None:
    """Rows are matched without nested repetition: a line of 16 KiB made to hurt is done at once, compared with a plain
    one."""
    regex = row("{key} {port:number} {state} {from:rest}").regex

    def took(line: str) -> float:
        start = time.perf_counter()
        for _ in range(20):
            regex.match(line)
        return time.perf_counter() - start

    plain = took("a 1 open " + "x" * 16000)
    assert took("a " * 8000) < 200 * plain + 0.5 and took("1 " * 8000 + "\x00") < 200 * plain + 0.5


def test_commands_take_no_key_a_unit_made_up() -> None:
    """A name with a line break, a blank or an option sign is not put into a command; a secret goes as a slot, never as
    text."""
    for key in ("a\nkeep", "a b", "-x", "a;b", "", "x" * 40):
        with pytest.raises(ValueError):
            bind(FAMILY, Drop(("accounts", key)), make(Plane(), ("accounts", key)) if key else Plane())
    make_it = Make(("accounts", "lt-works"), (("role", "full"), ("secret", Ref("safe:u/x"))))
    order = bind(FAMILY, make_it, whole(Plane(), ("accounts",))).order
    say, prompts = console.message(order.how, order.fill)
    assert say == ("hire ", "lt-works", " ", "chief") and prompts[0] == ("Phrase for {any}: ", (Slot(Ref("safe:u/x")),))
    with pytest.raises(ValueError, match="72 printable"):
        bind(FAMILY, Set(("banner",), "x" * 73), Plane())


@given(
    st.sampled_from(
        [
            ("idle", 600.0),
            ("idle", NEVER),
            ("banner", ABSENT),
            ("banner", "Keep out."),
            ("policy/min_length", 14),
            ("lockout/release", 90.0),
        ]
    )
)
def test_writing_and_reading_are_inverse(case: tuple[str, Any]) -> None:
    """What is spelt for the unit, done by the unit and read back is the value that was meant."""
    path, value = tuple(case[0].split("/")), case[1]
    unit = LineSwitch(Watch(), shy=0.0)
    unit.terms_taken, unit.hands["foreman"] = True, Hand("chief", "k7mw-fore-29tx", "own")
    unit.live.rest, unit.live.greeting = 7, "before"
    bare, me = Bare(unit, Watch(), {"s": "k7mw-fore-29tx"}), way_by("ssh", "foreman", "s", "127.0.0.1")
    bare.enter(me)
    assert isinstance(bare.order(me, bind(FAMILY, Set(path, value), Plane()).order), Done)
    planes = bare.read(me)
    assert planes is not None
    seen = planes["live"]
    assert get(seen, path) == value == get(bind(FAMILY, Set(path, value), seen).after, path)
    assert spelled(FAMILY, ("services", "ssh", "permitted"), ANYONE) == ""


NFT = json.dumps({"nftables": [
    {"metainfo": {"version": "1.0.6"}}, {"table": {"family": "inet", "name": "f", "handle": 1}},
    {"chain": {"family": "inet", "table": "f", "name": "in", "handle": 1, "type": "filter", "hook": "input", "prio": 0, "policy": "drop"}},
    {"chain": {"family": "inet", "table": "f", "name": "out", "handle": 2, "hook": "output", "policy": "accept"}},
    {"set": {"family": "inet", "name": "admins", "table": "f", "type": "ipv4_addr", "elem": [{"prefix": {"addr": "192.0.2.0", "len": 28}}]}},
    {"rule": {"family": "inet", "table": "f", "chain": "in", "handle": 3, "expr": [
        {"match": {"op": "in", "left": {"ct": {"key": "state"}}, "right": ["established", "related"]}}, {"accept": None}]}},
    {"rule": {"family": "inet", "table": "f", "chain": "in", "handle": 4, "comment": "works", "expr": [
        {"match": {"op": "==", "left": {"payload": {"protocol": "ip", "field": "saddr"}},
                   "right": {"set": ["192.0.2.10", {"prefix": {"addr": "198.51.100.0", "len": 24}}]}}},
        {"match": {"op": "==", "left": {"payload": {"protocol": "tcp", "field": "dport"}}, "right": 22}},
        {"counter": {"packets": 0, "bytes": 0}}, {"accept": None}]}},
    {"rule": {"family": "inet", "table": "f", "chain": "in", "handle": 5, "expr": [
        {"match": {"op": "!=", "left": {"payload": {"protocol": "ip", "field": "saddr"}}, "right": "@admins"}}, {"drop": None}]}},
    {"rule": {"family": "inet", "table": "f", "chain": "in", "handle": 6, "expr": [{"limit": {"rate": 5}}, {"jump": {"target": "x"}}]}},
    {"rule": {"family": "inet", "table": "f", "chain": "out", "handle": 7, "expr": [{"drop": None}]}},
]})  # fmt: skip
SAMPLES: dict[str, tuple[str, dict[tuple[str, ...], Any]]] = {
    "linux-system": (
        'os ID=debian\nos VERSION_ID="12"\nname tram-1\nuptime 61.5 3\ninit systemd\nlink lo 00:00:00:00:00:00 unknown\nlink eth0 02:00:00:00:00:01 up\n'
        "addr 2: eth0    inet 192.0.2.5/24 brd 192.0.2.255 scope global eth0\naddr 2: eth0    inet6 fe80::1/64 scope link\nroute default via 192.0.2.1 dev eth0 proto static\n",
        {("identity", "make"): "debian", ("identity", "software"): "12", ("name",): "tram-1", ("identity", "uptime"): 61.5, ("host", "init"): "systemd",
         ("interfaces", "eth0", "addresses"): ("192.0.2.5/24",), ("interfaces", "eth0", "gateway"): "192.0.2.1", ("identity", "hardware"): "02:00:00:00:00:01"},
    ),
    "linux-accounts unhidden": (
        "passwd a:$6$ab:1000:1000::/home/a:/bin/sh\npasswd b:!$6$ab:1001:1001::/home/b:/bin/false\npasswd d:!:1003:1003::/home/d:/bin/sh\npasswd c:x:1002:1002::/home/c:/bin/sh\nnow 1700000000\n",
        {("accounts", "a", "enabled"): True, ("accounts", "b", "enabled"): False, ("accounts", "c"): True, ("accounts", "d"): True},
    ),
    "linux-accounts": (
        "passwd root:x:0:0:root:/root:/bin/bash\npasswd toor:x:0000:0::/root:/bin/sh\npasswd daemon:x:1:1::/usr/sbin:/usr/sbin/nologin\npasswd tram::1000:1000::/h:/bin/sh\n"
        "passwd boss:x:1001:1001::/h:/bin/bash\npasswd old:x:1002:1002::/h:/bin/bash\npasswd odd:x:1003:1003::/h:/bin/bash\nsource files systemd\nnow 1700000000\n"
        "shadow root:!:19000:0:99999:7:::\nshadow boss:$y$j9T$abc:19000:0:99999:7:::\nshadow old:dIBxabcdefghi:19000:0:99999:7::1:\nshadow odd:x:1::::::\n"
        "host x\ngroup ops:x:50:old\njson\n"
        '{"Defaults": [{"Options": [{"env_reset": true}]}], "User_Specs": [{"User_List": [{"username": "boss"}, {"usergroup": "nobody"}], "Host_List": [{"hostname": "ALL"}], "Cmnd_Specs": [{"runasusers": [{"username": "ALL"}], "runasgroups": [{"usergroup": "ALL"}], "Commands": [{"command": "/bin/ls"}]}, {"runasusers": [{"username": "ALL"}], "runasgroups": [{"usergroup": "ALL"}], "Options": [{"authenticate": false}], "Commands": [{"command": "/bin/id"}, {"command": "ALL"}]}]}, {"User_List": [{"usergroup": "ops"}], "Host_List": [{"hostname": "ALL"}], "Cmnd_Specs": [{"runasusers": [{"username": "www"}], "Options": [{"setenv": true}], "Commands": [{"command": "ALL"}]}]}, {"User_List": [{"usergroup": "ops"}], "Host_List": [{"hostname": "x"}], "Cmnd_Specs": [{"Commands": [{"command": "/bin/ls"}]}]}, {"User_List": [{"username": "odd"}, {"username": "root", "negated": true}], "Host_List": [{"hostname": "x"}], "Cmnd_Specs": [{"Options": [{"setenv": true}], "Commands": [{"command": "ALL"}]}]}]}',
        {("accounts", "root", "role"): "full", ("accounts", "toor", "role"): "full", ("accounts", "daemon", "role"): "none", ("accounts", "tram", "storage"): "blank",
         ("accounts", "tram", "role"): "read", ("accounts", "old", "role"): "change", ("accounts", "boss", "becomes_root"): "freely", ("accounts", "boss", "role"): "full", ("accounts", "boss", "storage"): "one-way",
         ("accounts", "old", "storage"): "outdated", ("accounts", "old", "enabled"): False, ("accounts", "old", "becomes_root"): "some commands", ("accounts", "toor", "becomes_root"): "is root", ("accounts", "odd", "storage"): "locked", ("accounts", "root", "storage"): "locked"},
    ),
    "linux-services": (
        'ss tcp LISTEN 0 128 0.0.0.0:22 0.0.0.0:* users:(("sshd",pid=1,fd=3))\nss udp UNCONN 0 0 [::1]:161 [::]:*\nss tcp LISTEN 0 9 [fe80::1]%eth0:80 [::]:*\n'
        "proc tcp6 00000000000000000000000000000000:0017 77\nproc udp 0100007F:0045 78\ninode 77 5\nholder 5 /bin/busybox - /bin/busybox telnetd -F\nholder 1 /usr/sbin/sshd ssh.service sshd -D\nowner openssh-server: /usr/sbin/sshd\n"
        "init ::respawn:/usr/sbin/vsftpd\ninit ::off:/usr/sbin/in.tftpd\nrcs /usr/sbin/inetd\ninetd tftp dgram udp wait root /x tftpd\n",
        {("listening", "tcp 0.0.0.0 22", "program"): "sshd", ("listening", "tcp 0.0.0.0 22", "unit"): "ssh.service", ("listening", "tcp 0.0.0.0 22", "package"): "openssh-server", ("listening", "udp ::1 161", "port"): 161,
         ("listening", "tcp :: 23", "program"): "telnetd", ("services", "telnet", "enabled"): True, ("services", "http", "encrypted"): False,
         ("services", "ftp", "enabled"): False, ("services", "ftp", "boot"): True, ("services", "tftp", "boot"): True, ("services", "tftp", "idle"): ABSENT, ("services", "ssh"): True},
    ),
    "linux-inside": (
        'listen LISTEN 0 9 0.0.0.0:4444 0.0.0.0:*\nss 0 0 [::ffff:192.0.2.1]:22 [::ffff:192.0.2.7]:5 users:(("sshd",pid=7,fd=4))\nss 0 0 192.0.2.1:22 192.0.2.8:6 users:(("sshd",pid=8,fd=4))\n'
        'ss 0 0 192.0.2.1:80 192.0.2.9:7 users:(("nginx",pid=9,fd=4))\nss 0 0 192.0.2.1:4444 192.0.2.9:8\nss 0 0 192.0.2.1:50000 192.0.2.9:25\n'
        "proc tcp 01 010200C0:0017 070200C0:0009 77\ninode 77 5\nholder 5 telnetd 2 al telnetd -F\nholder 7 sshd 1 root sshd: bo@pts/0 \nholder 8 sshd 1 sshd sshd: unknown [preauth] \nconsole 1025 root sh\n",
        {("sessions", "tcp 192.0.2.7 5", "account"): "bo", ("sessions", "tcp 192.0.2.7 9", "account"): "al", ("sessions", "tcp 192.0.2.7 9", "service"): "telnet",
         ("sessions", "tcp 192.0.2.9 8", "service"): "port 4444", ("sessions", "console 1025", "source"): "the console"},
    ),
    "linux-web": (
        "now 1767225600\nfile /a.pem\ncert /a.pem subject=CN=box\ncert /a.pem issuer=CN=box\ncert /a.pem notAfter=Jan  3 12:00:00 2026 GMT\n",
        {("certificates", "/a.pem", "self_signed"): True, ("certificates", "/a.pem", "days_left"): 2, ("certificates", "/a.pem", "subject"): "CN=box"},
    ),
    "timed-return": ("armed 250 watched\narmed -3 watched\n", {("stores", "returning"): 0.0}),
    "pam": (
        "daemon openssh\nusepam yes\npam sshd @include common-auth\npam common-auth auth requisite pam_faillock.so preauth\npam common-auth auth [success=2 default=ignore] pam_unix.so nullok\n"
        "pam common-auth auth [default=die] pam_faillock.so authfail deny=4\npam common-auth auth requisite pam_deny.so\npam common-auth auth required pam_permit.so\n"
        "pam passwd @include common-password\npam common-password password requisite pam_pwquality.so retry=3 minlen=14 ocredit=-1\npam common-password password required pam_unix.so use_authtok remember=5\n"
        "quality minlen = 9\nquality dcredit = 2\nquality ucredit = -1\nquality enforce_for_root\nfaillock unlock_time = 0\n",
        {("policy", "min_length"): 12, ("policy", "classes"): 2, ("policy", "binds_root"): True, ("policy", "dictionary"): "missing", ("policy", "history"): 5,
         ("lockout", "tries"): 4, ("lockout", "release"): NEVER},
    ),
    "linux-files": (
        "job /etc/cron.d/x\nstat 644 root /etc/cron.d/x\nmd5 11111111111111111111111111111111  /etc/cron.d/x\nsha aa  /etc/cron.d/x\nline /etc/cron.d/x */5 * * * * root /bin/spy --key s3cret\nline /var/spool/cron/crontabs/al @reboot /bin/me\n"
        "script /etc/cron.daily/tidy\nstat 755 root /etc/cron.daily/tidy\nmd5 22222222222222222222222222222222  /etc/cron.daily/tidy\nsha bb  /etc/cron.daily/tidy\n"
        "timers /etc/x.timer\nstat 644 root /etc/x.timer\nmd5 22222222222222222222222222222222  /etc/x.timer\nsha dd  /etc/x.timer\nknown 22222222222222222222222222222222 /etc/x.timer\n"
        "timer Id=x.timer\ntimer FragmentPath=/etc/x.timer\ntimer DropInPaths=\ntimer Unit=x.service\ntimer TimersCalendar={ OnCalendar=*-*-* 6:00:00 ; next_elapse=n/a }\ntimer -\n"
        "timer FragmentPath=/run/y.timer\ntimer Id=y.timer\ntimer X=/run/y.timer\ntimer Unit=y.service\n"
        "home /home/al/.bashrc\nstat 644 al /home/al/.bashrc\nmd5 33333333333333333333333333333333  /home/al/.bashrc\nsha cc  /home/al/.bashrc\n"
        "known 22222222222222222222222222222222 /etc/cron.daily/tidy\nmodel 33333333333333333333333333333333  /etc/skel/.bashrc\n",
        {("jobs", "/etc/cron.d/x 1", "owner"): "root", ("jobs", "/etc/cron.d/x 1", "origin"): "unknown", ("jobs", "/etc/cron.d/x 1", "runs"): "/bin/spy",
         ("jobs", "/var/spool/cron/crontabs/al 1", "owner"): "al", ("jobs", "/etc/cron.daily/tidy", "origin"): "package", ("jobs", "x.timer", "origin"): "package", ("jobs", "x.timer", "schedule"): "*-*-* 6:00:00",
         ("jobs", "y.timer", "origin"): "unknown", ("jobs", "y.timer", "runs"): "y.service", ("files", "/home/al/.bashrc", "origin"): "package"},
    ),
    "linux-upkeep": (
        'rsyslogd /usr/sbin/rsyslogd -n \nrsyslog *.* @@(o)[2001:db8::1]:6514\nrsyslog auth.* @192.0.2.9\nrsyslog action(type="omfwd" target="log.example" port="1514" protocol="tcp")\n'
        "syslogd busybox syslogd -R 192.0.2.8:515 \nchronyd yes\ntracking C0000207,192.0.2.7,3\nsource ^,*,192.0.2.7,2,6\n",
        {("logs", "destinations"): ("tcp 2001:db8::1 6514", "tcp log.example 1514", "udp 192.0.2.8 515", "udp 192.0.2.9 514"), ("clock", "source"): "192.0.2.7",
         ("clock", "synchronised"): True},
    ),
    "snmp-agent": (
        'snmpd snmpd \nsnmp rocommunity published public\nsnmp rwcommunity own 10.0.0.0/8\nuser 0x6c742d6772617068 .1.5 .1.4\nuser "odd" .1.5 .1.4\nuser 0x6200 .1.5 .1.4\n'
        "access rouser lt-graph priv\naccess rwuser b authpriv -V systemonly\naccess rouser b -V x\naccess rouser nobody noauth\n",
        {("snmp", "communities"): 2, ("snmp", "published"): 1, ("snmp", "writing"): 1, ("snmp", "users", "lt-graph", "level"): "authPriv",
         ("snmp", "users", "odd", "rights"): "none", ("snmp", "users", "b", "level"): "authNoPriv", ("snmp", "users", "b", "rights"): "change"},
    ),
    "filter-families": (
        "rule inet f in 8 7 [ meta load l4proto => reg 1 ] [ cmp eq reg 1 0x00000006 ] [ meta load nfproto => reg 1 ] [ cmp eq reg 1 0x0000000a ] [ reject type 1 code 0 ]\n"
        "rule inet f in 9 [ reject type 1 code 0 ]\nrule inet f in 10 [ meta load nfproto => reg 1 ] [ cmp eq reg 1 0x00000002 ] [ immediate reg 0 accept ]\n",
        {("filter_rules", "inet f 8", "families"): ("6",), ("filter_rules", "inet f 9", "families"): ("4", "6")},
    ),
    "packet-filter": (
        "older 4 filter\nolder 6 nat\nno ipv6\nno nftables\nread o4\no4 # Generated\no4 *filter\no4 :INPUT DROP [1:2]\no4 :in - [0:0]\no4 -A INPUT -m state --state RELATED,ESTABLISHED -j ACCEPT\n"
        'o4 -A INPUT ! -s 192.0.2.0/28 -p tcp -m multiport --dports 22,80:90 -m comment --comment "the works" -j in\no4 [7:9] -A in -m limit --limit 3/min -f -j DROP\n'
        'o4 -A in -m rpfilter -j DROP\no4 -A in -p tcp -m tcp --dport 23 -j REJECT --reject-with tcp-reset\no4 -A in -i eth+ -j DOCKER\no4 COMMIT\n',
        {("packet_filter", "unseen"): ("nat (IPv6)",), ("filter_stages", "older ip filter INPUT", "default"): "block", ("filter_rules", "older ip filter INPUT: --state RELATED,ESTABLISHED -j ACCEPT", "state"): "established",
         ("filter_rules", "older ip filter INPUT: ! -s 192.0.2.0/28 -p tcp --dports 22,80:90 -j in", "sources"): FOUR - AddressSet.of("192.0.2.0/28"), ("filter_rules", "older ip filter INPUT: ! -s 192.0.2.0/28 -p tcp --dports 22,80:90 -j in", "ports"): ("22", "80-90"),
         ("filter_rules", "older ip filter INPUT: ! -s 192.0.2.0/28 -p tcp --dports 22,80:90 -j in", "leads_to"): "older ip filter in", ("filter_rules", "older ip filter INPUT: ! -s 192.0.2.0/28 -p tcp --dports 22,80:90 -j in", "note"): "the works",
         ("filter_rules", "older ip filter in: -m limit --limit 3/min -f -j DROP", "opaque"): True, ("filter_rules", "older ip filter in: -m limit --limit 3/min -f -j DROP", "verdict"): "block", ("filter_rules", "older ip filter in: -m rpfilter -j DROP", "opaque"): True,
         ("filter_rules", "older ip filter in: -p tcp --dport 23 -j REJECT --reject-with tcp-reset", "opaque"): False, ("filter_rules", "older ip filter in: -p tcp --dport 23 -j REJECT --reject-with tcp-reset", "verdict"): "block", ("filter_rules", "older ip filter in: -i eth+ -j DOCKER", "verdict"): "other"},
    ),
    "ssh-server": (
        "daemon openssh\nconfig /etc/ssh/sshd_config\nset port 22\nset permitrootlogin without-password\nset passwordauthentication no\nset kbdinteractiveauthentication yes\n"
        "set usepam yes\nset permitemptypasswords no\nset maxauthtries 6\nset logingracetime 0\nset banner none\nset allowusers tram@192.0.2.1\nset allowusers keeper\n"
        "set ciphers aes128-ctr,3des-cbc\nset channeltimeout session=60 session:*=600\nchanged 100 /etc/ssh/sshd_config\nloaded 200\nnow 300\nhostkey 2048 SHA256:abc root@x (RSA)\n"
        "block Match Address 192.0.2.0/24\nblock   PermitRootLogin yes\nblock   MaxAuthTries 9\nfor root 192.0.2.7 permitrootlogin yes\nfor root 192.0.2.7 maxauthtries 6\n",
        {("services", "ssh", "root_login"): "yes", ("services", "ssh", "password_login"): True, ("services", "ssh", "grace"): NEVER, ("services", "ssh", "idle"): 600.0,
         ("services", "ssh", "accounts"): ("keeper", "tram@192.0.2.1"), ("banner",): ABSENT, ("services", "ssh", "ciphers"): ("3des-cbc", "aes128-ctr"), ("services", "ssh", "rsa_bits"): 2048},
    ),
    "ssh-server held": (
        "daemon openssh\nconfig /c\nset port 22\nset listenaddress 192.0.2.1:22\nset permitrootlogin no\nset passwordauthentication yes\nset permitemptypasswords no\nset maxauthtries 6\n"
        "set kbdinteractiveauthentication no\nset usepam yes\nset allowusers k\nset allowusers k\nset allowusers o[t]her@192.0.2.1\nset allowusers other\nset allowgroups crew\n"
        "set denyusers o[t]h*\nset denyusers k@192.0.2.1\nchanged 100 /c\nloaded 200\nnow 300\nsocket Listen=[::]:2222 (Stream)\n",
        {("services", "ssh", "port"): 2222, ("services", "ssh", "interfaces"): ABSENT, ("services", "ssh", "accounts"): ("k", "other")},
    ),
    "ssh-keys": (
        'daemon openssh\nchanged 100 /x\nloaded 200\nnow 300\ncommand none\nauthority none\nstrict yes\nlooked k\nlooked n\nleads k 1000 600 1000\nleads k 1000 755 0\nleads n 1001 775 1001\nkey k # c\nkey k from="192.0.2.1" ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIA== x@y\n',
        {("accounts", "k", "keys"): ("SHA256:" + b64encode(sha256(b64decode("AAAAC3NzaC1lZDI1NTE5AAAAIA==")).digest()).decode().rstrip("="),), ("accounts", "n", "keys"): (), ("accounts", "k", "keys_taken"): True, ("accounts", "n", "keys_taken"): False},
    ),
    "notice": ("\n Keep out. \n", {("banner",): "Keep out."}),
    "name": ("lt-log-1\n", {("name",): "lt-log-1"}),
    "nftables": (
        NFT,
        {("filter_stages", "inet f in", "default"): "block", ("filter_rules", "inet f 4", "sources"): AddressSet.of("192.0.2.10", "198.51.100.0/24"),
         ("filter_rules", "inet f 4", "ports"): ("22",), ("filter_rules", "inet f 4", "verdict"): "pass", ("filter_rules", "inet f 4", "stage"): "inet f in",
         ("filter_rules", "inet f 3", "state"): "established", ("filter_rules", "inet f 5", "named"): "inet f admins", ("filter_rules", "inet f 5", "verdict"): "block",
         ("filter_rules", "inet f 6", "opaque"): True, ("filter_rules", "inet f 6", "leads_to"): "inet f x",
         ("filter_rules", "inet f 5", "not_named"): True, ("named_addresses", "inet f admins", "members"): AddressSet.of("192.0.2.0/28")},
    ),
}  # fmt: skip


def as_reply(text: str) -> Replies:
    if "\njson\n" in text:
        text, _, below = text.partition("\njson\n")
        return Replies(text, json.loads(below))
    return Replies(text, json.loads(text) if text.startswith("{") else None)


WORDS = st.sampled_from(["nftables", "chain", "rule", "hook", "expr", "match", "left", "set", "elem", "x"])
trees = st.recursive(
    st.none() | st.text(max_size=9) | st.integers(),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(WORDS, inner, max_size=4),
    max_leaves=30,
)


@given(trees)
def test_any_tree_gives_facts_and_never_an_exception(tree: Any) -> None:
    """A decoder of trees takes whatever a unit sends."""
    for shaped in (tree, {"nftables": [tree, {"chain": {"hook": "input"}}, {"rule": tree}, {"rule": {"expr": tree}}]}):
        DECODERS["nftables"].decode(Replies(tree=shaped), "")


@pytest.mark.parametrize("sample", SAMPLES)
def test_decoders_read_their_format_and_leave_the_rest(sample: str) -> None:
    """Real samples give the facts; a strange line is left over and nothing of it becomes a fact; secrets go no
    further."""
    name, (text, facts) = sample.partition(" ")[0], SAMPLES[sample]
    assert {key.partition(" ")[0] for key in SAMPLES} == set(DECODERS)
    got = DECODERS[name].decode(as_reply(text), "k")
    told = dict(got.facts)
    for path, value in facts.items():
        assert told[path] == value, path
    assert bool(got.leftovers) is (sample == "ssh-server held") and not any("$y$" in str(v) for v in told.values())
    if sample == "ssh-server":
        assert ("services", "ssh", "tries") not in told, "one stands under Match, and nobody tried has it"
        less = DECODERS[name].decode(
            as_reply(f"{text}wrapped sshd: ALL\nnarrowed account required pam_access.so\n"), "k"
        )
        gone = {path[2] for path in told.keys() - dict(less.facts).keys()}
        assert gone == {"permitted", "accounts"} and len(less.leftovers) == 2
    if sample == "linux-accounts":
        assert ("accounts", "odd", "role") not in told
    if sample == "linux-accounts unhidden":
        assert not told.keys() & {("accounts", "d", "enabled"), ("accounts", "c", "enabled")}, "a key may open it still"
    if name == "nftables":
        assert DECODERS["nftables"].decode(Replies(tree={"nftables": []}), "k").leftovers
    elif DECODERS[name].whole:
        assert DECODERS[name].decode(Replies(text + "strange\n"), "k").leftovers


@given(st.binary(max_size=400))
def test_a_key_exchange_offer_is_read_or_not(rubbish: bytes) -> None:
    """RFC 4253, 7.1: whole packets give the lists; anything else gives nothing."""
    lists = b"".join(
        struct.pack(">I", len(x)) + x
        for x in (
            b"curve25519-sha256,ecdh",
            b"ssh-ed25519",
            b"aes128-ctr",
            b"aes",
            b"hmac-sha2-256",
            b"mac",
            b"none",
            b"none",
            b"",
            b"",
        )
    )
    body = b"\x14" + bytes(16) + lists + bytes(5)
    padding = 8 - (len(body) + 5) % 8 + 4
    packet = struct.pack(">IB", len(body) + 1 + padding, padding) + body + bytes(padding)
    assert decode_kexinit(packet + rubbish) == {
        "exchanges": ("curve25519-sha256", "ecdh"),
        "key_types": ("ssh-ed25519",),
        "ciphers": ("aes128-ctr",),
        "macs": ("hmac-sha2-256",),
    }
    assert decode_kexinit(packet[: len(packet) // 2]) is None
    decode_kexinit(rubbish)


def test_merging_leaves_the_unread_unread() -> None:
    """Not set never becomes not read, nor the other way round; each store has its own plane, and only one store can be
    in conflict."""
    plane = merge(FAMILY, read("kept", "0 unlike\n")).plane
    assert plane.stores.differences == 0 and plane.name is None and plane.policy.history is ABSENT
    assert put(plane, ("name",), None) == plane
    facts = [Fact(("name",), "a", "x"), Fact(("name",), "b", "y", "kept"), Fact(("accounts", "q", "role"), "full", "z")]
    reading = merge(FAMILY, facts)
    assert (reading.plane.name, reading.planes["kept"].name, reading.conflicts) == ("a", "b", ())
    assert get(reading.plane, ("accounts", "q", "role")) == "full"


PASSWD = {
    "a user's, to the end": (("Current password: ", "New password: ", "Retype new password: "), "passwd: password updated successfully", NotReady),
    "root's, which opens a shell": (("New password: ", "Retype new password: "), "root@box:~# ", NotReady),
    "refused": (("New password: ", "BAD PASSWORD: too short\nNew password: "), "", Asked),
    "another question": (("Code from your card: ",), "", Asked),
    "not the same": (("(current) UNIX password: ", "Enter new UNIX password: ", "Retype new UNIX password: "), "passwd: Authentication token manipulation error", Asked),
}  # fmt: skip


@pytest.mark.parametrize("case", PASSWD)
def test_a_password_that_must_be_changed_first_is_changed_only_by_consent(case: str) -> None:
    """Each question is answered once, by what it asks for; what came of it is told; nothing is typed at any other
    question."""
    questions, end, outcome = PASSWD[case]
    channel = commands.Channel({"ssh": "sealed"})
    typed: list[Any] = []

    def host(event: Any) -> Any:
        if isinstance(event, commands.Run):
            return commands.Ran(
                "", 1, "WARNING: Your password has expired.\nPassword change required but no TTY available.\n"
            )
        typed.append(event.send)
        said = (*questions, end)[len(typed) - 1]
        return Lost(End.CLOSED if said == end and "#" not in end else End.SILENT, said)

    asked = run_on(host, commands.login(channel, "works", Ref("a"), True, {}))
    assert isinstance(asked, Asked) and asked.gate == "change" and asked.secret_sent and not typed
    got: Any = run_on(host, commands.login(channel, "works", Ref("a"), True, {"change": (Slot(Ref("b")),)}))
    assert issubclass(type(got), outcome), got
    wanted = [(Slot(Ref("a" if "urrent" in one else "b")),) for one in questions]
    assert typed == [None, *wanted[: 1 if case == "refused" else 0 if case == "another question" else None]]
    assert case != "refused" or said_by(got) == "BAD PASSWORD: too short"
