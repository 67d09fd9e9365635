"""The family file of a drawn make, as somebody writes it who has only its manual."""

from __future__ import annotations

from sweeps.variety.things import JOIN, PATHS, RANKS, SETTINGS, SWITCH, Style, Thing, leader


def family(thing: Thing) -> str:
    """The whole file."""
    style = thing.style
    service = "telnet" if style["face"] == "console" else "http"
    body = {"console": console, "objects": objects, "pages": pages}[style["face"]](thing)
    lock = "" if not style["wrong"].startswith("locks") else ", lockout: {tries: 10, release: 30 s, locks: account}"
    return f"""family: drawn
title: Drawn {thing.serial}
token: {{signs: "-_.", longest: 24}}
password: {{longest: "40", barred: " "}}
factory: {{ports: {{{service}: {thing.port}}}, logins: [{{account: boss, secret: boss}}, {{account: eye, secret: ""}}]{lock}}}
{body}
{values(thing)}
facts: {{services/{service}/encrypted: no, services/{service}/enabled: yes, services/{service}/port: "{thing.port}"}}
without: [small appliance, log servers, addresses per account]
"""


WRITES = {"staged": ", writes: [staged]", "at once": ", writes: [live, kept]", "saved": ""}
WAITING = {"saved": "stores/differences", "staged": "stores/waiting"}


def plate_of(thing: Thing) -> dict[str, str]:
    """What it tells of itself: path -> its label."""
    store = thing.style["store"]
    clock = {"clock/offset": thing.label["clock"]} if thing.clock() else {}
    waiting = {WAITING[store]: thing.label["waiting"]} if store in WAITING else {}
    return {"identity/serial": thing.label["serial"], **clock, **waiting}


def put_in_force(style: Style, save: str, forget: str) -> list[str]:
    """How what was written is kept, or put in force, or dropped."""
    return {
        "at once": [],
        "saved": [f"  keep: {{does: save, {save}, copies: {{live: [kept]}}}}"],
        "staged": [
            f"  force: {{does: activate, {save}, copies: {{staged: [live, kept]}}}}",
            f"  forget: {{does: discard, {forget}, copies: {{live: [staged]}}}}",
        ],
    }[style["store"]]


def quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def values(thing: Thing) -> str:
    style = thing.style
    ranks, (yes, no) = RANKS[style["ranks"]], SWITCH[style["switch"]]
    never, blank = style["never"], style["blank"]
    objects_, console_ = style["face"] == "objects", style["face"] == "console"
    lines = [
        f"  accounts/*/role: {{words: {{{quoted(ranks[0])}: full, {quoted(ranks[1])}: change, {quoted(ranks[2])}: read}}}}",
        f"  accounts/*/enabled: {{words: {{{quoted(yes)}: yes, {quoted(no)}: no}}{', empty: yes' if console_ and style['cells'] == 'below the heading' else ''}}}",
        f"  services/*/enabled: {{words: {{{quoted(yes)}: yes, {quoted(no)}: no}}}}",
        '  lockout/tries: {words: {"0": not set}}',
    ]
    if (yes, no) == ("yes", "no"):
        lines = [line for line in lines if "enabled" not in line or "empty" in line]
    bare = (
        ""
        if not console_ or not style["time"].startswith("bare")
        else f"codec: {'minutes' if thing.takes_minutes('idle') else 'seconds'}, "
    )
    lines.append(f"  idle: {{{bare}words: {{{quoted(never)}: never}}}}")
    if bare:
        lines.append("  lockout/release: {codec: seconds}")
    if thing.clock():
        lines.append(f"  clock/offset: {{moment: {'yes' if style['clock'] == 'zone' else 'UTC'}}}")
    empty = "empty: not set" if blank == "nothing" else f"words: {{{quoted(blank)}: not set}}"
    lines.append(f"  banner: {{{empty}}}")
    join = JOIN[style["join"]]
    if objects_:
        lines.append('  clock/servers: {join: ",", empty: not set}')
    else:
        lines.append(f"  clock/servers: {{join: {quoted(join)}, {empty}}}")
    if style["sources"] != "none":
        if objects_:
            lines.append(f'  services/{"*"}/permitted: {{join: ",", empty: anyone, singly: yes}}')
        else:
            anyone = (
                "empty: anyone" if style["anyone"] == "nothing" else f"words: {{{quoted(style['anyone'])}: anyone}}"
            )
            lines.append(f"  services/*/permitted: {{join: {quoted(join)}, {anyone}, singly: yes}}")
    return "values:\n" + "\n".join(lines)


