"""Tables brought in: looked at first, with what each column was taken for; then all of it is written, or nothing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from yondle.analysis.efficiency import power_channel
from yondle.app.session.commands import Command, WhileTesting
from yondle.app.session.recording import HowItWent, Record, Recorded, ToldFigure, ToldStep
from yondle.app.session.results import MeasuredWith
from yondle.app.session.session import Session
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob
from yondle.model.quantities import count
from yondle.model.rigs import ELSEWHERE, RigDeclaration
from yondle.model.sensors import Quantity
from yondle.model.verdicts import Failure
from yondle.model.workloads import Direction
from yondle.rigs.elsewhere.rig import NO_FIGURES
from yondle.tables.cells import Sheet
from yondle.tables.gather import gather
from yondle.tables.gathered import Gathered, GatheredFigure, GatheredStep, setup_of
from yondle.tables.recognise import recognise
from yondle.tables.recognised import AS_FOUND, Known, Recognised, Wishes
from yondle.views.shared.snapshot import Snapshot


@dataclass(frozen=True, slots=True)
class TableLook:
    """What a sheet was taken for, and what would be made of it."""

    found: Recognised
    gathered: Gathered

    @property
    def may(self) -> bool:
        """Tell whether it can be brought in as it is."""
        return not self.gathered.problems

    @property
    def words(self) -> str:
        """Say what would be made of it."""
        gathered = self.gathered
        return say(
            "{steps}, {benchmarks}, {figures}.",
            steps=count(gathered.settings, "step"),
            benchmarks=count(len(gathered.benchmarks), "benchmark"),
            figures=count(gathered.figures, "figure"),
        )


def look_at_table(
    snapshot: Snapshot, sheet: Sheet, wishes: Wishes = AS_FOUND, stock: Mapping[str, str] | None = None
) -> TableLook:
    """Find out what a sheet would make in a logbook; nothing is written."""
    known = known_of(snapshot.declaration)
    found = recognise(sheet, known, wishes)
    return TableLook(found, gather(found, known, wishes, stock))


def known_of(declaration: RigDeclaration) -> Known:
    """Give what a table is held against: the knobs, and the benchmarks whose figures come from elsewhere."""
    benchmarks = tuple(w for w in declaration.benchmarks if w.by_hand and w.id != NO_FIGURES.id)
    return Known(declaration.knobs, benchmarks, declaration.info.id == ELSEWHERE)


@dataclass(frozen=True)
class ImportTable(Command[Recorded]):
    """Bring in a sheet; brought in again it replaces nothing and doubles nothing.

    Raises KnownError with the first thing that can't be read, naming its cell; then nothing was written.
    """

    sheet: Sheet
    wishes: Wishes = AS_FOUND
    stock: Mapping[str, str] = field(default_factory=dict)
    while_testing = WhileTesting.AT_NEXT_READING

    def do(self, session: Session) -> Recorded:
        """Give what was written."""
        look = look_at_table(session.snapshot, self.sheet, self.wishes, self.stock)
        gathered = look.gathered
        if gathered.problems:
            more = len(gathered.problems) - 1
            words = say(" ({more} more like it.)", more=more) if more else ""
            raise KnownError(
                gathered.problems[0] + words, say("Correct it, or say what the column is. Nothing was brought in.")
            )
        declaration = session.declaration
        knobs = (*declaration.knobs, *(knob.knob(id_) for id_, knob in gathered.knobs.items()))
        steps = tuple(_told(step, gathered, declaration, knobs) for step in gathered.steps)
        return Record(steps, self.sheet.source or say("the clipboard"), True, knobs=gathered.knobs).do(session)


def _told(step: GatheredStep, gathered: Gathered, declaration: RigDeclaration, knobs: Sequence[Knob]) -> ToldStep:
    held, failure = step.went is True, step.went if isinstance(step.went, Failure) else None
    return ToldStep(
        setup_of(step, gathered.names, knobs),
        HowItWent(held, failure),
        tuple(_figure(each, declaration) for each in step.figures),
        step.note,
        dict(step.conditions),
    )


def _figure(each: GatheredFigure, declaration: RigDeclaration) -> ToldFigure:
    direction = Direction.LOWER if each.lower else Direction.HIGHER
    known = next(
        (w for w in declaration.workloads if w.by_hand and w.name.casefold() == each.benchmark.casefold()), None
    )
    unit = known.metric.unit if known is not None and not each.unit else each.unit
    told = MeasuredWith(each.preset, each.passage, "", each.parts)
    channels = tuple((_channel(name, declaration), value) for name, value in each.sensors)
    return ToldFigure(each.benchmark, each.score, unit, direction, told, each.group, channels)


def _channel(name: str, declaration: RigDeclaration) -> str:
    """Give the sensor of a rig that a cost is told of, else its name."""
    if any(channel.id == name for channel in declaration.channels):
        return name
    if name == "power" and (power := power_channel(declaration)) is not None:
        return power.id
    heat = [c for c in declaration.channels if c.quantity is Quantity.TEMPERATURE]
    return heat[0].id if name == "temperature" and heat else name
