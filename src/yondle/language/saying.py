"""What the user reads, in the user's language: whole sentences are looked up, then the parts are put into them.

The language is chosen once, when the program starts: YONDLE_LANGUAGE, else the usual LANGUAGE, LC_ALL, LC_MESSAGES and LANG.
Sentences are in the code in English and are looked up in a gettext catalogue; what isn't in it stays English.
"""

from __future__ import annotations

import gettext
import os
from collections.abc import Iterable
from enum import StrEnum
from pathlib import Path
from string import Formatter
from typing import Any

CATALOGUES = Path(__file__).parent
DOMAIN = "yondle"
ENGLISH, MARKED = "en", "qps"
"""`qps` is nobody's language: it puts brackets around whatever can be translated, so that what can't be is seen."""
CONDITION = "condition"
"""Among what the conditions of a test are: the parts of a machine, its power, its room."""
_OPEN, _CLOSE = "⟦", "⟧"
_DECIMAL_COMMA = frozenset({"de"})
_CAPITAL_NOUNS = frozenset({"de"})


def _wanted() -> list[str]:
    """List the languages asked for, best first, without encoding or region: 'de_AT.UTF-8' is 'de'."""
    for name in ("YONDLE_LANGUAGE", "LANGUAGE", "LC_ALL", "LC_MESSAGES", "LANG"):
        found = os.environ.get(name, "")
        if found:
            return [part.split(".")[0].split("@")[0].split("_")[0].split("-")[0].lower() for part in found.split(":")]
    return []


def languages() -> tuple[str, ...]:
    """List the languages there are texts in, English first."""
    return (ENGLISH, *sorted(found.parent.parent.name for found in CATALOGUES.glob(f"*/LC_MESSAGES/{DOMAIN}.mo")))


def _chosen(wanted: Iterable[str]) -> str:
    there = {*languages(), MARKED}
    return next((code for code in wanted if code in there), ENGLISH)


LANGUAGE = _chosen(_wanted())
"""The language of this run, as its ISO 639 code."""
DECIMAL_MARK = "," if LANGUAGE in _DECIMAL_COMMA else "."

_catalogue = gettext.translation(DOMAIN, CATALOGUES, [LANGUAGE], fallback=True)


def say(sentence: str, /, **parts: Any) -> str:
    """Give a sentence in the user's language, with the parts its braces name put in; it must be written out where it stands.

    Fractions in it get the language's decimal mark, words of an enumeration are looked up, too.
    """
    found = _marked(_catalogue.gettext(sentence))
    return _formatter.vformat(found, (), parts) if parts else found


def named(words: str, among: str = "") -> str:
    """Give words that are known only when the program runs, such as the name of a sensor, as they are said here.

    `among` tells what they are one of, for languages that have another word for them there: power among conditions.
    """
    if not words:
        return ""
    found = _catalogue.pgettext(among, str(words)) if among else str(words)
    return _marked(found if found != words else _catalogue.gettext(found))


def several(n: int, one: str, many: str, /, **parts: Any) -> str:
    """Give the sentence for one of something or for `n`, like `say`; the count itself is the part `n`."""
    return _formatter.vformat(_marked(_catalogue.ngettext(one, many, n)), (), {"n": n, **parts})


def later(words: str) -> str:
    """Give words back as they are: they are kept or compared in English and looked up where they are shown."""
    return words


class Counted(str):
    """A count with its noun; a sentence may ask for the noun's other forms, '{passes:dative}'."""

    _n: int
    _written: str
    _one: str
    _many: str

    def __new__(cls, n: int, written: str, one: str, many: str) -> Counted:
        """Count `n`, `written` as it is shown."""
        made = super().__new__(cls, f"{written} {_marked(_catalogue.ngettext(one, many, n))}")
        made._n, made._written, made._one, made._many = n, written, one, many
        return made

    def __format__(self, form: str) -> str:
        if not form:
            return str(self)
        noun = _catalogue.npgettext(form, self._one, self._many, self._n)
        return f"{self._written} {noun}"


class _Saying(Formatter):
    """Puts parts into a sentence the way the language writes them."""

    def format_field(self, value: Any, spec: str) -> str:
        if isinstance(value, StrEnum):
            return format(named(value), spec)
        text = format(value, spec)
        return with_mark(text) if isinstance(value, float) else str(text)


def with_mark(text: str) -> str:
    """Write a figure that has a decimal point with the language's decimal mark."""
    return text.replace(".", DECIMAL_MARK)


def capital(words: str) -> str:
    """Begin a sentence with these words."""
    return words[:1].upper() + words[1:]


def in_sentence(name: str) -> str:
    """Write a name as it stands inside a sentence: in lower case, but for languages that write nouns with a capital."""
    return name if LANGUAGE in _CAPITAL_NOUNS else name.lower()


def _marked(text: str) -> str:
    return f"{_OPEN}{text}{_CLOSE}" if LANGUAGE == MARKED and text.strip() else text


_formatter = _Saying()
