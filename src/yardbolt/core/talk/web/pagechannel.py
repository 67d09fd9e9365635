"""The keys of a family file for pages: how one logs in, what is asked, and what is filled and pressed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Literal, Self

from ...secret import Text
from ..conversation import OURS, Keys, Unprompted
from ..patterns import slots
from ..replies import ReplyRow
from ..rowsets import OneByOne
from ..tree import CALLED, Items
from .shared import ACCOUNT, View, mixed_in

GATE_NEW = "{new}"


@dataclass(frozen=True)
class Form:
    """What is filled into a form, and the button that is pressed (its words; empty where there is one). `gate` says
    which question it is, where somebody has to agree first; `because` why it is answered so."""

    fill: Mapping[str, str] = field(default_factory=dict)
    press: str = ""
    gate: str = ""
    because: str = ""

    def told(self) -> str:
        """How it is answered, in words."""
        return ", ".join(f"{name} = {text or 'nothing'}" for name, text in self.fill.items()) or self.press

    def asks_nobody(self) -> bool:
        """Does it take neither name nor password: a question of the unit's own?"""
        return not any(ACCOUNT in text or text.startswith("{secret") for text in self.fill.values())


@dataclass(frozen=True)
class LoginHow:
    """The page one logs in at, and the forms that may stand between it and the inside, each filled once. `auth` is
    the scheme where HTTP asks, and `account` what is given there as the name (nothing, where the unit knows no names;
    or more than the name, as in `{account}@house`)."""

    page: str
    forms: Mapping[str, Form] = field(default_factory=dict)
    auth: Literal["", "basic", "digest"] = ""
    account: str = ACCOUNT


@dataclass(frozen=True)
class Channel(Unprompted):
    """How pages are asked for. `keep` names what the wire takes out of each page (`meta/NAME`) and `headers` what
    carries it along, where a page says so who sent a form. `forms` names forms that have no name, by fields they
    hold. `log_out` is the page that ends a session, or (`/desk out`) a page and the form on it that does.
    Where every address holds the session, `session_field` names the field of the query it stands in, or
    `session_step` says how the first step of the path begins that holds it. It stays in the wire, and no place of the
    file has it."""

    services: Mapping[str, Literal["sealed", "plain"]]
    login: LoginHow
    forms: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    log_out: str = ""
    keep: Mapping[str, str] = field(default_factory=dict)
    headers: Mapping[str, str] = field(default_factory=dict)
    session_field: str = ""
    session_step: str = ""
    replies: tuple[ReplyRow, ...] = ()
    talk: Literal["pages"] = "pages"

    def amiss(self) -> tuple[Keys, str] | None:
        """What no address could carry, or more than a name around a name."""
        filled = [text for form in self.login.forms.values() for text in form.fill.values()]
        if mixed := mixed_in(self.login.account, *filled):
            return ("login",), mixed
        if self.session_field and self.session_step:
            return ("session_step",), "session_field says already where the session stands; leave one of the two out"
        for key in ("session_field", "session_step"):
            if not all(c.isascii() and (c.isalnum() or c in "-_.~") for c in getattr(self, key)):
                return (key,), "letters, digits and - _ . ~ are wanted"
        return None

    @property
    def carry(self) -> str:
        """What stands in every address for the session: the field, or the beginning of the step with a /."""
        return self.session_field or (f"/{self.session_step}" if self.session_step else "")

    def marks(self) -> tuple[tuple[str, str], ...]:
        """The headers a submission carries, each with the name of the `meta` of the page its value is taken from."""
        kept = {f"{{{name}}}": at.removeprefix("meta/") for name, at in self.keep.items()}
        return tuple((header, kept.get(text, "")) for header, text in self.headers.items())

    def gates_named(self) -> tuple[str, ...]:
        """The forms that are questions."""
        return tuple(form.gate for form in self.login.forms.values() if form.gate)

    def gate_answer(self, gate: str) -> Text | None:
        """What a question takes that asks for nothing of ours: the words of the family. One without a gate goes by
        its name."""
        found = next((form for name, form in self.login.forms.items() if gate in (form.gate, name)), None)
        return ("",) if found is not None and found.asks_nobody() and GATE_NEW not in found.fill.values() else None

    def answers(self) -> tuple[tuple[str, str], ...]:
        """What else is answered at the first login, and why, as the family has it."""
        return tuple(
            (f"{name}: {form.told()}", form.because)
            for name, form in self.login.forms.items()
            if form.asks_nobody() and not form.gate
        )


