"""The keys that say which values a knob takes, the same in every file that describes knobs."""

from __future__ import annotations

import math
from typing import Annotated

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

from yondle.language.saying import say


def _finite(value: float) -> float:
    if not math.isfinite(value):
        raise ValueError(say("must be a finite number"))
    return value


Real = Annotated[float, AfterValidator(_finite)]
Positive = Annotated[float, Field(gt=0), AfterValidator(_finite)]
Name = Annotated[str, Field(min_length=1, max_length=60)]
Identifier = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,39}$")]


class Table(BaseModel):
    """What all tables share: unknown keys are refused, values don't change."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=False)


class KnobTable(Table):
    """Evenly spaced values, stock and the tuner's own ceiling; a switch or mode lists `choices`, its stock counts from 0."""

    low: Real = 0.0
    high: Real = 0.0
    step: Positive = 1.0
    stock: Real
    digits: Annotated[int, Field(ge=0, le=4)] = 0
    ceiling: Real | None = None
    choices: Annotated[tuple[Name, ...], Field(max_length=20)] = ()

    @model_validator(mode="before")
    @classmethod
    def _range_of_choices(cls, data: object) -> object:
        if isinstance(data, dict) and data.get("choices"):
            return {**data, "low": 0, "high": len(data["choices"]) - 1, "step": 1}
        return data

    @model_validator(mode="after")
    def _on_grid(self) -> KnobTable:
        if self.high <= self.low:
            raise ValueError(say("high must be above low"))
        for name in ("high", "stock", "ceiling"):
            value = getattr(self, name)
            if value is None:
                continue
            notch = (value - self.low) / self.step
            if not -1e-6 <= notch <= (self.high - self.low) / self.step + 1e-6 or abs(notch - round(notch)) > 1e-6:
                raise ValueError(say("{name} must lie on the grid of low, high and step", name=name))
        return self
