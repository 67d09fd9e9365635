"""A page (HTML) as a tree, through lxml: title, text, forms, tables, lists, links, and what it says of itself.
Nothing is drawn and no script is run. What a page hides is parted from what it shows."""

from __future__ import annotations

from html.parser import HTMLParser
from typing import Any

from lxml import etree, html

from yardbolt.core.errors import clean

DEEPEST, LONGEST, LONGEST_MARK, MOST_IDS = 200, 4000, 400, 500
REFRESH = "http-equiv refresh"
INPUTS = ("input", "select", "textarea", "button")
Field = tuple[str, str, Any, list[str]]  # its name, kind, value and what it offers


def read_page(
    body: bytes, charset: str, within: Any
) -> tuple[dict[str, Any], dict[str, dict[str, Any]], dict[str, str], str]:
    """A page as a tree; its forms as the wire needs them, and its marks; and why it did not come whole."""
    try:
        parser = html.HTMLParser(encoding=charset, no_network=True, remove_comments=True, huge_tree=False)
    except LookupError:
        parser = html.HTMLParser(encoding="utf-8", no_network=True, remove_comments=True)
    try:
        root = html.document_fromstring(body, parser=parser)
    except (etree.ParserError, ValueError):
        return {"text": "", "forms": {}}, {}, {}, "the page is empty"
    # deeper than this, the parser cuts off without a word
    deep = any(sum(1 for _ in node.iterancestors()) >= DEEPEST for node in root.iter() if len(node) == 0)
    torn = "the page is deeper than any page of a unit" if deep else ""
    torn = torn or ("" if b"</html" in body.lower() else "the page did not come whole")
    for node in root.xpath("//script|//style"):
        node.drop_tree()
    forms, kept = dict[str, Any](), dict[str, dict[str, Any]]()
    names: dict[Any, str] = {}
    held, sure = _held(root, _text(body, charset))
    torn = torn or ("" if sure else "which form its fields belong to cannot be told")
    for count, form in enumerate(root.xpath("//form"), 1):
        own = form.get("name") or form.get("id") or f"form {count}"
        own = own if own not in forms else f"{own} {count}"  # one in each row, all called alike
        names[form] = own
        forms[own], kept[own] = _form(form, held[form], own, within)
    tables, pairs = dict[str, Any](), dict[str, dict[str, str]]()
    for count, table in enumerate(root.xpath("//table"), 1):
        name = _words(table.find("caption")) or table.get("id") or f"table {count}"
        if beside := _pairs(table):
            pairs[name] = beside
        tables[name] = _rows(table, within, names, held)
    return {
        "title": _words(root.find(".//title")), "text": _lines(root)[:LONGEST], "forms": forms, "tables": tables,
        "links": _links(root, within), "lists": _lists(root, within, names, held), "pairs": pairs, "said": _said(root),
        "ids": {str(n.get("id")): _words(n)[:LONGEST_MARK] for n in root.xpath("//*[@id]")[:MOST_IDS]},
    }, kept, _marks(root), torn  # fmt: skip


def _marks(root: Any) -> dict[str, str]:
    """What a page says of itself, by its name; and where it leads by itself, but for those who have no scripts."""
    said = {str(m.get("name")): m for m in root.iter("meta") if m.get("name")}
    for m in root.xpath("//meta[not(ancestor::noscript)]"):
        if (m.get("http-equiv") or "").lower() == "refresh":
            said[REFRESH] = m
    return {name: clean(m.get("content") or "")[:LONGEST_MARK] for name, m in said.items()}


def _text(body: bytes, charset: str) -> str:
    try:
        return body.decode(charset, errors="replace")
    except LookupError:
        return body.decode("utf-8", errors="replace")


def _words(node: Any) -> str:
    return clean(" ".join(" ".join(node.itertext()).split())) if node is not None else ""


def _lines(root: Any) -> str:
    """The words of a page, each piece on a line of its own."""
    return "\n".join(line for piece in root.itertext() if (line := clean(" ".join(piece.split()))))


def _links(node: Any, within: Any) -> dict[str, str]:
    found = {_words(a): within(a.get("href")) for a in node.iter("a") if a.get("href")}
    return {words: href for words, href in found.items() if words and href}


