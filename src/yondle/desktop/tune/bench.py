"""What Tune offers about what is measured: choosing benchmarks, typing in a figure, reading another program's table."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from PySide6.QtWidgets import QFileDialog

from yondle.app.machine.typed import figure
from yondle.app.session.commands import Command
from yondle.app.session.limits import ChooseBenchmarks
from yondle.app.session.own import typed_benchmarks
from yondle.app.session.results import ImportFrames, ImportScores, MeasuredWith, TypeIn, columns_of
from yondle.desktop.tune.bench_forms import BenchmarksCard, ResultCard, TableCard, TableChoice, TypedFigure
from yondle.desktop.tune.desk import Desk
from yondle.language.saying import later, named, say
from yondle.model.errors import KnownError
from yondle.model.quantities import count

T = TypeVar("T")
TABLES = later("Tables (*.csv *.txt);;All files (*)")


class BenchPresenter:
    """Puts its cards up and carries out what is chosen on them."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._cards = desk.cards

    def ask_benchmarks(self) -> None:
        """Ask which benchmarks are run."""
        declaration = self._desk.now.declaration
        offered = [w for w in declaration.workloads if w.scored and not w.by_hand]
        card = BenchmarksCard(
            self._desk.theme, offered, {w.id for w in declaration.benchmarks}, lambda: self._cards.take("benchmarks")
        )
        card.chosen.connect(lambda ids: self._ask("benchmarks", ChooseBenchmarks(ids)))
        self._cards.put_card("benchmarks", card)

    def ask_result(self, step: int | None) -> None:
        """Ask for a figure that was measured elsewhere at a step."""
        if step is None:
            return
        typed = typed_benchmarks(self._desk.now.kept)
        card = ResultCard(self._desk.theme, step, typed[-1] if typed else None, lambda: self._cards.take("result"))
        card.typed.connect(lambda told: self._type_in(step, told))
        self._cards.put_card("result", card)

    def ask_table(self, step: int | None) -> None:
        """Ask for a table of another program, then how it is to be read."""
        if step is None:
            return
        name, _ = QFileDialog.getOpenFileName(self._desk.window, say("Read a table"), "", named(TABLES))
        if name:
            self.show_table(step, Path(name))

    def show_table(self, step: int, path: Path) -> None:
        """Ask how a table is to be read."""
        try:
            columns = columns_of(path)
        except KnownError as error:
            self._desk.tell(error)
            return
        card = TableCard(self._desk.theme, step, path.name, columns, lambda: self._cards.take("table"))
        card.told.connect(lambda choice: self._read(step, path, choice))
        self._cards.put_card("table", card)

    def _type_in(self, step: int, told: TypedFigure) -> None:
        words = MeasuredWith(told.preset, told.passage, told.note)
        try:
            score = figure(told.score)
        except KnownError as error:
            self._desk.tell(error)
            return
        self._ask("result", TypeIn(step, told.benchmark, score, told.unit, told.direction, words))

    def _read(self, step: int, path: Path, choice: TableChoice) -> None:
        comma = choice.decimal_comma

        def say_kept(kept: int) -> None:
            title = say("{results} kept with step {step}", results=count(kept, "result"), step=step)
            self._cards.put("read", title, say("From {path}.", path=path.name))

        if choice.frames:
            frames = ImportFrames(
                step, path, choice.benchmark, choice.column, choice.unit, stamps=choice.stamps, decimal_comma=comma
            )
            self._ask("table", frames, lambda _: say_kept(1))
            return
        columns = (choice.benchmark, choice.column)
        found = ImportScores(step, path, columns, choice.unit, choice.direction, decimal_comma=comma, left=choice.left)
        self._ask("table", found, lambda kept: say_kept(len(kept)))

    def _ask(self, card: str, command: Command[T], then: Callable[[T], object] = lambda _: None) -> None:
        """Carry out what was chosen on a card, and take the card away once it is done."""

        def done(result: T) -> None:
            self._cards.take("error")
            self._cards.take(card)
            then(result)

        self._desk.ask(command, done)
