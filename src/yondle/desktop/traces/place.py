"""Traces: what the sensors said during a test, alone or against another, and the figures of a chosen span."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QMenu

from yondle.desktop.charts.chart_place import ChartPlace
from yondle.desktop.link.bridge import OpenBook
from yondle.desktop.look.basics import Choice, Eliding, button, label
from yondle.desktop.look.layouts import abreast, stacked
from yondle.desktop.look.theme import Theme
from yondle.desktop.traces.span_panel import SpanPanel
from yondle.language.saying import later, named, say
from yondle.model.errors import KnownError
from yondle.model.quantities import number, with_unit
from yondle.views.kept import ViewCache
from yondle.views.shared.workers import worker_lines
from yondle.views.traces.spans import SpanView, span_view
from yondle.views.traces.traces import PassSpan, Trace, TracedRun, end_words, moved, runs, trace_of, usual_panels

if TYPE_CHECKING:
    from yondle.desktop.traces.traces_chart import TracesChart

_FOLLOW_MS, _TELL_MS = 2000, 120
NOTHING = later(
    "No test has been run yet.\nMeasure the baseline in Tune: what the sensors say is kept from its first second on."
)
UNREAD = later("This test left no readings: it ended before any sensor was read.")
NO_SECOND = later("Nothing beside it")
WHOLE = later("Whole test")
ALONE, OVERLAY, DIFFERENCE = later("One"), later("Overlay"), later("Difference")


class TracesPlace(ChartPlace):
    """The Traces place for one logbook."""

    sketch = "traces"

    def __init__(self, theme: Theme, book: OpenBook, views: ViewCache) -> None:
        super().__init__(theme, book, say("Traces"), named(NOTHING), lambda: self.chart)
        self._runs: tuple[TracedRun, ...] = ()
        self._stale = False
        self._wanted: int | None = None
        self._first: Trace | None = None
        self._second: Trace | None = None
        self._flipped, self._how = False, ALONE
        self._kept: tuple[int, float, Trace] | None = None
        self._span: tuple[float, float] | None = None
        self._hidden: set[str] | None = None
        self._passes: tuple[PassSpan, ...] = ()
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(_FOLLOW_MS)
        self._later.timeout.connect(self._read_on)
        self._telling = QTimer(self)
        self._telling.setSingleShot(True)
        self._telling.setInterval(_TELL_MS)
        self._telling.timeout.connect(self._tell)
        self.view: SpanView | None = None
        self.chart: TracesChart | None = None
        self.first = Choice([], say("Test A"))
        self.second = Choice([], say("Test B"))
        for box in (self.first, self.second):
            box.setMinimumContentsLength(24)
        self.first.activated.connect(lambda i: self._begin_run(self._runs[i].attempt))
        self.second.activated.connect(lambda i: self.show_second(self._runs[i - 1].attempt if i else None))
        self.passes = Choice([], say("Part of the test"))
        self.passes.setMinimumContentsLength(16)
        self.passes.activated.connect(self.choose_pass)
        self._ways = {
            name: button(named(name), "flat", say("{name} of the two tests", name=named(name)))
            for name in (ALONE, OVERLAY, DIFFERENCE)
        }
        for name, made in self._ways.items():
            made.setCheckable(True)
            made.clicked.connect(lambda _=False, n=name: self.show_how(n))
        self.sensors = button(say("Sensors …"), "flat", say("Choose the sensors shown"))
        self.sensors.clicked.connect(self._offer_sensors)
        self._words = Eliding("", "small")
        self._unread = label(named(UNREAD), "muted", wrap=True)
        self.panel = SpanPanel()
        self._lay_out()
        for name, text, keys, do in (
            ("flip", say("flip between the two tests"), "Space", self.flip),
            ("overlay", say("one over the other, or alone"), "O", self._turn_overlay),
            ("difference", say("one less the other, or alone"), "D", self._turn_difference),
            ("zoom", say("zoom to the chosen span"), "Z", self._zoom),
            ("next_pass", say("next pass"), "]", lambda: self._step_pass(1)),
            ("pass_before", say("pass before"), "[", lambda: self._step_pass(-1)),
            ("whole", say("whole test"), "Home", lambda: self.choose_pass(0)),
            ("sensors", say("choose the sensors shown"), "S", self._offer_sensors),
        ):
            self.add_action(name, text, keys, do)

    # -- choosing ------------------------------------------------------------------------------------------------------

    def pieces(self) -> Iterator[None]:
        """List the tests again, and open the one that is shown, strip by strip."""
        self._stale = True
        self._runs = runs(self._book.now)
        self.first.clear()
        self.first.addItems([run.words for run in self._runs])
        self.second.clear()
        self.second.addItems([named(NO_SECOND), *(run.words for run in self._runs)])
        if not self._runs:
            self.show_whole(False)
            return
        wanted = self._wanted or (self._first.run.attempt if self._first is not None else self._runs[0].attempt)
        self._wanted = None
        yield
        yield from self._opening(wanted, self._beside)

    def follow(self) -> None:
        """Read on where the test shown is under way, every few seconds; a test that has begun since is offered."""
        if not self._later.isActive():
            self._later.start()

    def _read_on(self) -> None:
        first = self._first
        if not self.isVisible():
            return
        if first is None or first.outcome is not None:
            self.refresh()
            return
        self._seen, self._stale = self._book.now.version, True
        followed = self._span is None and self.chart is not None and self.chart.range[1] >= first.lasted_s
        self._turns.begin(self._opening(first.run.attempt, self._beside, followed))

    def choose_run(self, attempt: int) -> None:
        """Show another test."""
        self._begin_run(attempt)
        self._turns.finish()

    def show_run(self, attempt: int) -> None:
        """Show another test by and by, also one that isn't listed yet."""
        self._span, self._wanted, self._seen = None, attempt, -1
        self.refresh_by_turns()

    def _begin_run(self, attempt: int) -> None:
        self._span = None
        self._turns.begin(self._opening(attempt, self._beside))

    @property
    def _beside(self) -> int | None:
        return self._second.run.attempt if self._second is not None else None

    def choose_second(self, attempt: int | None) -> None:
        """Put a test beside the first, or none."""
        self.show_second(attempt)
        self._turns.finish()

    def show_second(self, attempt: int | None) -> None:
        """Put a test beside the first by and by, or none."""
        if self._first is not None:
            first = self._first.run.attempt
            if attempt is not None and self._how == ALONE:
                self._how = OVERLAY
            self._turns.begin(self._opening(first, attempt))

    def choose_step(self, step: int) -> None:
        """Show the latest test of a step."""
        self.refresh()
        found = next((run for run in self._runs if run.step == step), None)
        if found is not None:
            self.choose_run(found.attempt)

    def choose_pass(self, place: int) -> None:
        """Choose the span of a pass, counted from 1; 0 is the whole test."""
        self.passes.setCurrentIndex(place)
        if place == 0:
            self._span = None
            if self.chart is not None:
                self.chart.show_all()
        else:
            chosen = self._passes[place - 1]
            self._span = (chosen.from_s, chosen.to_s)
        self._show(keep_range=True)
        if place:
            self._zoom()

    def choose_span(self, low: float, high: float) -> None:
        """Tell the figures of a span."""
        self._span = (low, high)
        self.passes.setCurrentIndex(0)
        self._tell()

    def _span_moved(self, low: float, high: float) -> None:
        """Tell the figures of a span that is still being drawn, a few times a second: a long one takes a while."""
        self._span = (low, high)
        if not self._telling.isActive():
            self._telling.start()

    def flip(self) -> None:
        """Show the other test on the same axes."""
        if self._second is not None:
            self._flipped = not self._flipped
            self._show(keep_range=True)

    def show_how(self, how: str) -> None:
        """Show one test, one over the other, or one less the other."""
        self._how = how
        self._show(keep_range=True)

    def _turn_overlay(self) -> None:
        self.show_how(ALONE if self._how == OVERLAY else OVERLAY)

    def _turn_difference(self) -> None:
        self.show_how(ALONE if self._how == DIFFERENCE else DIFFERENCE)

    def _step_pass(self, by: int) -> None:
        if self._passes:
            self.choose_pass((self.passes.currentIndex() + by) % (len(self._passes) + 1))

    def _zoom(self) -> None:
        if self.chart is not None and self._span is not None:
            low, high = self._span
            room = 0.04 * (high - low)
            self.chart.show_range(low - room, high + room)

    def _offer_sensors(self) -> None:
        if self._first is None:
            return
        menu = QMenu(self)
        menu.setAccessibleName(say("Sensors shown"))
        for panel in self._first.panels:
            entry = QAction(with_unit(panel.name, panel.unit), menu)
            entry.setCheckable(True)
            entry.setChecked(panel.key not in self._off())
            entry.toggled.connect(lambda on, key=panel.key: self.show_panel(key, on))
            menu.addAction(entry)
        menu.popup(self.sensors.mapToGlobal(self.sensors.rect().bottomLeft()))

    def show_panel(self, key: str, shown: bool) -> None:
        """Show or hide a panel."""
        self._hidden = self._off() - {key} if shown else self._off() | {key}
        self._show(keep_range=True)

    def _off(self) -> set[str]:
        """Give the panels that are hidden: all but the most usual ones at first."""
        if self._hidden is not None:
            return self._hidden
        assert self._first is not None
        return {p.key for p in self._first.panels} - set(usual_panels(self._first))

    # -- showing -------------------------------------------------------------------------------------------------------

    def caption(self) -> str:
        """Say what the chart shows."""
        return f"{self._book.now.declaration.info.name}: {self._words.text()}"

    def _opening(self, attempt: int, second: int | None, follow: bool = False) -> Iterator[None]:
        """Read a test, and one beside it, and show them; where they can't be read, say so."""
        try:
            yield from self._reading(attempt, second)
        except KnownError as error:
            self.say_trouble(error)
            return
        self.trouble.hide()
        if follow and self.chart is not None:
            self.chart.show_all()

    def _reading(self, attempt: int, second: int | None) -> Iterator[None]:
        same = self._first is not None and self._first.run.attempt == attempt
        stale, self._stale = self._stale, False
        if not same or stale:
            self._first = trace_of(self._book.now, attempt)
            yield
        if second is None:
            self._second, self._flipped = None, False
            self._how = ALONE
        elif stale or self._second is None or self._second.run.attempt != second:
            self._kept = None
            self._second = trace_of(self._book.now, second)
            yield
        assert self._first is not None
        at = self.passes.currentIndex() if same else 0
        self._passes = self._first.passes
        self.passes.clear()
        self.passes.addItems([named(WHOLE), *(p.words for p in self._passes)])
        self.passes.setCurrentIndex(at)
        attempts = [run.attempt for run in self._runs]
        self.first.setCurrentIndex(attempts.index(attempt))
        self.second.setCurrentIndex(attempts.index(second) + 1 if second is not None else 0)
        self._made_chart()
        yield
        yield from self._showing(keep_range=same)

    @property
    def offset_s(self) -> float:
        """Where the second test lies on the clock of the first, so that the same pass of both begins together."""
        first, second = self._first, self._second
        if first is None or second is None:
            return 0.0
        at = self.passes.currentIndex() - 1
        wanted = first.passes[max(at, 0)] if first.passes else None
        for theirs in second.passes if wanted is not None else ():
            if wanted is not None and (theirs.record.workload, theirs.record.round, theirs.record.warm_up) == (
                wanted.record.workload, wanted.record.round, wanted.record.warm_up,
            ):  # fmt: skip
                return wanted.from_s - theirs.from_s
        return 0.0

    def _show(self, keep_range: bool) -> None:
        self._turns.finish()
        for _ in self._showing(keep_range):
            pass

    def _showing(self, keep_range: bool) -> Iterator[None]:
        first = self._first
        if first is None:
            return
        from yondle.desktop.traces.trace_strip import Shown

        both = self._second is not None
        for name, made in self._ways.items():
            made.setVisible(both)
            made.setChecked(name == self._how)
        panels = tuple(p for p in first.panels if p.key not in self._off()) if first.panels else ()
        self._unread.setVisible(not panels)
        chart = self._made_chart()
        chart.setVisible(bool(panels))
        self.show_whole(True)
        front, behind, offset = first, self._second, self.offset_s
        if self._flipped and behind is not None:
            shown = Shown(self._other(offset), beside=front)
        elif self._how == ALONE or behind is None:
            shown = Shown(front, beside=behind)
        else:
            shown = Shown(front, behind, offset, self._how == DIFFERENCE)
        if panels:
            yield from chart.showing(shown, panels, keep_range)
            chart.choose(self._span)
            yield
        self._tell()

    def _other(self, offset_s: float) -> Trace:
        """Give the second test on the clock of the first; kept, so that flipping is quick."""
        assert self._second is not None
        if self._kept is None or self._kept[:2] != (self._second.run.attempt, offset_s):
            self._kept = (self._second.run.attempt, offset_s, moved(self._second, offset_s))
        return self._kept[2]

    def _made_chart(self) -> TracesChart:
        """Make the chart when it is first shown: its library is large."""
        if self.chart is None:
            from yondle.desktop.traces.traces_chart import TracesChart

            self.chart = TracesChart(self._theme)
            self.chart.span_chosen.connect(self.choose_span)
            self.chart.span_moved.connect(self._span_moved)
            self.chart.all_shown.connect(lambda: self.choose_pass(0))
            self.chart.drawn.connect(self.renew_table)
            self._chart_box.addWidget(self.chart, 1)
        return self.chart

    def _tell(self) -> None:
        first, second = self._first, self._second
        if first is None:
            return
        shown, offset = first, self.offset_s
        if self._flipped and second is not None:
            shown = self._other(offset)
        low, high = self._span or (0.0, shown.lasted_s)
        panels = tuple(p for p in shown.panels if p.key not in self._off())
        beside = second if self._how != ALONE and not self._flipped else None
        view = self.view = span_view(shown, panels, low, high, beside, offset)
        self._words.set_text(self._named(shown, second))
        at = self.passes.currentIndex() - 1
        chosen = self._passes[at].record if at >= 0 and not self._flipped else None
        inside = worker_lines(self._book.now.declaration, chosen)
        self.panel.show_span(view, self._span is not None, beside is not None, inside)

    def _named(self, shown: Trace, second: Trace | None) -> str:
        """Say what is shown: which test, how it ended, how much was read, and what lies beside it."""
        told = say(
            "{run} · {end} · {readings} readings of {columns} sensors",
            run=shown.run.words,
            end=end_words(shown),
            readings=number(shown.readings),
            columns=len(shown.columns),
        )
        if second is None:
            return told
        if self._flipped:
            return say("B · {told} · space flips back to A", told=told)
        if self._how == OVERLAY:
            return say("A, coloured, over B, thin · A · {told} · space flips", told=told)
        return (
            say("A less B · {told}", told=told)
            if self._how == DIFFERENCE
            else say("A · {told} · space flips to B", told=told)
        )

    # -- building ------------------------------------------------------------------------------------------------------

    def _lay_out(self) -> None:
        head = abreast()
        head.addWidget(label("A", "muted"))
        head.addWidget(self.first, 2)
        head.addWidget(label("B", "muted"))
        head.addWidget(self.second, 2)
        head.addWidget(self.passes, 1)
        for made in self._ways.values():
            head.addWidget(made)
        head.addWidget(self.sensors)
        self._chart_box = stacked(gap=4)
        self._chart_box.addWidget(self._words)
        self._chart_box.addWidget(self._unread, 1)
        self.put_together(head, self.with_table(self._chart_box), self.panel)
