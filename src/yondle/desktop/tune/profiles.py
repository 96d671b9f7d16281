"""The cards of profiles: keeping a setup by name, and what can be done with those that are kept."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFileDialog, QLineEdit

from yondle.app.profiles.profiles import (
    DropProfile,
    ImportProfile,
    KeepAgain,
    KeepProfile,
    ProposeProfile,
    RenameProfile,
    UseProfile,
    compared_to_stock,
    standing,
    write_profile,
)
from yondle.app.session.returning import ReturnToStock
from yondle.desktop.look.basics import Choice, button, label
from yondle.desktop.look.cards import Card
from yondle.desktop.look.theme import Theme
from yondle.desktop.tune.desk import Desk
from yondle.desktop.tune.keeping import keeping_buttons, keeping_words, tell_given_up
from yondle.language.saying import later, named, say
from yondle.model.errors import KnownError
from yondle.model.profiles import Profile, Purpose
from yondle.model.verdicts import Verdict
from yondle.views.shared.power import power_hint

PROFILE_FILES = later("Profiles (*.toml);;All files (*)")


class ProfileCard(Card):
    """A name and a purpose for a setup that held."""

    wanted = Signal(str, object, str)

    def __init__(self, theme: Theme, title: str, benchmarks: list[tuple[str, str]], close: Callable[[], None]) -> None:
        super().__init__(theme, title, say("Every knob and timing of it is kept."), [])
        self.name = QLineEdit()
        self.name.setPlaceholderText(say("Name, for example Quiet night"))
        self.name.setAccessibleName(say("Profile name"))
        self.purpose = Choice([named(p) for p in Purpose], say("Purpose"))
        self.benchmark = Choice([], say("Benchmark"))
        for id_, shown in benchmarks:
            self.benchmark.addItem(shown, id_)
        self.benchmark.hide()
        self.purpose.currentTextChanged.connect(
            lambda text: self.benchmark.setVisible(text == named(Purpose.BENCHMARK))
        )
        keep, leave = button(say("Keep it"), "main"), button(say("Leave it"))
        keep.clicked.connect(self._keep)
        leave.clicked.connect(close)
        self.keep_button = keep
        self.name.returnPressed.connect(self._keep)
        for widget in (self.name, self.purpose, self.benchmark, keep, leave):
            self.body.addWidget(widget)

    def suggest(self, purpose: Purpose, benchmark: str) -> None:
        """Choose a purpose, and the benchmark where it is one's best."""
        self.purpose.setCurrentText(named(purpose))
        if purpose is Purpose.BENCHMARK:
            self.benchmark.setCurrentIndex(self.benchmark.findData(benchmark))

    def _keep(self) -> None:
        purpose = tuple(Purpose)[self.purpose.currentIndex()]
        benchmark = str(self.benchmark.currentData()) if purpose is Purpose.BENCHMARK else ""
        self.wanted.emit(self.name.text(), purpose, benchmark)


