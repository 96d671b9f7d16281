"""Steps that are only a record: settings, how it went and figures, all told by the tuner; Yondle ran nothing of them."""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from yondle.analysis.judging import failed
from yondle.app.session.commands import Command, WhileTesting
from yondle.app.session.own import with_typed
from yondle.app.session.results import MeasuredWith, digits_of, must_be_a_score
from yondle.app.session.session import Session
from yondle.formats.documents import Document, KnobsElsewhere, SensorsElsewhere, TypedWorkloads
from yondle.formats.knob_table import DescribedKnob
from yondle.language.saying import named, say
from yondle.logbook.logbook import KeptResult
from yondle.model.errors import KnownError
from yondle.model.events import AttemptClosed, Durable, PassEnded, PassOpened, StepOpened, VerdictGiven
from yondle.model.knobs import Setup, Subsystem
from yondle.model.quantities import duration
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import RECORDED_STAGE, Check, PassRecord, Stage, StageKind, Step, StepKind, StepRecord
from yondle.model.verdicts import SAYS_NOTHING, Failure, Outcome, Verdict
from yondle.model.workloads import Direction, PassResult
from yondle.rigs.elsewhere.rig import SENSORS, ElsewhereRig
from yondle.tables.heads import word_outcome
from yondle.tables.numbers import typed
from yondle.views.shared.snapshot import Snapshot

RECORD = Check((Stage(RECORDED_STAGE, StageKind.RECORDED, (), 0, 0),))
LONGEST_S = 10 * 365 * 86400.0
TELLABLE = tuple(f for f in Failure if f not in SAYS_NOTHING)
"""The ways it may have failed that can be told."""


@dataclass(frozen=True, slots=True)
class HowItWent:
    """What is told of a setting: that it held, how it failed, or neither, which is *not checked*.

    A `load` by its name with its `seconds` counts as time under that load; without both nothing does.
    """

    held: bool = False
    failure: Failure | None = None
    stage: str = ""
    after_s: float | None = None
    code: str = ""
    load: str = ""
    seconds: float | None = None

    def outcome(self) -> Outcome:
        """Give it as a verdict; raises KnownError for what contradicts itself."""
        if self.held and self.failure is not None:
            raise KnownError(say("It can't have held and failed."), say("Give one of them."))
        for told in (self.after_s, self.seconds):
            if told is not None and not 0.0 <= told <= LONGEST_S:
                raise KnownError(say("{told:g} s can't be a duration here.", told=told), say("Give 0 or more."))
        if bool(self.load) != (self.seconds is not None):
            raise KnownError(
                say("A load and how long it ran belong together."),
                say("Give both, or neither: then no load is counted."),
            )
        if self.failure is not None:
            after = say(" after {after}", after=duration(self.after_s)) if self.after_s is not None else ""
            stage = say(", at '{stage}'", stage=self.stage) if self.stage else ""
            shown = say(", code {code}", code=self.code) if self.code else ""
            reason = say(
                "Recorded: {failure}{after}{stage}{code}.",
                failure=named(self.failure),
                after=after,
                stage=stage,
                code=shown,
            )
            return failed(self.failure, reason, self.stage or RECORDED_STAGE, self.after_s, self.code)
        if self.held:
            long = say(" {long} of {load}", long=duration(self.seconds), load=self.load) if self.seconds else ""
            return Outcome(Verdict.HELD, say("Recorded: held{long}.", long=long), stage=RECORDED_STAGE)
        return Outcome(Verdict.UNPROVEN, say("Recorded: not checked."), stage=RECORDED_STAGE)


NOT_CHECKED = HowItWent()


@dataclass(frozen=True, slots=True)
class ToldFigure:
    """A figure of a benchmark by its name, with what was told of it."""

    benchmark: str
    score: float
    unit: str = ""
    direction: Direction = Direction.HIGHER
    told: MeasuredWith = field(default_factory=MeasuredWith)
    group: Subsystem | None = None
    channels: tuple[tuple[str, float], ...] = ()
    """Means of sensors over the run, by their names, such as the power in W."""


@dataclass(frozen=True, slots=True)
class ToldStep:
    """Settings with how it went, what was measured at them, conditions and a note."""

    setup: Setup
    went: HowItWent = NOT_CHECKED
    figures: tuple[ToldFigure, ...] = ()
    note: str = ""
    conditions: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Recorded:
    """What was written: the steps that are new or have more now, and how many figures; `there` were already."""

    steps: tuple[int, ...]
    made: int
    figures: int
    there: int


