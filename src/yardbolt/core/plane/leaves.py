"""The leaves of the management plane: the fields below are the one place from which paths, coercion of replies,
checking of family files and baselines, the JSON form, differences and the reference in `docs/plane.md` are
derived."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ..addresses import AddressSet
from ..secret import Ref
from .kinds import (
    Absent,
    Among,
    Listing,
    flag,
    interface_addresses,
    leaf,
    many,
    nameset,
    number,
    part,
    reference,
    seconds,
    sources,
    text,
    wordset,
)
from .seen import Answering, Certificate, File, Job, Listening, Seat, Trial


@dataclass(frozen=True)
class Identity:
    make: str | None = leaf(text, "who made it")
    model: str | None = leaf(text, "what it is")
    serial: str | None = leaf(text, "its serial number; ties the record to the unit")
    hardware: str | None = leaf(text, "its hardware address, as printed on the case")
    software: str | None = leaf(text, "the level of its software")
    uptime: float | None = leaf(seconds, "since it was started", "seconds", steady=False)


@dataclass(frozen=True)
class Host:
    init: str | Absent | None = leaf(text, "what starts its services: systemd, sysv, busybox")
    elevates: str | Absent | None = leaf(text, "how an account becomes root: sudo, doas; not set = only root is root")


@dataclass(frozen=True)
class Clock:
    offset: float | None = leaf(seconds, "its clock minus the laptop's", "seconds", steady=False, slack=5.0)
    source: str | Absent | None = leaf(text, "whose time it keeps, as its own daemon says", steady=False)
    servers: tuple[str, ...] | Absent | None = leaf(nameset, "the time servers it is set to ask")
    synchronised: bool | Absent | None = leaf(flag, "is it in step with its source", steady=False)
    zone: str | Absent | None = leaf(text, "its time zone")


@dataclass(frozen=True)
class Policy:
    min_length: int | Absent | None = leaf(number, "shortest password it accepts", "characters")
    classes: int | Absent | None = leaf(
        number, "how many of lower case, upper case, digit, sign a password must hold", "classes"
    )
    max_repeat: int | Absent | None = leaf(number, "longest run of one repeated character it accepts", "characters")
    max_run: int | Absent | None = leaf(number, "longest rising or falling run (abc, 321) it accepts", "characters")
    history: int | Absent | None = leaf(number, "how many earlier passwords it refuses", "passwords")

    binds_root: bool | Absent | None = leaf(flag, "does it bind root too")
    dictionary: str | Absent | None = leaf(
        text, "the dictionary its word check needs: there, missing (then users can set no password), not used"
    )


@dataclass(frozen=True)
class Lockout:
    tries: int | Absent | None = leaf(number, "wrong tries before an account is locked", "tries")
    release: float | Absent | None = leaf(
        seconds, "how long it stays locked; never = until somebody unlocks it", "seconds"
    )
    binds_root: bool | Absent | None = leaf(flag, "does it lock root too")


@dataclass(frozen=True)
class Logs:
    destinations: tuple[str, ...] | Absent | None = leaf(nameset, "where its logs are sent: transport, address, port")


@dataclass(frozen=True)
class Asker:
    key: str
    level: str | Absent | None = leaf(
        text, "what it must at least do to be answered: noAuthNoPriv, authNoPriv, authPriv (RFC 3411, section 3.4.3)"
    )
    rights: str | Absent | None = leaf(text, "what it may do: read, change, none")
    secret: Ref | Absent | None = leaf(reference, "the passphrase that was answered last")


@dataclass(frozen=True)
class Alerts:
    recipients: tuple[str, ...] | Absent | None = leaf(nameset, "who it writes to when something is wrong")


@dataclass(frozen=True)
class Stored:
    sealed: bool | Absent | None = leaf(
        flag, "are the secrets it stores, and its copies, sealed under a key of the owner"
    )
    guard: Ref | None = leaf(reference, "that key")
    support_code: bool | Absent | None = leaf(flag, "has it a code by which its maker helps, to be noted off the unit")


@dataclass(frozen=True)
class Snmp:
    communities: int | Absent | None = leaf(number, "communities it takes", "communities")
    published: int | Absent | None = leaf(number, "those of them that anybody knows: public, private", "communities")
    writing: int | Absent | None = leaf(number, "those of them that may write", "communities")
    users: Listing[Asker] = many(Asker, "users it answers (RFC 3414)")


@dataclass(frozen=True)
class Account:
    key: str
    role: str | Absent | None = leaf(text, "what it may do: full, change, read, none, or the name of a role")
    enabled: bool | Absent | None = leaf(flag, "may it log in at all")
    origin: str | Absent | None = leaf(Among(("factory", "ours", "system")), "who made it: factory, ours, system")
    storage: str | Absent | None = leaf(
        Among(("one-way", "outdated", "reversible", "clear", "blank", "locked", "factory", "own")),
        "how its secret is kept: one-way, outdated, reversible, clear, blank, locked, factory, own",
    )
    becomes_root: str | Absent | None = leaf(
        text, "how it may become root: is root, freely, with its password, some commands, no"
    )
    permitted: AddressSet | Absent | None = leaf(sources, "from where it may log in")
    secret: Ref | Absent | None = leaf(reference, "the credential that opened it in this run")
    weakness: tuple[str, ...] | Absent | None = leaf(
        wordset, "what is wrong with the credential that opened it", steady=False
    )
    keys: tuple[str, ...] | Absent | None = leaf(
        wordset, "fingerprints of the SSH keys that open it (RFC 4255 form, SHA-256)"
    )
    keys_taken: bool | Absent | None = leaf(
        flag, "does the server take its file of keys, by the modes of all that leads to it"
    )
    own_rules: bool | Absent | None = leaf(
        flag, "do rules of its own stand in the place of the policy; what they leave out is not demanded"
    )
    own_length: int | Absent | None = leaf(number, "shortest password by those rules", "characters")
    own_classes: int | Absent | None = leaf(number, "how many classes by those rules", "classes")
    factor: str | Absent | None = leaf(text, "what it is asked for with its password: none, mail, or another word")
    mailbox: str | Absent | None = leaf(text, "where that is sent")


@dataclass(frozen=True)
class Viewer:
    key: str
    storage: str | Absent | None = leaf(Among(("factory", "own")), "whose its password is: factory, own")


@dataclass(frozen=True)
class Picture:
    asks: str | Absent | None = leaf(
        Among(("none", "basic", "digest")), "how a login is asked for before it is shown: none, basic, digest"
    )
    viewers: Listing[Viewer] = many(Viewer, "who may see it, and no settings")


@dataclass(frozen=True)
class Area:
    key: str
    access: str | Absent | None = leaf(text, "what the role may do there: change, read, none")


@dataclass(frozen=True)
class Role:
    key: str
    areas: Listing[Area] = many(Area, "what it may do, area by area")


def places_of(transport: Any, port: Any, also: Any) -> frozenset[tuple[str, int]]:
    """Where a service listens, as far as that was read: transport and port."""
    own = {(transport if isinstance(transport, str) else "tcp", port)} if isinstance(port, int) else set()
    more = (place.partition(" ") for place in (also if isinstance(also, tuple) else ()))
    return frozenset(own | {(by, int(at)) for by, _, at in more if at.isdigit()})


@dataclass(frozen=True)
class Service:
    key: str
    enabled: bool | Absent | None = leaf(flag, "is it set to run")
    boot: bool | Absent | None = leaf(flag, "does the next boot start it")
    port: int | Absent | None = leaf(number, "where it listens")
    transport: str | Absent | None = leaf(text, "tcp or udp; not set is tcp")
    also: tuple[str, ...] | Absent | None = leaf(wordset, "where else it listens, as in tcp 8080", steady=False)
    together: tuple[str, ...] | Absent | None = leaf(
        wordset, "what goes off with it, for one program serves both", steady=False
    )
    starter: bool | Absent | None = leaf(flag, "is it known what starts it", steady=False)
    encrypted: bool | Absent | None = leaf(flag, "does it encrypt")
    shows: tuple[str, ...] | Absent | None = leaf(
        wordset, "which of its settings it shows to anyone who does not log in", steady=False
    )
    permitted: AddressSet | Absent | None = leaf(sources, "who may connect")
    interfaces: tuple[str, ...] | Absent | None = leaf(wordset, "the only interfaces it is bound to")
    idle: float | Absent | None = leaf(seconds, "idle timeout of this service alone", "seconds")
    accounts: tuple[str, ...] | Absent | None = leaf(wordset, "the only accounts that may use it, name or name@address")
    root_login: str | Absent | None = leaf(text, "may root log in by it: yes, keys, no")
    password_login: bool | Absent | None = leaf(flag, "does it take passwords")
    key_login: bool | Absent | None = leaf(flag, "does it take keys")
    blank_login: bool | Absent | None = leaf(flag, "does it take blank passwords")
    tries: int | Absent | None = leaf(number, "tries in one connection", "tries")
    grace: float | Absent | None = leaf(seconds, "time to log in", "seconds")
    key_types: tuple[str, ...] | Absent | None = leaf(wordset, "host key algorithms it offers (RFC 4253, section 7.1)")
    exchanges: tuple[str, ...] | Absent | None = leaf(wordset, "key exchanges it offers (RFC 4253, section 7.1)")
    ciphers: tuple[str, ...] | Absent | None = leaf(wordset, "ciphers it offers")
    macs: tuple[str, ...] | Absent | None = leaf(wordset, "message authentication it offers")
    authority: str | Absent | None = leaf(
        text, "the file of authorities whose certificates open accounts (sshd_config(5), TrustedUserCAKeys)"
    )
    key_command: str | Absent | None = leaf(
        text, "the program that gives it more keys of accounts (sshd_config(5), AuthorizedKeysCommand)"
    )
    rsa_bits: int | Absent | None = leaf(number, "its smallest RSA or DSA host key", "bits")
    config: str | Absent | None = leaf(text, "the file it takes its settings from")
    keyed: bool | Absent | None = leaf(flag, "has it a key of its own, without which it cannot start")

    @property
    def places(self) -> frozenset[tuple[str, int]]:
        """Where it listens, as far as that was read."""
        return places_of(self.transport, self.port, self.also)


@dataclass(frozen=True)
class Interface:
    key: str
    side: str | Absent | None = leaf(text, "inside, outside, management, wireless")
    enabled: bool | Absent | None = leaf(flag, "is it in use")
    hardware: str | Absent | None = leaf(text, "its hardware address")
    mode: str | Absent | None = leaf(text, "how it gets its address: fixed, leased, none")
    addresses: tuple[str, ...] | Absent | None = leaf(interface_addresses, "its addresses with prefix length")
    gateway: str | Absent | None = leaf(text, "where it sends what is not on its own network")
    vlan: int | Absent | None = leaf(number, "the VLAN it is tagged with (IEEE 802.1Q)")
    group: str | Absent | None = leaf(text, "the group of sockets it belongs to")
    services: tuple[str, ...] | Absent | None = leaf(wordset, "management services it lets in")
    entry_list: str | Absent | None = leaf(text, "the entry list attached to it")
    announces: bool | Absent | None = leaf(flag, "does it tell its neighbours what it is (IEEE 802.1AB)")
    lends: bool | Absent | None = leaf(flag, "does it lend addresses there (RFC 2131)")
    passphrase: str | Absent | None = leaf(
        text, "whose the passphrase of its radio is: factory (anybody can read it), own, none"
    )


@dataclass(frozen=True)
class AddressList:
    key: str
    members: AddressSet | Absent | None = leaf(sources, "the addresses it names")


@dataclass(frozen=True)
class InterfaceGroup:
    key: str
    members: tuple[str, ...] | Absent | None = leaf(wordset, "the interfaces it names")


@dataclass(frozen=True)
class FilterRule:
    key: str
    position: int | None = leaf(number, "its place in the order; the lowest is looked at first")
    stage: str | Absent | None = leaf(text, "the stage it belongs to, where there are several")
    verdict: str | Absent | None = leaf(
        text, "what it does with what matches: pass, block, jump, goto, return, continue, other"
    )
    leads_to: str | Absent | None = leaf(text, "the stage it jumps or goes to")
    opaque: bool | Absent | None = leaf(flag, "does it ask something that is not understood; not set is no")
    families: tuple[str, ...] | Absent | None = leaf(wordset, "the address families it is for: 4, 6; not set is both")
    destinations: AddressSet | Absent | None = leaf(sources, "the host's own addresses it matches; not set is any")
    state: str | Absent | None = leaf(text, "the connections it is for: new, established; not set is both")
    enabled: bool | Absent | None = leaf(flag, "is it in force; not set is yes")
    sources: AddressSet | Absent | None = leaf(sources, "the addresses it matches; not set is any")
    named: str | Absent | None = leaf(text, "the named addresses it matches")
    not_named: bool | Absent | None = leaf(flag, "does it match all but those")
    socket: str | Absent | None = leaf(text, "the socket, or group of sockets, it matches; not set is any")
    transport: str | Absent | None = leaf(text, "the transport it matches: tcp, udp; not set is any")
    ports: tuple[str, ...] | Absent | None = leaf(wordset, "the ports it matches; not set is any")
    note: str | Absent | None = leaf(text, "what somebody wrote beside it")


@dataclass(frozen=True)
class FilterStage:
    key: str
    position: int | Absent | None = leaf(number, "its place among those every packet passes; not set: only by a jump")
    default: str | Absent | None = leaf(Among(("pass", "block")), "what happens at its end: pass, block")
    families: tuple[str, ...] | Absent | None = leaf(
        wordset, "the address families whose packets pass it; not set is both"
    )


@dataclass(frozen=True)
class PacketFilter:
    default: str | Absent | None = leaf(
        Among(("pass", "block")), "what happens to what no rule matches: pass, block; not set = no filter"
    )
    empty_names: str | Absent | None = leaf(text, "what a name without addresses matches: anyone, nobody")
    unseen: tuple[str, ...] | Absent | None = leaf(nameset, "filters of another kind, whose rules are not seen here")


@dataclass(frozen=True)
class EntryList:
    key: str
    services: tuple[str, ...] | Absent | None = leaf(wordset, "the management services it permits")
    permitted: AddressSet | Absent | None = leaf(sources, "who may use them")


@dataclass(frozen=True)
class ConsoleLine:
    key: str
    kind: str | Absent | None = leaf(text, "serial, screen, remote")
    enabled: bool | Absent | None = leaf(flag, "can it be used")
    login: str | Absent | None = leaf(Among(("none", "secret", "account")), "what it asks for: none, secret, account")
    idle: float | Absent | None = leaf(seconds, "idle timeout there", "seconds")
    storage: str | Absent | None = leaf(
        Among(("factory", "own")), "whose the word it asks for is, where that is no account's: factory, own"
    )
    secret: Ref | Absent | None = leaf(reference, "that word")


@dataclass(frozen=True)
class Stores:
    differences: int | Absent | None = leaf(
        number, "settings that are live but not saved for the next start", "settings"
    )
    names: tuple[str, ...] | Absent | None = leaf(
        nameset, "what is live but not saved, as the unit calls it", steady=False
    )
    waiting: int | Absent | None = leaf(number, "edits that are staged but not live", "edits")
    returning: float | Absent | None = leaf(
        seconds,
        "when a timed return takes back what is not confirmed; never = at the next start",
        "seconds",
        steady=False,
    )


@dataclass(frozen=True)
class FirstRun:
    terms: str | Absent | None = leaf(text, "licence terms: open or accepted", steady=False)
    forced: tuple[str, ...] | Absent | None = leaf(
        wordset, "accounts whose password it wants changed first", steady=False
    )


@dataclass(frozen=True)
class Plane:
    """Everything that can be known of how one unit is managed. Frozen; every field is a part, a leaf or a list."""

    identity: Identity = part(Identity, "which unit it is")
    name: str | Absent | None = leaf(text, "what the unit calls itself")
    mode: str | Absent | None = leaf(
        text, "how it guards itself, where it has several ways of it: strict, or another word"
    )
    host: Host = part(Host, "how it runs, where it is a host with files")
    clock: Clock = part(Clock, "its time")
    banner: str | Absent | None = leaf(text, "the notice shown at login")
    idle: float | Absent | None = leaf(seconds, "idle timeout of every way in; never = infinity", "seconds")
    policy: Policy = part(Policy, "what it demands of passwords")
    lockout: Lockout = part(Lockout, "what it does after wrong tries")
    logs: Logs = part(Logs, "where its logs go")
    alerts: Alerts = part(Alerts, "who it tells")
    stored: Stored = part(Stored, "what it keeps secret")
    snmp: Snmp = part(Snmp, "who may ask it by SNMP")
    picture: Picture = part(Picture, "who sees its picture, where it takes one")
    accounts: Listing[Account] = many(Account, "who can log in")
    roles: Listing[Role] = many(Role, "rights that accounts can be given")
    services: Listing[Service] = many(Service, "ways to manage it")
    interfaces: Listing[Interface] = many(Interface, "its sockets, real and virtual")
    named_addresses: Listing[AddressList] = many(AddressList, "named lists of addresses")
    socket_groups: Listing[InterfaceGroup] = many(InterfaceGroup, "named groups of interfaces")
    filter_rules: Listing[FilterRule] = many(FilterRule, "rules for what may reach the unit itself, in order")
    filter_stages: Listing[FilterStage] = many(FilterStage, "stages those rules stand in, where there are several")
    packet_filter: PacketFilter = part(PacketFilter, "what holds where no rule matches")
    entry_lists: Listing[EntryList] = many(
        EntryList, "lists of who may come, and by which services, that sockets can be given"
    )
    consoles: Listing[ConsoleLine] = many(ConsoleLine, "console and remote entry points")
    jobs: Listing[Job] = many(Job, "what runs by itself")
    files: Listing[File] = many(File, "files that can change who gets in")
    answering: Listing[Answering] = many(Answering, "ports that answer, seen from outside", steady=False)
    certificates: Listing[Certificate] = many(Certificate, "certificates it shows", steady=False)
    listening: Listing[Listening] = many(Listening, "sockets it listens on, seen from inside")
    trials: Listing[Trial] = many(Trial, "published logins that were tried", steady=False)
    sessions: Listing[Seat] = many(Seat, "who is inside", steady=False)
    stores: Stores = part(Stores, "staged, live and saved settings")
    first_run: FirstRun = part(FirstRun, "what it asks at the first login")
