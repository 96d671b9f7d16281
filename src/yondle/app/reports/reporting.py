"""Gathers a report from a logbook: the question, the machine, what was tried, what it brought, and how to do it again."""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from datetime import datetime

from yondle import __version__
from yondle.analysis.margins import GainWord, passes_needed, spread
from yondle.app.plans.reproducing import plan_again
from yondle.app.profiles.profiles import compared_to_stock, profile_text
from yondle.app.reports.report_choices import HEADINGS, question, sections_chosen
from yondle.language.saying import CONDITION, capital, in_sentence, later, named, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob
from yondle.model.measured import Measured
from yondle.model.pacing import LOW
from yondle.model.parts import Part
from yondle.model.quantities import THIN, as_shown, count, date, duration, figure, number, quantity, ranged, with_unit
from yondle.model.steps import ASKED_BECAUSE, Attempt, StepRecord
from yondle.model.workloads import Workload
from yondle.reports.content import (
    Block,
    Cell,
    Chart,
    ChartCurve,
    ChartPoint,
    File,
    Pairs,
    Report,
    Section,
    Table,
    Words,
)
from yondle.views.kept import ViewCache
from yondle.views.scaling.curves import Curve, ScalingView, knobs_measured, scaling
from yondle.views.scaling.limits import limits
from yondle.views.shared.gains import (
    benchmark_of,
    capped,
    gain_of,
    lows_gain_of,
    lows_words,
    mean_gain,
    mean_sentence,
    measured_at,
    told_words,
    words_of_gain,
)
from yondle.views.shared.pieces import Pieces, at_once
from yondle.views.shared.proof import finding_words, lived_through, lived_words, proofs, rests_on
from yondle.views.shared.rooms import room_told
from yondle.views.shared.snapshot import Snapshot
from yondle.views.shared.steps import failure_words, on_path, stage_words, step_detail, step_title, word_of

_MOST_CURVES = 6
_WORTH = 0.01


def report_of(book: Snapshot, parts: tuple[Part, ...] | None = None, views: ViewCache | None = None) -> Report:
    """Gather the report; nothing in it depends on when it is made."""
    return at_once(report_in_pieces(book, parts, views))


def report_in_pieces(
    book: Snapshot, parts: tuple[Part, ...] | None = None, views: ViewCache | None = None
) -> Pieces[Report]:
    """Gather the report section by section, for a face that has to answer in between."""
    gatherer = _Gatherer(book, views or ViewCache(lambda: book))
    made = []
    for part in parts or sections_chosen(book):
        made.append(Section(part, named(HEADINGS[part]), gatherer.blocks(part)))
        yield
    info = book.declaration.info
    kind = say("simulated rig, ") if info.simulated else ""
    return Report(
        f"{info.name}: {question(book) or say('what its settings are worth')}",
        f"{kind}{info.place}",
        gatherer.dates(),
        tuple(section for section in made if section.blocks),
    )