@dataclass(frozen=True)
class Record(Command[Recorded]):
    """Write down steps that Yondle didn't test, all of them or none.

    What settings of a step are there already gets more figures, and another outcome where one is told. With `once` a figure
    that is there already isn't written again: a table may be brought in twice. `moves` has a machine elsewhere stand at the
    last of them, unless that failed. `source` says where figures come from.
    """

    steps: tuple[ToldStep, ...]
    source: str = "typed in"
    once: bool = False
    moves: bool = False
    knobs: Mapping[str, DescribedKnob] = field(default_factory=dict)
    """Knobs of a machine elsewhere that they bring along, by their ids; the ones it has are widened to what was told."""
    while_testing = WhileTesting.AT_NEXT_READING

    def do(self, session: Session) -> Recorded:
        """Give what was written; raises KnownError for values no knob takes, and for figures that don't go together."""
        if not session.machine.elsewhere:
            return _Writing(session, self).written()
        return self._elsewhere(session)

    def _elsewhere(self, session: Session) -> Recorded:
        """Record on a machine elsewhere, whose knobs and sensors are what was told of it."""
        rig = session.machine.rig
        assert isinstance(rig, ElsewhereRig)
        before = rig.knobs, rig.sensors
        made = {**rig.knobs, **{id_: knob for id_, knob in self.knobs.items() if id_ not in rig.knobs}}
        for id_, knob in made.items():
            try:
                made[id_] = knob.reaching(told.setup[id_] for told in self.steps if id_ in told.setup)
            except ValueError as error:
                raise KnownError(
                    f"{knob.name}: {error}.", say("Correct the value, or describe the knob anew.")
                ) from error
        told = (name for step in self.steps for figure in step.figures for name, _ in figure.channels)
        offered = {channel.id for channel in SENSORS}
        sensors = tuple(dict.fromkeys((*rig.sensors, *(name for name in told if name in offered))))
        if (made, sensors) == before:
            return _Writing(session, self).written()
        session.take_elsewhere(made, sensors)
        try:
            return _Writing(session, self, (KnobsElsewhere(made), SensorsElsewhere(list(sensors)))).written()
        except BaseException:
            session.take_elsewhere(*before)
            raise


