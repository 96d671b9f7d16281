"""What comes from files: logs kept with a step, plans, profiles and descriptions dropped here, and what a table brought."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from yondle.desktop.look.cards import CardAction
from yondle.desktop.tune.desk import Desk
from yondle.formats.kinds import Dropped, kind_of
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.quantities import count

if TYPE_CHECKING:
    from yondle.app.session.recording import Recorded
    from yondle.desktop.tune.place import TunePlace

_CARD = "table"


class BringPresenter:
    """Takes files to where they belong in Tune, and says what came of them."""

    def __init__(self, desk: Desk, place: TunePlace) -> None:
        self._desk, self._place = desk, place

    def logs(self, paths: tuple[Path, ...]) -> None:
        """Keep logs of frame times and sensors with the selected step, else the one the rig is at."""
        here, trail = self._desk.now.position, self._place.trail
        step = trail.selected() or (here.step.number if here is not None else None)
        if step is None:
            self._desk.tell(
                KnownError(say("Which step do these belong to?"), say("Select one on the trail, then drop them."))
            )
            return
        from yondle.app.session.results import ImportLogs, LogsRead

        def done(read: LogsRead) -> None:
            figures = count(len(read.figures), "figure")
            text = say(
                "{figures} and {n} samples are kept with step {step}.", figures=figures, n=read.samples, step=step
            )
            self._say(say("The logs are in"), text)
            trail.choose(step)

        self._desk.ask(ImportLogs(step, paths), done)

    def description(self, path: Path) -> None:
        """Show what a plan would do, or keep a profile, workload or description that was dropped here."""

        def bring() -> None:
            match kind_of(path):
                case Dropped.PLAN:
                    self._place.plans.show(path)
                case Dropped.PROFILE:
                    self._place.profiles.bring(path)
                case Dropped.WORKLOAD:
                    self._place.own.read_workload(path)
                case Dropped.OWN:
                    self._place.own.read_file(path)

        self._desk.attempt(bring)

    def tell_recorded(self, made: Recorded) -> None:
        """Say what a table brought."""
        figures, steps = count(made.figures, "figure"), count(made.made, "step")
        there = say(" {n} were there already.", n=made.there) if made.there else ""
        self._say(
            say("The table is in"),
            say("{figures} and {steps} are new.{there}", figures=figures, steps=steps, there=there),
        )
        self._desk.refresh()

    def _say(self, title: str, text: str) -> None:
        actions = [CardAction(say("Understood"), lambda: self._desk.cards.take(_CARD))]
        self._desk.cards.put(_CARD, title, text, actions)
