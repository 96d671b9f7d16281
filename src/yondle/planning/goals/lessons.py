"""What one test taught a planner: gains with their variance, readings, runs of loads, and how far the machine was held back."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any

from yondle.analysis.runs import Run
from yondle.model.knobs import Setup
from yondle.model.verdicts import Verdict


@dataclass(frozen=True, slots=True)
class Gained:
    """How much better a setup was than another in a benchmark, as a difference of logs, and the variance of that."""

    benchmark: str
    log: float
    variance: float


@dataclass(frozen=True, slots=True)
class Seen:
    """What a channel read on average while a workload ran, of a temperature the most; `acted` tells that a limit held it back.

    `held` is then the share of the asked clock that was left. `cool` is how far from soaked with heat the machine was at the
    end of it (soak.py), from 0, soaked, to 1.
    """

    workload: str
    channel: str
    mean: float
    acted: bool = False
    held: float = 1.0
    cool: float = 0.0


@dataclass(frozen=True, slots=True)
class Lesson:
    """What was learnt of a setup that was tested from another, `home`.

    `seen` holds power, temperatures and fans; the `value` of a run is of no meaning here, since the setup says everything.
    `room_c` is how warm the room was, in °C, where anybody told; `of` is the knob whose edge was asked for, `by`
    are the flags of limits that acted, and `ceiling` tells that it was stopped at one of the tuner's own.
    """

    setup: Setup
    home: Setup
    verdict: Verdict
    gained: tuple[Gained, ...] = ()
    seen: tuple[Seen, ...] = ()
    runs: tuple[Run, ...] = ()
    room_c: float | None = None
    of: str = ""
    by: tuple[str, ...] = ()
    ceiling: bool = False

    def values(self) -> dict[str, Any]:
        """Give it as it is kept: plain values, the home as what differs from the setup."""
        return {
            "setup": dict(self.setup),
            "from": {change.knob: change.new for change in self.setup.changes_to(self.home)},
            "verdict": str(self.verdict),
            "gained": [[g.benchmark, g.log, g.variance] for g in self.gained],
            "seen": [[s.workload, s.channel, s.mean, s.acted, s.held, s.cool] for s in self.seen],
            "runs": [asdict(run) for run in self.runs],
            "room_c": self.room_c,
            "of": self.of,
            "by": list(self.by),
            "ceiling": self.ceiling,
        }

    @classmethod
    def of_values(cls, kept: Mapping[str, Any]) -> Lesson:
        """Read it from where it is kept."""
        setup = Setup.of(kept["setup"])
        return cls(
            setup,
            setup.with_values(kept["from"]),
            Verdict(kept["verdict"]),
            tuple(Gained(*each) for each in kept["gained"]),
            tuple(Seen(*each) for each in kept["seen"]),
            tuple(Run(**each) for each in kept["runs"]),
            kept["room_c"],
            kept["of"],
            tuple(kept["by"]),
            kept["ceiling"],
        )
