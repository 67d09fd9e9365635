"""What units say: dialogues, rows, decoders. Fed whole, byte by byte, with rubbish around; hostile text gives no value and no harm."""

from __future__ import annotations

import struct
import time
from base64 import b64decode, b64encode
from datetime import UTC, datetime
from hashlib import sha256
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.bare import FAMILY
from yardbolt.core.addresses import ANYONE
from yardbolt.core.dialogue import CLOSED, Entry, Heard, Listener, Turn, clean, converse, login
from yardbolt.core.errors import UnitError
from yardbolt.core.extract import Leftover, Whole, extract, merge
from yardbolt.core.family import Drop, Make, Order, Set, after, render, spelled
from yardbolt.core.formats import DECODERS
from yardbolt.core.formats.kexinit import decode_kexinit
from yardbolt.core.plane import ABSENT, NEVER, Plane, get, make, put, whole
from yardbolt.core.secret import Ref, Slot
from yardbolt.core.signs import row

ASK = {a.name: a for a in FAMILY.asks}
HANDS = "hand          rank     state    phrase\nforeman       chief    working  worksmade\nhand          chief    working  own\nspanner       chief    working  none\n"


@given(st.lists(st.integers(1, 9), max_size=30), st.sampled_from(["\r\n", "\n"]))
def test_a_sign_counts_only_alone_on_the_last_line_after_silence(cuts: list[int], end: str) -> None:
    """Fed in any pieces, the prompt inside a reply ends nothing; the real one does, once it is quiet."""
    said = f"look plate{end}a |> b{end}ql8-new |> {end}\x1b[1mdone\x1b[0m\x07{end}ql8-new |> "
    ears = Listener(Turn((), ("{any} |> ",)))
    while said:
        n = cuts.pop() if cuts else 400
        assert ears.feed(said[:n], False) is None
        said = said[n:]
    heard = ears.feed("", True)
    assert heard is not None and heard.text.endswith("ql8-new |> \ndone") and "\x1b" not in heard.text
    assert Listener(Turn((), ("{any} |> ",))).feed("half ql8-new |> ", True) is None


def answer(talk: Any, heard: list[Heard]) -> Any:
    """Feed a conversation what was heard; its end, and what it had sent."""
    sent = [next(talk)]
    try:
        for h in heard:
            sent.append(talk.send(h))
    except StopIteration as stop:
        return stop.value, [t.send for t in sent]
    raise AssertionError("the conversation did not end")


def test_an_answer_cut_early_is_settled_by_an_empty_line() -> None:
    """A prompt before the echo of the command is not its answer: late output of the command before never counts as the reply."""
    assert FAMILY.console
    prompt = FAMILY.console.prompt
    reply, sent = answer(converse(FAMILY.console, Order(("look kept",))), [Heard(prompt, "late words"), Heard(prompt, "look kept\n0 unlike")])
    assert reply.text == "0 unlike" and sent == [("look kept",), ()]


def test_gates_are_never_passed_by_themselves() -> None:
    """Terms and forced changes end a login as prompted unless they are answered; a question asked twice is a no."""
    assert FAMILY.console
    con, terms, change = FAMILY.console, FAMILY.console.gates[0].sign, FAMILY.console.gates[1].sign
    end, _ = answer(login(con, "a", Ref("x"), False), [Heard(terms, "THE TERMS")])
    assert (end.entry, end.gate) == (Entry.PROMPTED, "terms") and "THE TERMS" in end.text
    new = (Slot(Ref("safe:u/a")),)
    end, sent = answer(login(con, "a", Ref("x"), False, {"change": new}), [Heard(change, ""), Heard(change, "Too short by 3.")])
    assert (end.entry, end.gate, end.text) == (Entry.PROMPTED, "change", "Too short by 3.") and sent.count(new) == 1
    for said, entry in (("Not known here.", Entry.REFUSED), ("That hand is resting.", Entry.LOCKED)):
        end, sent = answer(login(con, "a", Ref("x"), True), [Heard(con.account, ""), Heard(con.secret, ""), Heard(con.account, said)])
        assert end.entry is entry and sent == [None, ("a",), (Slot(Ref("x")),)]
    end, _ = answer(login(con, "a", Ref("x"), True), [Heard(CLOSED, "")])
    assert end.entry is Entry.CLOSED


def test_endless_and_shapeless_output_is_bounded() -> None:
    """A megabyte in one answer, or a line without end, is an error and not a memory."""
    for chunk in ("x" * 70000, "words of no end\n" * 5000):
        ears = Listener(Turn((), ("> ",)))
        with pytest.raises(UnitError):
            for _ in range(40):
                ears.feed(chunk, False)
    assert clean("a\x1b]0;title\x07b\x9bc\u202ed\r\ne\x00") == "abcd\ne"


def read(name: str, reply: str) -> Any:
    return extract(FAMILY, ASK[name], reply, now=datetime(2026, 1, 1, tzinfo=UTC))