def _rows(table: Any, within: Any, forms: dict[Any, str], held: dict[Any, list[Any]]) -> list[dict[str, Any]]:
    """The rows of a table; a column without a heading goes by its number, from 0. A cell with one field in it reads
    as what that holds, and `fields` says its name, `ticks` what it is sent with where it is a box or one of several
    choices; `buttons` are those of the row, by their place in the form; `form` is the one they belong to."""
    lines = _lines_of(table)
    heads = [_words(cell) for cell in _cells(lines[0])] if lines else []
    out = []
    for line in lines[1:]:
        row: dict[str, Any] = {"links": _links(line, within)}
        fields, ticks = dict[str, str](), dict[str, str]()
        for number, cell in enumerate(_cells(line)):
            head = (heads[number] if number < len(heads) else "") or str(number)
            inside = [
                made
                for node in cell.iter(*INPUTS)
                if (made := _fields_of(node)) and made[0][1] not in ("hidden", "off")
            ]
            if len(inside) == 1 and inside[0][0][1] != "secret":
                fields[head] = inside[0][0][0]
                row[head] = _shown(inside[0])
                ticks |= {head: inside[0][0][3][0]} if len(inside[0]) == 1 and _ticked(cell) else {}
            else:
                row[head] = _words(cell) or " ".join(filter(None, map(_meaning, cell.iter()))).strip()
                fields |= {head: inside[0][0][0]} if len(inside) == 1 else {}
        if formed := _formed(line, forms, held):
            row |= formed | {"fields": fields, "ticks": ticks}
        out.append(row)
    return out


def _meaning(node: Any) -> str:
    """What a picture, or a mark without words, says to those who do not see it."""
    if not isinstance(node.tag, str) or node.tag in INPUTS:
        return ""
    return clean((node.get("alt") if node.tag == "img" else None) or node.get("aria-label") or node.get("title") or "")


def _formed(line: Any, forms: dict[Any, str], held: dict[Any, list[Any]]) -> dict[str, Any]:
    """The form what stands in a row belongs to, and its buttons there; nothing where it belongs to none."""
    mine = set(line.iter(*INPUTS))
    form = next((one for one in forms if mine.intersection(held[one])), None)
    pressed = [node for node in held[form] if _button(node)] if form is not None else []
    buttons = {_button(node)[0]: f"#{pressed.index(node)}" for node in pressed if node in mine}
    return {} if form is None else {"form": forms[form], "buttons": buttons}


def _ticked(cell: Any) -> bool:
    """Is what stands there ticked: a box, or one of several choices?"""
    return any((node.get("type") or "").lower() in ("checkbox", "radio") for node in cell.iter("input"))


def _lists(
    root: Any, within: Any, forms: dict[Any, str], held: dict[Any, list[Any]]
) -> dict[str, list[dict[str, Any]]]:
    """The lists of a page, by their `id` or number: of each item its pieces of text, counted from 0, its links and
    buttons. What the words of links and buttons say counts only where nothing else stands there."""
    out = dict[str, list[dict[str, Any]]]()
    for count, node in enumerate(root.iter("ul", "ol"), 1):
        rows = []
        for item in node.iterchildren("li"):
            pieces = [
                (_above(piece), words) for piece in item.xpath(".//text()") if (words := clean(" ".join(piece.split())))
            ]
            plain = [words for above, words in pieces if not _pressed(above, item)]
            row: dict[str, Any] = {"links": _links(item, within)} | _formed(item, forms, held)
            row |= {str(n): words for n, words in enumerate(plain or [words for _, words in pieces])}
            rows.append(row)
        out[node.get("id") or f"list {count}"] = rows
    return out


def _above(piece: Any) -> Any:
    """What a piece of text stands in."""
    return piece.getparent().getparent() if piece.is_tail else piece.getparent()


def _pressed(node: Any, item: Any) -> bool:
    """Is it a link or a button within an item?"""
    while node is not None and node is not item:
        if node.tag in ("a", "button"):
            return True
        node = node.getparent()
    return False


def _lines_of(table: Any) -> list[Any]:
    """The rows of a table; those of a table within are not its own, nor is a remark across all its columns that
    stands above all others, or alone under the headings (but for one line to be filled in). Elsewhere such a line may
    be an item."""
    lines = [line for line in table.iter("tr") if next(line.iterancestors("table"), None) is table]
    while len(lines) > 1 and _a_remark(_cells(lines[0])):
        lines = lines[1:]
    alone = len(lines) == 2 or (len(lines) == 3 and _filled_in(lines[2]))
    return [lines[0], *lines[2:]] if alone and _a_remark(_cells(lines[1])) else lines


