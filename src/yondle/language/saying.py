"""What the user reads, in the user's language: whole sentences are looked up, then the parts are put into them.

The language is chosen once, when the program starts: YONDLE_LANGUAGE, else what is preferred (`preferred.py`), else the usual
LANGUAGE, LC_ALL, LC_MESSAGES and LANG.
Sentences are in the code in English and are looked up in a gettext catalogue; what isn't in it stays English.
"""

from __future__ import annotations

import gettext
import json
import os
import re
from collections.abc import Callable, Iterable, Mapping
from datetime import datetime
from enum import StrEnum
from functools import cache, wraps
from pathlib import Path
from string import Formatter
from typing import Any, ParamSpec

from yondle.language.preferred import VARIABLE, with_preferred

P = ParamSpec("P")
CATALOGUES = Path(__file__).parent
DOMAIN = "yondle"
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


LANGUAGE = chosen(with_preferred(os.environ))
"""The language of this run."""
DECIMAL_MARK = "," if LANGUAGE in _DECIMAL_COMMA else "."

_catalogue = gettext.translation(DOMAIN, CATALOGUES, [LANGUAGE], fallback=True)


class Said(str):
    """Words that know what they were made of: `made_by` names the maker, `of` and `parts` are what it was given.

    They are words like any others, and can be kept (`kept`) so that they are said again in the language of whoever reads.
    """

    __slots__ = ("made_by", "of", "parts")
    made_by: str
    of: tuple[Any, ...]
    parts: Mapping[str, Any]

    def __getnewargs__(self) -> tuple[str]:
        return (str(self),)


_MAKERS: dict[str, Callable[..., str]] = {}


def made_words(make: Callable[P, str]) -> Callable[P, str]:
    """Have the words a function makes know what they were made of; what it is given has to be words, numbers or moments."""
    name = make.__name__

    @wraps(make)
    def making(*of: P.args, **parts: P.kwargs) -> str:
        return _said(make(*of, **parts), name, of, parts)

    _MAKERS[name] = make
    return making


def _said(words: str, made_by: str, of: tuple[Any, ...], parts: Mapping[str, Any]) -> Said:
    said = Said(words)
    said.made_by, said.of, said.parts = made_by, of, parts
    return said


@made_words
def say(sentence: str, /, **parts: Any) -> str:
    """Give a sentence in the user's language, with the parts its braces name put in; it must be written out where it stands.

    Fractions in it get the language's decimal mark, words of an enumeration are looked up, too.
    """
    found = _catalogue.gettext(sentence)
    return _put(found, parts) if parts else _marked(found)


@made_words
def several(n: int, one: str, many: str, /, **parts: Any) -> str:
    """Give the sentence for one of something or for `n`, like `say`; the count itself is the part `n`."""
    return _put(_catalogue.ngettext(one, many, n), {"n": n, **parts})


@made_words
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


@made_words
def capital(words: str) -> str:
    """Begin a sentence with these words."""
    return words[:1].upper() + words[1:]


_CAPITALISED = re.compile(r"\b[^\W\d_](?:[^\W\d_A-Z])*\b")


@made_words
def in_sentence(name: str) -> str:
    """Write a name as it stands inside a sentence: in lower case, but for languages that write nouns with a capital.

    Words that are more than capitalised, such as CAS or tRCD, stay as they are.
    """
    return name if LANGUAGE in _CAPITAL_NOUNS else _CAPITALISED.sub(lambda word: word.group().lower(), name)


@made_words
def clause(sentence: str) -> str:
    """Give a sentence as a part of another one: without its stop."""
    return sentence.rstrip(".")


@made_words
def listed(words: Iterable[str], between: str = ", ") -> str:
    """Put words one after the other."""
    return between.join(words)


def together(words: Iterable[str]) -> str:
    """Put words one after the other as a sentence has them: 'a, b and c'."""
    *some, last = [*words] or [""]
    return say("{some} and {last}", some=listed(some), last=last) if some else last


def with_mark(figure: str) -> str:
    """Write a figure that has a decimal point with the language's decimal mark."""
    return figure.replace(".", DECIMAL_MARK)


class Counted(Said):
    """A count with its noun; a sentence may ask for the noun's other forms, '{passes:dative}'."""

    __slots__ = ("_many", "_n", "_one", "_written")
    _n: int
    _written: str
    _one: str
    _many: str

    def __new__(cls, n: int, written: str, one: str, many: str) -> Counted:
        """Count `n`, `written` as it is shown."""
        made = super().__new__(cls, f"{written} {_marked(_catalogue.ngettext(one, many, n))}")
        made._n, made._written, made._one, made._many = n, written, one, many
        made.made_by, made.of, made.parts = "counted", (n, written, one, many), {}
        return made

    def __getnewargs__(self) -> tuple[Any, ...]:
        return self._n, self._written, self._one, self._many

    def __format__(self, form: str) -> str:
        if not form:
            return str(self)
        return f"{self._written} {_catalogue.npgettext(form, self._one, self._many, self._n)}"


_MAKERS["counted"] = Counted

_MARK = "\u2039said\u203a"
"""What kept words begin with that know what they were made of, as no other words do."""
_BEGINS = f'["{_MARK}", '
_MOST_KEPT = 20_000


def kept(words: str) -> str:
    """Write words down so that `said_again` can say them in another language; words that don't know how they were made stay."""
    if not isinstance(words, Said):
        return str(words)
    return json.dumps([_MARK, str(words), *_recipe(words)], ensure_ascii=False)


def said_again(text: str) -> str:
    """Say words that were kept, in the language of this run; where that can't be done they are as they were written."""
    if not text.startswith(_BEGINS):
        return text
    words = text
    try:
        words = str(json.JSONDecoder().raw_decode(text, len(_BEGINS))[0])
        _, _, *recipe = json.loads(text[:_MOST_KEPT])
        again: str = _remade(recipe)
        return again
    except (ValueError, TypeError, LookupError, AttributeError, RecursionError, OverflowError):
        return words


def _recipe(words: Said) -> list[Any]:
    return [
        words.made_by,
        [_plain(each) for each in words.of],
        {name: _plain(each) for name, each in words.parts.items()},
    ]


def _plain(value: Any) -> Any:
    if isinstance(value, Said):
        return {_MARK: _recipe(value)}
    if isinstance(value, StrEnum):
        return {_MARK: ["named", [str(value)], {}]}
    if isinstance(value, datetime):
        return {_MARK: ["at", [value.isoformat()], {}]}
    if isinstance(value, bool | int | float | str):
        return value
    if isinstance(value, list | tuple):
        return [_plain(each) for each in value]
    return str(value)


def _remade(recipe: list[Any]) -> Any:
    made_by, of, parts = recipe
    given = [_unplain(each) for each in of]
    if made_by == "at":
        return datetime.fromisoformat(given[0])
    if made_by == "say" and any(len(spec) > _LONGEST_SPEC for _, _, spec, _ in _pieces(given[0])):
        raise ValueError(made_by)
    make = _MAKERS[made_by]
    named_parts = {str(name): _unplain(each) for name, each in parts.items()}
    words = make(*given, **named_parts)
    return words if isinstance(words, Counted) else _said(words, made_by, tuple(given), named_parts)


_LONGEST_SPEC = 6
"""So long is what stands behind the colon of a part; more would let kept words ask for any room they like."""


def _unplain(value: Any) -> Any:
    if isinstance(value, dict):
        return _remade(value[_MARK])
    if isinstance(value, list):
        return [_unplain(each) for each in value]
    return value


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
