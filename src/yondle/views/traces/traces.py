"""What sensors said during one test: its readings on the clock of the test, passes, the moment of the verdict, and panels."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from yondle.analysis.pyramid import Pyramid
from yondle.analysis.traces import Mask, in_spans
from yondle.language.saying import capital, named, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Setup, Subsystem
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import NATURES, ROOM, Channel, Quantity, quantity_in
from yondle.model.steps import COMPARED_STAGE, SCORE_STAGE, Attempt, PassRecord, StepRecord
from yondle.model.verdicts import VERDICT_OF_FAILURE, Outcome, Verdict
from yondle.views.shared.lines import Line, lines_of
from yondle.views.shared.snapshot import Snapshot
from yondle.views.shared.steps import failure_words, step_title

FRAMES = "frame_times"
_FALLEN = (Verdict.DOWN, Verdict.WRONG)


@dataclass(frozen=True, slots=True)
class TracedRun:
    """One test that can be looked at: the attempt, its step, what it is called, and how it ended."""

    attempt: int
    step: int
    words: str
    verdict: Verdict


@dataclass(frozen=True, slots=True)
class PassSpan:
    """A pass on the clock of its test, in s; `frames` are the times of its frames in ms, where it draws any."""

    record: PassRecord
    name: str
    from_s: float
    to_s: float
    frames: tuple[float, ...]

    @property
    def words(self) -> str:
        """Name it: the benchmark and which time it ran."""
        if self.record.stage not in (SCORE_STAGE, COMPARED_STAGE):
            return self.name
        return say("{name}, warm-up", name=self.name) if self.record.warm_up else f"{self.name} {self.record.round}"


@dataclass(frozen=True, slots=True)
class Panel:
    """Channels of one kind that share an axis; the first is the one figures are told of first."""

    name: str
    unit: str
    quantity: Quantity
    channels: tuple[Channel, ...]
    lines: tuple[Line, ...]
    reached: tuple[str, ...] = ()
    """Flags that tell when a limit of this panel was reached."""
    by_core: bool = False
    """Whether its channels are the same reading of one core after the other, in the order of their numbers."""

    @property
    def key(self) -> str:
        """Tell panels apart, also between machines."""
        return self.channels[0].id


@dataclass(frozen=True)
class Trace:
    """Everything recorded over one test. Times are seconds since it began; `ended_s` is where the verdict fell."""

    run: TracedRun
    declaration: RigDeclaration
    setup: Setup
    times: NDArray[np.float64]
    columns: dict[str, NDArray[np.float32]]
    passes: tuple[PassSpan, ...]
    panels: tuple[Panel, ...]
    outcome: Outcome | None
    ended_s: float
    _pyramids: dict[str, Pyramid] = field(default_factory=dict)

    @property
    def lasted_s(self) -> float:
        """The length of the test as far as it was recorded."""
        last = float(self.times[-1]) if len(self.times) else 0.0
        return max(last, self.ended_s, max((p.to_s for p in self.passes), default=0.0))

    @cached_property
    def loaded(self) -> Mask:
        """The readings that were taken during a pass."""
        return in_spans(self.times, [(p.from_s, p.to_s) for p in self.passes])

    @property
    def failed(self) -> bool:
        """Tell whether it ended in a failure that fell at a moment."""
        outcome = self.outcome
        return outcome is not None and outcome.failure is not None and outcome.verdict in _FALLEN

    @property
    def readings(self) -> int:
        """How many readings were taken."""
        return sum(int(np.isfinite(values).sum()) for values in self.columns.values())

    def pyramid(self, channel: str) -> Pyramid | None:
        """Give a channel to be drawn; None where nothing of it was recorded."""
        if channel not in self._pyramids:
            times, values = (
                self.frame_times if channel == FRAMES else (self.times, self.columns.get(channel, np.empty(0)))
            )
            if not len(values):
                return None
            self._pyramids[channel] = Pyramid(times, values)
        return self._pyramids[channel]

    @cached_property
    def frame_times(self) -> tuple[NDArray[np.float64], NDArray[np.float32]]:
        """The times of all frames in ms, each at the moment it was done; nan between passes."""
        at, took = [np.empty(0)], [np.empty(0)]
        for each in self.passes:
            if each.frames:
                made = np.array(each.frames)
                at += [each.from_s + np.cumsum(made) / 1000.0, np.array([each.to_s])]
                took += [made, np.array([math.nan])]
        times = np.concatenate(at)
        return np.maximum.accumulate(times), np.concatenate(took).astype(np.float32)


def runs(book: Snapshot) -> tuple[TracedRun, ...]:
    """List the tests there are, the latest first."""
    found = [
        _run(book.declaration, record, attempt, i, len(record.attempts))
        for record in book.steps
        for i, attempt in enumerate(record.attempts, 1)
        if not attempt.recorded
    ]
    logs = [
        TracedRun(-number, step, say("Step {step} · log {name}", step=step, name=name), Verdict.UNPROVEN)
        for number, step, name in book.reader.sensor_log_names()
    ]
    return (*sorted(found, key=lambda run: -run.attempt), *reversed(logs))


def trace_of(book: Snapshot, attempt: int) -> Trace:
    """Read the trace of a test, or with the negative of its number a sensor log; raises KnownError for what isn't there."""
    if attempt < 0:
        return _read_log(book, -attempt)
    for record in book.steps:
        for i, made in enumerate(record.attempts, 1):
            if made.id == attempt and made.recorded:
                raise KnownError(
                    say("Step {step} is only recorded: Yondle ran nothing of it.", step=record.step.number),
                    say("There is no trace of it; logs of other programs can be added:  yondle import logs"),
                )
            if made.id == attempt:
                run = _run(book.declaration, record, made, i, len(record.attempts))
                return _read(book, record, made, run)
    raise KnownError(
        say("There is no test {attempt}.", attempt=attempt),
        say("'yondle status' lists the steps, whose latest test is shown."),
    )