class _Gatherer:
    """Makes the blocks of every section."""

    def __init__(self, book: Snapshot, views: ViewCache) -> None:
        self._book, self._views = book, views
        self._declaration = book.declaration

    def blocks(self, part: Part) -> tuple[Block, ...]:
        makers: dict[Part, Callable[[], list[Block]]] = {
            Part.QUESTION: self._question, Part.MACHINE: self._machine, Part.PATH: self._path, Part.BASELINE: self._baseline,
            Part.SCALING: self._scaling, Part.GAINS: self._gains, Part.NOISE: self._noise, Part.FAILURES: self._failures,
            Part.PROOF: self._proof, Part.ADDED: self._added,
            Part.LIMITS: self._limits, Part.PROFILES: self._profiles, Part.CAVEATS: self._caveats, Part.AGAIN: self._again,
        }  # fmt: skip
        return tuple(makers[part]())

    def dates(self) -> str:
        """Say when the first and the last test were made."""
        days = sorted({_day(a.started_at) for a in self._attempts})
        if not days:
            return say("Nothing was tested yet.")
        tests = count(sum(a.tested for a in self._attempts), "test")
        first, last = (date(datetime.fromisoformat(day)) for day in (days[0], days[-1]))
        when = say("{first} to {last}", first=first, last=last) if len(days) > 1 else first
        return say(
            "{tests} of {steps}, {when}. Made by Yondle {version}.",
            tests=tests,
            steps=count(len(self._book.steps), "step"),
            when=when,
            version=__version__,
        )

    @property
    def _attempts(self) -> list[Attempt]:
        return [a for record in self._book.steps for a in record.attempts]

    @property
    def _chosen(self) -> StepRecord | None:
        """The step that is told of: that of the first profile that has one, else the one in force."""
        kept = next((p.step for p in self._book.profiles if p.step is not None), None)
        return self._book.step(kept) if kept is not None else self._book.position

    def _question(self) -> list[Block]:
        asked = question(self._book)
        blocks: list[Block] = [Words(asked, strong=True)] if asked else []
        chosen, base = self._chosen, self._book.baseline_step
        if base is None:
            return [*blocks, Words(say("There is no baseline yet, so nothing can be compared."))]
        if chosen is None or chosen.step.number == base.step.number:
            return [*blocks, Words(say("The rig is at stock."))]
        title = step_title(self._declaration, chosen.step)
        told = say("Step {number} ({title}): {verdict}.", number=chosen.step.number, title=title, verdict=chosen.word)
        return [*blocks, Words(told), *(Words(words) for words in self._answers(asked, chosen))]

    def _answers(self, asked: str, chosen: StepRecord) -> list[str]:
        """Answer with the benchmark the question names, else with the mean of all; then what searches found."""
        measured = measured_at(self._book, chosen)
        named_ = [b for b in self._declaration.benchmarks if _names(asked, b)]
        said = [
            say("{benchmark}: {gain} over stock.", benchmark=b.name, gain=words)
            for b in named_
            if (words := words_of_gain(self._book, measured, b))
        ]
        together = mean_gain(self._book, measured)
        if together is not None:
            said.append(mean_sentence(together))
        found = [f for f in self._book.findings if f.step is not None]
        here = self._book.same_settings(chosen.step.setup)
        said += [finding_words(self._book, f) for f in found if f.step in {r.step.number for r in here}]
        return said

    def _machine(self) -> list[Block]:
        rows = list(self._declaration.info.facts.items())
        told: dict[str, set[str]] = {}
        for attempt in self._attempts:
            for name, value in attempt.conditions.items():
                if isinstance(value, str) and name not in dict(rows):
                    told.setdefault(name, set()).add(value)
        rows += [
            (name, " / ".join(named(value) for value in sorted(values)))
            for name, values in sorted(told.items())
            if name != ASKED_BECAUSE
        ]
        told_rooms = (room_told(a.conditions) for a in self._attempts)
        rooms = [room for room in told_rooms if room is not None]
        if rooms:
            rows.append(
                (
                    later("room"),
                    say(
                        "{coolest} to {warmest}",
                        coolest=figure(min(rooms), "°C", 1),
                        warmest=quantity(max(rooms), "°C", 1),
                    ),
                )
            )
        return [Pairs(tuple((capital(named(name, CONDITION)), value) for name, value in rows))] if rows else []

    def _path(self) -> list[Block]:
        benchmark = benchmark_of(self._book)
        path, rows = on_path(self._book), []
        for record in self._book.steps:
            rows.append(
                (
                    Cell(str(record.step.number)),
                    Cell(step_title(self._declaration, record.step) + ("" if record.step.number in path else " ·")),
                    Cell(word_of(record), record.verdict),
                    Cell(words_of_gain(self._book, record, benchmark)),
                    Cell(step_detail(self._book, record, benchmark)),
                )
            )
        head = (
            say("step"),
            say("what changed"),
            say("verdict"),
            say("{benchmark} over stock", benchmark=benchmark.name),
            "",
        )
        table = Table(head, tuple(rows), frozenset({0, 3}), say("No step was tested yet."))
        return [table, Words(say("Steps with a dot were tried and left; the others lead to where the rig is."))]

    def _baseline(self) -> list[Block]:
        base = self._book.baseline_step
        if base is None:
            return [Words(say("There is no baseline yet."))]
        rows = []
        for benchmark in self._declaration.benchmarks:
            told = spread(base.scores(benchmark.id))
            if told is None:
                continue
            metric = benchmark.metric
            seen = math.isfinite(told.variation) and told.variation > 0.0
            wanted = count(passes_needed(_WORTH, told.variation), "pass", "passes") if seen else ""
            varies = f"{number(100 * told.variation, 2)}{THIN}%" if seen else ""
            rows.append(
                (
                    Cell(benchmark.name), Cell(ranged(told.mean, told.low, told.high, metric.unit, metric.digits)),
                    Cell(str(told.n)), Cell(varies), Cell(wanted), Cell(named(benchmark.metric.direction)),
                )
            )  # fmt: skip
        head = (
            say("benchmark"),
            say("at stock, 95 % range"),
            say("passes"),
            say("spread of a pass"),
            say("to see 1\u202f%"),
            "",
        )
        words = say(
            "Warm-up passes, disturbed and discarded ones are kept in the logbook and left out of every figure."
        )
        return [Table(head, tuple(rows), frozenset({1, 2, 3})), Words(words)]

    def _scaling(self) -> list[Block]:
        blocks: list[Block] = []
        for knob in knobs_measured(self._book, self._views.settings):
            view = scaling(self._book, self._views.settings, knob)
            if any(len(c.points) > 1 for c in view.curves):
                blocks += [_chart(knob, view), Words(f"{view.sentence} {view.held}. {' '.join(view.caveats)}".strip())]
        return blocks or [Words(say("No knob was measured at two values with all else the same."))]

    def _gains(self) -> list[Block]:
        chosen = self._chosen
        base = self._book.baseline_step
        if chosen is None or base is None or chosen.step.number == base.step.number:
            return [Words(say("Nothing but stock is in force."))]
        measured, rows = measured_at(self._book, chosen), []
        for benchmark in self._declaration.benchmarks:
            told = gain_of(self._book, measured, benchmark)
            if told is None:
                continue
            lows = lows_gain_of(self._book, measured, benchmark)
            gained = say("at its cap") if capped(measured, benchmark) else told_words(told)
            rows.append(
                (
                    Cell(benchmark.name), Cell(gained),
                    Cell(say("{n} and {n_baseline}", n=told.n, n_baseline=told.n_baseline)),
                    Cell(lows_words(lows, lows.n * benchmark.pass_s) if lows is not None else ""),
                )
            )  # fmt: skip
        together = mean_gain(self._book, measured)
        title = say(
            "Step {number}: {step_title}, against the baseline.",
            number=chosen.step.number,
            step_title=step_title(self._declaration, chosen.step),
        )
        if measured is not chosen:
            title += say(
                " Its figures were measured at step {number}, with the same settings.", number=measured.step.number
            )
        blocks: list[Block] = [Words(title)]
        head = (say("benchmark"), say("gain, 95\u202f% margin"), say("passes, here and at stock"), named(LOW))
        blocks.append(Table(head, tuple(rows), frozenset({1, 2}), say("No benchmark has figures.")))
        if together is not None:
            blocks.append(Words(mean_sentence(together)))
        return blocks

    def _proof(self) -> list[Block]:
        """What the settings told of stood, and every edge that was searched."""
        blocks: list[Block] = []
        chosen = self._chosen
        stood = proofs(self._book, chosen.step.setup) if chosen is not None else []
        if chosen is not None and stood:
            title = step_title(self._declaration, chosen.step)
            head = (say("load"), say("how long"), say("failures"), say("fails less than once in, 95\u202f%"))
            rows = [
                (Cell(p.load), Cell(duration(p.seconds)), Cell(str(p.failures)), Cell(duration(p.every_s)))
                for p in stood
            ]
            blocks.append(
                Words(say("Load on the settings of step {number}: {title}.", number=chosen.step.number, title=title))
            )
            blocks.append(Table(head, tuple(rows), frozenset({1, 2, 3})))
        for found in self._book.findings:
            blocks.append(Words(finding_words(self._book, found)))
            blocks.append(Words(rests_on(found.runs, found.recalled, found.failures, found.held_back, found.loaded_s)))
        return blocks or [Words(say("Nothing was loaded for long, and no edge was searched."))]

    def _added(self) -> list[Block]:
        """Every figure that was typed in or read from a table, those left out struck through."""
        names = {w.id: w for w in self._declaration.workloads}
        rows = []
        for record in self._book.steps:
            for each in record.added:
                work = names.get(each.workload)
                shown = (
                    quantity(each.score, work.metric.unit, work.metric.digits)
                    if work is not None
                    else f"{each.score:g}"
                )
                gain = words_of_gain(self._book, record, work) if work is not None and not each.discarded else ""
                told = "; ".join(f"{named(name)} {value}" for name, value in _told(each.measured))
                told = say("left out: {reason}", reason=each.discarded) if each.discarded else told
                name = work.name if work is not None else each.workload
                rows.append(
                    (
                        Cell(str(record.step.number)), Cell(name), Cell(shown, struck=bool(each.discarded)), Cell(gain),
                        Cell(told),
                    )
                )  # fmt: skip
        if not rows:
            return []
        head = (say("step"), say("benchmark"), say("figure"), say("the step over stock"), say("measured with"))
        return [Table(head, tuple(rows), frozenset({0, 2, 3}))]

    def _noise(self) -> list[Block]:
        rows = []
        for record in self._book.steps:
            for benchmark in self._declaration.benchmarks:
                told = gain_of(self._book, record, benchmark)
                if capped(record, benchmark):
                    continue
                if told is not None and told.word is GainWord.WITHIN_NOISE:
                    title = step_title(self._declaration, record.step)
                    rows.append(
                        (Cell(f"{record.step.number}"), Cell(title), Cell(benchmark.name), Cell(told_words(told)))
                    )
        head = (say("step"), say("what changed"), say("benchmark"), "")
        empty = say("Every difference that was measured shows above the noise.")
        base = self._book.baseline_step
        at_cap = [b.name for b in self._declaration.benchmarks if base is not None and capped(base, b)]
        note = [Words(say("At its cap, so it tells nothing: {capped}.", capped=", ".join(at_cap)))] if at_cap else []
        return [Table(head, tuple(rows), frozenset({0}), empty), *note]

    def _failures(self) -> list[Block]:
        rows = []
        for record in self._book.steps:
            for attempt in record.attempts:
                outcome = attempt.outcome
                if outcome is None or outcome.failure is None:
                    continue
                signs = "; ".join(outcome.pointer.signs)
                points = (
                    say("points to {subsystem}: {signs}", subsystem=outcome.pointer.subsystem, signs=signs)
                    if outcome.pointer.subsystem
                    else signs
                )
                after = duration(outcome.time_to_failure_s) if outcome.time_to_failure_s is not None else ""
                rows.append(
                    (
                        Cell(str(record.step.number)), Cell(step_title(self._declaration, record.step)),
                        Cell(failure_words(self._declaration, outcome), outcome.verdict),
                        Cell(stage_words(self._declaration, outcome.stage)), Cell(after), Cell(points),
                    )
                )  # fmt: skip
        head = (
            say("step"),
            say("what changed"),
            say("how it failed"),
            say("stage"),
            say("after"),
            say("what it points to"),
        )
        return [Table(head, tuple(rows), frozenset({0, 4}), say("Nothing failed."))]

    def _limits(self) -> list[Block]:
        own = []
        for knob in self._declaration.knobs:
            low, high = self._declaration.own_range(knob)
            if (low, high) != (knob.low, knob.high):
                given = say("{low} to {high}", low=knob.bare(knob.low), high=knob.text(knob.high))
                own.append(
                    (
                        knob.name,
                        say(
                            "{low} to {high}; the machine takes {given}",
                            low=knob.bare(low),
                            high=knob.text(high),
                            given=given,
                        ),
                    )
                )
        for limit in self._declaration.limits:
            channel = self._declaration.channel(limit.channel)
            own.append(
                (say("{channel}, stop", channel=channel.name), quantity(limit.most, channel.unit, channel.digits))
            )
        blocks: list[Block] = [Pairs(tuple(own))] if own else []
        chosen = self._chosen
        if chosen is None:
            return blocks
        try:
            told = limits(self._book, self._views.settings, self._views.sensitivities, chosen.step.number)
        except KnownError:
            return blocks
        rows = [
            (Cell(each.benchmark.name), Cell(each.finding.words), Cell("; ".join(each.finding.signs))) for each in told
        ]
        title = Words(say("What holds each benchmark back at step {number}:", number=chosen.step.number))
        return [*blocks, title, Table((say("benchmark"), say("limited by"), say("evidence")), tuple(rows))]

    def _profiles(self) -> list[Block]:
        blocks: list[Block] = []
        for kept in self._book.profiles:
            told = compared_to_stock(self._book, kept)
            gains = ", ".join(f"{name} {words}" for name, words in told.gains)
            blocks.append(Words(f"{kept.name}, {named(kept.purpose)}{f': {gains}' if gains else ''}", strong=True))
            lived = lived_through(self._book, kept.setup)
            blocks += [Words(say("Daily use: {words}.", words=lived_words(lived)))] if lived is not None else []
            knobs = [(k.name, k.text(kept.setup[k.id])) for k in self._declaration.knobs if k.id in kept.setup]
            blocks.append(Pairs(tuple(knobs)))
            blocks.append(File(f"{kept.name}.toml", profile_text(self._book, kept)))
        return blocks or [Words(say("No profile was kept."))]

    def _caveats(self) -> list[Block]:
        blocks: list[Block] = []
        left_out = sum(bool(p.discarded) for a in self._attempts for p in a.all_passes)
        if left_out:
            blocks.append(
                Words(
                    say(
                        "{passes} discarded by the tuner, with these reasons:",
                        passes=count(left_out, "pass", "passes"),
                    )
                )
            )
            rows = [
                (Cell(str(r.step.number)), Cell(self._declaration.workload(p.workload).name, struck=True), Cell(p.discarded))
                for r in self._book.steps for a in r.attempts for p in a.all_passes if p.discarded
            ]  # fmt: skip
            blocks.append(Table((say("step"), say("pass"), say("reason")), tuple(rows), frozenset({0})))
        notes = [(r, n) for r in self._book.steps for n in r.notes]
        rows_ = [
            (Cell(str(r.step.number)), Cell(say("caveat") if n.caveat else say("note")), Cell(n.text))
            for r, n in sorted(notes, key=lambda pair: not pair[1].caveat)
        ]
        if rows_:
            blocks.append(Table((say("step"), "", ""), tuple(rows_), frozenset({0})))
        files = [
            say("{file} at step {number} (SHA-256 {sha256}…)", file=f.name, number=r.step.number, sha256=f.sha256[:16])
            for r in self._book.steps
            for f in r.attached
        ]
        if files:
            blocks.append(Words(say("Kept as proof in the logbook: ") + ", ".join(files)))
        return blocks or [Words(say("No caveat or note was written."))]

    def _again(self) -> list[Block]:
        rows = [("Yondle", __version__), (say("rig"), self._book.reader.rig()[1])]
        seed = re.search(r"^seed *= *(\d+)", self._book.reader.rig()[2], re.MULTILINE)
        if seed is not None:
            rows.append((say("seed"), seed[1]))
        words = say("Make a logbook for such a rig, run the baseline, then: yondle plan run BOOK again.toml")
        return [Pairs(tuple(rows)), Words(words), File("again.toml", plan_again(self._book))]