@dataclass(frozen=True)
class AskHow(Unprompted):
    """The page that is looked at; the form on it whose fields are read; the words of the link to the further part of
    a list. In the place of `page`, `link` is the handle by which the row of an item leads there; `through` are the
    words of links that lead on from there."""

    page: str = ""
    form: str = ""
    next: str = ""
    link: str = ""
    through: tuple[str, ...] = ()
    view: View | None = field(default=None, metadata=OURS)

    def templates(self) -> Iterator[tuple[Keys, str]]:
        """The one text with slots."""
        yield ("page",), self.page

    def on(self, ask: AskHow, items: Items) -> AskHow:
        """The same, reached by the rows of another page."""
        return replace(self, view=View(ask, items))

    def shared(self) -> AskHow:
        """The page, of which it may want one form alone."""
        return self if not self.form or self.link or self.view is not None else replace(self, form="")

    def asked_as(self) -> str:
        """The page, for the evidence."""
        behind = f"{self.link} of {self.view.ask.page}" if self.link and self.view else ""
        page = self.page or behind
        return f"page {page}" + (f", form {self.form}" if self.form else "") if page else ""


@dataclass(frozen=True)
class RowHow(Unprompted):
    """The form that is filled and submitted: on the page of the ask it is `on`, or on `page`. `link` is the handle of
    the row that leads to the page with the form, `through` the words of links that lead on from there; `cells` says
    that its fields (or its button) stand in the row itself; `visit` that there is no form: opening the page, or the
    link of the row, does it. `fill` are fields made from slots, `blank` fields that are left empty on purpose,
    `after` forms that may come after it (is this really meant?)."""

    page: str = ""
    link: str = ""
    through: tuple[str, ...] = ()
    form: str = ""
    press: str = ""
    fill: Mapping[str, str] = field(default_factory=dict)
    blank: tuple[str, ...] = ()
    after: Mapping[str, Form] = field(default_factory=dict)
    cells: Literal["", "yes", "no"] = ""
    visit: Literal["", "yes", "no"] = ""
    view: View | None = field(default=None, metadata=OURS)
    bound: bool = field(default=False, metadata=OURS)  # the ask reads the very fields behind the link

    def templates(self) -> Iterator[tuple[Keys, str]]:
        """The texts with slots."""
        yield ("page",), self.page
        for name, template in self.fill.items():
            yield ("fill", name), template
            yield ("fill", name), name if CALLED in name else ""
        for later, form in self.after.items():
            for name, template in form.fill.items():
                yield ("after", later, "fill", name), template

    def on(self, ask: AskHow, items: Items) -> Self:
        """The same, written on what this asks for."""
        if ask.view is not None and not items.at:
            same = not self.through or self.through == ask.through
            return replace(
                self, view=ask.view, link=self.link or ask.link, through=self.through or ask.through,
                form=self.form or ask.form, bound=same,
            )  # fmt: skip
        return replace(self, view=View(ask, items), form=self.form or ask.form)

    def amiss(self) -> tuple[Keys, str] | None:
        """A visit to nowhere."""
        nowhere = self.visit == "yes" and not (self.page or self.link)
        return (("visit",), "it does not say what is opened: give page, or link") if nowhere else None

    def asked_as(self) -> str:
        """The form and its page."""
        above = self.view.ask.page if self.view else "?"
        if self.visit == "yes":
            return f"page {self.page or f'{self.link} of {above}'}"
        return f"form {self.form} of {self.page or above}"

    def as_data(self) -> bool:
        """Fields are data; what stands in the place of a page is not."""
        return not slots(self.page)


@dataclass(frozen=True)
class OpHow(OneByOne, RowHow):
    """The same; or, for a set whose rows are added and taken away one at a time, how one of them is."""

    adds: RowHow | None = None
    takes: RowHow | None = None
