"""The wiring: the one module that knows wires, adapters and bench. It is a table for each kind of part; a part is
imported when it is first named, so that a command brings in only what it needs."""

from __future__ import annotations

import importlib
import importlib.util
import logging
import os
import resource
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

from yardbolt.core.errors import OperatorError
from yardbolt.core.secret import Ref, Secret

if TYPE_CHECKING:
    from yardbolt.adapters.clock import LaptopClock as LaptopClock
    from yardbolt.adapters.files import family_file as family_file
    from yardbolt.adapters.files import find as find
    from yardbolt.adapters.files import load_baseline as load_baseline
    from yardbolt.adapters.files import load_family as load_family
    from yardbolt.adapters.files import load_job as load_job
    from yardbolt.adapters.files import named_baseline as named_baseline
    from yardbolt.adapters.files import outline as outline
    from yardbolt.adapters.files import schema as schema
    from yardbolt.adapters.files import shipped as shipped
    from yardbolt.adapters.laptop import addresses_of as addresses_of
    from yardbolt.adapters.laptop import holds as holds
    from yardbolt.adapters.laptop import neighbour as neighbour
    from yardbolt.adapters.records import SqliteRecords as SqliteRecords
    from yardbolt.adapters.safe import KdbxSafe as KdbxSafe
    from yardbolt.adapters.safe import apart as apart
    from yardbolt.adapters.safe import copy_again as copy_again
    from yardbolt.adapters.safe import make_safe as make_safe
    from yardbolt.adapters.tries import book_of_tries as book_of_tries
    from yardbolt.adapters.tries import renewed as renewed
    from yardbolt.adapters.whole import only_ours as only_ours
    from yardbolt.adapters.whole import write_whole as write_whole
    from yardbolt.adapters.wordlist import common_passwords as common_passwords
    from yardbolt.bench.realhost import missing as missing
    from yardbolt.bench.realhost import standing as standing
    from yardbolt.core.ports import Wire
    from yardbolt.core.talk.conversation import Talk
    from yardbolt.wires.look import SocketsOfLaptop as SocketsOfLaptop
    from yardbolt.wires.look import TcpLook as TcpLook
    from yardbolt.wires.receiver import Receiver as Receiver
    from yardbolt.wires.ssh import key_in as key_in

IN_WIRES: Mapping[str, str] = {
    "TcpLook": "look", "SocketsOfLaptop": "look", "Receiver": "receiver", "key_in": "ssh",
}  # fmt: skip
IN_ADAPTERS: Mapping[str, str] = {
    # our files
    "load_job": "files", "load_family": "files", "load_baseline": "files", "named_baseline": "files",
    "family_file": "files", "find": "files", "shipped": "files", "outline": "files", "schema": "files",
    # the record, the safe, the laptop
    "SqliteRecords": "records", "book_of_tries": "tries", "renewed": "tries",
    "KdbxSafe": "safe", "make_safe": "safe", "copy_again": "safe", "apart": "safe",
    "LaptopClock": "clock", "holds": "laptop", "neighbour": "laptop", "addresses_of": "laptop",
    "write_whole": "whole", "only_ours": "whole", "common_passwords": "wordlist",
}  # fmt: skip
IN_BENCH: Mapping[str, str] = {"missing": "realhost", "standing": "realhost"}
ROOMS = {"wires": IN_WIRES, "adapters": IN_ADAPTERS, "bench": IN_BENCH}
Secrets = Callable[[Ref], Secret | None]


def __getattr__(name: str) -> Any:
    """A part, from the table it stands in (PEP 562)."""
    for room, table in ROOMS.items():
        if name in table:
            return getattr(importlib.import_module(f"yardbolt.{room}.{table[name]}"), name)
    raise AttributeError(name)


def prepare_process() -> None:
    """Foreign libraries say nothing of their own (some would log credentials); nothing of ours is left for others to
    read."""
    logging.getLogger().addHandler(logging.NullHandler())
    for name in ("asyncssh", "telnetlib3", "pykeepass", "httpx", "httpcore", "pysnmp"):
        logging.getLogger(name).setLevel(logging.CRITICAL)
    # no secret in a core file, and nothing we write is for others to read
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    os.umask(0o077)


prepare_process()


def connect(secrets: Secrets, talk: Talk, service: str, pin: str, outdated: bool = False) -> Wire:
    """A wire, not yet opened, as the row of its way names it; `outdated` lets it take TLS and SSH that is. Raises
    OperatorError where none carries this way over this service."""
    named = talk.wires.get(service)
    if named is None:
        raise OperatorError(f"no wire carries '{talk.name}' over {service}; there are {', '.join(talk.wires)}")
    module, _, kind = named.partition(":")
    wire: Wire = getattr(importlib.import_module(f"yardbolt.wires.{module}"), kind)(secrets, pin, outdated)
    return wire


def trial_wire(secrets: Secrets, scheme: str) -> Wire:
    """A wire that tries one typed login on a host of which nothing else is known, and runs nothing there."""
    from yardbolt.core.talk.ways import UNDESCRIBED

    return connect(secrets, UNDESCRIBED[1], scheme, "")


def bench() -> Any:
    """The bench's servers. Raises OperatorError where what only they need is not installed."""
    if not all(importlib.util.find_spec(name) for name in ("starlette", "uvicorn")):
        raise OperatorError("the bench needs two more packages: pip install 'yardbolt[bench]'")
    from yardbolt.bench import serve

    return serve
