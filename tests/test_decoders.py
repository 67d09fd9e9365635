"""Decoders of open formats: total, and never better than what was understood."""

from __future__ import annotations

import json
import random
import subprocess
from typing import Any

import pytest

from tests.spoiled import TEXTS, TREES, replies
from yardbolt.core.formats.decode import DECODERS
from yardbolt.core.formats.decode.decoder import Decoded
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.table import coerce, is_item, pattern_of
from yardbolt.core.talk.conversation import Replies

KEYS = [f"AAAAC3NzaC1lZDI1NTE5AAAAI{letter * 43}" for letter in "AB"]


def decode(name: str, text: str = "", tree: Any = None) -> Decoded:
    return DECODERS[name].decode(Replies(text, tree), "")


def fact(told: Decoded, path: str) -> Any:
    return dict(told.facts).get(tuple(path.split("/")), "not told")


def test_every_decoder_has_a_reply_here_and_understands_it() -> None:
    """The registry whole: each feeds what it says, each value is one its leaf takes."""
    assert {*TEXTS, *TREES} == {*DECODERS}
    for name in DECODERS:
        told = decode(name, TEXTS.get(name, ""), TREES.get(name))
        assert told.facts, name
        for path, value in told.facts:
            assert pattern_of(path) in DECODERS[name].feeds or path[0] in (
                "filter_rules",
                "filter_stages",
                "named_addresses",
            ), (name, path)
            if not is_item(path):
                assert coerce(path, value) == value or value is None, (name, path, value)


def test_no_reply_breaks_a_decoder() -> None:
    """Words lost, doubled, cut, exchanged, numbers grown, trees turned: always facts and doubts, never an error."""
    for name, reply in replies(random.Random(7), 4000):
        told = DECODERS[name].decode(reply, "")
        assert all(isinstance(line, str) for line in told.leftovers), name


SUDO = "passwd a:x:1000:1000::/home/a:/bin/sh\nshadow a:$6$x$y:1:0:9:7:::\nnow 1700000000\nhost box\n"


@pytest.mark.parametrize(
    ("rules", "becomes", "role"),
    [
        ("a ALL = (ALL) ALL", "with its password", "full"), ("a ALL = (ALL) NOPASSWD: ALL", "freely", "full"),
        ("Defaults !authenticate\na ALL = (ALL) ALL", "freely", "full"), ("Defaults env_reset, !authenticate\na ALL = ALL", "freely", "full"),
        ('Defaults secure_path="/a,!authenticate"\na ALL = (ALL) ALL', "with its password", "full"),
        ("a ALL = (root) NOPASSWD: /bin/bash", "freely", "change"), ("a ALL = /usr/bin/vi /etc/x", "with its password", "change"),
        ("a ALL = NOPASSWD: /opt/tools/*", "freely", "change"), ("a ALL = (root) /usr/sbin/reboot", "some commands", "change"),
        ("a ALL = (www) NOPASSWD: /bin/bash", "some commands", "change"), ("b ALL = (ALL) ALL", "no", "read"),
        ("Defaults:a !authenticate\na ALL = (ALL) ALL", "not told", "not told"), ("Defaults:b !authenticate\na ALL = (ALL) ALL", "with its password", "full"),
        ("Defaults rootpw\nDefaults:a !rootpw\na ALL = (ALL) ALL", "with its password", "full"), ("Defaults:a !rootpw\nDefaults rootpw\na ALL = (ALL) ALL", "with its password", "full"),
        ("Defaults@x !authenticate\na ALL = (ALL) ALL", "not told", "not told"), ("Defaults!/bin/ls rootpw\na ALL = (ALL) ALL", "not told", "not told"),
        ("Defaults:%crew rootpw\na ALL = (ALL) ALL", "with its password", "full"), ("Defaults>www !authenticate\na ALL = (ALL) ALL", "with its password", "full"), ("Defaults>root !authenticate\na ALL = (ALL) ALL", "not told", "not told"),
        ("Defaults rootpw\na ALL = (ALL) ALL", "not told", "not told"),
        ("a ALL: (ALL) ALL", "not told", "not told"), ("a ALL = (ALL) ALL, !/bin/z", "with its password", "change"),
        ("a ALL = (ALL, !root) ALL", "not told", "not told"), ("a ALL = (:adm) ALL", "some commands", "change"),
        ("a ALL = /opt/tools/", "with its password", "change"), ("a, !a ALL = ALL", "not told", "not told"),
        ("User_Alias U = %#7, #1000\nCmnd_Alias C = /bin/ls, /bin/su -\nU box = NOPASSWD: C", "freely", "change"),
        ("a there = ALL", "not told", "not told"), ("+all ALL = ALL", "not told", "not told"), ("a ALL = PASSWD: /bin/ls, NOPASSWD: ALL", "freely", "full"),
        ("Defaults !root_sudo\na ALL = ALL", "not told", "not told"), ("Defaults runas_default=a\na ALL = ALL", "not told", "not told"),
    ],
)  # fmt: skip
def test_what_sudo_grants(rules: str, becomes: str, role: str) -> None:
    """Without a password, by a shell, by a pattern, as somebody else, as sudo itself prints it; what is not
    understood is not told."""
    asked = subprocess.run(
        ["cvtsudoers", "-e", "-f", "json"], input=f"{rules}\n", capture_output=True, text=True, check=False
    )
    told = decode("linux-accounts", SUDO, json.loads(asked.stdout) if asked.returncode == 0 else None)
    assert (fact(told, "accounts/a/becomes_root"), fact(told, "accounts/a/role")) == (becomes, role)


