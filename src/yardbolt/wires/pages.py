"""Pages over HTTP (RFC 9110), through httpx and lxml: one connection to one unit, its certificate compared inside the handshake.

A cookie is a name and a value, bound to this unit whatever else it says; it and hidden fields stay here. Nothing is drawn and no
script is run. Bodies and their depth are bounded, and read in a thread; only redirects within the same place are followed.
"""

from __future__ import annotations

import asyncio
from typing import Any
from urllib.parse import urlencode, urljoin, urlsplit

import httpx
from lxml import etree, html

from yardbolt.core.errors import clean
from yardbolt.core.talk.outcomes import End, Lost
from yardbolt.core.talk.pages import HIDDEN, Open, Page, Submit

from .hearing import Secrets, filled
from .web import WebWire

FOLLOWED, DEEPEST, LONGEST = 3, 200, 4000


class Pages(WebWire):
    """One connection, its cookies and the page in hand."""

    accepts = "text/html"

    def __init__(self, secrets: Secrets, pin: str) -> None:
        super().__init__(secrets, pin)
        self._cookies: dict[str, str] = {}
        self._at = "/"
        self._forms: dict[str, dict[str, Any]] = {}  # of the page in hand: where each goes, and what it hides

    async def exchange(self, event: Open | Submit) -> Page | Lost:
        """Fetch a page, or submit a form of the one in hand. Raises IdentityError where the certificate changed meanwhile."""
        try:
            if isinstance(event, Open):
                self.log_in_by(event.auth)
                return await self._page("GET", event.target, None)
            form = self._forms.get(event.form)
            if form is None:
                return Lost(End.SILENT, why=f"the page in hand has no form {event.form}")
            pairs = []
            for name, text in event.fields:
                pairs.append((name, form["hidden"].get(name, "") if text == HIDDEN else filled(text, self._secrets)))
            button = next((one for one in form["buttons"] if one[0] == event.button or not event.button), None)
            pairs += [(button[1], button[2])] if button and button[1] else []
            return await self._page("POST", form["action"], urlencode(pairs).encode())
        except httpx.HTTPError as e:
            return self.lost(e)

    async def _page(self, method: str, target: str, content: bytes | None) -> Page:
        for _ in range(FOLLOWED):
            headers = {"Cookie": "; ".join(f"{n}={v}" for n, v in self._cookies.items())} if self._cookies else {}
            if content is not None:
                headers["Content-Type"] = "application/x-www-form-urlencoded"
            got = await self.send(method, target, content, headers)
            self._keep(got.headers.get_list("set-cookie"))
            self._at = target
            if not (300 <= got.status_code < 400 and "location" in got.headers):
                break
            further = self._within(got.headers["location"])
            if further is None or (method == "POST" and got.status_code in (307, 308)):
                return Page(got.status_code, {}, clean(got.headers["location"])[:400])
            method, target, content = "GET", further, None
        else:
            return Page(got.status_code, {}, torn="it sends from page to page without end")
        self._forms = {}
        if "html" not in got.headers.get("content-type", ""):
            return Page(got.status_code, {"text": clean(got.content[:LONGEST].decode(errors="replace")), "forms": {}})
        tree, self._forms, torn = await asyncio.to_thread(
            _read, got.content, got.charset_encoding or "utf-8", self._within
        )
        return Page(got.status_code, tree, torn=torn)

    def _keep(self, lines: list[str]) -> None:
        for line in lines:
            name, _, value = line.partition(";")[0].partition("=")
            if name.strip() and len(self._cookies) < 20:
                self._cookies[name.strip()] = value.strip()[:400]

    def _within(self, href: str) -> str | None:
        """A link as a place on this very unit; None where it leads elsewhere."""
        whole = urlsplit(urljoin(f"{self._base}{self._at}", href.strip()))
        if f"{whole.scheme}://{whole.netloc}" != self._base:
            return None
        return whole.path + (f"?{whole.query}" if whole.query else "")

    async def close(self) -> None:
        """End it; never raises."""
        self._cookies.clear()
        self._forms.clear()
        await super().close()


