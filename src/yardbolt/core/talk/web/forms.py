"""The forms of a page, as a browser fills and submits them (HTML, section 4.10.22). Pure."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ...secret import Text
from .shared import Signed

IN_ROW = "#"  # begins what stands for a button by its place in the form
HIDDEN: Text = ("\0hidden",)  # stands for what a hidden field holds, which never leaves the wire
Filling = Text | Signed


def names_of(form: Mapping[str, Any]) -> set[str]:
    """The names of its fields."""
    return {str(each[0]) for each in form["order"]}


def form_of(shown: Mapping[str, Mapping[str, Any]], name: str) -> Mapping[str, Any] | None:
    """The form of that name; where none is named, the only one there is."""
    return shown.get(name) if name else next(iter(shown.values()), None) if len(shown) == 1 else None


def is_box(form: Mapping[str, Any], name: str) -> bool:
    """Is it a box of its own?"""
    return any(field == name and kind == "box" for field, kind, *_ in form["order"])


def in_row(row: Mapping[str, Any], what: str, name: str) -> str:
    """The field, or the button, that stands in a row under a heading, or with such words."""
    return str((row.get(what) or {}).get(name, ""))


def fields_of(
    form: Mapping[str, Any], changed: Mapping[str, Filling], blank: tuple[str, ...] = (), press: str = ""
) -> tuple[tuple[str, Filling], ...]:
    """What a browser sends, in the order of the page. Raises ValueError where a field is not there, a choice is not
    offered, or a secret field would be sent as it stands."""
    out: list[tuple[str, Filling]] = []
    buttons = form["buttons"]
    private = any(kind == "secret" for _, kind, *_ in form["order"]) or any(
        isinstance(text, Signed) or any(not isinstance(part, str) for part in text) for text in changed.values()
    )
    if form["method"] != "post" and (form["method"] != "get" or private):
        raise ValueError("its form would put what is filled in into the address of a page")
    if (press not in buttons and not press.startswith(IN_ROW)) if press else len(buttons) > 1:
        raise ValueError(f"its buttons are {', '.join(buttons) or 'none'}")
    if missing := [name for name in changed if name not in names_of(form)]:
        raise ValueError(f"its form has no field {missing[0]}")
    names = [name for name, kind, *_ in form["order"] if kind not in ("hidden", "many", "off")]
    offered = {(name, choices[0]) for name, kind, _, choices in form["order"] if kind == "many"}
    for name in {name for name, _ in offered} & changed.keys():
        if strange := [word for word in _words(changed[name]) if (name, word) not in offered]:
            raise ValueError(f"its field {name} does not offer {strange[0]}")
    if several := [name for name in changed if names.count(name) > 1]:
        raise ValueError(f"its form has several fields {several[0]}")
    for name, kind, value, choices in form["order"]:
        text = changed.get(name)
        if kind == "off" or (kind == "file"):
            continue
        if kind in ("hidden", "odd") and (text is None or (kind == "hidden" and name in names)):
            # also the one that speaks for a box which is off
            out.append((name, HIDDEN))
        elif text is None and kind == "secret":
            if name not in blank:
                raise ValueError(f"its field {name} is for a secret, and nothing fills it")
            out.append((name, ("",)))
        elif kind == "box":
            named = choices[0] if choices else "on"
            if text not in (None, (), ("",), ("yes",), ("no",), (named,)):
                raise ValueError(f"its field {name} is a box, for yes or no")
            on = value if text is None else text == ("yes",) or (text == (named,) and named not in ("", "no"))
            if on:
                out.append((name, (named,)))
        elif kind == "many":
            if value if text is None else choices[0] in _words(text):
                out.append((name, (choices[0],)))
        elif kind == "choice" and text is None and value is None:
            continue  # none is chosen, so none is sent
        elif kind == "choice" and text is not None:
            if isinstance(text, tuple) and len(text) == 1 and text[0] not in choices:
                text = (((form.get("offers") or {}).get(name) or {}).get(text[0], text[0]),)  # by its words
            if isinstance(text, Signed) or len(text) != 1 or text[0] not in choices:
                raise ValueError(
                    f"its field {name} offers {', '.join(map(str, choices))}, and not "
                    f"{text[0] if isinstance(text, tuple) and text else 'nothing'}"
                )
            out.append((name, text))
        else:
            # line breaks go as CR LF (RFC 1866, section 8.2.1)
            out.append((name, text if text is not None else (str(value).replace("\n", "\r\n"),)))
    return tuple(out)


def _words(text: Filling) -> tuple[str, ...]:
    """The words of a set, as they are filled in; a secret is none."""
    parts = text if isinstance(text, tuple) else ()
    return tuple(word.strip() for part in parts if isinstance(part, str) for word in part.split(",") if word.strip())