def console(thing: Thing) -> str:
    style, verb, label = thing.style, thing.verb, thing.label
    prompt = {"sign": "==> ", "name": "{any} # ", "bracket": "[{any}] "}[style["prompt"]]
    no = '{starts: "!! ", means: "no"}' if style["refusal"] == "starts" else '{text: "it was not done", means: "no"}'
    away = ", {text: Not from where you are, means: blocked}" if style["stranger"] in ("forbidden", "a page") else ""
    locked = "{text: Locked up for now, means: locked}, " if style["wrong"].startswith("locks") else ""
    more = '\n    more: "-- on? --"\n    turn: " "' if style["page"] == "turned" else ""
    take = {at: path for path, at in plate_of(thing).items()} | {label[name]: PATHS[name] for name in SETTINGS}
    store = "store: staged, " if style["store"] == "staged" else ""
    writes = WRITES[style["store"]]
    row = {
        "heading": 'heading: who rank comes, row: "{key} {role} {enabled}"',
        "bare": 'row: "{key} {role} {enabled}"',
        "ruled": 'heading: who rank comes, row: "{key} {role} {enabled}"',
        "numbered": 'row: "{skip} {key} {role} {enabled}"',
    }[style["table"]]
    if style["cells"] == "below the heading" and style["table"] in ("heading", "ruled"):
        row = 'aligned: yes, heading: who  rank  comes, row: "{key} {role} {enabled}"'
    ruled = ', lines: [{row: "------------------------------------"}]' if style["table"] == "ruled" else ""
    inside = f'"inside {prompt}"' if style["where"] == "in a block with a prompt" else '""'
    blocks = (
        f"\n    blocks: {{inside: {{into: [{verb['into']}], out: {verb['out']}, prompt: {inside}}}}}"
        if style["where"] != "anywhere"
        else ""
    )
    dress = {
        "none": "",
        "a frame": '\n    frame: "|"\n    rulers: "+-"',
        "lines of a log": '\n    ignore: ["% {time} fan at {n:number} turns"]',
    }[style["dress"]]
    every = "every: {ops: {block: inside}}\n" if blocks else ""
    old = '{sign: "The one until now: ", send: "{old}"}, ' if style["secret"] == "old first" else ""
    again = "" if style["secret"] == "once" else ', {sign: "And again: ", send: "{secret}"}'
    sure = ', prompts: [{sign: "Part with {any}, y or n? ", send: "y"}]' if style["sure"] == "asks" else ""
    asks = [
        f"  plate: {{say: {verb['look']} {verb['plate']}, {store}pairs: {{between: {quoted(leader(style).strip()[:1])}, take: {{{', '.join(f'{quoted(k)}: {v}' for k, v in take.items())}}}}}}}",
        f"  people: {{say: {verb['look']} {verb['people']}, {store}rows: {{{row}, into: accounts, whole: yes}}{ruled}}}",
    ]
    ops = []
    if style["sources"] != "none" and style["listing"] == "one by one":
        here = "services/telnet/permitted"
        asks.append(
            f'  ways: {{say: {verb["look"]} {verb["source"]}, {store}rows: {{heading: way port state, row: "{{key}} {{port:number}} {{enabled}}", into: services, whole: yes}}, lines: [{{row: "from {{at}}", take: {{at: {here}}}, none: {{{here}: anyone}}}}]}}'
        )
        ops.append(
            f'  from: {{set: [services/*/permitted], adds: "{verb["source"]} plus {{value}}", takes: "{verb["source"]} minus {{value}}"{writes}}}'
        )
    elif style["sources"] != "none":
        asks.append(
            f'  ways: {{say: {verb["look"]} {verb["source"]}, {store}rows: {{heading: way port state from, row: "{{key}} {{port:number}} {{enabled}} {{permitted:rest}}", into: services, whole: yes}}}}'
        )
        ops.append(f'  from: {{set: [services/*/permitted], say: "{verb["source"]} {{value}}"{writes}}}')
    for name in SETTINGS:
        slot = (
            "{value:minutes}"
            if thing.takes_minutes(name)
            else "{value:seconds}"
            if name in ("idle", "wait")
            else "{value}"
        )
        ops.append(f'  {name}: {{set: [{PATHS[name]}], say: "{verb["put"]} {label[name]} {slot}"{writes}}}')
    ops += [
        f'  add: {{make: [accounts/*], say: "{verb["add"]} {{key}} {{role}}", prompts: [{{sign: "Word for {{any}}: ", send: "{{secret}}"}}{again}], then: {{enabled: yes}}{writes}}}',
        f'  word: {{set: [accounts/*/secret], say: "{verb["word"]} {{key}}", prompts: [{old}{{sign: "Word for {{any}}: ", send: "{{secret}}"}}{again}]{writes}}}',
        f'  drop: {{drop: [accounts/*], say: "{verb["drop"]} {{key}}", cuts: account{sure}{writes}}}',
    ]
    outside = ', block: ""' if blocks else ""
    ops += put_in_force(style, f"say: {verb['save']}{outside}", f"say: {verb['forget']}{outside}")
    gates = {
        "terms": '    gates: [{gate: terms, sign: "Do you, y or n? ", send: y}]\n',
        "a new word": '    gates: [{gate: change, sign: "Your own word: ", send: "{new}"}, {gate: confirm, sign: "Your own word again: ", send: "{new}"}]\n',
    }.get(style["first"], "")
    return f"""channels:
  line:
    talk: console
    services: {{telnet: plain}}
    prompt: {quoted(prompt)}
    account: "Visitor: "
    secret: "Word: "
    log_out: away{more}{blocks}{dress}
{gates}    replies: [{locked}{{text: Stay out, means: refused}}, {no}{away}]
{every}asks:
{chr(10).join(asks)}
ops:
{chr(10).join(ops)}"""


