"""Profiles: setups kept by name for a purpose, compared with stock, put in force exactly, written and read as TOML."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field

from yondle.app.session.commands import Command, WhileTesting
from yondle.app.session.proposing import ProposeTogether
from yondle.app.session.returning import ReturnTo
from yondle.app.session.session import Session
from yondle.formats.knob_table import StrictTable
from yondle.formats.toml_files import read_text, validated
from yondle.formats.whole_files import write_whole
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.knobs import Setup
from yondle.model.profiles import Profile, Purpose
from yondle.model.steps import StepRecord
from yondle.model.verdicts import Verdict
from yondle.views.shared.gains import measured_at, words_of_gain
from yondle.views.shared.proof import lived_through, lived_words
from yondle.views.shared.snapshot import Snapshot

FORMAT = "yondle-profile 1"
DOCUMENT = "docs/profile-file.md"
LONGEST_NAME = 60


class _File(StrictTable):
    format: Literal["yondle-profile 1"]
    name: Annotated[str, Field(min_length=1, max_length=LONGEST_NAME)]
    purpose: Purpose = Purpose.OTHER
    benchmark: str = ""
    rig: str
    settings: Annotated[dict[str, float | str], Field(min_length=1, max_length=500)]


@dataclass(frozen=True, slots=True)
class Comparison:
    """A profile against stock: every knob that differs, derived quantities that differ, and the gain per benchmark."""

    knobs: tuple[tuple[str, str, str], ...]
    derived: tuple[tuple[str, str, str], ...]
    gains: tuple[tuple[str, str], ...]


def profile(book: Snapshot, name: str) -> Profile:
    """Find a profile; raises KnownError naming those there are."""
    found = next((p for p in book.profiles if p.name.casefold() == name.casefold()), None)
    if found is None:
        known = ", ".join(p.name for p in book.profiles) or say("none yet")
        raise KnownError(say("There is no profile '{name}'.", name=name), say("There is: {known}.", known=known))
    return found


@dataclass(frozen=True)
class KeepProfile(Command[Profile]):
    """Keep the setup of a step that held (the present one, if none is named); raises KnownError for any other step."""

    name: str
    purpose: Purpose = Purpose.OTHER
    benchmark: str = ""
    step: int | None = None
    while_testing = WhileTesting.AT_NEXT_READING

    def do(self, session: Session) -> Profile:
        """Give the profile."""
        book, number = session.snapshot, self.step
        record = book.step(number) if number is not None else book.position
        if record is None or not _proven(record):
            where = say("Step {number}", number=number) if number is not None else say("What is in force")
            raise KnownError(
                say("{where} hasn't held, so it isn't kept as a profile.", where=where),
                say("Choose a step that held."),
            )
        named = self.purpose is Purpose.BENCHMARK
        benchmark = book.declaration.workload(self.benchmark).id if named else self.benchmark
        made = Profile(
            _named(self.name), self.purpose, benchmark, record.step.setup, record.step.number, session.wall()
        )
        return _kept(session, made)


@dataclass(frozen=True)
class UseProfile(Command[StepRecord]):
    """Put a profile in force exactly, every knob of it; raises KnownError for one that hasn't held on this rig."""

    name: str
    tests = True

    def do(self, session: Session) -> StepRecord:
        """Give the step it stands on."""
        wanted, book = profile(session.snapshot, self.name), session.snapshot
        held = next((r for r in reversed(book.steps) if r.step.setup == wanted.setup and _proven(r)), None)
        if held is not None:
            return ReturnTo(held.step.number).do(session)
        fell = book.step(wanted.step) if wanted.step is not None else None
        if fell is not None:
            raise KnownError(
                say(
                    "'{wanted}' holds no longer: step {step} is '{verdict}'.",
                    wanted=wanted.name,
                    step=fell.step.number,
                    verdict=fell.word,
                ),
                say("Test that step again, or keep a safer one."),
            )
        raise KnownError(
            say("'{wanted}' hasn't been tested on this rig.", wanted=wanted.name),
            say("Propose it as a joint step and test it first."),
        )


@dataclass(frozen=True)
class ProposeProfile(Command[None]):
    """Propose all that a profile changes as one joint step."""

    name: str

    def do(self, session: Session) -> None:
        """Propose it."""
        wanted = profile(session.snapshot, self.name)
        changes = session.rests.in_force.changes_to(wanted.setup)
        session.rests.must_be_offered(wanted.setup)
        if not changes:
            raise KnownError(say("'{wanted}' is in force already.", wanted=wanted.name), say("Nothing to test."))
        ProposeTogether({change.knob: change.new for change in changes}).do(session)


@dataclass(frozen=True)
class DropProfile(Command[Profile]):
    """Drop a profile; its step stays on the trail."""

    name: str
    while_testing = WhileTesting.AT_NEXT_READING

    def do(self, session: Session) -> Profile:
        """Give the profile as it was, so that it can be kept again."""
        dropped = profile(session.snapshot, self.name)
        session.logbook.keeping.drop_profile(dropped.name)
        session.reread()
        return dropped


@dataclass(frozen=True)
class KeepAgain(Command[Profile]):
    """Keep a profile that was dropped, as it was."""

    profile: Profile
    while_testing = WhileTesting.AT_NEXT_READING

    def do(self, session: Session) -> Profile:
        """Give the profile."""
        return _kept(session, self.profile)


