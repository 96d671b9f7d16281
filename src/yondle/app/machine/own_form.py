"""A knob or sensor of the tuner's own as it is filled in on a form: made into the text of a file, and tried before it is kept."""

from __future__ import annotations

import re
import shlex
from collections.abc import Collection
from dataclasses import dataclass
from itertools import count
from pathlib import Path

import tomlkit

from yondle.app.machine.allowing import allow
from yondle.app.machine.typed import figure
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.knobs import Risk, Subsystem
from yondle.model.quantities import quantity
from yondle.rigs.own.asking import answer_of, number_in, text_of
from yondle.rigs.own.knobs import OwnKnob
from yondle.rigs.own.own_file import KnobEntry, parse_own

LONGEST_ID = 36
"""With room for a number behind it."""


@dataclass(frozen=True, slots=True)
class OwnTold:
    """What was filled in, as it was typed: a knob or a sensor, by a file or by commands (`reads`, and for a knob `sets`).

    `low`, `high` and `step` are of a knob alone, or `choices` with commas between them; `stop_at` of a sensor alone. What is left
    empty is as in a file that doesn't say it.
    """

    knob: bool
    name: str
    file: str = ""
    reads: str = ""
    sets: str = ""
    unit: str = ""
    works: Subsystem = Subsystem.WHOLE
    low: str = ""
    high: str = ""
    step: str = ""
    choices: str = ""
    risk: Risk = Risk.NONE
    stop_at: str = ""
    pattern: str = ""
    scale: str = ""

    @property
    def id(self) -> str:
        """What it is called in commands: its name in small letters, from the first letter on."""
        return re.sub(r"[^a-z0-9]+", "_", self.name.lower()).lstrip("_0123456789")[:LONGEST_ID].rstrip("_") or "own"


def own_text(told: OwnTold, taken: Collection[str] = ()) -> str:
    """Write it as a file (docs/own-file.md), under an id that isn't `taken`; raises KnownError for what can't be one."""
    if not told.name:
        raise KnownError(say("It has no name yet."), say("Write what it is called."))
    entry = tomlkit.table()
    entry["name"] = told.name
    if told.file:
        entry["file"] = str(Path(told.file).expanduser())
    for key, words in (("read" if told.knob else "command", told.reads), ("write", told.sets)):
        if words and not told.file and (told.knob or key == "command"):
            entry[key] = _command(words)
    numbers = ("low", "high", "step", "scale") if told.knob and not told.choices else ("scale",)
    for key in (*numbers, *(() if told.knob else ("stop_at",))):
        if text := getattr(told, key):
            entry[key] = figure(text)
    if told.knob and told.choices:
        entry["choices"] = [word.strip() for word in told.choices.split(",") if word.strip()]
    if told.knob and told.risk is not Risk.NONE:
        entry["risk"] = told.risk.value
    for key in ("unit", "pattern"):
        if text := getattr(told, key):
            entry[key] = text
    if told.works is not Subsystem.WHOLE:
        entry["works"] = told.works.value
    whole = tomlkit.document()
    whole["format"] = "yondle-own 1"
    whole["knob" if told.knob else "sensor"] = {_free(told.id, taken): entry}
    text = tomlkit.dumps(whole)
    parse_own(text, told.name)
    return text


def try_own(text: str) -> str:
    """Read it once, and say what it reads; raises KnownError where it can't be. What it runs is run for that."""
    (thing,) = parse_own(text, say("this form"))
    entry = thing.entry
    if isinstance(entry, KnobEntry):
        knob = OwnKnob(thing.id, entry, thing.pattern).knob
        return say("It reads {reading} now; that would be its stock.", reading=knob.text(knob.stock))
    words = text_of(entry.file) if entry.file else answer_of(entry.command, entry.at_most_s)
    reading = number_in(words, thing.pattern, entry.scale)
    return say("It reads {reading} now.", reading=quantity(reading, entry.unit, entry.digits))


def allow_described(text: str) -> None:
    """Allow what was just described by the tuner, who has seen what it does."""
    for thing in parse_own(text, say("this form")):
        allow(thing)


def _free(id_: str, taken: Collection[str]) -> str:
    """Number an id that is taken: what bears it already is never replaced by something of the same name."""
    numbered = (f"{id_}_{number}" for number in count(2))
    return id_ if id_ not in taken else next(each for each in numbered if each not in taken)


def _command(words: str) -> list[str]:
    try:
        return shlex.split(words)
    except ValueError as error:
        raise KnownError(
            say("'{words}' is no command ({error}).", words=words, error=error), say("Close what is quoted.")
        ) from error