class ProfilesPresenter:
    """Keeps, lists, uses, reads and writes profiles."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk

    def ask(self, number: int | None, load: str = "") -> None:
        """Offer to keep a step's setup by name; with a load as the best for it, or as the daily one where it has no score."""
        if number is None:
            return
        desk = self._desk
        benchmarks = [(b.id, b.name) for b in desk.now.declaration.benchmarks]
        title = say("Keep step {number} as a profile", number=number)
        card = ProfileCard(desk.theme, title, benchmarks, lambda: desk.cards.take("profile"))
        card.wanted.connect(lambda name, purpose, benchmark: self._keep(name, purpose, benchmark, number))
        if load:
            card.suggest(Purpose.BENCHMARK if load in dict(benchmarks) else Purpose.DAILY, load)
        desk.cards.put_card("profile", card)
        card.name.setFocus()

    def keep_all(self, steps: tuple[int, ...]) -> None:
        """Keep each of these steps that held as a profile, called by its number."""
        held = [step for step in steps if self._desk.now.step(step).verdict is Verdict.HELD]
        if not held:
            self._desk.tell(KnownError(say("None of these steps has held."), say("Choose a step that held.")))
            return
        for step in held:
            self._desk.ask(KeepProfile(say("Step {step}", step=step), step=step), lambda _: self.show())

    def _keep(self, name: str, purpose: Purpose, benchmark: str, number: int) -> None:
        def kept(_: Profile) -> None:
            self._desk.cards.take("profile")
            self.show()

        self._desk.ask(KeepProfile(name, purpose, benchmark, number), kept)

    def tell_given_up(self) -> None:
        """Say that a profile is no longer kept over restarts."""
        tell_given_up(self._desk, self.show)

    def show(self) -> None:
        """List the profiles with what each changes, and what can be done with it."""
        desk = self._desk
        kept = desk.now.profiles
        text = power_hint(desk.now) or (
            "" if kept else say("None yet. Select a step that held and keep it by name (K).")
        )
        card = Card(desk.theme, say("Profiles"), text, [])
        for each in kept:
            self._add(card, each)
        for words, do in (
            (say("Put everything at stock"), self._to_stock),
            (say("Read a profile file …"), self._ask_file),
            (say("Close"), lambda: desk.cards.take("profiles")),
        ):
            made = button(words)
            made.clicked.connect(do)
            card.body.addWidget(made)
        desk.cards.put_card("profiles", card)

    def _add(self, card: Card, kept: Profile) -> None:
        book = self._desk.now
        here = kept.setup == book.in_force
        card.body.addSpacing(4)
        card.body.addWidget(
            label(f"{kept.name} · {named(kept.purpose)}{say(' · in force') if here else ''}", "strong", wrap=True)
        )
        compared = compared_to_stock(book, kept)
        changed = ", ".join(f"{name} {new}" for name, _, new in compared.knobs) or say("all at stock")
        card.body.addWidget(label(changed, "muted", wrap=True))
        card.body.addWidget(label(standing(book, kept), "muted", wrap=True))
        tested = kept.step is not None
        use = button(
            say("Put in force") if tested else say("Test it as a joint step"), "", say("Use {kept}", kept=kept.name)
        )
        use.setEnabled(not here)
        use.clicked.connect(lambda: self.use(kept.name) if tested else self._propose(kept.name))
        write = button(say("Write to a file …"), "flat")
        write.clicked.connect(lambda: self._write(kept))
        drop = button(say("Drop"), "flat", say("Drop {kept}", kept=kept.name))
        drop.clicked.connect(lambda: self._desk.ask(DropProfile(kept.name), self._dropped))
        rename = button(say("Rename"), "flat", say("Rename {kept}", kept=kept.name))
        rename.clicked.connect(lambda: self._ask_name(card, kept))
        keeping = keeping_buttons(self._desk, kept, self.show)
        for made in (*keeping_words(self._desk, kept), use, *keeping, write, rename, drop):
            card.body.addWidget(made)

    def _dropped(self, dropped: Profile) -> None:
        self._desk.book.undo.remember(say("dropped profile"), KeepAgain(dropped))
        self.show()

    def _ask_name(self, card: Card, kept: Profile) -> None:
        """Have another name typed in at the end of the card."""
        name = QLineEdit(kept.name)
        name.setAccessibleName(say("New name of {kept}", kept=kept.name))

        def renamed(before: str) -> None:
            self._desk.book.undo.remember(say("renamed profile"), RenameProfile(name.text().strip(), before))
            self.show()

        name.returnPressed.connect(lambda: self._desk.ask(RenameProfile(kept.name, name.text()), renamed))
        card.body.addWidget(name)
        name.show()
        name.selectAll()
        name.setFocus()

    def use(self, name: str) -> None:
        """Put a profile in force."""
        self._desk.cards.take("profiles")
        self._desk.order(UseProfile(name))

    def _propose(self, name: str) -> None:
        self._desk.cards.take("profiles")
        self._desk.ask(ProposeProfile(name))

    def _to_stock(self) -> None:
        self._desk.cards.take("profiles")
        self._desk.order(ReturnToStock())

    def _write(self, kept: Profile) -> None:
        suggested = f"{kept.name}.toml"
        name, _ = QFileDialog.getSaveFileName(
            self._desk.window, say("Write the profile"), suggested, named(PROFILE_FILES)
        )
        if name:
            self._desk.attempt(lambda: write_profile(self._desk.now, kept, Path(name), replaces=True))

    def _ask_file(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self._desk.window, say("Read a profile"), "", named(PROFILE_FILES))
        if name:
            self.bring(Path(name))

    def bring(self, path: Path) -> None:
        """Keep what a profile file says."""
        self._desk.ask(ImportProfile(path), lambda _: self.show())