def latest_run(book: Snapshot, step: int | None = None) -> TracedRun:
    """Give the latest test of a step, or of all; raises KnownError when there is none."""
    found = next((run for run in runs(book) if step is None or run.step == step), None)
    if found is None:
        which = say("Step {step}", step=step) if step is not None else say("This logbook")
        raise KnownError(say("{which} holds no test.", which=which), say("Test a step, or name another."))
    return found


def _run(declaration: RigDeclaration, record: StepRecord, attempt: Attempt, ordinal: int, of: int) -> TracedRun:
    again = say(", test {ordinal}", ordinal=ordinal) if of > 1 else ""
    verdict = attempt.outcome.verdict if attempt.outcome is not None else Verdict.UNPROVEN
    words = say(
        "Step {number} · {step_title}{again}",
        number=record.step.number,
        step_title=step_title(declaration, record.step),
        again=again,
    )
    return TracedRun(attempt.id, record.step.number, words, verdict)


def _read(book: Snapshot, record: StepRecord, attempt: Attempt, run: TracedRun) -> Trace:
    declaration, setup = book.declaration, record.step.setup
    times, columns = book.reader.trace_arrays(attempt.id)
    passes = tuple(_span(declaration, made, attempt.started_s) for made in attempt.all_passes)
    known = {name for name, values in columns.items() if np.isfinite(values).any()}
    panels = _panels(declaration, setup, known)
    if any(each.frames for each in passes):
        panels = (*panels, _frames_panel(declaration))
    relative = times - attempt.started_s
    return Trace(run, declaration, setup, relative, columns, passes, panels, attempt.outcome, _ended(attempt, relative))


def _read_log(book: Snapshot, number: int) -> Trace:
    """Read another program's log of sensors; what a channel is follows from the unit in its name."""
    run = next((r for r in runs(book) if r.attempt == -number), None)
    log = next((each for each in book.reader.sensor_logs(run.step) if each.id == number), None) if run else None
    if run is None or log is None:
        raise KnownError(
            say("There is no sensor log {number}.", number=number), say("'yondle import sensors' adds one to a step.")
        )
    setup, channels = book.step(run.step).step.setup, tuple(_log_channel(name) for name in log.block.channels)
    readings = np.array(log.block.rows, dtype=np.float32).reshape(len(log.block.times_s), len(channels))
    columns = {channel.id: readings[:, i] for i, channel in enumerate(channels)}
    declaration = replace(book.declaration, channels=channels, limits=())
    known = {name for name, values in columns.items() if np.isfinite(values).any()}
    times = np.array(log.block.times_s)
    last = float(times[-1]) if len(times) else 0.0
    return Trace(run, declaration, setup, times, columns, (), _panels(declaration, setup, known), None, last)


def _log_channel(name: str) -> Channel:
    words, _, unit = name.rpartition(" in ")
    quantity = quantity_in(unit)
    digits = NATURES[quantity].digits or 1
    known = bool(words) and (quantity is not Quantity.OTHER or " " not in unit)
    return Channel(name, words if known else name, unit if known else "", quantity, Subsystem.WHOLE, digits)


def _span(declaration: RigDeclaration, made: PassRecord, began_s: float) -> PassSpan:
    from_s = made.started_s - began_s
    lasted = made.result.duration_s if made.result is not None else 0.0
    frames = made.result.frame_times_ms if made.result is not None else ()
    return PassSpan(made, declaration.workload(made.workload).name, from_s, from_s + lasted, tuple(frames))


