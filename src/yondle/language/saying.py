"""What the user reads, in the user's language: whole sentences are looked up, then the parts are put into them.

The language is chosen once, when the program starts: YONDLE_LANGUAGE, else the usual LANGUAGE, LC_ALL, LC_MESSAGES and LANG.
Sentences are in the code in English and are looked up in a gettext catalogue; what isn't in it stays English.
"""

from __future__ import annotations

import gettext
import os
from collections.abc import Mapping
from enum import StrEnum
from functools import cache
from pathlib import Path
from string import Formatter
from typing import Any

CATALOGUES = Path(__file__).parent
DOMAIN = "yondle"
VARIABLE = "YONDLE_LANGUAGE"
ENGLISH, MARKED = "en", "qps"
"""`qps` is nobody's language: it puts brackets around whatever is looked up, not around the parts put in: what isn't is seen."""
CONDITION = "condition"
"""Among what the conditions of a test are: the parts of a machine, its power, its room."""
_OPEN, _CLOSE = "⟦", "⟧"
_DECIMAL_COMMA = frozenset({"de"})
_CAPITAL_NOUNS = frozenset({"de"})


def languages() -> tuple[str, ...]:
    """List the languages there are texts in, English first."""
    return (ENGLISH, *sorted(found.parent.parent.name for found in CATALOGUES.glob(f"*/LC_MESSAGES/{DOMAIN}.mo")))


def chosen(environment: Mapping[str, str]) -> str:
    """Choose the language from the variables of an environment, as its ISO 639 code; English where none of them is here.

    Only the first variable that is set counts; encoding and region are left out, 'de_AT.UTF-8' asks for 'de'.
    """
    wanted = (environment.get(name, "") for name in (VARIABLE, "LANGUAGE", "LC_ALL", "LC_MESSAGES", "LANG"))
    there = {*languages(), MARKED}
    for part in next((value for value in wanted if value), "").split(":"):
        code = part.split(".")[0].split("@")[0].split("_")[0].split("-")[0].lower()
        if code in there:
            return code
    return ENGLISH


LANGUAGE = chosen(os.environ)
"""The language of this run."""
DECIMAL_MARK = "," if LANGUAGE in _DECIMAL_COMMA else "."

_catalogue = gettext.translation(DOMAIN, CATALOGUES, [LANGUAGE], fallback=True)


def say(sentence: str, /, **parts: Any) -> str:
    """Give a sentence in the user's language, with the parts its braces name put in; it must be written out where it stands.

    Fractions in it get the language's decimal mark, words of an enumeration are looked up, too.
    """
    found = _catalogue.gettext(sentence)
    return _put(found, parts) if parts else _marked(found)


def several(n: int, one: str, many: str, /, **parts: Any) -> str:
    """Give the sentence for one of something or for `n`, like `say`; the count itself is the part `n`."""
    return _put(_catalogue.ngettext(one, many, n), {"n": n, **parts})


def named(words: str, among: str = "") -> str:
    """Give words that are known only when the program runs, such as the name of a sensor, as they are said here.

    `among` tells what they are one of, for languages that have another word for them there: power among conditions.
    """
    if not words:
        return ""
    found = _catalogue.pgettext(among, str(words)) if among else str(words)
    return _marked(found if found != words else _catalogue.gettext(found))


def later(words: str) -> str:
    """Give words back as they are: they are kept or compared in English and looked up where they are shown."""
    return words


def capital(words: str) -> str:
    """Begin a sentence with these words."""
    return words[:1].upper() + words[1:]


def in_sentence(name: str) -> str:
    """Write a name as it stands inside a sentence: in lower case, but for languages that write nouns with a capital."""
    return name if LANGUAGE in _CAPITAL_NOUNS else name.lower()


def with_mark(figure: str) -> str:
    """Write a figure that has a decimal point with the language's decimal mark."""
    return figure.replace(".", DECIMAL_MARK)


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

    def __getnewargs__(self) -> tuple[Any, ...]:
        return self._n, self._written, self._one, self._many

    def __format__(self, form: str) -> str:
        if not form:
            return str(self)
        return f"{self._written} {_catalogue.npgettext(form, self._one, self._many, self._n)}"


def _put(sentence: str, parts: Mapping[str, Any]) -> str:
    """Put parts into a sentence the way the language writes them."""
    made = []
    for words, name, spec, conversion in _pieces(sentence):
        made.append(_marked(words))
        if name is not None:
            made.append(_written(parts[name], spec, conversion))
    return "".join(made)


@cache
def _pieces(sentence: str) -> tuple[tuple[str, str | None, str, str | None], ...]:
    """Take a sentence apart; there are as many as the catalogue has, so they are kept."""
    return tuple((words, name, spec or "", conversion) for words, name, spec, conversion in Formatter().parse(sentence))


def _written(value: Any, spec: str, conversion: str | None) -> str:
    if conversion == "r":
        value = repr(value)
    if type(value) is str:
        return format(value, spec) if spec else value
    if isinstance(value, StrEnum):
        return format(named(value), spec)
    text = format(value, spec)
    return with_mark(text) if isinstance(value, float) else str(text)


def _marked(text: str) -> str:
    return f"{_OPEN}{text}{_CLOSE}" if LANGUAGE == MARKED and text.strip() else text
