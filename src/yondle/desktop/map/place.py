"""Map: two knobs at once, where gains lie like hills, where the edge runs, and what two changes bring together."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt

from yondle.desktop.charts.beside import StepLinks
from yondle.desktop.charts.chart_place import ChartPlace
from yondle.desktop.link.bridge import OpenBook
from yondle.desktop.look.basics import Choice, Eliding, button, clear, label, tip
from yondle.desktop.look.keys import EDGE
from yondle.desktop.look.layouts import abreast, form_rows, stacked
from yondle.desktop.look.side import Side
from yondle.desktop.look.theme import Theme
from yondle.language.saying import in_sentence, say
from yondle.model.knobs import Knob
from yondle.model.quantities import count
from yondle.tables.writing import OutTable
from yondle.views.kept import ViewCache
from yondle.views.map.maps import MapView, map_of, pairs_measured, table_rows
from yondle.views.out import map_table
from yondle.views.shared.gains import told_words

if TYPE_CHECKING:
    from yondle.desktop.map.map_chart import MapChart

_SIDE_WIDTH = 330


class MapPlace(ChartPlace):
    """The Map place for one logbook."""

    sketch = "map"

    def __init__(self, theme: Theme, book: OpenBook, views: ViewCache) -> None:
        super().__init__(theme, book, say("Map"), _nothing(), lambda: self.chart)
        self._views = views
        self._pairs: tuple[tuple[Knob, Knob], ...] = ()
        self._pair, self._swapped, self._benchmark = 0, False, 0
        self._place: tuple[float, float] | None = None
        self.view: MapView | None = None
        self.chart: MapChart | None = None
        self.pairs = Choice([], say("Two knobs"))
        self.pairs.setMinimumContentsLength(30)
        self.pairs.activated.connect(self.choose_pair)
        self.benchmarks = Choice([b.name for b in book.now.declaration.benchmarks], say("Benchmark"))
        self.benchmarks.activated.connect(self.choose_benchmark)
        self.swap = button(say("Swap the axes"))
        self.swap.clicked.connect(self._swap)
        self._held = Eliding("", "small")
        self._says = label("", "title", wrap=True)
        self._table = form_rows()
        self._about, self._steps = label("", "", wrap=True), StepLinks(self.wants_step.emit)
        self.propose_button = button(say("Propose this step"), "main")
        self.propose_button.clicked.connect(self._propose)
        self._lay_out()
        self.add_action("swap", say("swap the axes"), "X", self._swap)

    def pieces(self) -> Iterator[None]:
        """Work out everything again."""
        before = self._pairs[self._pair] if self._pairs else None
        self._pairs = pairs_measured(self._book.now, self._views.settings)
        self.pairs.clear()
        self.pairs.addItems(
            [say("{one} and {other}", one=one.name, other=in_sentence(other.name)) for one, other in self._pairs]
        )
        if not self._pairs:
            self.view = None
            self.show_whole(False)
            return
        self._pair = self._pairs.index(before) if before in self._pairs else 0
        yield
        self._chart()
        yield
        self._show()

    def choose_pair(self, pair: int) -> None:
        """Show two other knobs."""
        self._pair, self._swapped, self._place = pair, False, None
        self._show()

    def choose_benchmark(self, benchmark: int) -> None:
        """Show the gains of another benchmark."""
        self._benchmark = benchmark
        self._show()

    def choose_place(self, x: float, y: float) -> None:
        """Tell what is known at a place, and offer it as the next step."""
        self._place = (x, y)
        self._show()

    def out_table(self) -> OutTable | None:
        """Give the grid of both knobs."""
        return map_table(self.view) if self.view is not None else None

    def caption(self) -> str:
        """Say what the chart shows."""
        view = self.view
        return f"{self._book.now.declaration.info.name}: {view.sentence} {self._held.text()}." if view else ""

    # -- showing -------------------------------------------------------------------------------------------------------

    def _show(self) -> None:
        self._turns.finish()
        one, other = self._pairs[self._pair]
        across, up = (other, one) if self._swapped else (one, other)
        benchmark = self._book.now.declaration.benchmarks[self._benchmark]
        view = self.view = map_of(self._book.now, self._views.settings, across, up, benchmark)
        self.pairs.setCurrentIndex(self._pair)
        self.benchmarks.setCurrentIndex(self._benchmark)
        lines = (
            say(" · lines of equal gain") if view.surface is not None else say(" · too few points for contour lines")
        )
        self._held.set_text(say("{held} · gain over the baseline in %{lines}", held=view.held, lines=lines))
        self._says.setText(view.sentence)
        clear(self._table)
        told = table_rows(view)
        self._alone.setVisible(bool(told))
        for row, (name, words, how) in enumerate(told):
            figure = label(words, "strong")
            figure.setToolTip(tip(how))
            self._table.addWidget(label(name, "", wrap=True), row, 0)
            self._table.addWidget(figure, row, 1, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop)
        self._tell_place(view)
        self._chart().show_view(view, self._place)
        pair = say("{one} and {other}", one=view.across.name, other=in_sentence(view.up.name))
        self._chart().setAccessibleName(say("Chart of {name}. {sentence}", name=pair, sentence=view.sentence))
        self.show_whole(True)

    def _tell_place(self, view: MapView) -> None:
        if self._place is None:
            self._about.setText(say("Click the map: a mark tells its figures, an empty place becomes the next step."))
            self.propose_button.hide()
            self._steps.show_steps(())
            return
        x, y = self._place
        name = say("{x} and {y}", x=view.across.text(x), y=view.up.text(y))
        known = next((p for p in view.points if (p.x, p.y) == (x, y)), None)
        if known is not None:
            words = told_words(known.gain) if known.gain is not None else say("no figures")
            passes = count(known.passes, "pass", "passes")
            self._about.setText(
                say(
                    "{name}: {verdict}, {words}, {passes}.",
                    name=name,
                    verdict=known.verdict,
                    words=words,
                    passes=passes,
                )
            )
        else:
            self._about.setText(say("{name}: not tested yet.", name=name))
        self._steps.show_steps(known.steps if known is not None else ())
        changes = self._changes(view)
        words = say("Propose it as a joint step") if len(changes) > 1 else say("Propose it as the next step")
        self.propose_button.setText(words if changes else say("In force now"))
        self.propose_button.setEnabled(bool(changes))
        self.propose_button.show()

    def _changes(self, view: MapView) -> dict[str, float]:
        assert self._place is not None
        wanted = {view.across.id: self._place[0], view.up.id: self._place[1]}
        return {knob: value for knob, value in wanted.items() if self._book.now.in_force[knob] != value}

    def _propose(self) -> None:
        if self.view is not None and self._place is not None:
            self.proposed.emit(self._changes(self.view))

    def _swap(self) -> None:
        self._swapped = not self._swapped
        self._place = self._place[::-1] if self._place is not None else None
        self._show()

    def _chart(self) -> MapChart:
        """Make the chart when it is first shown: its library is large."""
        if self.chart is None:
            from yondle.desktop.map.map_chart import MapChart

            self.chart = MapChart(self._theme)
            self.chart.place_chosen.connect(self.choose_place)
            self.chart.drawn.connect(self.renew_table)
            self._chart_box.addWidget(self.chart, 1)
        return self.chart

    # -- building ------------------------------------------------------------------------------------------------------

    def _lay_out(self) -> None:
        head = abreast()
        for widget in (self.pairs, self.swap, self.benchmarks):
            head.addWidget(widget)
        head.addStretch(1)
        self._chart_box = stacked(gap=4)
        self._chart_box.addWidget(self._held)
        side = Side(_SIDE_WIDTH, say("What it says"))
        side.heading(say("What it says"))
        side.box.addWidget(self._says)
        self._alone = side.heading(say("Alone and together"))
        side.box.addLayout(self._table)
        side.heading(say("Chosen place"))
        side.box.addWidget(self._about)
        side.box.addWidget(self._steps)
        side.box.addWidget(self.propose_button)
        side.box.addStretch(1)
        self.put_together(head, self.with_table(self._chart_box), side)


def _nothing() -> str:
    return say(
        "No two knobs vary together yet.\nA map takes two values of each with all else the same: sweep one "
        "knob at two values of another, or search an edge over a second knob ({edge} in Tune).",
        edge=EDGE,
    )