def test_headings_go_by_position_and_lines_not_understood_leave_a_list_open() -> None:
    """An account called like the heading stays; one strange line, a missing heading or a hostile key and the list is not whole."""
    plane = merge(FAMILY, read("hands", HANDS)).plane
    assert [a.key for a in plane.accounts.items] == ["foreman", "hand", "spanner"] and plane.accounts.complete
    assert get(plane, ("accounts", "foreman", "storage")) == "factory" and get(plane, ("accounts", "foreman", "permitted")) is ABSENT
    for spoiled in (
        HANDS + "?? ghost\n",
        HANDS.split("\n", 1)[1],
        HANDS + "a;reboot     chief    working  own\n",
        HANDS + "odd         boss    working  own\n" * 0 + "x y z\n",
    ):
        got = read("hands", spoiled)
        assert any(isinstance(p, Leftover) for p in got) and not any(isinstance(p, Whole) for p in got), spoiled


def test_values_keep_their_meaning() -> None:
    """Empty sources are anyone, never is infinite, (none) is not set, units convert; two answers that disagree are unknown."""
    plate = "nameplate ......... a..b\nrest after ........ never\ngreeting .......... (none)\nclock ............. 2026-01-01 00:01:00 +00:00\nlocked for ........ 60 s\n"
    plane = merge(FAMILY, read("plate", plate)).plane
    assert (plane.name, plane.idle, plane.banner, plane.clock.offset, plane.lockout.release) == ("a..b", NEVER, ABSENT, 60.0, 60.0)
    gates = merge(FAMILY, read("gates", "gate wire state from\nshell 2022 open\ntalk 2023 shut 10.0.0.0/8,192.0.2.1-192.0.2.2\n")).plane
    assert (
        get(gates, ("services", "ssh", "permitted")) == ANYONE
        and str(get(gates, ("services", "telnet", "permitted"))) == "10.0.0.0/8, 192.0.2.1, 192.0.2.2"
    )
    both = merge(FAMILY, read("plate", "nameplate ... one\n") + read("plate", "nameplate ... two\n"))
    assert both.plane.name is None and both.conflicts == (("name",),)
    assert [p for p in read("plate", "shortest phrase ... many\n") if isinstance(p, Leftover)]


@given(st.text(max_size=300))
def test_any_text_gives_parts_and_never_an_exception(text: str) -> None:
    """Every extractor and every decoder takes anything; a decoder that understood nothing claims nothing whole without saying so."""
    for name in ASK:
        read(name, text)
    for d in DECODERS.values():
        got = d.decode(text, "x")
        assert all(len(line) < 1000 for line in got.leftovers)
        d.decode("\n".join([text] * 2), "x")


def test_no_line_makes_a_row_crawl() -> None:
    """Rows are matched without nested repetition: a line of 16 KiB made to hurt is done at once, compared with a plain one."""
    form = row("{key} {port:number} {state} {from:rest}").form

    def took(line: str) -> float:
        start = time.perf_counter()
        for _ in range(20):
            form.match(line)
        return time.perf_counter() - start

    plain = took("a 1 open " + "x" * 16000)
    assert took("a " * 8000) < 200 * plain + 0.5 and took("1 " * 8000 + "\x00") < 200 * plain + 0.5


def test_commands_take_no_key_a_unit_made_up() -> None:
    """A name with a line break, a blank or an option sign is not put into a command; a secret goes as a slot, never as text."""
    for key in ("a\nkeep", "a b", "-x", "a;b", "", "x" * 40):
        with pytest.raises(ValueError):
            render(FAMILY, Drop(("accounts", key)), make(Plane(), ("accounts", key)) if key else Plane())
    order = render(FAMILY, Make(("accounts", "lt-works"), (("role", "full"), ("secret", Ref("safe:u/x")))), whole(Plane(), "accounts"))
    assert order.say == ("hire ", "lt-works", " ", "chief") and order.prompts[0] == ("Phrase for {any}: ", (Slot(Ref("safe:u/x")),))
    with pytest.raises(ValueError, match="72 printable"):
        render(FAMILY, Set(("banner",), "x" * 73), Plane())


@given(
    st.sampled_from(
        [("idle", 600.0), ("idle", NEVER), ("banner", ABSENT), ("banner", "Keep out."), ("policy/min_length", 14), ("lockout/release", 90.0)]
    )
)
def test_writing_and_reading_are_inverse(case: tuple[str, Any]) -> None:
    """What is spelt for the unit, done by the unit and read back is the value that was meant."""
    from tests.bare import Bare, Watch
    from yardbolt.bench.lineswitch import Hand, LineSwitch
    from yardbolt.core.access import Way

    path, value = tuple(case[0].split("/")), case[1]
    unit = LineSwitch(Watch(), shy=0.0)
    unit.terms_taken, unit.hands["foreman"] = True, Hand("chief", "k7mw-fore-29tx", "own")
    unit.live.rest, unit.live.greeting = 7, "before"
    bare, me = Bare(unit, Watch(), {"s": "k7mw-fore-29tx"}), Way("127.0.0.1", "ssh", "foreman", Ref("s"))
    bare.enter(me)
    assert bare.order(me, render(FAMILY, Set(path, value), Plane())).trouble == ""
    seen = bare.read(me)
    assert seen is not None and get(seen, path) == value == get(after(FAMILY, seen, Set(path, value)), path)
    assert spelled(FAMILY, ("services", "ssh", "permitted"), ANYONE) == ""


