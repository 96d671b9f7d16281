"""A machine that runs no Yondle, as a rig: it takes every value, since nothing is set anywhere, and runs nothing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import NoReturn

from yondle.formats.knob_table import DescribedKnob
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.knobs import Change, Setup, Subsystem, When
from yondle.model.rigs import ELSEWHERE, KnobReply, RigDeclaration, RigInfo
from yondle.model.sensors import Channel, Quantity, Reading
from yondle.model.workloads import Metric, Workload

NO_FIGURES = Workload(
    "no_figures_yet",
    "No figures yet",
    "a benchmark is known from its first figure on",
    Metric("", ""),
    0.0,
    by_hand=True,
)
"""What stands where a benchmark has to, until the first figure makes one known."""
SENSORS = (
    Channel("power", "Power", "W", Quantity.POWER, Subsystem.WHOLE, 1),
    Channel("temperature", "Temperature", "\N{DEGREE SIGN}C", Quantity.TEMPERATURE, Subsystem.WHOLE, 1),
    Channel("noise", "Noise", "dB(A)", Quantity.OTHER, Subsystem.COOLING, 1),
    Channel("battery", "Battery used", "%", Quantity.OTHER, Subsystem.WHOLE, 1),
    Channel("price", "Price", "", Quantity.OTHER, Subsystem.WHOLE, 2),
)
"""What figures may be told with: costs, as the mean over the run."""


class ElsewhereRig:
    """What its tuner described; the values in force are those of the latest step that was recorded or gone to."""

    def __init__(self, name: str, knobs: Mapping[str, DescribedKnob], sensors: Sequence[str] = ()) -> None:
        """`sensors` are those of `SENSORS` that figures were told with."""
        self._values: dict[str, float] = {}
        self.take(name, knobs, sensors)

    def take(self, name: str, knobs: Mapping[str, DescribedKnob], sensors: Sequence[str]) -> None:
        """Have these knobs and sensors from now on; the values that are meant stay."""
        self.knobs, self.sensors = dict(knobs), tuple(sensors)
        self.declaration = declared(name, knobs, sensors)

    def boot_id(self) -> str:
        """It has none that could be told."""
        return ELSEWHERE

    def crash_signs(self, since: float) -> tuple[str, ...]:
        """Nothing is told of it."""
        del since
        return ()

    def apply(self, values: Mapping[str, float]) -> tuple[KnobReply, ...]:
        """Take it that these are meant from now on."""
        self._values.update(values)
        return tuple(KnobReply(knob, value, True) for knob, value in values.items())

    def restart(self) -> float:
        """Its tuner restarts it."""
        self._refuse()

    def read_back(self) -> Setup:
        """Give the values that are meant."""
        return Setup.of({knob.id: self._values.get(knob.id, knob.stock) for knob in self.declaration.knobs})

    def gone_back(self) -> str:
        """Nothing is set that could go back."""
        return ""

    def pending(self) -> Mapping[str, float]:
        """Nothing waits."""
        return {}

    def sample(self) -> tuple[Reading, ...]:
        """It has no sensor that could be read."""
        return ()

    def start(self, workload: str, seconds: float, setup: Setup) -> NoReturn:
        """Raise KnownError: nothing is run there."""
        del workload, seconds, setup
        self._refuse()

    def bring_back(self) -> float:
        """It never goes down over anything done here."""
        return 0.0

    def facts(self) -> dict[str, str | float]:
        """Its tuner tells the conditions."""
        return {}

    def close(self) -> tuple[Change, ...]:
        """Nothing was set."""
        return ()

    def _refuse(self) -> NoReturn:
        raise runs_nothing(self.declaration.info.name)


def runs_nothing(name: str) -> KnownError:
    """Say that nothing can be run on a machine elsewhere, and what can be done instead."""
    return KnownError(
        say("{name} runs no Yondle, so nothing can be tested there from here.", name=name),
        say("Record what was measured:  yondle record, or bring in a table:  yondle import table"),
    )


def declared(name: str, knobs: Mapping[str, DescribedKnob], sensors: Sequence[str] = ()) -> RigDeclaration:
    """Declare a machine of this name with these knobs, and those sensors that figures were told with.

    It has no benchmark before the first figure.
    """
    return RigDeclaration(
        info=RigInfo(ELSEWHERE, name, say("elsewhere"), False),
        knobs=tuple(replace(table.knob(id_), when=When.LIVE, readable=True) for id_, table in knobs.items()),
        channels=tuple(channel for channel in SENSORS if channel.id in sensors),
        workloads=(NO_FIGURES,),
        limits=(),
        ceilings={id_: table.ceiling for id_, table in knobs.items() if table.ceiling is not None},
        sample_interval_s=1.0,
    )
