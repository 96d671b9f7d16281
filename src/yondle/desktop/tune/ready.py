"""Whether the rig is ready for a baseline, and what isn't."""

from __future__ import annotations

from yondle.app.session.readiness import CheckReady, Readiness, not_ready
from yondle.app.session.testing import RunBaseline
from yondle.desktop.look.cards import CardAction
from yondle.desktop.tune.desk import Desk
from yondle.language.saying import say


class ReadyPresenter:
    """Checks before the baseline, which follows at once where everything is ready."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk

    def check(self) -> None:
        """Look whether the rig is ready."""
        self._desk.cards.take("ready")
        self._desk.order(CheckReady())

    def checked(self, found: Readiness) -> None:
        """Begin the baseline, or say what isn't ready and let the tuner go on knowingly."""
        if found.stopped:
            return
        missing = not_ready(found.items)
        if not missing:
            self._desk.order(RunBaseline())
            return
        open_ = [item for item in found.items if not item.ready]
        text = "\n".join(f"{item.name}: {item.words}. {item.remedy}" for item in open_)
        actions = [
            CardAction(say("Check again"), self.check, "main"),
            CardAction(say("Go on all the same (it is recorded)"), lambda: self._go_on(missing)),
            CardAction(say("Leave it"), lambda: self._desk.cards.take("ready")),
        ]
        self._desk.cards.put("ready", say("Not ready for a baseline"), text, actions)

    def _go_on(self, missing: tuple[str, ...]) -> None:
        self._desk.cards.take("ready")
        self._desk.order(RunBaseline(knowingly=missing))
