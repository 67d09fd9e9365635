"""Pages over HTTP (RFC 9110), through httpx: one connection to one unit, its certificate compared inside the
handshake.

A cookie is a name and a value, bound to this unit whatever else it says; it and hidden fields stay here. Bodies are
bounded, and read in a thread; only redirects within the same place are followed."""

from __future__ import annotations

import asyncio
import codecs
import re
import secrets
from dataclasses import replace
from typing import Any
from urllib.parse import quote, urlencode, urljoin, urlsplit

import httpx

from yardbolt.core.errors import clean
from yardbolt.core.talk.outcomes import End, Lost
from yardbolt.core.talk.web.forms import HIDDEN, IN_ROW
from yardbolt.core.talk.web.pages import Open, Page, Submit
from yardbolt.core.talk.web.shared import Signed

from .hearing import Secrets, filled
from .markup import LONGEST, LONGEST_MARK, REFRESH, read_page
from .web import WebWire, cookies, keyed

FOLLOWED, MOST_COOKIES = 3, 20
# the encodings of WHATWG Encoding, section 4.2, as codecs calls them; pages in UTF-16 are not read
WRITINGS = {
    "utf-8",
    "ascii",
    "cp866",
    "cp874",
    "koi8-r",
    "koi8-u",
    "mac-roman",
    "mac-cyrillic",
    "gb2312",
    "gbk",
    "gb18030",
    "big5",
    "big5hkscs",
    "euc_jp",
    "iso2022_jp",
    "shift_jis",
    "cp932",
    "euc_kr",
    "cp949",
    *(f"cp{n}" for n in range(1250, 1259)),
    *(f"iso8859-{n}" for n in (*range(1, 9), 10, *range(13, 17))),
}
AT_ONCE = re.compile(r"""\s*0(?:\.0*)?\s*[;,]\s*(?:url\s*=\s*)?["']?([^"']+)""", re.I)
AS_IT_IS = "/%:@!$&'()*+,;=~[]"  # what an address keeps when the rest of it is written as a browser does
_SAYS = re.compile(rb"<meta[^>]*charset\s*=\s*[\"']?([\w-]{1,30})", re.I)