def objects(thing: Thing) -> str:
    style, verb, label = thing.style, thing.verb, thing.label
    data, data_ = "data/" if style["envelope"] == "data" else "", ""
    login = {
        "token": f'    login: {{post: /door, body: {{who: "{{account}}", word: "{{secret}}"}}, keep: {{seat: {data}seat}}}}\n    headers: {{Authorization: "Pass {{seat}}"}}',
        "cookie": '    login: {post: /door, body: {who: "{account}", word: "{secret}"}, keep: {seat: cookie seat}}\n    headers: {Cookie: "seat={seat}"}',
        "basic": f"    login: {{auth: basic, page: /{verb['plate']}}}",
    }[style["login"]]
    envelope = "\n    envelope: data" if style["envelope"] == "data" else ""
    told = style["envelope"] == "data" or style["codes"] == "always 200"
    lock = (
        ""
        if not style["wrong"].startswith("locks")
        else '{at: code, holds: "423", means: locked}, '
        if told
        else '{status: "423", means: locked}, '
    )
    away = "{text: not from where you are, means: blocked}, " if style["stranger"] in ("forbidden", "a page") else ""
    if told:
        refused = (
            "{at: why, starts: stay out, means: refused}, {at: why, starts: nobody sits, means: refused}, "
            if style["login"] == "basic"
            else "{at: why, starts: stay out, means: refused}, {at: why, starts: nobody sits, means: ended}, "
        )
        replies = f'{away}{lock}{refused}{{at: why, means: "no", said: why}}, {{status: "200", means: inside}}'
    else:
        refused = (
            '{status: "401", means: refused}, '
            if style["login"] == "basic"
            else '{status: "401", at: why, starts: stay out, means: refused}, {status: "401", means: ended}, '
        )
        replies = f'{away}{lock}{refused}{{status: "400 404 409", at: why, means: "no", said: why}}, {{status: "200", means: inside}}'
    store = "store: staged, " if style["store"] == "staged" else ""
    writes = WRITES[style["store"]]
    plate = plate_of(thing)
    leaves = {}
    for name in SETTINGS:
        place = label[name]
        if name in ("idle", "wait") and style["time"].startswith("bare"):
            place = f"{{at: {place}, codec: {'minutes' if thing.takes_minutes(name) else 'seconds'}}}"
        elif name in ("notice", "time"):
            place = f"{{at: {place}, empty: not set}}"
        leaves[PATHS[name]] = place
    rows = {
        "list": 'at: "*", into: accounts, key: who, whole: yes, leaves: {role: rank, enabled: may}',
        "by name": 'at: "*", into: accounts, key: "#", whole: yes, leaves: {role: rank, enabled: may}',
        "numbered": 'at: "*", into: accounts, key: who, whole: yes, handles: {id: at}, leaves: {role: rank, enabled: may}',
        "columns": 'at: "*", into: accounts, key: "0", whole: yes, leaves: {role: "1", enabled: "2"}',
    }[style["shape"]]
    further = ""
    if style["parts"] != "whole" and style["shape"] != "by name":
        rows = rows.replace('at: "*"', f"at: {data_}rows/*")
        further = f"next: {data}further, "
    by = 'at: "(number {id})"' if style["shape"] == "numbered" else 'who: "{key}"'
    on = "on: people, " if style["shape"] == "numbered" else ""
    rank = "(number {role})" if style["types"] == "typed" and style["ranks"] == "digits" else "{role}"
    asks = [
        f"  plate: {{get: /{verb['plate']}, leaves: {{{', '.join(f'{k}: {v}' for k, v in plate.items())}}}}}",
        f"  settings: {{get: /{verb['put']}, {store}leaves: {{{', '.join(f'{k}: {v}' for k, v in leaves.items())}}}}}",
        f"  people: {{get: /{verb['people']}, {further}{store}rows: [{{{rows}}}]}}",
    ]
    how = {
        "member": f"patch: /{verb['put']}",
        "whole": f"put: /{verb['put']}",
        "call": f"post: /{verb['put']}, under: with",
    }[style["write"]]
    ops = []
    inside = "with/" if style["write"] == "call" else ""
    timed = [name for name in ("idle", "wait") if not style["time"].startswith("bare")]
    ops.append(
        f"  settings: {{on: settings, set: [{', '.join(PATHS[name] for name in SETTINGS if name not in timed)}], {how}{writes}}}"
    )
    for name in timed:
        slot = "{value:minutes}" if thing.takes_minutes(name) else "{value:seconds}"
        ops.append(
            f'  {name}: {{on: settings, set: [{PATHS[name]}], {how}, fill: {{{inside}{label[name]}: "{slot}"}}{writes}}}'
        )
    if style["sources"] != "none":
        asks.append(
            f'  ways: {{get: /{verb["source"]}, {store}rows: [{{at: "*", into: services, key: "#", whole: yes, leaves: {{enabled: may, port: port, permitted: {{at: from, empty: anyone}}}}}}]}}'
        )
        ops.append(f"  from: {{on: ways, set: [services/*/permitted], put: /{verb['source']}{writes}}}")
    ops += [
        f'  add: {{make: [accounts/*], post: /{verb["add"]}, fill: {{who: "{{key}}", rank: "{rank}", word: "{{secret}}"}}, then: {{enabled: yes}}{writes}}}',
        f'  word: {{{on}set: [accounts/*/secret], post: /{verb["word"]}, fill: {{{by}, word: "{{secret}}"}}{writes}{", cuts: account" if style["login"] == "basic" else ""}}}',
        f"  drop: {{{on}drop: [accounts/*], post: /{verb['drop']}, fill: {{{by}}}, cuts: account{writes}}}",
    ]
    ops += put_in_force(style, f"post: /{verb['save']}", f"post: /{verb['forget']}")
    return f"""channels:
  web:
    talk: objects
    services: {{http: plain}}
{login}{envelope}
    replies: [{replies}]
keys: {{services: {{web: http}}}}
asks:
{chr(10).join(asks)}
ops:
{chr(10).join(ops)}"""