def test_an_account_without_a_shell_is_none_only_where_nothing_opens_it() -> None:
    """With a password one tunnels through it, whatever its shell: what it may do is not known then, and it is no
    system's own."""
    for kept, role in (("!", "none"), ("*", "none"), ("$6$x$y", "not told"), ("", "not told")):
        for uid, origin in ((5, "system"), (5000, "not told")):
            rows = f"passwd t:x:{uid}:5::/:/usr/sbin/nologin\nshadow t:{kept}:1:0:9:7:::\n"
            told = decode("linux-accounts", SUDO + rows)
            assert fact(told, "accounts/t/role") == role, kept
            assert fact(told, "accounts/t/origin") == (origin if role == "none" else "not told"), (kept, uid)


def test_whose_key_a_line_holds() -> None:
    """Not the one that stands in an option; a line of an authority opens to more than its key."""
    head = "\n".join(line for line in TEXTS["ssh-keys"].split("\n") if not line.startswith(("key", "unread"))) + "\n"
    mine, theirs = (
        fact(decode("ssh-keys", f"{head}key root ssh-ed25519 {key}\n"), "accounts/root/keys") for key in KEYS
    )
    for options in (
        "",
        f'environment="X=ssh-ed25519 {KEYS[0]}" ',
        f'from="192.0.2.1",command="a \\" ssh-ed25519 {KEYS[0]}" ',
        "no-pty ",
    ):
        told = decode("ssh-keys", f"{head}key root {options}ssh-ed25519 {KEYS[1]} comment\n")
        assert fact(told, "accounts/root/keys") == theirs != mine, options
    authority = decode(
        "ssh-keys", f"{head}key root cert-authority ssh-ed25519 {KEYS[1]}\nkey root ssh-ed25519 {KEYS[0]}\n"
    )
    assert fact(authority, "accounts/root/keys") == "not told" and "authority" in str(authority.leftovers)