@dataclass(frozen=True)
class RenameProfile(Command[str]):
    """Call a profile something else; raises KnownError for a name that another profile has."""

    name: str
    new: str
    while_testing = WhileTesting.AT_NEXT_READING

    def do(self, session: Session) -> str:
        """Give the name it had."""
        before, new = profile(session.snapshot, self.name), _named(self.new)
        taken = next((p for p in session.snapshot.profiles if p.name.casefold() == new.casefold()), None)
        if taken is not None and taken.name != before.name:
            raise KnownError(say("There is a profile '{taken}' already.", taken=taken.name), say("Give another name."))
        session.logbook.keeping.drop_profile(before.name)
        session.logbook.keeping.keep_profile(replace(before, name=new))
        session.reread()
        return before.name


@dataclass(frozen=True)
class ImportProfile(Command[Profile]):
    """Read a profile file and keep it, untried; raises KnownError for another rig's, or for values this one doesn't take."""

    path: Path
    while_testing = WhileTesting.AT_NEXT_READING

    def do(self, session: Session) -> Profile:
        """Give the profile."""
        file = validated(_File, read_text(self.path, DOCUMENT), str(self.path), say("is no profile"), DOCUMENT)
        declaration = session.declaration
        if file.rig != declaration.info.id:
            raise KnownError(
                say(
                    "{path} is a profile of '{rig}', and this logbook is about '{id}'.",
                    path=self.path,
                    rig=file.rig,
                    id=declaration.info.id,
                ),
                say("No two samples are alike: test its values here step by step instead."),
            )
        values = {}
        for knob_id, given in file.settings.items():
            knob = declaration.settable(knob_id)
            values[knob.id] = knob.checked(knob.parsed(given) if isinstance(given, str) else given)
        setup = declaration.stock.with_values(values)
        made = Profile(_named(file.name), file.purpose, file.benchmark, Setup.of(setup), None, session.wall())
        return _kept(session, made)


def standing(book: Snapshot, kept: Profile) -> str:
    """Say which step a profile stands on, whether that still holds, and what it lived through while it was kept in force."""
    if kept.step is None:
        return say("from a file, not tested here")
    record = book.step(kept.step)
    lived = lived_through(book, kept.setup)
    more = f"; {lived_words(lived)}" if lived is not None else ""
    if _proven(record):
        return say("step {step}", step=kept.step) + more
    return say("step {step}, which is '{verdict}' now", step=kept.step, verdict=record.word) + more


def compared_to_stock(book: Snapshot, wanted: Profile) -> Comparison:
    """Compare a profile with stock."""
    declaration, stock = book.declaration, book.declaration.stock
    knobs = tuple(
        (declaration.knob(c.knob).name, declaration.knob(c.knob).text(c.old), declaration.knob(c.knob).text(c.new))
        for c in stock.changes_to(wanted.setup)
    )
    before, after = declaration.derived(stock), declaration.derived(wanted.setup)
    derived = tuple(
        (d.name, d.text(before[d.id]), d.text(after[d.id]))
        for d in declaration.derived_of
        if d.id in before and d.id in after and before[d.id] != after[d.id]
    )
    record = measured_at(book, book.step(wanted.step)) if wanted.step is not None else None
    gains = tuple(
        (b.name, words)
        for b in book.declaration.benchmarks
        if record is not None and (words := words_of_gain(book, record, b))
    )
    return Comparison(knobs, derived, gains)


def profile_text(book: Snapshot, wanted: Profile) -> str:
    """Write a profile as TOML: every knob by its id, choices by their names, units in comments."""
    import tomlkit

    document = tomlkit.document()
    document["format"] = FORMAT
    document["name"] = wanted.name
    document["purpose"] = str(wanted.purpose)
    document["benchmark"] = wanted.benchmark
    document["rig"] = book.declaration.info.id
    settings = tomlkit.table()
    for knob in book.declaration.knobs:
        if knob.id in wanted.setup:
            value = wanted.setup[knob.id]
            item = tomlkit.item(knob.text(value) if knob.choices else value)
            settings[knob.id] = item.comment(knob.unit) if knob.unit else item
    document["settings"] = settings
    return tomlkit.dumps(document)


def write_profile(book: Snapshot, wanted: Profile, path: Path, replaces: bool) -> None:
    """Write a profile's file whole or not at all; raises KnownError where it can't be, or may not replace what is there."""
    write_whole(path, profile_text(book, wanted), replaces)


def _kept(session: Session, made: Profile) -> Profile:
    """Keep a profile; one of the same name with other settings is never lost over it."""
    before = next((p for p in session.snapshot.profiles if p.name.casefold() == made.name.casefold()), None)
    if before is not None and before.setup != made.setup:
        raise KnownError(
            say("There is a profile '{before}' with other settings.", before=before.name),
            say("Give another name, or drop it first."),
        )
    if before is not None:
        session.logbook.keeping.drop_profile(before.name)
    session.logbook.keeping.keep_profile(made)
    session.reread()
    return made


def _proven(record: StepRecord) -> bool:
    return record.verdict is Verdict.HELD


def _named(name: str) -> str:
    words = name.strip()
    if not words or len(words) > LONGEST_NAME:
        raise KnownError(
            say("A profile's name has 1 to {longest_name} characters.", longest_name=LONGEST_NAME),
            say("Give it another."),
        )
    return words
