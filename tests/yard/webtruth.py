"""The units of the bench behind objects and pages, at factory default: what was planted in each, as data, and what
must be told of it; nothing else may fail."""

from __future__ import annotations

from typing import Any

EVERY = {"own-account": "no such account", "certificates": "is self-signed", "clock": "the laptop", "banner": "not set", "name": "wanted", "log-destination": "no logs go to"}  # fmt: skip
LEAVES: dict[str, dict[str, Any]] = {
    "lc2-04": {
        "identity/serial": "WL2-40718", "mode": "easy", "accounts/warden/role": "full", "accounts/fitter/role": "change", "accounts/fitter/storage": "factory",
        "picture/asks": "basic", "logs/destinations": ["half-filled log.works.invalid"], "services/ssh/keyed": False,
        "interfaces/lens/mode": "leased", "services/http/enabled": True, "services/https/permitted": "anyone", "policy/min_length": 4, "idle": "never", "trials/https warden factory:1/outcome": "opened",
    },
    "gd6-01": {
        "identity/serial": "GD6-3318", "accounts/relay/role": "full", "services/hatch/encrypted": False, "interfaces/outer/side": "outside", "interfaces/outer/services": ["https"],
        "packet_filter/default": "pass", "filter_rules/r9/position": 1, "filter_rules/r4/named": "nobody", "named_addresses/nobody/members": [], "stores/waiting": 1,
        "sessions/s0/account": "relay", "accounts/relay/storage": "factory", "accounts/relay/own_rules": True,
        "accounts/steward/factor": "none", "accounts/steward/mailbox": "j.steward@pobox.example", "filter_rules/r2/not_named": True, "filter_rules/r8/position": 4,
        "socket_groups/yard-side/members": ["inner"],
    },
    "wr1-02": {
        "identity/serial": "WR1-20551", "accounts/fieldhand/role": "read", "interfaces/track/lends": True, "jobs/ferry/origin": "unknown", "jobs/ferry/runs": "send-home",
        "jobs/watch/origin": "package", "lockout/tries": 6, "lockout/release": 60.0,
        "interfaces/radio/passphrase": "factory", "files/ferry-box/origin": "unknown", "files/links/origin": "package",
    },
    "ix5-01": {
        "identity/serial": "IX5-70612", "accounts/support/role": "full", "accounts/support/permitted": "anyone", "roles/porter/areas/doors/access": "change",
        "roles/porter/areas/logs/access": "none", "roles/looker/areas/people/access": "read", "consoles/desk/storage": "factory", "stored/support_code": True, "stored/sealed": False, "lockout/release": 90.0, "idle": "never",
    },
    "ya7-01": {
        "identity/serial": "YA7-00914", "accounts/keeper/weakness": ["blank"], "entry_lists/all/services": ["http", "https"], "entry_lists/all/permitted": "anyone",
        "interfaces/radio/side": "wireless", "interfaces/radio/entry_list": "all", "interfaces/depot/announces": True, "interfaces/track/lends": True,
        "services/https/enabled": False, "stores/differences": 0, "lockout/tries": 5,
        "interfaces/radio/passphrase": "none",
    },
}  # fmt: skip
FAILS: dict[str, dict[str, str]] = {
    "lc2-04": {
        "factory-login": "warden", "plain-service": "http carries passwords unencrypted", "weak-password": "equals a name in use here", "open-sources": "anyone may reach https",
        "password-length": "4 characters", "account-name": "fitter", "needed-services": "http runs", "password-classes": "1 class", "lock-out": "not set", "idle-timeout": "never",
        "guard-mode": "easy", "log-destination": "half filled", "picture": "recorder and screen see it", "place": "wanted",
    },
    "gd6-01": {
        "factory-login": "steward", "plain-service": "hatch", "weak-password": "made from a name", "open-sources": "more than the job allows may reach https",
        "password-length": "relay has rules of its own", "second-factor": "j.steward@pobox.example", "sessions": "relay is logged in from 127.0.0.9", "open-sides": "outer (outside) lets in https", "account-name": "relay",
        "needed-services": "hatch runs", "password-classes": "1 class", "idle-timeout": "never",
    },
    "wr1-02": {
        "factory-login": "trackman", "plain-service": "http", "weak-password": "3 characters", "open-sources": "anyone may reach http", "password-length": "4 characters",
        "account-name": "fieldhand", "needed-services": "http runs", "password-classes": "not set", "idle-timeout": "never", "foreign-jobs": "ferry runs send-home (04:44)",
        "place": "wanted", "radio-phrase": "printed on its label",
    },
    "ix5-01": {
        "factory-login": "support", "plain-service": "http", "weak-password": "7 characters", "open-sources": "anyone may reach https", "password-length": "4 characters",
        "account-name": "keeper", "needed-services": "http runs", "password-classes": "not set", "idle-timeout": "never", "stored-secrets": "no", "alert-recipients": "yard@",
        "console-word": "factory password", "own-role": "no role door-hand",
    },
    "ya7-01": {
        "factory-login": "no password", "plain-service": "http", "weak-password": "blank", "open-sources": "anyone may reach http", "password-length": "not set",
        "open-sides": "radio (wireless) lets in http, https from anyone", "account-name": "keeper", "needed-services": "https is needed and switched off",
        "password-classes": "not set", "lock-out": "30 s", "announcing": "depot (outside)", "place": "wanted", "certificates": "", "radio-phrase": "is open",
    },
}  # fmt: skip
