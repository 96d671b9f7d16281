"""The keys that say which values a knob takes, the same in every file that describes knobs."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import Annotated, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

from yondle.language.saying import say
from yondle.model.knobs import Knob, Risk, Subsystem, When

LARGEST, SMALLEST = 1e9, 1e-9
"""No quantity of a machine, in the units we write it in, is larger or (but for 0) smaller; arithmetic goes wrong beyond."""
MOST_NOTCHES = 20_000
"""So many values a knob may take: a ruler, a plan and a search go through them one by one."""


def _sized(value: float) -> float:
    if not math.isfinite(value):
        raise ValueError(say("must be a finite number"))
    if abs(value) > LARGEST or 0 < abs(value) < SMALLEST:
        raise ValueError(say("must be 0, or lie between {least:g} and {most:g}", least=SMALLEST, most=LARGEST))
    return value


Real = Annotated[float, AfterValidator(_sized)]
Positive = Annotated[float, Field(gt=0), AfterValidator(_sized)]
Name = Annotated[str, Field(min_length=1, max_length=60)]
Identifier = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,39}$")]


class StrictTable(BaseModel):
    """What all tables share: unknown keys are refused, values don't change."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=False, defer_build=True)


class KnobTable(StrictTable):
    """Evenly spaced values, stock and the tuner's own ceiling; a switch or mode lists `choices`, its stock counts from 0."""

    low: Real = 0.0
    high: Real = 0.0
    step: Positive = 1.0
    stock: Real
    digits: Annotated[int, Field(ge=0, le=4)] = 0
    ceiling: Real | None = None
    choices: Annotated[tuple[Name, ...], Field(max_length=20)] = ()
    role: Identifier | None = None

    @model_validator(mode="before")
    @classmethod
    def _range_of_choices(cls, data: object) -> object:
        if isinstance(data, dict) and isinstance(data.get("choices"), list | tuple) and data["choices"]:
            return {**data, "low": 0, "high": len(data["choices"]) - 1, "step": 1}
        return data

    @model_validator(mode="after")
    def _on_grid(self) -> KnobTable:
        if self.high <= self.low:
            raise ValueError(say("high must be above low"))
        if (self.high - self.low) / self.step > MOST_NOTCHES:
            raise ValueError(say("there may be {most} steps between low and high at most", most=MOST_NOTCHES))
        for name in ("high", "stock", "ceiling"):
            value = getattr(self, name)
            if value is None:
                continue
            notch = (value - self.low) / self.step
            if not -1e-6 <= notch <= (self.high - self.low) / self.step + 1e-6 or abs(notch - round(notch)) > 1e-6:
                raise ValueError(say("{name} must lie on the grid of low, high and step", name=name))
        return self


def evenly(values: Sequence[float]) -> tuple[float, float, float, int]:
    """Give the range, the step and the digits of evenly spaced values that have all these among them; one alone has a step of 1.

    Raises ValueError where it would take more than MOST_NOTCHES steps.
    """
    digits = min(max(len(f"{v:.6f}".rstrip("0").partition(".")[2]) for v in values), 4)
    scale = 10**digits
    whole = sorted({round(v * scale) for v in values})
    step = math.gcd(*(v - whole[0] for v in whole[1:])) if len(whole) > 1 else scale
    low, high = whole[0], whole[-1] if len(whole) > 1 else whole[0] + step
    if (high - low) / step > MOST_NOTCHES:
        raise ValueError(say("no even steps reach from {low:g} to {high:g}", low=low / scale, high=high / scale))
    return low / scale, high / scale, step / scale, digits


class DescribedKnob(KnobTable):
    """A knob that the machine doesn't tell of: its tuner names it, with the part it belongs to and when it takes effect."""

    name: Name
    unit: Annotated[str, Field(max_length=12)] = ""
    subsystem: Subsystem = Subsystem.WHOLE
    risk: Risk = Risk.NONE
    takes_effect: Literal["after restart", "at once"] = "after restart"
    limits: bool | None = None
    proportional: bool = False

    def reaching(self, values: Iterable[float]) -> DescribedKnob:
        """Give it with a range and a step that have these values in them, too; raises ValueError where no even steps do.

        Of a switch or mode nothing is changed.
        """
        told = list(values)
        notches = [(value - self.low) / self.step for value in told]
        inside = all(
            -1e-6 <= n <= (self.high - self.low) / self.step + 1e-6 and abs(n - round(n)) < 1e-6 for n in notches
        )
        if self.choices or inside:
            return self
        low, high, step, digits = evenly([*told, self.low, self.low + self.step, self.high, self.stock])
        return self.model_copy(update={"low": low, "high": high, "step": step, "digits": max(digits, self.digits)})

    def knob(self, id_: str) -> Knob:
        """Give the knob it describes."""
        return Knob(
            id=id_, name=self.name, unit=self.unit, subsystem=self.subsystem, low=self.low, high=self.high, step=self.step,
            stock=self.stock, digits=self.digits, when=When.AT_HAND if self.takes_effect == "at once" else When.BY_HAND,
            risk=self.risk, proportional=self.proportional, choices=self.choices, role=self.role or "", readable=False,
            governs=self.limits if self.limits is not None else self.subsystem is Subsystem.COOLING,
        )  # fmt: skip
