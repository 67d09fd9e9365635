"""The walk of one change through planning, as somebody reads it who follows each call once: python sweeps/walk.py

A stay lasts until another room is entered. A room is a file of core that plans or binds; who gets in (judge/) is one
room. Values (properties) and the vocabulary (planes, paths, talk, the job's words, a family's own facts) are none."""

import functools
import inspect
import sys
from itertools import groupby
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests import desk
from yardbolt.core.judge.demands import Want
from yardbolt.core.plan.arrange import arrange
from yardbolt.core.plan.belief import arrival, learned
from yardbolt.core.plan.difference import changes

ROOMS = ("core/plan/", "core/family/bound", "core/family/writing", "core/family/spelling", "core/judge/")
MOST = 25
family = desk.family()
unit, way = desk.Unit(family), desk.way()
planes = {store: learned(plane, way) for store, plane in unit.planes().items()}
target = (Want(("banner",), "banner", "set", "Keep out"),)
todo, gaps = changes(planes["live"], target, family, desk.SITE)
belief = arrival(family, planes, {way}, (desk.LAPTOP,))
seen: dict[tuple[str, str], str] = {}


def is_value(frame: Any) -> bool:
    """Is it a property?"""
    owner, _, name = frame.f_code.co_qualname.rpartition(".")
    of = getattr(sys.modules[frame.f_globals["__name__"]], owner, None) if owner else None
    return isinstance(inspect.getattr_static(of, name, None), property | functools.cached_property)


def follow(frame: Any, event: str, arg: Any) -> None:
    """Note each function of a room once, when it is entered first."""
    _, inside, file = frame.f_code.co_filename.partition("/yardbolt/")
    name = frame.f_code.co_qualname
    if (
        event != "call"
        or not inside
        or not file.startswith(ROOMS)
        or frame.f_code.co_name.startswith("<")
        or is_value(frame)
    ):
        return
    seen.setdefault((file, name), "core/judge" if file.startswith("core/judge/") else file)


sys.setprofile(follow)
arrange(family, belief, todo, desk.SITE, target, gaps)
sys.setprofile(None)
stays = [(room, [name for (_, name), _ in group]) for room, group in groupby(seen.items(), key=lambda one: one[1])]
for room, names in stays:
    print(f"{room}: {', '.join(names)}")
print(f"{len(seen)} functions, {len(stays)} stays in {len({room for room, _ in stays})} rooms; at most {MOST} wanted")
sys.exit(len(stays) > MOST)