def pages(thing: Thing) -> str:
    style, verb, label = thing.style, thing.verb, thing.label
    gates = {
        "terms": ", terms: {gate: terms}",
        "a new word": ', own: {gate: change, fill: {word: "{new}", again: "{new}"}}',
    }.get(style["first"], "")
    login = (
        f"{{auth: basic, page: /{verb['plate']}}}"
        if style["login"] == "basic"
        else f'{{page: /door, forms: {{door: {{fill: {{who: "{{account}}", word: "{{secret}}"}}}}{gates}}}}}'
    )
    first = (
        '{status: "401", means: refused}'
        if style["login"] == "basic"
        else "{text: Stay out, means: refused}, {form: door, means: ended}"
    )
    locked = "{text: Locked up for now, means: locked}, " if style["wrong"].startswith("locks") else ""
    away = "{text: Not from where you are, means: blocked}, " if style["stranger"] in ("forbidden", "a page") else ""
    store = "store: staged, " if style["store"] == "staged" else ""
    writes = WRITES[style["store"]]
    plate = plate_of(thing)
    leaves = {}
    for name in SETTINGS:
        place = label[name]
        if name in ("idle", "wait"):
            unit = "minutes" if thing.takes_minutes(name) else "seconds"
            place = f"{{at: {place}, codec: {unit}}}"
        elif name in ("notice", "time"):
            place = f"{{at: {place}, empty: not set}}"
        leaves[PATHS[name]] = place
    further = "next: Further, " if style["parts"] != "whole" else ""
    asks = [
        f"  plate: {{page: /{verb['plate']}, leaves: {{{', '.join(f'{k}: pairs/Plate/{v}' for k, v in plate.items())}}}}}",
        f"  settings: {{page: /{verb['put']}, form: settings, {store}leaves: {{{', '.join(f'{k}: {v}' for k, v in leaves.items())}}}}}",
        f"  people: {{page: /{verb['people']}, {further}{store}rows: [{{at: tables/People/*, into: accounts, key: Who, whole: yes, handles: {{open: links/Open}}, leaves: {{role: Rank, enabled: Comes}}}}]}}",
    ]
    ops = [f"  settings: {{on: settings, set: [{', '.join(PATHS[name] for name in SETTINGS)}], press: Note{writes}}}"]
    if style["sources"] != "none":
        asks.append(
            f"  from: {{page: /{verb['source']}, form: source, {store}leaves: {{services/http/permitted: {{at: from, empty: anyone}}}}}}"
        )
        ops.append(f"  from: {{on: from, set: [services/*/permitted], press: Note{writes}}}")
    again = "" if style["secret"] == "once" else ', again: "{secret}"'
    blank = "[word]" if style["secret"] == "once" else "[word, again]"
    sure = ', after: {sure: {press: "Yes, part"}}' if style["sure"] == "asks" else ""
    ops += [
        f'  add: {{page: /{verb["people"]}, form: newcomer, press: Add, make: [accounts/*], fill: {{who: "{{key}}", rank: "{{role}}", word: "{{secret}}"{again}}}, then: {{enabled: yes}}{writes}}}',
        f'  word: {{on: people, link: open, form: person, press: Note, set: [accounts/*/secret], fill: {{word: "{{secret}}"{again}}}{writes}{", cuts: account" if style["login"] == "basic" else ""}}}',
        f"  drop: {{on: people, link: open, form: person, press: Part, drop: [accounts/*], blank: {blank}, cuts: account{sure}{writes}}}",
    ]
    at_plate = f"page: /{verb['plate']}, form: save, press:"
    ops += put_in_force(style, f"{at_plate} Save", f"{at_plate} Forget")
    return f"""channels:
  web:
    talk: pages
    services: {{http: plain}}
    login: {login}
    replies: [{away}{locked}{first}, {{text: "It was not done:", means: "no"}}, {{title: Desk, means: inside}}]
asks:
{chr(10).join(asks)}
ops:
{chr(10).join(ops)}"""