SAMPLES: dict[str, tuple[str, dict[tuple[str, ...], Any]]] = {
    "passwd": (
        "root:x:0:0:root:/root:/bin/bash\ndaemon:x:1:1::/usr/sbin:/usr/sbin/nologin\ntram::1000:1000::/home/tram:/bin/sh\n",
        {("accounts", "root", "role"): "full", ("accounts", "daemon", "role"): "none", ("accounts", "tram", "role"): "change", ("accounts", "tram", "storage"): "blank"},
    ),
    "shadow": (
        "root:!:19000:0:99999:7:::\ntram:$y$j9T$abc:19000:0:99999:7:::\nold::19000:0:99999:7::0:\n",
        {("accounts", "root", "storage"): "locked", ("accounts", "tram", "storage"): "one-way", ("accounts", "old", "storage"): "blank", ("accounts", "old", "enabled"): False},
    ),
    "sockets": (
        'tcp LISTEN 0 128 0.0.0.0:22 0.0.0.0:* users:(("sshd",pid=1,fd=3))\nudp UNCONN 0 0 [::1]:323 [::]:*\ntcp LISTEN 0 9 [fe80::1]%eth0:80 [::]:*\n',
        {("listening", "tcp 0.0.0.0 22", "program"): "sshd", ("listening", "udp ::1 323", "port"): 323, ("listening", "tcp fe80::1 80", "transport"): "tcp"},
    ),
    "openssh-settings": (
        "port 22\npermitrootlogin without-password\npasswordauthentication no\npermitemptypasswords no\nmaxauthtries 6\nlogingracetime 0\nbanner none\n"
        "allowusers tram@192.0.2.1\nallowusers keeper\nciphers aes128-ctr,3des-cbc\nchanneltimeout session=600\n",
        {("services", "ssh", "root_login"): "keys", ("services", "ssh", "password_login"): False, ("services", "ssh", "grace"): NEVER, ("services", "ssh", "idle"): 600.0,
         ("services", "ssh", "accounts"): ("keeper", "tram@192.0.2.1"), ("banner",): ABSENT, ("services", "ssh", "ciphers"): ("3des-cbc", "aes128-ctr")},
    ),
    "openssh-keys": ('# c\nfrom="192.0.2.1" ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIA== x@y\n', {("accounts", "k", "keys"): ("SHA256:" + b64encode(sha256(b64decode("AAAAC3NzaC1lZDI1NTE5AAAAIA==")).digest()).decode().rstrip("="),)}),
    "os-release": ('ID=debian\nNAME="Debian GNU/Linux"\nVERSION_ID="12"\n', {("identity", "make"): "debian", ("identity", "software"): "12"}),
    "notice": ("\n Keep out. \n", {("banner",): "Keep out."}),
    "name": ("lt-log-1\n", {("name",): "lt-log-1"}),
    "sshd-command": ("sshd: tram@notty\nsshd: /usr/sbin/sshd -D -f /x/cfg [listener]\n", {("services", "ssh", "config"): "/x/cfg"}),
}  # fmt: skip


@pytest.mark.parametrize("name", DECODERS)
def test_decoders_read_their_format_and_leave_the_rest(name: str) -> None:
    """Real samples give the facts; a strange line is left over and nothing of it becomes a fact; secrets go no further."""
    text, facts = SAMPLES[name]
    got = DECODERS[name].decode(text, "k")
    told = dict(got.facts)
    for path, value in facts.items():
        assert told[path] == value, path
    assert not got.leftovers and not any("$y$" in str(v) for v in told.values())
    if DECODERS[name].whole:
        assert DECODERS[name].decode(text + "strange\n", "k").leftovers


@given(st.binary(max_size=400))
def test_a_key_exchange_offer_is_read_or_not(rubbish: bytes) -> None:
    """RFC 4253, 7.1: whole packets give the lists; anything else gives nothing."""
    lists = b"".join(
        struct.pack(">I", len(x)) + x
        for x in (b"curve25519-sha256,ecdh", b"ssh-ed25519", b"aes128-ctr", b"aes", b"hmac-sha2-256", b"mac", b"none", b"none", b"", b"")
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
    """Not set never becomes not read, nor the other way round."""
    plane = merge(FAMILY, read("kept", "0 unlike\n")).plane
    assert plane.stores.differences == 0 and plane.name is None and plane.policy.history is ABSENT
    assert put(plane, ("name",), None) == plane
