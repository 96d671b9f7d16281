"""Keeping a profile over restarts: the question for which power source, and what can be done with one that is kept."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QWidget

from yondle.app.profiles.keeping import KeepAgain, KeepNothing, KeepOverRestarts, KeptPart, left_out_words
from yondle.desktop.look.basics import Choice, button, label
from yondle.desktop.look.cards import Card, CardAction
from yondle.desktop.tune.desk import Desk
from yondle.formats.documents import KeptOverRestarts
from yondle.language.saying import say
from yondle.model.kept import BATTERY, BOTH, MAINS
from yondle.model.profiles import Profile
from yondle.model.verdicts import Verdict
from yondle.views.shared.kept import given_up, kept_line, sources_of

_SOURCES = (BOTH, MAINS, BATTERY)


def keeping_words(desk: Desk, kept: Profile) -> list[QWidget]:
    """Make the line that says that a profile is kept; nothing for one that isn't."""
    now = desk.now.kept_here
    line = kept_line(desk.now.kept.of(KeptOverRestarts), now, kept)
    return [label(line, "strong" if now is not None and now.stopped else "", wrap=True)] if line else []


def keeping_buttons(desk: Desk, kept: Profile, again: Callable[[], None]) -> list[QWidget]:
    """Make the buttons about keeping a profile; nothing for a simulated rig, or an untried profile."""
    book = desk.now
    now = book.kept_here
    if now is None or kept.step is None:
        return []
    document = book.kept.of(KeptOverRestarts)
    made: list[QWidget] = []
    if sources_of(document, now, kept):
        if now.stopped:
            go_on = button(say("Keep it again"), "", say("Keep {name} again", name=kept.name))
            go_on.clicked.connect(lambda: desk.ask(KeepAgain(), lambda _: again()))
            made.append(go_on)
        end = button(say("Keep nothing over restarts"), "flat")
        end.clicked.connect(lambda: desk.ask(KeepNothing(), lambda _: again()))
        made.append(end)
    else:
        keep = button(say("Keep after restart …"), "flat", say("Keep {name} after restart", name=kept.name))

        def ask() -> None:
            desk.cards.take("profiles")
            desk.cards.put_card("keep", KeepCard(desk, kept, again))

        keep.clicked.connect(ask)
        made.append(keep)
    return made


def tell_given_up(desk: Desk, show: Callable[[], None]) -> None:
    """Say that a profile is no longer kept, and why, where that is so."""
    text = given_up(desk.now.kept.of(KeptOverRestarts), desk.now.kept_here)

    def again() -> None:
        desk.ask(KeepAgain(), lambda _: desk.cards.take("given up"))

    actions = [
        CardAction(say("Understood"), lambda: desk.cards.take("given up")),
        CardAction(say("Show the profiles"), show),
        CardAction(say("Keep it again"), again),
    ]
    desk.cards.put("given up", say("A kept profile was given up"), text, actions, Verdict.DOWN)


class KeepCard(Card):
    """For which power source a profile is to be in force after every start."""

    def __init__(self, desk: Desk, kept: Profile, again: Callable[[], None]) -> None:
        text = say(
            "A service of the system sets it after every start, after sleep and as the power source changes, and reads it back. "
            "Should this machine go down soon after, it starts at stock from then on, and you are told. An administrator's "
            "word is asked for."
        )
        super().__init__(desk.theme, say("Keep '{name}' after restart", name=kept.name), text, [])
        self._desk, self._kept, self._again = desk, kept, again
        self.source = Choice(
            [say("On mains and on battery"), say("On mains only"), say("On battery only")], say("When")
        )
        self.keep_button, leave = button(say("Keep after restart"), "main"), button(say("Leave it"))
        self.keep_button.clicked.connect(self._keep)
        leave.clicked.connect(self._leave)
        for widget in (self.source, self.keep_button, leave):
            self.body.addWidget(widget)

    def _leave(self) -> None:
        self._desk.cards.take("keep")
        self._again()

    def _keep(self) -> None:
        desk, name = self._desk, self._kept.name

        def done(part: KeptPart) -> None:
            desk.cards.take("keep")
            self._again()
            words = say("'{name}' is in force after every start from now on.", name=name)
            left = left_out_words(part)
            card = Card(desk.theme, say("Kept"), f"{words} {left}" if left else words, [])
            card.body.addWidget(_closing(desk))
            desk.cards.put_card("kept", card)

        desk.ask(KeepOverRestarts(name, _SOURCES[self.source.currentIndex()]), done)


def _closing(desk: Desk) -> QWidget:
    made = button(say("Understood"))
    made.clicked.connect(lambda: desk.cards.take("kept"))
    return made