def _ended(attempt: Attempt, times: NDArray[np.float64]) -> float:
    """Give the moment the verdict fell: into the last pass where it failed there, else at the last reading."""
    outcome, last = attempt.outcome, float(times[-1]) if len(times) else 0.0
    if outcome is None or not attempt.all_passes:
        return last
    begun = attempt.all_passes[-1]
    if outcome.failure is not None and VERDICT_OF_FAILURE[outcome.failure] in _FALLEN:
        after = begun.result.duration_s if begun.result is not None else outcome.time_to_failure_s or 0.0
        return begun.started_s - attempt.started_s + after
    return last


# -- panels ------------------------------------------------------------------------------------------------------------


def _panels(declaration: RigDeclaration, setup: Setup, known: set[str]) -> tuple[Panel, ...]:
    """Sort what was read into panels: clocks first, one for all temperatures, each power by itself."""
    kept = [c for c in declaration.read_ever if c.id in known and c.quantity is not Quantity.FLAG]
    panels = []
    for quantity, nature in NATURES.items():
        those = [c for c in kept if c.quantity is quantity]
        shared = nature.together != ""
        whole = [c for c in those if c.core is None]
        units = dict.fromkeys(c.unit for c in whole)
        groups = [[c for c in whole if c.unit == unit] for unit in units] if shared else [[c] for c in whole]
        for group in groups:
            name = named(nature.together) if shared and len(group) > 1 else group[0].name
            panels.append(_panel(declaration, setup, name, tuple(group), known))
        cores = sorted((c for c in those if c.core is not None), key=lambda c: c.core or 0)
        if cores:
            name = say("{quantity}, each core", quantity=capital(named(quantity)))
            panels.append(Panel(name, cores[0].unit, quantity, tuple(cores), (), (), by_core=True))
    return tuple(panels)


def _panel(
    declaration: RigDeclaration, setup: Setup, name: str, channels: tuple[Channel, ...], known: set[str]
) -> Panel:
    first = channels[0]
    lines = next((lines for c in channels if (lines := lines_of(declaration, c, setup))), ())
    ids = {c.id for c in channels}
    reached = [
        c.id
        for c in declaration.read_ever
        if c.quantity is Quantity.FLAG and c.id in known
        if c.of in ids or (not c.of and first.quantity is Quantity.TEMPERATURE)
    ]
    return Panel(name, first.unit, first.quantity, channels, lines, tuple(reached))


def _frames_panel(declaration: RigDeclaration) -> Panel:
    part = declaration.channels[0].subsystem
    return Panel(
        say("Frame time"), "ms", Quantity.OTHER, (Channel(FRAMES, say("Frame time"), "ms", Quantity.OTHER, part),), ()
    )


def moved(trace: Trace, by_s: float) -> Trace:
    """Give a trace on a clock that is `by_s` ahead of its own, as on that of another test."""
    passes = tuple(replace(p, from_s=p.from_s + by_s, to_s=p.to_s + by_s) for p in trace.passes)
    return replace(trace, times=trace.times + by_s, passes=passes, ended_s=trace.ended_s + by_s, _pyramids={})


def temperatures_of(trace: Trace) -> tuple[Channel, ...]:
    """List the temperatures among which the hottest is found: all but the room's and those of single cores."""
    kinds = (p for p in trace.panels if p.quantity is Quantity.TEMPERATURE and not p.by_core)
    return tuple(c for panel in kinds for c in panel.channels if c.plays != ROOM)


def cores_of(trace: Trace) -> tuple[Channel, ...]:
    """List the temperatures of single cores."""
    kinds = (p for p in trace.panels if p.quantity is Quantity.TEMPERATURE and p.by_core)
    return tuple(c for panel in kinds for c in panel.channels)


def usual_panels(trace: Trace) -> tuple[str, ...]:
    """Give the keys of the panels shown at first: one of each kind, and errors only where any were counted."""
    usual = [panel for panel in trace.panels if NATURES[panel.quantity].usual and not panel.by_core]
    first = {panel.quantity: panel.key for panel in reversed(usual)}
    counted = [
        panel.key for panel in trace.panels if NATURES[panel.quantity].counted and _rose(trace.columns[panel.key])
    ]
    return (*first.values(), *counted)


def _rose(values: NDArray[np.float32]) -> bool:
    known = values[np.isfinite(values)]
    return len(known) > 0 and float(known.max()) > float(known[0])


def end_words(trace: Trace) -> str:
    """Say how the test ended; nothing of a log of another program."""
    if trace.run.attempt < 0:
        return say("read from another program")
    return failure_words(trace.declaration, trace.outcome) if trace.outcome is not None else say("still open")
