"""History: the journal folded once answers budget, candidates, known secrets, and what is ours on resume."""

from __future__ import annotations

import math
from datetime import UTC, datetime, timedelta
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from yardbolt.application.prove import _started
from yardbolt.core.run.events import (
    BackedOut,
    Entry,
    GateAnswering,
    Proven,
    ReadBack,
    RunBegun,
    RunFinished,
    Sending,
    Stamp,
    Tried,
    Trying,
)
from yardbolt.core.run.history import WINDOW, History, scopes
from yardbolt.core.secret import Ref

START = datetime(2026, 1, 1, tzinfo=UTC)


def at(minutes: float, unit: str = "u", run: int = 0) -> Stamp:
    return Stamp((START + timedelta(minutes=minutes)).isoformat(), unit, run)


def login(kind: Any = Tried, account: str = "a", secret: str = "safe:u/a", address: str = "x", **more: Any) -> Any:
    return kind(account=account, service="ssh", source="s", address=address, secret=secret, **more)


def spent(**more: Any) -> Any:
    return login(outcome="refused", spent=True, **more)


def opened(**more: Any) -> Any:
    return login(outcome="opened", accepted=True, **more)


def left(history: History, minutes: float, unit: str = "u", address: str = "x", key: str = "", limit: int = 5) -> int:
    return history.tries_left("a", limit, at(minutes).time, scopes(unit, address, key))


def test_tries_are_counted_by_unit_address_and_key_and_the_largest_binds() -> None:
    """Two are spared; an unknown limit is two an hour; good logins clear; attempts without an end count; time
    passes."""
    history = History()
    assert left(history, 0) == 3 and left(history, 0, limit=0) == 2
    history.add(Entry(at(0), spent()))
    history.add(Entry(at(1, "other"), spent(key="k")))
    assert left(history, 2) == 1, "two units of the job on one address lock the account together"
    assert left(history, 2, "other", "y", "k") == 2 and left(history, 2, "third", "z") == 3
    history.add(Entry(at(3), login(Trying)))
    assert left(history, 4) == 0, "killed while trying: it counts"
    history.add(Entry(at(5), opened()))
    assert left(history, 6) == 3 and left(history, 6, "other", "y") == 2
    history.add(Entry(at(10), spent()))
    window = WINDOW.total_seconds() / 60
    assert left(history, 10 + window - 1) == 2 and left(history, 10 + window + 1) == 3


def test_what_opened_last_and_what_was_sent_are_tried_first() -> None:
    """The likeliest first: sent or opened last; a sending makes the older credential doubtful; other people's words
    are no candidates."""
    history, me = History(), History().of("u")
    for minute, event in enumerate(
        (opened(), opened(account="b", secret="safe:u/b"), opened(account="f", secret="factory:1"))
    ):
        history.add(Entry(at(minute), event))
    me = history.of("u")
    assert me.logins() == (("b", Ref("safe:u/b")), ("a", Ref("safe:u/a"))) and me.opened["f"] == Ref("factory:1")
    lost = [Entry(at(4), login(Tried, outcome="silent", spent=True)) for _ in range(7)]
    for entry in lost[:-1]:
        history.add(entry)
        assert me.opened_last("a", Ref("safe:u/a"), "ssh"), "a line that was cut says nothing of a credential"
    history.add(lost[-1])
    assert not me.opened_last("a", Ref("safe:u/a"), "ssh"), "but there are units that end the connection at a wrong one"
    history.add(Entry(at(4), opened()))
    history.add(Entry(at(5, run=1), Sending(step=0, of=9, kind="change", what="w", account="a", secret="safe:u/new")))
    assert (
        me.logins()[0] == ("a", Ref("safe:u/new"))
        and "a" not in me.opened
        and me.opened_last("a", Ref("safe:u/a"), "ssh")
    )
    history.add(Entry(at(6), spent()))
    assert not me.opened_last("a", Ref("safe:u/a"), "ssh")
    history.add(Entry(at(7), GateAnswering(gate="change", account="g", secret="safe:u/g")))
    assert me.logins()[0] == ("g", Ref("safe:u/g")) and me.uses_safe() and not history.of("new").uses_safe()


def test_a_run_is_open_from_its_approval_to_its_end() -> None:
    """Its number, whether it was cut off, and whether a restart was survived in it."""
    history = History([Entry(at(0, run=1), RunBegun(steps=3, by="t"))])
    me = history.of("u")
    assert me.open_run() == (1, True) and not me.restarted
    history.add(Entry(at(1, run=1), Proven(step=1, of=3, kind="restart", what="w")))
    history.add(Entry(at(1, run=1), Proven(step=1, of=3, kind="log in", what="w")))
    assert me.restarted == {1}
    history.add(Entry(at(2, run=1), RunFinished(steps=3)))
    assert me.open_run() == (2, False)