def _chart(knob: Knob, view: ScalingView) -> Chart:
    shown = sorted(view.curves, key=lambda c: not c.answers)[:_MOST_CURVES]
    first = shown[0]
    reading = first.reading
    place = None
    if reading is not None and reading.place is not None:
        place = as_shown(reading.place, knob.unit), reading.place_words
    return Chart(
        say("Along {knob}", knob=in_sentence(knob.name)),
        with_unit(knob.name, knob.unit),
        say("gain over the baseline, %; bars show 95 % ranges, the band the noise at stock"),
        tuple(_chart_curve(curve, knob.unit) for curve in shown),
        view.noise.get(first.benchmark.id),
        place,
        tuple((as_shown(f.value, knob.unit), f.verdict) for f in view.failures),
        knob.choices,
    )


def _chart_curve(curve: Curve, unit: str) -> ChartCurve:
    points = (ChartPoint(as_shown(p.value, unit), p.shown, p.low, p.high, p.passes, p.verdict) for p in curve.points)
    return ChartCurve(curve.benchmark.name, tuple(points), curve.capped)


_FEWEST_LETTERS = 4


def _names(question: str, benchmark: Workload) -> bool:
    """Tell whether a question names a benchmark, in full or by the beginning of its name: 'stack' for Stacking."""
    asked, name = question.casefold(), benchmark.name.casefold()
    words = (word for word in re.findall(r"\w+", asked) if len(word) >= _FEWEST_LETTERS)
    return name in asked or any(name.startswith(word) or word.startswith(name) for word in words)


def _told(measured: Measured) -> list[tuple[str, str | float]]:
    return [*measured.parts.items(), *measured.told.items()]


def _day(at: str) -> str:
    return at[:10]
