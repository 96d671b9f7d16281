"""What Tune offers about knobs, sensors and workloads of the tuner's own: describing one, and allowing what a logbook brings."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog

from yondle.app.machine.machines import THIS
from yondle.desktop.look.cards import CardAction
from yondle.desktop.tune.desk import Desk
from yondle.language.saying import later, named, say
from yondle.model.errors import KnownError

if TYPE_CHECKING:
    from yondle.app.machine.own_form import OwnTold
    from yondle.app.machine.own_things import Asked
    from yondle.desktop.tune.own_forms import OwnCard

FILES = later("Descriptions (*.toml);;All files (*)")
MOST_ASKED_AT_ONCE = 8
"""What is to be allowed has to be looked at: a card has no more than can be read on it."""


class OwnPresenter(QObject):
    """Puts its cards up and carries out what is chosen on them. `reopen` is sent when the logbook has to be opened anew."""

    reopen = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk.window)
        self._desk, self._cards = desk, desk.cards
        self._trial: Callable[[], None] | None = None
        self._tried: str | KnownError = ""
        desk.bridge.prepared.connect(self._show_tried)

    @property
    def _is_this(self) -> bool:
        return self._desk.now.reader.rig()[0] == THIS

    def show_not_allowed(self) -> None:
        """Show what this logbook would run, read or write that nobody has allowed on this machine yet."""
        if not self._is_this:
            return
        from yondle.app.machine.own_things import not_allowed

        waiting = not_allowed(self._desk.now.kept)
        for at in range(0, len(waiting), MOST_ASKED_AT_ONCE):
            self._ask_to_allow(f"allow {at}", waiting[at : at + MOST_ASKED_AT_ONCE])

    def _ask_to_allow(self, card: str, waiting: list[Asked]) -> None:
        def agree() -> None:
            for asked in waiting:
                asked.allow()
            self._cards.take(card)
            self.reopen.emit()

        one = waiting[0] if len(waiting) == 1 else None
        look = say("A logbook from someone else can run anything: look first.")
        if one is not None:
            title, text = say("May '{asked}' be used?", asked=one.name), say("It {does}", does=one.words)
        else:
            title = say("May these {many} be used?", many=len(waiting))
            text = "\n".join(f"{asked.name}: {asked.words}" for asked in waiting)
        allow = say("Allow it on this machine") if one is not None else say("Allow them on this machine")
        leave = say("Don't use it") if one is not None else say("Don't use them")
        actions = [CardAction(allow, agree), CardAction(leave, lambda: self._cards.take(card), "main")]
        self._cards.put(card, title, f"{text}\n{look}", actions)

    def ask(self) -> None:
        """Ask for a knob or sensor of the tuner's own."""
        if not self._is_this:
            self._desk.tell(
                KnownError(
                    say("That goes with this machine only."), say("A simulated rig has all it has in its rig file.")
                )
            )
            return
        from yondle.desktop.tune.own_forms import OwnCard

        card = OwnCard(self._desk.theme, lambda: self._cards.take("own"))
        card.tried.connect(self._try)
        card.told.connect(self._keep)
        card.file_wanted.connect(self._ask_for_file)
        self._cards.put_card("own", card)
        card.fields["name"].setFocus()

    def _card(self) -> OwnCard | None:
        from yondle.desktop.tune.own_forms import OwnCard

        card = self._cards.get("own")
        return card if isinstance(card, OwnCard) else None

    def _try(self, told: OwnTold) -> None:
        """Read it once, in a thread of its own: a command may take its time."""
        from yondle.app.machine.own_form import own_text, try_own

        def trial() -> None:
            try:
                self._tried = try_own(own_text(told))
            except KnownError as error:
                self._tried = error

        card = self._card()
        if card is not None and self._trial is None:
            card.busy(True)
            self._trial, self._tried = trial, say("A fault of the program")
            self._desk.bridge.prepare(trial)

    def _show_tried(self, prepared: object) -> None:
        if prepared is not self._trial:
            return
        self._trial = None
        card = self._card()
        if card is not None:
            card.busy(False)
            said = self._tried
            card.say_tried(said if isinstance(said, str) else f"{said.problem} {said.remedy}")

    def _keep(self, told: OwnTold) -> None:
        from yondle.app.machine.own_form import allow_described, own_text
        from yondle.app.machine.own_things import ids_taken
        from yondle.app.session.measuring import AddOwn

        card, now = self._card(), self._desk.now
        try:
            text = own_text(told, ids_taken(now.kept, now.declaration))
        except KnownError as error:
            if card is not None:
                card.say_tried(f"{error.problem} {error.remedy}")
            return

        def kept(_: object) -> None:
            self._desk.attempt(lambda: allow_described(text))
            self._cards.take("own")
            self.reopen.emit()

        self._desk.ask(AddOwn(text, told.name), kept)

    def _ask_for_file(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self._desk.window, say("Read a description"), "", named(FILES))
        if name:
            self.read_file(Path(name))

    def read_workload(self, path: Path) -> None:
        """Keep a workload of the tuner's own, then ask whether it may be run."""
        from yondle.app.session.measuring import AddWorkload
        from yondle.formats.toml_files import read_text

        self._desk.ask(
            AddWorkload(read_text(path, "docs/workload-file.md"), path.name), lambda _: self.show_not_allowed()
        )

    def read_file(self, path: Path) -> None:
        """Keep what a file describes, then ask whether it may be used."""
        from yondle.app.machine.own_things import read_own
        from yondle.app.session.measuring import AddOwn

        def kept(_: object) -> None:
            self._cards.take("own")
            self.show_not_allowed()

        try:
            command = AddOwn(read_own(path), path.name)
        except KnownError as error:
            self._desk.tell(error)
            return
        self._desk.ask(command, kept)
