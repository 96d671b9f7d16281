"""Knobs of a machine elsewhere, described by the tuner."""

from __future__ import annotations

import re
from dataclasses import dataclass

from pydantic import ValidationError

from yondle.app.session.commands import Command
from yondle.app.session.recording import number_typed
from yondle.app.session.session import Session
from yondle.formats.documents import KnobsElsewhere, SensorsElsewhere
from yondle.formats.knob_table import DescribedKnob
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob, Subsystem
from yondle.rigs.elsewhere.rig import ElsewhereRig


@dataclass(frozen=True)
class DescribeKnob(Command[Knob]):
    """Have a knob from now on, or describe one anew: with a range and a step, or with words to choose from.

    Raises KnownError for what describes none, and for any machine that is here.
    """

    name: str
    unit: str = ""
    part: str = "machine"
    low: float | None = None
    high: float | None = None
    step: float | None = None
    stock: str = ""
    choices: tuple[str, ...] = ()

    def do(self, session: Session) -> Knob:
        """Give the knob."""
        rig = session.machine.rig
        before = rig.knobs if isinstance(rig, ElsewhereRig) else {}
        id_ = next((k for k, knob in before.items() if knob.name.casefold() == self.name.strip().casefold()), None)
        made = self._described()
        if id_ is None:
            id_ = re.sub(r"[^a-z0-9]+", "_", self.name.lower()).strip("_")[:40] or "knob"
            id_ = id_ if id_[0].isalpha() else f"knob_{id_}"[:40]
        if id_ in before and before[id_].name.casefold() != self.name.strip().casefold():
            raise KnownError(say("'{id}' is another knob.", id=id_), say("Give it another name."))
        knobs = {**before, id_: made}
        used = [r.step.setup[id_] for r in session.book.steps if id_ in r.step.setup and id_ in before]
        knob = made.knob(id_)
        for value in used:
            knob.checked(value)
        session.take_elsewhere(knobs, session.snapshot.kept.of(SensorsElsewhere).root)
        session.keep(KnobsElsewhere(knobs))
        return session.declaration.knob(id_)

    def _described(self) -> DescribedKnob:
        asked: dict[str, object] = {"name": self.name.strip(), "unit": self.unit.strip(), "subsystem": self._part()}
        try:
            if self.choices:
                stock = self.stock.strip() or self.choices[0]
                places = [i for i, word in enumerate(self.choices) if word.casefold() == stock.casefold()]
                if len(self.choices) < 2 or not places:
                    raise KnownError(
                        say("Its stock value is none of its words.")
                        if len(self.choices) > 1
                        else say("A switch has two words at least."),
                        say("Give them with commas between, and stock as one of them."),
                    )
                return DescribedKnob.model_validate({**asked, "choices": self.choices, "stock": float(places[0])})
            if self.low is None or self.high is None or self.step is None:
                raise KnownError(
                    say("A knob has a lowest and a highest value and a step, or words to choose from."),
                    say("Give them: --low, --high and --step, or --choices."),
                )
            stock_value = number_typed(self.stock) if self.stock.strip() else self.low
            digits = max(
                len(f"{v:.4f}".rstrip("0").partition(".")[2]) for v in (self.low, self.high, self.step, stock_value)
            )
            numbers = {"low": self.low, "high": self.high, "step": self.step, "stock": stock_value, "digits": digits}
            return DescribedKnob.model_validate({**asked, **numbers})
        except ValidationError as error:
            said = str(error.errors()[0]["msg"]).removeprefix("Value error, ")
            raise KnownError(
                say("'{name}' describes no knob: {said}.", name=self.name, said=said),
                say("Correct it, and describe it again."),
            ) from error

    def _part(self) -> Subsystem:
        try:
            return Subsystem(self.part.strip().casefold() or "machine")
        except ValueError:
            raise KnownError(
                say("There is no part '{part}'.", part=self.part),
                say("It is one of: {parts}.", parts=", ".join(p.value for p in Subsystem)),
            ) from None
