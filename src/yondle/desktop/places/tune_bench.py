"""What Tune offers about what is measured: choosing benchmarks, typing in a figure, reading another program's table."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog, QWidget

from yondle.app.machine.machines import THIS
from yondle.app.session.results import MeasuredWith, columns_of, figure, import_frames, import_scores, type_in
from yondle.app.session.session import Session
from yondle.desktop.places.tune_words import tell_trouble
from yondle.desktop.theme import Theme
from yondle.desktop.widgets.bench_forms import BenchmarksCard, ResultCard, TableCard, TableChoice, TypedFigure
from yondle.desktop.widgets.cards import CardAction, Cards
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.quantities import count

if TYPE_CHECKING:
    from yondle.app.machine.this_machine import Asked

TABLES = say("Tables (*.csv *.txt);;All files (*)")


class BenchOffers(QObject):
    """Puts its cards up and carries out what is chosen on them; `refresh` shows the outcome.

    `reopen` is sent when the logbook has to be opened anew to take effect.
    """

    reopen = Signal()

    def __init__(
        self, parent: QWidget, theme: Theme, session: Session, cards: Cards, refresh: Callable[[], None]
    ) -> None:
        super().__init__(parent)
        self._window = parent
        self._theme = theme
        self._session = session
        self._cards = cards
        self._refresh = refresh

    def show_not_allowed(self) -> None:
        """Show the commands this logbook would run that nobody has allowed on this machine yet."""
        if self._session.logbook.rig()[0] != THIS:
            return
        from yondle.app.machine.this_machine import not_allowed

        for asked in not_allowed(self._session.logbook.keeping):
            self._ask_to_allow(asked)

    def _ask_to_allow(self, asked: Asked) -> None:
        card = f"allow {asked.name}"

        def agree() -> None:
            asked.allow()
            self._cards.take(card)
            self.reopen.emit()

        actions = [
            CardAction(say("Allow it on this machine"), agree),
            CardAction(say("Don't run it"), lambda: self._cards.take(card), "main"),
        ]
        text = say("It runs {asked}\nA logbook from someone else can run anything: look first.", asked=asked.words)
        self._cards.put(card, say("May '{asked}' run?", asked=asked.name), text, actions)

    def ask_benchmarks(self) -> None:
        """Ask which benchmarks are run."""
        declaration = self._session.declaration
        offered = [w for w in declaration.workloads if w.scored and not w.by_hand]
        card = BenchmarksCard(
            self._theme, offered, {w.id for w in declaration.benchmarks}, lambda: self._cards.take("benchmarks")
        )
        card.chosen.connect(lambda ids: self._carry_out("benchmarks", lambda: self._session.choose_benchmarks(ids)))
        self._cards.put_card("benchmarks", card)

    def ask_result(self, step: int | None) -> None:
        """Ask for a figure that was measured elsewhere at a step."""
        if step is None:
            return
        typed = self._session.own.typed
        card = ResultCard(self._theme, step, typed[-1] if typed else None, lambda: self._cards.take("result"))
        card.typed.connect(lambda told: self._carry_out("result", lambda: self._type_in(step, told)))
        self._cards.put_card("result", card)

    def ask_table(self, step: int | None) -> None:
        """Ask for a table of another program, then how it is to be read."""
        if step is None:
            return
        name, _ = QFileDialog.getOpenFileName(self._window, say("Read a table"), "", TABLES)
        if name:
            self.show_table(step, Path(name))

    def show_table(self, step: int, path: Path) -> None:
        """Ask how a table is to be read."""
        try:
            columns = columns_of(path)
        except KnownError as error:
            tell_trouble(self._cards, error)
            return
        card = TableCard(self._theme, step, path.name, columns, lambda: self._cards.take("table"))
        card.told.connect(lambda choice: self._carry_out("table", lambda: self._read(step, path, choice)))
        self._cards.put_card("table", card)

    def _type_in(self, step: int, told: TypedFigure) -> None:
        words = MeasuredWith(told.preset, told.passage, told.note)
        type_in(self._session, step, told.benchmark, figure(told.score), told.unit, told.direction, words)

    def _read(self, step: int, path: Path, choice: TableChoice) -> None:
        if choice.frames:
            import_frames(
                self._session, step, path, choice.benchmark, choice.column, choice.unit, MeasuredWith(),
                choice.stamps, choice.decimal_comma,
            )  # fmt: skip
            kept = 1
        else:
            columns = (choice.benchmark, choice.column)
            kept = len(
                import_scores(
                    self._session,
                    step,
                    path,
                    columns,
                    choice.unit,
                    choice.direction,
                    MeasuredWith(),
                    choice.decimal_comma,
                    choice.left,
                )
            )
        self._cards.put(
            "read",
            say("{results} kept with step {step}", results=count(kept, "result"), step=step),
            say("From {path}.", path=path.name),
        )

    def _carry_out(self, card: str, operation: Callable[[], None]) -> None:
        try:
            operation()
        except KnownError as error:
            tell_trouble(self._cards, error)
            return
        self._cards.take("error")
        self._cards.take(card)
        self._refresh()