class _Writing:
    """One record being put together: everything is checked before anything is written."""

    def __init__(self, session: Session, asked: Record, documents: tuple[Document, ...] = ()) -> None:
        self._session, self._asked, self._documents = session, asked, documents
        self._declaration = session.declaration
        self._typed = session.logbook.keeping.document(TypedWorkloads)
        self._made: list[Step] = []
        self._records: list[Durable] = []
        self._results: list[KeptResult] = []
        self._notes: list[tuple[int, str, str]] = []
        self._touched: dict[int, None] = {}
        self._there = 0
        self._met: dict[int, Counter[_Key]] = {}
        self._next_step, self._next_attempt = session.logbook.next_step(), session.free_attempt()
        self._at = session.wall()

    def written(self) -> Recorded:
        """Check, write, and read again what was written."""
        session, stock = self._session, self._declaration.stock
        told = (
            sorted(self._asked.steps, key=lambda each: each.setup != stock) if self._asked.once else self._asked.steps
        )
        for each in told:
            self._take(each)
        documents = list(self._documents)
        documents += [self._typed] if self._typed != session.logbook.keeping.document(TypedWorkloads) else []
        session.logbook.take_with(self._records, *documents, results=self._results, notes=self._notes)
        if documents:
            session.take_own_limits()
        for number in self._touched:
            session.reload(number)
        if session.machine.elsewhere and told and (self._asked.moves or session.rests.position is None):
            self._stand_at(told[-1].setup if self._asked.moves else stock)
        return Recorded(tuple(self._touched), len(self._made), len(self._results), self._there)

    def _take(self, told: ToldStep) -> None:
        knobs = self._declaration.knobs
        setup = Setup.of({knob.id: knob.checked(told.setup.get(knob.id, knob.stock)) for knob in knobs})
        outcome, once = told.went.outcome(), self._asked.once
        known = self._known(setup)
        again = known.step if known is not None else next((s for s in self._made if s.setup == setup), None)
        step = again or self._new(setup)
        if again is None:
            self._made.append(step)
        says = told.went.held or told.went.failure is not None or bool(told.conditions)
        before = once and known is not None and _told_before(known, outcome, told)
        if again is None or (says and not before):
            self._attempt(step, told, outcome)
        there = _figures_of(known) if known is not None and once else Counter[_Key]()
        there -= self._met.get(step.number, Counter())
        for figure in told.figures:
            self._figure(step, figure, there)
        texts = {note.text for note in known.notes} if known is not None and once else set()
        if told.note.strip() and told.note.strip() not in texts:
            self._notes.append((step.number, self._at, told.note.strip()))
            self._touched[step.number] = None

    def _known(self, setup: Setup) -> StepRecord | None:
        """Give the step that has these settings: the one that is recorded, else the latest that was tested."""
        same = [r for r in self._session.book.steps if r.step.setup == setup]
        return next((r for r in same if r.recorded), same[-1] if same else None)

    def _new(self, setup: Setup) -> Step:
        number, self._next_step = self._next_step, self._next_step + 1
        steps = [*(r.step for r in self._session.book.steps), *self._made]
        if setup == self._declaration.stock and not any(s.kind is StepKind.BASELINE for s in steps):
            return Step(number, StepKind.BASELINE, None, setup)
        parent = self._parent(setup, steps)
        home = parent.setup if parent is not None else self._declaration.stock
        changes = home.changes_to(setup)
        return Step(
            number, StepKind.CHANGE, parent.number if parent is not None else None, setup, changes, len(changes) > 1
        )

    def _parent(self, setup: Setup, steps: Sequence[Step]) -> Step | None:
        """Give the step it stands beside: where the rig is, for one that is typed in, else the one with fewest other values."""
        here = self._session.rests.position
        if not self._asked.once and here is not None:
            return self._session.book.step(here).step
        return min(steps, key=lambda s: (len(s.setup.changes_to(setup)), -s.number), default=None)

    def _attempt(self, step: Step, told: ToldStep, outcome: Outcome) -> None:
        number, self._next_attempt = self._next_attempt, self._next_attempt + 1
        session = self._session
        rests, now = session.rests, session.machine.clock.now()
        home = rests.in_force
        conditions: dict[str, str | float] = {**session.own.conditions, **told.conditions}
        self._records.append(
            StepOpened(
                number, step, home, rests.position, session.machine.rig.boot_id(), self._at, now, conditions, RECORD,
                self._declaration.derived(step.setup),
            )
        )  # fmt: skip
        self._records += self._load(number, told.went, outcome, now)
        self._records.append(VerdictGiven(number, step.number, outcome))
        self._records.append(AttemptClosed(number, step.number, home, False, rests.position, self._at))
        self._touched[step.number] = None

    def _load(self, attempt: int, went: HowItWent, outcome: Outcome, now: float) -> Iterator[Durable]:
        """Give the load that was told with its time, as a pass that gives no figure."""
        if not went.load or went.seconds is None:
            return
        load = next((w for w in self._declaration.workloads if went.load in (w.id, w.name)), None)
        if load is not None and not load.by_hand:
            id_ = load.id
        else:
            self._typed, id_ = with_typed(self._typed, self._given, went.load, "", Direction.HIGHER, 0, load=True)
        ok = outcome.failure is None
        result = PassResult(ok, None, went.seconds, outcome.failure.value if outcome.failure else "", "")
        yield PassOpened(attempt, 1, RECORDED_STAGE, id_, 1, False, 1, 1, went.seconds, now)
        yield PassEnded(attempt, PassRecord(1, RECORDED_STAGE, id_, 1, False, now, result))

    @property
    def _given(self) -> RigDeclaration:
        return self._session.machine.rig.declaration

    def _figure(self, step: Step, figure: ToldFigure, before: Counter[_Key]) -> None:
        must_be_a_score(figure.benchmark, figure.score)
        for name, value in (*figure.told.parts, *figure.channels):
            if not math.isfinite(value):
                raise KnownError(say("{name}: {value} is no figure.", name=name, value=value), say("Correct it."))
        measured = figure.told.measured(self._asked.source)
        if figure.channels:
            read = dict(figure.channels)
            measured = replace(measured, mean=read, most=read)
        own = next((w for w in self._declaration.workloads if not w.by_hand and w.name == figure.benchmark), None)
        if own is not None:
            raise KnownError(
                say("{run} is run by Yondle itself.", run=own.name),
                say("Give what was measured elsewhere another name."),
            )
        self._typed, id_ = with_typed(
            self._typed, self._given, figure.benchmark, figure.unit, figure.direction,
            digits_of(figure.score), figure.group,
        )  # fmt: skip
        key = (id_, figure.score, tuple(sorted(figure.told.parts)), figure.told.preset, figure.told.passage)
        if before[key] > 0:
            before[key] -= 1
            self._met.setdefault(step.number, Counter())[key] += 1
            self._there += 1
            return
        self._results.append(KeptResult(step.number, id_, self._at, figure.score, measured))
        self._touched[step.number] = None

    def _stand_at(self, setup: Setup) -> None:
        """Have a machine elsewhere stand where it was told to be last."""
        record = self._known(setup)
        if record is not None and record.verdict in (Verdict.HELD, Verdict.UNPROVEN):
            self._session.engine.rest_at(record.step.setup, record.step.number)


