"""A knob of the tuner's own: read, set and put back by a file or by commands."""

from __future__ import annotations

import math
import re

from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob, When
from yondle.rigs.own.asking import answer_of, found_in, is_the_kernels, number_in, text_of, write_to
from yondle.rigs.own.own_file import NUMBER, VALUE, KnobEntry

_BRACKETED = re.compile(r"\[([^\]\s]+)\]")
_WORD = re.compile(r"^\s*(\S.*?)\s*$")


class OwnKnob:
    """One knob of the tuner's own. What was found as it was made is its stock, and what is put back.

    Raises KnownError where it can't be read, or says something that is none of its values.
    """

    def __init__(self, id_: str, entry: KnobEntry, pattern: re.Pattern[str]) -> None:
        self._entry, self._pattern = entry, pattern
        self._words = entry.words or entry.choices
        self._found = self._text()
        now = self._value_of(self._found)
        self._touched = False
        low, high, step = (0.0, len(entry.choices) - 1.0, 1.0) if entry.choices else (entry.low, entry.high, entry.step)
        on_grid = low <= now <= high and math.isclose((now - low) / step, round((now - low) / step), abs_tol=1e-6)
        self.knob = Knob(
            id_, entry.name, entry.unit, entry.works, low, high, step, now, entry.digits,
            when=When.RESTART if entry.in_force == "after restart" else When.LIVE, risk=entry.risk,
            proportional=entry.proportional, choices=entry.choices, about=entry.about, governs=entry.limits,
            stops=() if on_grid else (now,),
        )  # fmt: skip

    def value(self) -> float | None:
        """Read the value in force; None where it can't be told now."""
        try:
            return self._value_of(self._text())
        except KnownError:
            return None

    def set(self, value: float) -> None:
        """Set a value that has been checked; raises KnownError with what stands against it."""
        self._touched = True
        if value == self.knob.stock:
            self._write_found()
            return
        self._write(self._words[round(value)] if self.knob.choices else _plainly(value * self._entry.scale))

    def put_back(self) -> None:
        """Set what was found, where anything else was set; raises KnownError where that can't be."""
        if self._touched:
            self._write_found()
            self._touched = False

    def _write(self, word: str) -> None:
        entry = self._entry
        if entry.file:
            write_to(entry.file, self._with(word) if self._holds_more else word)
        else:
            answer_of(tuple(each.replace(VALUE, word) for each in entry.write), entry.at_most_s)

    def _write_found(self) -> None:
        entry = self._entry
        if entry.file:
            write_to(entry.file, self._with(self._as_found()) if self._holds_more else self._as_found())
        elif entry.back:
            answer_of(entry.back, entry.at_most_s)
        else:
            self._write(self._as_found())

    @property
    def _holds_more(self) -> bool:
        """Whether its file is one of words and lines in which only the value may change."""
        return not is_the_kernels(self._entry.file) and not _BRACKETED.search(self._found)

    def _with(self, word: str) -> str:
        """Give what is in the file, with another value in the place of the one that stands there."""
        text = self._text()
        places = [match.span(1) for match in self._finds.finditer(text)]
        if len({text[start:end] for start, end in places}) != 1:
            raise KnownError(
                say("{file} no longer says what it said.", file=self._entry.file),
                say("Look at it, then open the logbook again."),
            )
        start, end = places[0]
        return text[:start] + word + text[end:]

    @property
    def _finds(self) -> re.Pattern[str]:
        return _WORD if self._entry.choices and self._pattern.pattern == NUMBER else self._pattern

    def _text(self) -> str:
        entry = self._entry
        return text_of(entry.file) if entry.file else answer_of(entry.read, entry.at_most_s)

    def _as_found(self) -> str:
        """Give what was found as it is written: the word or number itself, as the file or command told it."""
        if self.knob.choices:
            return self._words[round(self.knob.stock)]
        return found_in(self._found, self._pattern)

    def _value_of(self, text: str) -> float:
        if not self._entry.choices:
            return number_in(text, self._pattern, self._entry.scale)
        bracketed = _BRACKETED.search(text)
        word = bracketed.group(1) if bracketed else found_in(text, self._finds)
        if word not in self._words:
            raise KnownError(
                say("'{word}' is none of the choices of {name}.", word=word[:60], name=self._entry.name),
                say("Add it to them: what is found has to be one that can be gone back to."),
            )
        return float(self._words.index(word))


def _plainly(number: float) -> str:
    """Write a number without an exponent, and without digits behind the point where there are none."""
    return str(round(number)) if math.isclose(number, round(number), abs_tol=1e-9) else f"{number:.9f}".rstrip("0")