outcomes = st.sampled_from(
    [spent(), opened(), login(Trying), spent(account="b"), login(outcome="cut"), opened(address="y")]
)


@given(st.lists(st.tuples(st.sampled_from(["u", "v"]), outcomes), max_size=30), st.integers(0, 30))
def test_folding_in_pieces_is_folding_at_once(events: list[tuple[str, Any]], cut: int) -> None:
    """A history that grows with the journal says what one read from the beginning says."""
    entries = [Entry(at(n, unit), event) for n, (unit, event) in enumerate(events)]
    whole, grown = History(entries), History(entries[:cut])
    for entry in entries[cut:]:
        grown.add(entry)
    for unit in ("u", "v"):
        assert whole.of(unit) == grown.of(unit) and left(whole, 31, unit) == left(grown, 31, unit)
    assert left(whole, 31) <= 3


def test_a_password_given_once_more_is_counted_by_itself_and_a_key_clears_nothing() -> None:
    """To become root: two wrong ones at a time, under the account and by the service; a login by key leaves both, a
    good password only the first."""
    history = History()
    said: Any = {"account": "a", "source": "", "address": "192.0.2.1", "secret": "typed:key"}

    def used(account: str) -> int:
        return history.used(account, datetime.fromisoformat(at(0).time) - WINDOW, (("unit", "u"),))

    for _ in range(2):
        history.add(Entry(at(1), Trying(service="sudo", again=True, **said)))
    history.add(Entry(at(1), Tried(service="sudo", again=True, outcome="refused", spent=True, **said)))
    assert (used("a"), used("sudo:a")) == (2, 2) and history.of("u").refused_last("a", Ref("typed:key"), "sudo")
    history.add(Entry(at(2), Tried(service="ssh", outcome="opened", accepted=True, **said)))
    assert (used("a"), used("sudo:a")) == (2, 2)
    history.add(Entry(at(3), opened()))
    assert (used("a"), used("sudo:a")) == (0, 2)
    history.add(Entry(at(4), Tried(service="sudo", again=True, outcome="opened", accepted=True, **said)))
    assert (used("a"), used("sudo:a")) == (0, 0)


def test_what_no_restart_tried_is_known_by_its_run_and_by_a_start_that_can_be_believed() -> None:
    """A restart that was survived covers all before it; a later run that makes none covers nothing. What a unit says
    of its start is believed within reason."""
    history = History()
    step: dict[str, Any] = {"step": 0, "of": 2, "kind": "change", "what": "w"}
    history.add(Entry(at(1, run=1), Sending(**step, path="banner")))
    history.add(
        Entry(at(2, run=1), Proven(**{**step, "kind": "restart"}, account="a", service="ssh", secret="safe:u/a"))
    )
    history.add(Entry(at(3, run=1), Sending(**step, path="services/http/enabled")))
    history.add(Entry(at(4, run=2), Sending(**step, path="name")))
    unit = history.of("u")
    assert {path: stamp.run in unit.restarted for path, stamp in unit.since_restart.items()} == {
        "services/http/enabled": True, "name": False,
    }  # fmt: skip
    assert _started(START, 60.0) == (START - timedelta(minutes=1)).isoformat()
    assert [_started(START, up) for up in (None, math.inf, math.nan, -5.0, 1e300)] == [""] * 5


def test_what_is_not_kept_is_ours_until_it_is_saved_taken_back_or_lost_by_a_reset() -> None:
    """A first password and the changes of a run wait for a saving; a published login that opens again says that all
    is gone."""
    step: dict[str, Any] = {"step": 0, "of": 2, "what": "w"}
    sent = (GateAnswering(gate="change", account="a", secret="safe:u/a"), Sending(**step, kind="change", path="name"))
    for end in (ReadBack(**step, kind="save"), opened(secret="factory:1")):
        history = History()
        for event in (*sent, opened()):
            history.add(Entry(at(1, run=1), event))
        assert history.of("u").unsaved == {"accounts/a/secret", "name"}
        history.add(Entry(at(2, run=1), BackedOut(what="w", path="name")))
        assert history.of("u").unsaved == {"accounts/a/secret"}
        history.add(Entry(at(2, run=1), end))
        assert not history.of("u").unsaved, end