def _a_remark(cells: list[Any]) -> bool:
    across = len(cells) == 1 and (cells[0].get("colspan") or "1").strip() not in ("", "0", "1")
    return across and not _filled_in(cells[0])


def _filled_in(node: Any) -> bool:
    """Is anything in it to be filled in, or pressed?"""
    return next(node.iter(*INPUTS), None) is not None


def _cells(line: Any) -> list[Any]:
    """The cells of a row, a form between it and them or not; those of a table within are not its own."""
    return [cell for cell in line.iter("th", "td") if next(cell.iterancestors("tr"), None) is line]


def _pairs(table: Any) -> dict[str, str]:
    """A table of two columns as what stands beside each word of the first; a row of headings is none of them."""
    lines = [_cells(line) for line in _lines_of(table)]
    if lines and all(cell.tag == "th" for cell in lines[0]):
        lines = lines[1:]
    if not lines or any(len(cells) != 2 for cells in lines):
        return {}
    return {_words(first): _words(second) for first, second in lines}


def _said(root: Any) -> dict[str, str]:
    """What a page says of words outside its tables: terms with their meaning, and lines with a colon."""
    out = {_words(term): _words(term.getnext()) for term in root.iter("dt") if term.getnext() is not None}
    for node in root.iter("p", "li", "div", "span"):
        name, colon, rest = _words(node).partition(":") if len(node) <= 2 else ("", "", "")
        if colon and 0 < len(name) <= 40 and name not in out:
            out[name] = rest.strip()
    return out


def _button(node: Any) -> tuple[str, str, str]:
    """The words, name and value of a button; empty where it is none."""
    kind = (node.get("type") or ("submit" if node.tag == "button" else "text")).lower()
    if node.tag == "button" and kind == "submit":
        return _words(node), node.get("name") or "", node.get("value") or ""
    if node.tag == "input" and kind in ("submit", "image"):
        return clean(node.get("value") or ""), node.get("name") or "", node.get("value") or ""
    return ()  # type: ignore[return-value]  # none


def _off(node: Any) -> bool:
    """Is it out of use, by itself or with what it stands in?"""
    return node.get("disabled") is not None or any(
        around.get("disabled") is not None for around in node.iterancestors("fieldset")
    )


def _fields_of(node: Any) -> list[Field]:
    """A field as a browser takes it; one in which several may be chosen is as many boxes of one name. None where it
    is none."""
    name, kind, value = node.get("name") or "", (node.get("type") or "text").lower(), node.get("value") or ""
    if node.tag == "button" or not name or kind in ("submit", "image", "button", "reset"):
        return []
    if _off(node):
        return [(name, "off", None, [])]
    if node.tag == "select":
        return _choices(node, name)
    if node.tag == "textarea":
        # the break after its beginning is none of what it holds
        value, kind = (node.text or "").replace("\r\n", "\n").removeprefix("\n"), "text"
    match kind:
        case "hidden":
            return [(name, "hidden", None, [])]
        case "password":
            return [(name, "secret", None, [])]
        case "checkbox":
            return [(name, "box", node.get("checked") is not None, [value or "on"])]
        case "radio":
            return [(name, "choice", clean(value) if node.get("checked") is not None else None, [clean(value)])]
        case "file":
            return [(name, "file", clean(value), [])]
    # what cannot be shown as it stands is sent as it stands
    return [(name, "text" if clean(value) == value else "odd", clean(value), [])]


def _choices(node: Any, name: str) -> list[Field]:
    options = [
        (clean(_words(o) if o.get("value") is None else o.get("value")), o.get("selected") is not None)
        for o in node.iter("option")
        if o.get("disabled") is None
    ]
    if node.get("multiple") is not None:
        return [(name, "many", on, [value]) for value, on in options] or [(name, "off", None, [])]
    chosen = next((value for value, on in options if on), options[0][0] if options else None)
    return [(name, "choice", chosen, [value for value, _ in options])]