_Key = tuple[str, float, tuple[tuple[str, float], ...], str, str]


def _figures_of(record: StepRecord) -> Counter[_Key]:
    return Counter(
        (a.workload, a.score, tuple(sorted(a.measured.parts.items())), str(a.measured.told.get("preset", "")),
         str(a.measured.told.get("passage", "")))
        for a in record.added
    )  # fmt: skip


def _told_before(record: StepRecord, outcome: Outcome, told: ToldStep) -> bool:
    """Tell whether the same was told of a step before."""
    for attempt in record.attempts:
        seen = attempt.outcome
        if attempt.recorded and seen is not None:
            same = (seen.verdict, seen.failure, seen.code) == (outcome.verdict, outcome.failure, outcome.code)
            if same and all(attempt.conditions.get(name) == value for name, value in told.conditions.items()):
                return True
    return False


_SECONDS = {"s": 1.0, "sec": 1.0, "min": 60.0, "m": 60.0, "h": 3600.0, "d": 86400.0}


def seconds_of(text: str) -> float:
    """Read a duration as it is typed: 90 s, 12min, 8h, 1 h 30 min; raises KnownError for anything else."""
    found = re.findall(r"(\d+(?:[.,]\d+)?)\s*([a-z]*)", text.strip().casefold())
    rest = re.sub(r"(\d+(?:[.,]\d+)?)\s*([a-z]*)", "", text.strip().casefold()).strip(" ,+")
    if not found or rest or any(unit and unit not in _SECONDS for _, unit in found):
        raise KnownError(say("'{text}' is no duration.", text=text), say("Write it as 90 s, 12 min or 8 h."))
    return sum(float(number.replace(",", ".")) * _SECONDS[unit or "s"] for number, unit in found)


def way_of(text: str) -> Failure:
    """Read how it failed, in the words of the logbook or others for it; raises KnownError naming those there are."""
    plain = text.strip().casefold()
    exact = next((f for f in TELLABLE if plain in (f.value, named(f).casefold(), f.name.lower())), None)
    told = exact or word_outcome(plain)
    if isinstance(told, Failure):
        return told
    raise KnownError(
        say("'{text}' is no way to fail.", text=text),
        say("It is one of: {ways}.", ways=", ".join(named(f) for f in TELLABLE)),
    )


def number_typed(text: str) -> float:
    """Read a figure as it is typed; raises KnownError for what is none, or could be read in two ways."""
    found = typed(text)
    if found is None:
        raise KnownError(
            say("'{text}' is no figure.", text=text), say("Write it with a point before decimals, as 61.2.")
        )
    return found[0]


def figure_told(book: Snapshot, text: str, lower: Sequence[str] = ()) -> ToldFigure:
    """Read a figure as it is typed, 'name=61.2 frames/s'; unit and direction of a benchmark that is known needn't be told."""
    name, equals, value = text.partition("=")
    found = typed(value) if equals else None
    if found is None or not name.strip():
        raise KnownError(
            say("'{text}' is no figure.", text=text),
            say("Write it as name=61.2 frames/s, with a point before decimals."),
        )
    (score, unit), name = found, name.strip()
    known = next((w for w in book.declaration.workloads if w.by_hand and w.name.casefold() == name.casefold()), None)
    less = any(name.casefold() == each.strip().casefold() for each in lower)
    if known is not None:
        return ToldFigure(known.name, score, unit or known.metric.unit, known.metric.direction, group=known.subsystem)
    return ToldFigure(name, score, unit, Direction.LOWER if less else Direction.HIGHER)
