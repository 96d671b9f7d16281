"""The line at the foot of the window: whether the settings are as set, that the journal is safe, and what Yondle itself costs."""

from __future__ import annotations

import resource
import time

from PySide6.QtWidgets import QFrame

from yondle.desktop.look.basics import label
from yondle.desktop.look.layouts import abreast
from yondle.desktop.look.theme import MARGIN
from yondle.language.saying import say
from yondle.model.quantities import duration, number
from yondle.model.standing import Verified

_HEIGHT_PX = 28
_JUST_NOW_S = 2.0


class Foot(QFrame):
    """The foot of the window."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("foot")
        self.setFixedHeight(_HEIGHT_PX)
        self._verified, self._journal, self._own = label("", "small"), label("", "small"), label("", "small")
        self._cost = _OwnCost()
        box = abreast(self)
        box.setContentsMargins(MARGIN, 0, MARGIN, 0)
        box.setSpacing(24)
        box.addWidget(self._verified)
        box.addWidget(self._journal)
        box.addStretch(1)
        box.addWidget(self._own)

    def show_nothing(self) -> None:
        """Say that no logbook is open."""
        self._verified.setText(say("Nothing open"))
        self._journal.setText("")

    def show_away(self) -> None:
        """Say that the machine can't be asked."""
        self._verified.setText(say("Settings can't be read back: the machine is away"))
        self._journal.setText(say("Journal safe"))

    def show_elsewhere(self) -> None:
        """Say that nothing is set from here."""
        self._verified.setText(say("Elsewhere: nothing is set or run from here"))
        self._journal.setText(say("Journal safe"))

    def show_settings(self, seen: Verified, now_s: float, on_trial: bool, lent: bool) -> None:
        """Say what was read back when, or that a setting is on trial; `now_s` is on the clock of the machine.

        `lent` tells that the settings last only while Yondle runs.
        """
        ago = now_s - seen.at_s
        when = say("just now") if ago < _JUST_NOW_S else say("{ago} ago", ago=duration(ago))
        words = say(
            "Settings verified {when}: {as_set} of {of} read back as set{told}",
            when=when,
            as_set=seen.as_set,
            of=seen.of,
            told=say(", {told} as entered", told=seen.told) if seen.told else "",
        )
        if lent:
            words = say("{settings} · put back when Yondle ends", settings=words)
        self._verified.setText(say("Settings: on trial") if on_trial else words)
        self._journal.setText(say("Journal safe"))

    def measure(self) -> None:
        """Say what share of one core Yondle has used since the last look."""
        own = self._cost.percent()
        self._own.setText("" if own is None else say("Yondle uses {own}\u202f% of one core", own=number(own, 1)))


class _OwnCost:
    """What share of one core this program has used since it was last asked."""

    def __init__(self) -> None:
        self._before: tuple[float, float] | None = None

    def percent(self) -> float | None:
        """Give the share in %; None the first time, since starting up is not what it costs to have it open."""
        used = resource.getrusage(resource.RUSAGE_SELF)
        now = used.ru_utime + used.ru_stime, time.monotonic()
        before, self._before = self._before, now
        return None if before is None else 100.0 * (now[0] - before[0]) / (now[1] - before[1])