def test_whether_a_file_of_keys_is_taken() -> None:
    """Where nobody but the account and root may write on the way to it, or the server does not ask."""
    head = TEXTS["ssh-keys"].partition("looked")[0].replace("strict yes\n", "")
    for leads, strict, taken in (
        ("600 7", "yes", True), ("600 7|700 7|755 0", "yes", True), ("664 7", "yes", False), ("600 7|775 7", "yes", False),
        ("600 8", "yes", False), ("664 7", "no", True), ("600 7|9 7", "yes", "not told"), ("rw 7", "yes", "not told"), ("", "yes", "not told"),
    ):  # fmt: skip
        lines = "".join(f"leads root 7 {one}\n" for one in leads.split("|") if one)
        told = decode("ssh-keys", f"{head}strict {strict}\nlooked root\n{lines}")
        assert fact(told, "accounts/root/keys_taken") == taken, (leads, strict)


@pytest.mark.parametrize(
    ("line", "sent"),
    [
        ("*.* @192.0.2.7", ("udp 192.0.2.7 514",)), ("*.* @@h.example:6514;RSYSLOG_Format", ("tcp h.example 6514",)),
        (':msg, contains, "x" @192.0.2.8', "not told"), ('*.* action(type="omrelp" target="a" port="1")', "not told"),
        ('if $msg contains "x" then @@192.0.2.9', "not told"), ('*.* action(type="ommail" mailto="a@b.example")', "not told"),
        ("auth.* /var/log/auth.log", ABSENT), ("mail.* -/var/log/mail@x", ABSENT), ("*.emerg :omusrmsg:*", ABSENT),
    ],
)  # fmt: skip
def test_where_logs_go(line: str, sent: Any) -> None:
    """With a template, by another module, behind a filter: what sends and is not understood is not called none."""
    told = decode("linux-upkeep", f"rsyslogd rsyslogd -n\nrsyslog {line}\n")
    assert fact(told, "logs/destinations") == sent, told.leftovers
    for by in ("-n", "-f /x"):
        elsewhere = f'rsyslogd rsyslogd {by}\nrsyslog include(file="/x")\nrsyslog {line}\n'
        assert fact(decode("linux-upkeep", elsewhere), "logs/destinations") == "not told"
        assert fact(decode("linux-upkeep", f"together yes\n{elsewhere}"), "logs/destinations") == sent, by


def test_a_name_alone_explains_no_port() -> None:
    """A program called like an agent of SNMP that listens by TCP, or lies where no system keeps programs, is not that
    service."""
    row = 'ss {by} LISTEN 0 1 0.0.0.0:{port} 0.0.0.0:* users:(("snmpd",pid=9,fd=3))\nholder 9 {exe} - snmpd\nmain 9\n'
    for by, port, exe, known in (
        ("udp", 161, "/usr/sbin/snmpd", True), ("udp", 1161, "/usr/sbin/snmpd", True),
        ("tcp", 9999, "/usr/sbin/snmpd", False), ("udp", 1161, "/tmp/snmpd", False),
    ):  # fmt: skip
        told = decode("linux-services", row.format(by=by, port=port, exe=exe))
        assert ((("services", "snmp"), True) in told.facts) is known, (by, port, exe)


def test_what_users_of_snmp_may_do_is_not_guessed() -> None:
    """A rule without a level is what the agent takes it for; a group, or what is not understood, leaves it open."""
    base = 'snmpd snmpd -f\nsnmpfile yes\nuser "alice" .1.3 .1.3\n'
    told = decode("snmp-agent", f"{base}access rouser alice\n")
    assert (fact(told, "snmp/users/alice/level"), fact(told, "snmp/users/alice/rights")) == ("authNoPriv", "read")
    for more in ("access group\n", "access rwuser alice strange\n", "access authgroup\n"):
        assert fact(decode("snmp-agent", base + more), "snmp/users/alice/rights") == "not told", more


def test_a_file_of_pam_that_was_not_read_may_hold_anything() -> None:
    """Named without a name, missing, or taking in itself: then what it demands, and whether it locks, is not known."""
    for named in ("", "nowhere", "sshd"):
        told = decode("pam", f"daemon openssh\nusepam yes\npam sshd @include {named}\npam passwd @include {named}\n")
        assert fact(told, "lockout/tries") == "not told" and fact(told, "policy/min_length") == "not told", named