def _read(body: bytes, charset: str, within: Any) -> tuple[dict[str, Any], dict[str, dict[str, Any]], str]:
    """A page as a tree; its forms as the wire needs them; and why it did not come whole."""
    try:
        parser = html.HTMLParser(encoding=charset, no_network=True, remove_comments=True, huge_tree=False)
    except LookupError:
        parser = html.HTMLParser(encoding="utf-8", no_network=True, remove_comments=True)
    try:
        root = html.document_fromstring(body, parser=parser)
    except (etree.ParserError, ValueError):
        return {"text": "", "forms": {}}, {}, "the page is empty"
    # deeper than this, the parser cuts off without a word
    deep = any(sum(1 for _ in node.iterancestors()) >= DEEPEST for node in root.iter() if len(node) == 0)
    torn = "the page is deeper than any page of a unit" if deep else ""
    torn = torn or ("" if b"</html" in body.lower() else "the page did not come whole")
    for node in root.xpath("//script|//style"):
        node.drop_tree()
    forms, kept = dict[str, Any](), dict[str, dict[str, Any]]()
    for count, form in enumerate(root.xpath("//form"), 1):
        own = form.get("name") or form.get("id") or f"form {count}"
        forms[own], kept[own] = _form(form, own, within)
    tables = {}
    for count, table in enumerate(root.xpath("//table"), 1):
        tables[_words(table.find("caption")) or table.get("id") or f"table {count}"] = _rows(table, within)
    return {
        "title": _words(root.find(".//title")), "text": _lines(root)[:LONGEST], "forms": forms, "tables": tables,
        "links": _links(root, within), "pairs": {name: pairs for name, rows in tables.items() if (pairs := _pairs(rows))},
    }, kept, torn  # fmt: skip


def _words(node: Any) -> str:
    return clean(" ".join(" ".join(node.itertext()).split())) if node is not None else ""


def _lines(root: Any) -> str:
    """The words of a page, each piece on a line of its own."""
    return "\n".join(line for piece in root.itertext() if (line := clean(" ".join(piece.split()))))


def _links(node: Any, within: Any) -> dict[str, str]:
    found = {_words(a): within(a.get("href")) for a in node.iter("a") if a.get("href")}
    return {words: href for words, href in found.items() if words and href}


def _rows(table: Any, within: Any) -> list[dict[str, Any]]:
    lines = table.xpath(".//tr")
    heads = [_words(cell) for cell in lines[0].xpath("./th|./td")] if lines else []
    out = []
    for line in lines[1:]:
        cells = line.xpath("./th|./td")
        out.append(
            {
                **{head: _words(cell) for head, cell in zip(heads, cells, strict=False) if head},
                "links": _links(line, within),
            }
        )
    return out


def _pairs(rows: list[dict[str, Any]]) -> dict[str, str]:
    """A table of two columns as what stands beside each word of the first."""
    columns = [[name for name in row if name != "links"] for row in rows]
    if not rows or any(len(names) != 2 for names in columns):
        return {}
    return {str(row[names[0]]): str(row[names[1]]) for row, names in zip(rows, columns, strict=True)}


def _form(form: Any, own: str, within: Any) -> tuple[dict[str, Any], dict[str, Any]]:
    order: list[tuple[str, str, Any, list[str]]] = []
    fields, hidden, buttons = dict[str, Any](), dict[str, str](), list[tuple[str, str, str]]()
    for node in form.iter("input", "select", "textarea", "button"):
        name, kind = (
            node.get("name") or "",
            (node.get("type") or ("submit" if node.tag == "button" else "text")).lower(),
        )
        value = node.get("value") or ""
        if node.tag == "button" or kind in ("submit", "image"):
            buttons.append((_words(node) if node.tag == "button" else clean(value), name, value))
        elif not name or kind in ("button", "reset"):
            continue
        elif node.get("disabled") is not None:
            order.append((name, "off", None, []))
        elif node.tag == "select":
            options = [
                (o.get("value") if o.get("value") is not None else _words(o), o.get("selected") is not None)
                for o in node.iter("option")
            ]
            chosen = next((v for v, on in options if on), options[0][0] if options else "")
            order.append((name, "choice", clean(chosen), [clean(v) for v, _ in options]))
        elif node.tag == "textarea":
            order.append((name, "text", clean(node.text or ""), []))
        elif kind == "hidden":
            hidden[name] = value
            order.append((name, "hidden", None, []))
        elif kind == "password":
            order.append((name, "secret", None, []))
        elif kind == "checkbox":
            order.append((name, "box", node.get("checked") is not None, [value or "on"]))
        elif kind == "radio":
            before = next((n for n, one in enumerate(order) if one[0] == name and one[1] == "choice"), None)
            if before is None:
                order.append((name, "choice", clean(value) if node.get("checked") is not None else "", [clean(value)]))
            else:
                _, _, chosen, offered = order[before]
                order[before] = (
                    name,
                    "choice",
                    clean(value) if node.get("checked") is not None else chosen,
                    [*offered, clean(value)],
                )
        else:
            order.append((name, "file" if kind == "file" else "text", clean(value), []))
    fields = {name: value for name, kind, value, _ in order if kind in ("text", "choice", "box")}
    action, method = within(form.get("action") or ""), (form.get("method") or "get").lower()
    told = {
        "own": own,
        "fields": fields,
        "order": order,
        "buttons": [one[0] for one in buttons],
        "method": method if action else "elsewhere",
    }
    return told, {"action": action or "/", "hidden": hidden, "buttons": buttons}


__all__ = ["Pages"]