def _options(node: Any) -> list[tuple[str, str]]:
    """What a choice offers: the words, and the value it is sent with."""
    offered = [(_words(o), clean(_words(o) if o.get("value") is None else o.get("value"))) for o in node.iter("option")]
    return [(words, value) for words, value in offered if words and value]


def _shown(made: list[Field]) -> Any:
    """What the fields of one name hold together: of several boxes the words of those that are on."""
    if any(kind == "many" for _, kind, _, _ in made):
        return [offered[0] for _, kind, on, offered in made if kind == "many" and on]
    values = ["" if value is None else value for _, _, value, _ in made]
    return values[0] if len(values) == 1 else values


class _Order(HTMLParser):
    """To which form each field of a page belongs, in the order of the page: from where it begins to where it ends,
    whatever stands between (a form may begin in one cell of a table and end in another)."""

    def __init__(self) -> None:
        super().__init__()
        self.forms, self.owners = 0, list[int | None]()
        self._now: int | None = None

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag == "form" and self._now is None:
            self._now, self.forms = self.forms, self.forms + 1
        elif tag in INPUTS:
            self.owners.append(self._now)

    def handle_endtag(self, tag: str) -> None:
        if tag == "form":
            self._now = None

    def parse_marked_section(self, i: int, report: int = 1) -> int:
        """As far as the next >, like a comment (HTML, section 13.2.5.42), whatever it is; the parser knows some
        only."""
        return self.rawdata.find(">", i) + 1 or -1


def _held(root: Any, text: str) -> tuple[dict[Any, list[Any]], bool]:
    """The fields of each form, and whether that is sure: where the two readings of a page differ, and fields stand
    outside of all forms, nobody knows whose they are."""
    forms, nodes, order = root.xpath("//form"), list(root.iter(*INPUTS)), _Order()
    order.feed(text)
    if order.forms != len(forms) or len(order.owners) != len(nodes):
        loose = any(next(node.iterancestors("form"), None) is None for node in nodes)
        return {form: list(form.iter(*INPUTS)) for form in forms}, not loose and not root.xpath("//form//form")
    named = {form.get("id"): form for form in forms if form.get("id")}
    out: dict[Any, list[Any]] = {form: [] for form in forms}
    for node, owner in zip(nodes, order.owners, strict=True):
        form = named.get(node.get("form")) if node.get("form") else forms[owner] if owner is not None else None
        if form is not None:
            out[form].append(node)
    return out, True


def _form(form: Any, nodes: list[Any], own: str, within: Any) -> tuple[dict[str, Any], dict[str, Any]]:
    order: list[Field] = []
    hidden, buttons = dict[str, list[str]](), list[tuple[str, str, str]]()
    for node in nodes:
        if pressed := _button(node):
            buttons.append(pressed)
        for name, kind, chosen, offered in _fields_of(node):
            if kind in ("hidden", "odd"):
                hidden.setdefault(name, []).append(node.get("value") or node.text or "")
            before = next((n for n, one in enumerate(order) if one[0] == name and one[1] == "choice"), None)
            if (node.get("type") or "").lower() == "radio" and before is not None:
                held = order[before]
                order[before] = (name, kind, held[2] if chosen is None else chosen, [*held[3], *offered])
            else:
                order.append((name, kind, chosen, offered))
    alike = [name for name, kind, _, _ in order if kind == "box"]
    # boxes of one name are one set of words
    order = [(n, "many" if kind == "box" and alike.count(n) > 1 else kind, v, more) for n, kind, v, more in order]
    seen: dict[str, list[Field]] = {}
    for each in order:
        if each[1] in ("text", "odd", "choice", "box", "many"):
            seen.setdefault(each[0], []).append(each)
    fields = {name: _shown(made) for name, made in seen.items()}
    action, method = within(form.get("action") or ""), (form.get("method") or "get").lower()
    told = {
        "own": own,
        "fields": fields,
        "order": order,
        "buttons": [one[0] for one in buttons],
        "method": method if action else "elsewhere",
        "offers": {
            node.get("name"): dict(_options(node)) for node in nodes if node.tag == "select" and node.get("name")
        },
    }
    enctype = (form.get("enctype") or "").lower()
    return told, {
        "enctype": enctype,
        "method": method,
        "action": action or "/",
        "hidden": hidden,
        "buttons": buttons,
        "order": order,
    }
