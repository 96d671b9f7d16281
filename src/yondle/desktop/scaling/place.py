"""Scaling: one knob against every benchmark, what the curves say, one point in full, and what answers to what."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import TYPE_CHECKING, TypeVar

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QLineEdit,
    QPushButton,
    QScrollArea,
    QWidget,
)

from yondle.desktop.charts.beside import StepLinks
from yondle.desktop.charts.chart_place import ChartPlace
from yondle.desktop.link.bridge import OpenBook
from yondle.desktop.look.basics import Choice, Eliding, Paragraphs, button, clear, label, tip
from yondle.desktop.look.keys import SWEEP
from yondle.desktop.look.layouts import abreast, form_rows, stacked
from yondle.desktop.look.side import Side
from yondle.desktop.look.theme import Theme
from yondle.desktop.scaling.sensitivity_table import SensitivityTable
from yondle.language.saying import capital, later, named, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob
from yondle.model.quantities import THIN, between, count, digits_for, figure, unit_shown
from yondle.model.workloads import Direction
from yondle.tables.writing import OutTable
from yondle.views.compare.compare import group_name
from yondle.views.kept import ViewCache
from yondle.views.out import scaling_table, sensitivities_table
from yondle.views.scaling.curves import Curve, CurvePoint, ScalingView, knobs_measured
from yondle.views.scaling.limits import LimitedBenchmark, limits
from yondle.views.scaling.target import target
from yondle.views.shared.showing import MEASURE_WORDS, Measure, measures_for, unit_of

if TYPE_CHECKING:
    from yondle.desktop.scaling.curves_chart import CurvesChart
    from yondle.desktop.scaling.group_panels import GroupPanels

    Shown = TypeVar("Shown", CurvesChart, GroupPanels)

_SIDE_WIDTH = 330
_MOST_TABLE = 190
MANY = 12
"""With more curves than this they stand in small charts by group, unless the tuner says otherwise."""
HOW = later("Mean of the passes (of their logarithms, for scores); ± is half the 95\u202f% range by Student's t")
TABLE_HEAD = later("What each benchmark answers to · score % for each +1 % of setting · the line is the 95 % range")


class ScalingPlace(ChartPlace):
    """The Scaling place for one logbook; what it shows is worked out again when it is shown and steps have changed."""

    sketch = "scaling"

    def __init__(self, theme: Theme, book: OpenBook, views: ViewCache) -> None:
        super().__init__(theme, book, say("Scaling"), _nothing(), self._shown_one)
        self._views = views
        self._knobs: tuple[Knob, ...] = ()
        self._measures: tuple[Measure, ...] = ()
        self._knob, self._benchmark, self._measure, self._group = "", "", Measure.GAIN, 0
        self._point: float | None = None
        self.view: ScalingView | None = None
        self.chart: CurvesChart | None = None
        self.panels: GroupPanels | None = None
        self._by_group: bool | None = None
        self.grouped = button(say("By group"), "flat", say("Small charts, one for each part of the machine"))
        self.grouped.setCheckable(True)
        self.grouped.clicked.connect(self._turn_grouped)
        self.along = Choice([], say("Along"))
        self.along.setMinimumContentsLength(16)
        self.along.activated.connect(self._choose_nth)
        self.held = Choice([], say("All else held"))
        self.held.activated.connect(self.choose_group)
        self.held.setMinimumContentsLength(30)
        self._shown: list[QPushButton] = []
        self._says = label("", "title", wrap=True)
        self._note = Eliding("", "small")
        self._caveat = label("", "warning", wrap=True)
        self._own_sentence, self._others = label("", "", wrap=True), Paragraphs("muted")
        self._at, self._steps = label("", "strong"), StepLinks(self.wants_step.emit)
        self._names, self._figures = label(""), label("", "strong")
        self._figures.setAlignment(Qt.AlignmentFlag.AlignRight)
        self._own_limit, self._limits = label("", "", wrap=True), Paragraphs("muted")
        self.target = QLineEdit()
        self.target.setAccessibleName(say("Target score"))
        self.target.setProperty("role", "tight")
        self.target.setMaximumWidth(110)
        self.target.textChanged.connect(self._tell_target)
        self._goal = label("", "muted")
        self._far = label("", "", wrap=True)
        self.table = SensitivityTable(theme)
        self.table.chosen.connect(self._choose_cell)
        self._lay_out()
        for name, text, keys, do in (
            ("next_benchmark", say("next benchmark"), "Down", lambda: self._step_benchmark(1)),
            ("benchmark_before", say("benchmark before"), "Up", lambda: self._step_benchmark(-1)),
            ("next_value", say("next value"), "Right", lambda: self._step_point(1)),
            ("value_before", say("value before"), "Left", lambda: self._step_point(-1)),
            ("grouped", say("all in one chart, or small ones by group"), "G", self.grouped.click),
        ):
            self.add_action(name, text, keys, do)

    def choose_knob(self, knob_id: str) -> None:
        """Show another knob."""
        self._knob, self._group, self._point = knob_id, 0, None
        self._show()

    def _choose_nth(self, number: int) -> None:
        self.choose_knob(self._knobs[number].id)

    def choose_measure(self, measure: Measure) -> None:
        """Show something else upward."""
        self._measure = measure
        self._show()

    def choose_group(self, group: int) -> None:
        """Show the curves under other settings."""
        self._group, self._point = group, None
        self._show()

    def choose_benchmark(self, benchmark_id: str) -> None:
        """Show a benchmark in full."""
        self._benchmark = benchmark_id
        self._show()

    def choose_point(self, value: float) -> None:
        """Tell all figures at one value."""
        self._point = value
        self._tell_point()

    def pieces(self) -> Iterator[None]:
        """Work out everything again: the curves first, then what answers to what, then the marks of all of it."""
        self._knobs = knobs_measured(self._book.now, self._views.settings)
        self.along.clear()
        self.along.addItems([k.name for k in self._knobs])
        if not self._knobs:
            self.view = None
            self.show_whole(False)
            return
        if self._knob not in {k.id for k in self._knobs}:
            self._knob = self._knobs[0].id
        yield
        knob = self._book.now.declaration.knob(self._knob)
        yield from self._views.scaling_in_pieces(knob, self._measure, self._group)
        sensitivities = yield from self._views.sensitivities_in_pieces()
        yield
        self.table.show_told(sensitivities)
        self._table_box.setFixedHeight(min(self.table.sizeHint().height() + 14, _MOST_TABLE))
        self._large()
        yield
        self._show()

    def _shown_one(self) -> CurvesChart | GroupPanels | None:
        shown = (each for each in (self.chart, self.panels) if each is not None and not each.isHidden())
        return next(shown, None)

    def out_table(self) -> OutTable | None:
        """Give the curves as a table, or where the table of all knobs is shown that one."""
        if self.view is not None:
            return scaling_table(self.view)
        told = self._views.sensitivities
        return sensitivities_table(told) if told.knobs else None

    def caption(self) -> str:
        """Say what the chart shows."""
        view = self.view
        return (
            f"{self._book.now.declaration.info.name}: {view.sentence} {view.held}. {self._note.text()}." if view else ""
        )

    # -- showing -------------------------------------------------------------------------------------------------------

    def _show(self) -> None:
        self._turns.finish()
        if self._seen != self._book.now.version or not self._knobs:
            self.refresh()
            return
        knob = self._book.now.declaration.knob(self._knob)
        if self._measure not in measures_for(knob, self._book.now.declaration):
            self._measure = Measure.GAIN
        view = self.view = self._views.scaling(knob, self._measure, self._group)
        self._group = view.group
        self.along.setCurrentIndex(next(i for i, k in enumerate(self._knobs) if k.id == self._knob))
        self._offer_measures(knob)
        self.held.clear()
        self.held.addItems(list(view.groups))
        self.held.setCurrentIndex(view.group)
        self.held.setEnabled(len(view.groups) > 1)
        self.held.setToolTip(tip(view.held))
        curve = next((c for c in view.curves if c.benchmark.id == self._benchmark), view.curves[0])
        self._benchmark = curve.benchmark.id
        self._show_chart(view)
        bars = say("bars show 95 % ranges")
        inverted = view.measure is Measure.VALUE and curve.benchmark.metric.direction is Direction.LOWER
        turned = [say("lower is better, so the axis is inverted")] if inverted else []
        whole = [capital(named(MEASURE_WORDS[view.measure]))] if view.measure is not Measure.VALUE else []
        self._note.set_text(" · ".join([*whole, *turned, bars]))
        self._says.setText(view.sentence)
        shown = self._shown_one()
        if shown is not None:
            shown.setAccessibleName(say("Chart of {name}. {sentence}", name=knob.name, sentence=view.sentence))
        self._caveat.setText(" ".join(view.caveats))
        self._caveat.setVisible(bool(view.caveats))
        sentences = {each.benchmark.id: each.sentence for each in view.curves}
        self._own_sentence.setText(sentences.pop(self._benchmark, ""))
        self._others.show_all(list(sentences.values()))
        self._tell_point()
        self._tell_target()
        self.show_whole(True)

    def _show_chart(self, view: ScalingView) -> None:
        """Show one large chart, or small ones by group; either is made when first shown: their library is large."""
        groups = {group_name(curve.benchmark) for curve in view.curves}
        can = len(groups) > 1 and view.measure is not Measure.VALUE
        self.grouped.setVisible(can)
        wanted = self._by_group if self._by_group is not None else len(view.curves) > MANY
        self.grouped.setChecked(can and wanted)
        if can and wanted:
            if self.panels is None:
                from yondle.desktop.scaling.group_panels import GroupPanels

                self.panels = self._taken_up(GroupPanels(self._theme))
            shown: CurvesChart | GroupPanels = self.panels
        else:
            shown = self._large()
        shown.show_view(view, self._benchmark)
        for each in (self.chart, self.panels):
            if each is not None:
                each.setVisible(each is shown)

    def _large(self) -> CurvesChart:
        if self.chart is None:
            from yondle.desktop.scaling.curves_chart import CurvesChart

            self.chart = self._taken_up(CurvesChart(self._theme))
        return self.chart

    def _taken_up(self, chart: Shown) -> Shown:
        chart.benchmark_chosen.connect(self.choose_benchmark)
        chart.point_chosen.connect(self.choose_point)
        chart.failure_chosen.connect(self.wants_step)
        chart.drawn.connect(self.renew_table)
        self._chart_box.addWidget(chart, 1)
        return chart

    def _turn_grouped(self) -> None:
        self._by_group = self.grouped.isChecked()
        self._show()

    def _offer_measures(self, knob: Knob) -> None:
        measures = measures_for(knob, self._book.now.declaration)
        if measures != self._measures:
            self._measures = measures
            clear(self._measure_row)
            self._shown = []
            for measure in measures:
                made = button(capital(named(measure)), "flat", say("Show {measure}", measure=measure))
                made.setCheckable(True)
                made.clicked.connect(lambda _=False, m=measure: self.choose_measure(m))
                self._shown.append(made)
                self._measure_row.addWidget(made)
        for made, measure in zip(self._shown, measures, strict=True):
            made.setChecked(measure is self._measure)

    def _tell_point(self) -> None:
        """Write every benchmark at the chosen value; at first the highest there is."""
        view = self.view
        if view is None or not view.curves:
            return
        values = sorted({p.value for c in view.curves for p in c.points})
        value = self._point if self._point in values else values[-1]
        points = [(c, p) for c in view.curves for p in c.points if p.value == value]
        steps = sorted({n for _, p in points for n in p.steps})
        self._at.setText(view.knob.text(value))
        self._steps.show_steps(tuple(steps))
        self._names.setText("\n".join(curve.benchmark.name for curve, _ in points))
        counted = "\n".join(f"{c.benchmark.name}: {count(len(p.passes), 'pass', 'passes')}" for c, p in points)
        self._figures.setToolTip(tip(counted + named(HOW)))
        self._figures.setText("\n".join(_figure_words(view.measure, curve, point) for curve, point in points))
        told = limits(self._book.now, self._views.settings, self._views.sensitivities, steps[-1])
        lines = {each.benchmark.id: _limit_words(each) for each in told}
        self._own_limit.setText(lines.pop(self._benchmark, ""))
        self._limits.show_all(list(lines.values()))

    def _tell_target(self) -> None:
        """Say how far the target is for the benchmark shown in full."""
        if not self._benchmark:
            return
        benchmark = self._book.now.declaration.workload(self._benchmark)
        self._goal.setText(f"{benchmark.name}, {benchmark.metric.unit}")
        words = self.target.text().strip().replace(",", ".")
        if not words:
            self._far.setText("")
            return
        try:
            self._far.setText(target(self._book.now, self._views.settings, benchmark, float(words)).sentence)
        except ValueError:
            self._far.setText(
                say("'{words}' is no number: give a score in {unit}.", words=words, unit=benchmark.metric.unit)
            )
        except KnownError as error:
            self._far.setText(f"{error.problem} {error.remedy}")

    def _choose_cell(self, knob_id: str, benchmark_id: str) -> None:
        self._benchmark = benchmark_id
        self.choose_knob(knob_id)

    # -- building ------------------------------------------------------------------------------------------------------

    def _lay_out(self) -> None:
        head = abreast()
        head.addWidget(label(say("Along"), "muted"))
        head.addWidget(self.along)
        head.addSpacing(8)
        head.addWidget(self.held, 1)
        head.addSpacing(8)
        self._measure_row = abreast(gap=4)
        head.addLayout(self._measure_row)
        self._chart_box = stacked(gap=4)
        above = abreast()
        above.addWidget(self._note, 1)
        above.addWidget(self.grouped)
        self._chart_box.addLayout(above)
        self._table_box = QScrollArea()
        self._table_box.setWidgetResizable(True)
        self._table_box.setWidget(self.table)
        self._table_box.setAccessibleName(say("What each benchmark answers to"))
        self.put_together(
            head, self.with_table(self._chart_box), self._side(), label(named(TABLE_HEAD), "heading"), self._table_box
        )

    def _side(self) -> QWidget:
        side = Side(_SIDE_WIDTH, say("What it says"))
        box = side.box
        side.heading(say("What it says"))
        for words in (self._says, self._caveat, self._own_sentence, self._others):
            box.addWidget(words)
        side.heading(say("At one value · click a mark for another"))
        point = form_rows()
        point.addWidget(self._at, 0, 0)
        point.addWidget(self._steps, 0, 1)
        point.addWidget(self._names, 1, 0)
        point.addWidget(self._figures, 1, 1)
        box.addLayout(point)
        side.heading(say("What limits it there"))
        box.addWidget(self._own_limit)
        box.addWidget(self._limits)
        side.heading(say("A target"))
        row = abreast()
        row.addWidget(self.target)
        row.addWidget(self._goal, 1)
        box.addLayout(row)
        box.addWidget(self._far)
        box.addStretch(1)
        return side

    def _step_benchmark(self, by: int) -> None:
        for box, choose in ((self.along, self._choose_nth), (self.held, self.choose_group)):
            if box.hasFocus():
                choose(min(max(box.currentIndex() + by, 0), box.count() - 1))
                return
        curves = self.view.curves if self.view is not None else ()
        ids = [c.benchmark.id for c in curves]
        if self._benchmark in ids:
            self.choose_benchmark(ids[(ids.index(self._benchmark) + by) % len(ids)])

    def _step_point(self, by: int) -> None:
        values = sorted({p.value for c in self.view.curves for p in c.points}) if self.view is not None else []
        if values:
            here = values.index(self._point) if self._point in values else len(values) - 1
            self.choose_point(values[min(max(here + by, 0), len(values) - 1)])


def _figure_words(measure: Measure, curve: Curve, point: CurvePoint) -> str:
    if curve.capped:
        return say("capped")
    half = (point.high - point.low) / 2
    digits = digits_for(half) if math.isfinite(half) else 1
    unit = unit_of(measure, curve.benchmark)
    margin = f" ± {figure(half, between(unit), digits)}" if math.isfinite(half) else ""
    return f"{figure(point.shown, unit, digits)}{margin}{THIN}{unit_shown(unit)}"


def _limit_words(limited: LimitedBenchmark) -> str:
    signs = f": {'; '.join(limited.finding.signs)}" if limited.finding.signs else ""
    return f"{limited.benchmark.name} · {limited.finding.words}{signs}"


def _nothing() -> str:
    return say(
        "Nothing to compare yet.\nA curve takes two values of one knob with all else the same: sweep a knob "
        "in Tune ({sweep}), or test another value of one.",
        sweep=SWEEP,
    )