class Pages(WebWire):
    """One connection, its cookies and the page in hand."""

    accepts = "text/html"

    def __init__(self, secrets: Secrets, pin: str, outdated: bool = False) -> None:
        super().__init__(secrets, pin, outdated)
        self._cookies: dict[str, str] = {}
        self._at, self._charset = "", "utf-8"  # of the page in hand
        self._carry, self._seat = "", ""  # what stands in addresses for the session, and how it begins
        self._meta: dict[str, str] = {}  # of the page in hand: what it says of itself
        self._forms: dict[str, dict[str, Any]] = {}  # of the page in hand: where each goes, and what it hides

    async def exchange(self, event: Open | Submit) -> Page | Lost:
        """Fetch a page, or submit a form of the one in hand. Raises IdentityError where the certificate changed
        meanwhile."""
        try:
            if isinstance(event, Open):
                self.log_in_by(event.auth)
                self._carry, self._seat = (event.carry, "") if event.carry else (self._carry, self._seat)
                return await self._page("GET", event.target, None, once=event.once)
            form = self._forms.get(event.form)
            if form is None:
                return Lost(End.SILENT, why=f"the page in hand has no form {event.form}")
            pairs = []
            left = {name: iter(values) for name, values in form["hidden"].items()}
            for name, text in event.fields:
                pairs.append((name, next(left.get(name, iter(())), "") if text == HIDDEN else self._filled(text, form)))
            button = next(
                (one for place, one in enumerate(form["buttons"]) if event.button in ("", one[0], f"{IN_ROW}{place}")),
                None,
            )
            pairs += [(button[1], button[2])] if button and button[1] else []
            marks = {header: self._meta[name] for header, name in event.marks if name in self._meta}
            if form["method"] == "get":
                asked = urlencode(pairs, encoding=self._charset, errors="xmlcharrefreplace")
                return await self._page("GET", f"{form['action'].partition('?')[0]}?{asked}", None, once=True)
            kind, content = _encoded(pairs, form["enctype"], self._charset)
            return await self._page("POST", form["action"], content, {"Content-Type": kind, **marks})
        except (httpx.HTTPError, httpx.InvalidURL) as e:
            return self.lost(e)

    def _filled(self, text: Any, form: dict[str, Any]) -> str:
        """A field; the keyed digest (RFC 2104, SHA-256, hexadecimal) of another one where the family says so."""
        if isinstance(text, Signed):
            held = next(iter(form["hidden"].get(text.of, [])), "") or next(
                (v for n, _, v, _ in form["order"] if n == text.of), ""
            )
            return keyed(text.ref, self._secrets, str(held or ""))
        return filled(text, self._secrets)

    async def _page(
        self, method: str, target: str, content: bytes | None, marks: dict[str, str] | None = None, once: bool = False
    ) -> Page:
        shown, did = None, once or content is not None
        for hop in range(FOLLOWED):
            headers = {"Cookie": "; ".join(f"{n}={v}" for n, v in self._cookies.items())} if self._cookies else {}
            headers |= self._from() | ({"Origin": self.origin(), **(marks or {})} if content is not None else {})
            try:
                got = await self.send(method, self._seated(target), content, headers, once)
            except httpx.HTTPError as e:
                if shown is None:
                    raise
                self.lost(e)  # which raises where it is another box
                return shown  # where it led to by itself nobody answers, so that is its answer
            # those it set first are kept, where it sets more than any unit needs
            self._cookies = dict(list({**self._cookies, **cookies(got)}.items())[:MOST_COOKIES])
            self._at = target
            if not (300 <= got.status_code < 400 and "location" in got.headers):
                shown, leads = await self._shown(got)
                if leads in ("", target):
                    return replace(shown, led=did and hop > 0)
                method, target, content, once = "GET", leads, None, False
                continue
            further = self._within(got.headers["location"])
            if further is None or (method == "POST" and got.status_code in (307, 308)):
                elsewhere = clean(got.headers["location"])[:400]
                return Page(got.status_code, {}, elsewhere.replace(self._seat, "...") if self._seat else elsewhere)
            method, target, content, once = "GET", further, None, False
        return Page(got.status_code, {}, torn="it sends from page to page without end")

    def _from(self) -> dict[str, str]:
        """The page one comes from, which many units want to be one of theirs; what stands in it for the session is
        left out."""
        return {"Referer": f"{self.origin()}{self._at.partition('?')[0]}"} if self._at else {}

    async def _shown(self, got: httpx.Response) -> tuple[Page, str]:
        """A page, and the one it leads to at once by itself, as browsers go on (HTML, section 4.2.5.3)."""
        self._forms = {}
        if "html" not in got.headers.get("content-type", ""):
            text = clean(got.content[:LONGEST].decode(errors="replace"))
            return Page(got.status_code, {"text": text, "forms": {}}), ""
        self._charset = _charset(got.charset_encoding or "", got.content)
        tree, self._forms, self._meta, torn = await asyncio.to_thread(
            read_page, got.content, self._charset, self._within
        )
        further = AT_ONCE.match(self._meta.pop(REFRESH, ""))
        # an error stays one, wherever it sends
        leads = self._within(further[1]) if further and not torn and got.status_code < 400 else None
        return Page(got.status_code, tree, torn=torn), leads or ""

    def _within(self, href: str) -> str | None:
        """A link as a place on this very unit; None where it leads elsewhere, or nowhere."""
        try:
            whole = urlsplit(urljoin(f"{self._base}{self._at}", href.strip()))
            if f"{whole.scheme}://{whole.netloc}" != self._base:
                return None
            place = self._unseated(quote(whole.path, safe=AS_IT_IS), quote(whole.query, safe=AS_IT_IS + "?"))
        except ValueError:
            return None
        return place if len(place) <= LONGEST else None

    def _unseated(self, path: str, query: str) -> str:
        """A place without what stands in it for the session, which is kept here."""
        if self._carry.startswith("/"):
            first, _, rest = path.removeprefix("/").partition("/")
            if path.startswith(self._carry):
                self._seat, path = first.removeprefix(self._carry[1:])[:LONGEST_MARK], f"/{rest}"
        elif self._carry:
            pairs = query.split("&")
            mine = [pair for pair in pairs if pair.startswith(f"{self._carry}=")]
            self._seat = mine[0].partition("=")[2][:LONGEST_MARK] if mine else self._seat
            query = "&".join(pair for pair in pairs if pair not in mine)
        return path + (f"?{query}" if query else "")

    def _seated(self, target: str) -> str:
        """The address of a place in this session."""
        if not self._seat:
            return target
        if self._carry.startswith("/"):
            return f"{self._carry}{self._seat}{target}"
        return f"{target}{'&' if '?' in target else '?'}{self._carry}={self._seat}"

    async def close(self) -> None:
        """End it; never raises."""
        self._cookies.clear()
        self._forms.clear()
        self._seat = ""
        await super().close()


def _charset(told: str, body: bytes) -> str:
    """What a page is written in: as its header says, or itself near its beginning, or as can be seen. What calls
    itself Latin-1 is windows-1252, as browsers have it (WHATWG Encoding, section 4.2), and what no browser reads
    counts as not said."""
    found = told or (match[1].decode() if (match := _SAYS.search(body[:1024])) else "")
    try:
        name = codecs.lookup(found).name
    except (LookupError, ValueError):
        name = ""
    if name not in WRITINGS:
        try:
            body.decode()
        except UnicodeDecodeError:
            return "windows-1252"
        return "utf-8"
    return "windows-1252" if name in ("iso8859-1", "ascii") else found


def _encoded(pairs: list[tuple[str, str]], enctype: str, charset: str) -> tuple[str, bytes]:
    """A form as it goes over the line, and what that is called: in the writing of its page, as fields or as parts
    (RFC 7578)."""
    if enctype != "multipart/form-data":
        return "application/x-www-form-urlencoded", urlencode(
            pairs, encoding=charset, errors="xmlcharrefreplace"
        ).encode()
    between = secrets.token_hex(16)
    parts = [
        f"--{between}\r\nContent-Disposition: form-data; "
        f'name="{name.replace(chr(34), "%22")}"\r\n\r\n{value}\r\n'.encode(charset, errors="xmlcharrefreplace")
        for name, value in pairs
    ]
    return f"multipart/form-data; boundary={between}", b"".join(parts) + f"--{between}--\r\n".encode()


__all__ = ["Pages"]
