"""The watch over sensors, the sums of a pass, what disturbs it, and what is said of an attempt that was left open."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime
from typing import Any, cast

import pytest
from tests.conftest import quick_rig

from yondle.engine.bench import Bench
from yondle.engine.bench import TestEnded as Ended
from yondle.engine.ports import Rig
from yondle.engine.recovery import judge_unclosed
from yondle.engine.requests import Requests
from yondle.engine.watcher import LOST_AFTER_S, BlockGatherer, Breach, Guard, PassSummary
from yondle.model.acts import Act
from yondle.model.events import BlockRecorded
from yondle.model.knobs import Subsystem
from yondle.model.sensors import Channel, Limit, Quantity, Reading
from yondle.model.verdicts import Failure
from yondle.rigs.simulated.rig import declaration_of
from yondle.rigs.simulated.rigfile import parse_rig_file

HERON = declaration_of(parse_rig_file(quick_rig(), "heron"))
CHANNELS = (
    Channel("die", "Die", "°C", Quantity.TEMPERATURE, Subsystem.PROCESSOR),
    Channel("volts", "Core voltage", "V", Quantity.VOLTAGE, Subsystem.PROCESSOR, 3),
    Channel("clock", "Clock", "MHz", Quantity.CLOCK, Subsystem.PROCESSOR, 0),
    Channel("errors", "Errors", "", Quantity.ERRORS, Subsystem.MEMORY, 0),
    Channel("throttles", "Throttled", "", Quantity.COUNT, Subsystem.PROCESSOR, 0),
)
RIG = replace(
    HERON,
    channels=CHANNELS,
    limits=(Limit("gone", 1.0), Limit("die", 95.5), Limit("volts", 1.4)),
    sample_interval_s=2.0,
)


def test_a_ceiling_is_passed_above_it_and_a_sensor_is_lost_when_it_was_not_heard_for_long() -> None:
    guard = Guard(RIG)
    guard.begin(100.0)
    assert guard.look(101.0, (95.5, 1.4, 4200.0, 0.0, 0.0)) is None
    assert guard.look(102.0, (95.6, 1.5, None, None, None)) == Breach("die", 95.5, 95.6)
    assert guard.look(103.0, (None, 1.401, None, None, None)) == Breach("volts", 1.4, 1.401)
    heard = 102.0
    assert guard.look(heard + LOST_AFTER_S, (None, 1.3, None, None, None)) is None
    assert guard.look(heard + LOST_AFTER_S + 0.1, (None, 1.3, None, None, None)) == Breach("die", 95.5, None)
    guard.begin(heard + LOST_AFTER_S + 0.1)
    assert guard.look(heard + LOST_AFTER_S + 0.2, (None, None, None, None, None)) is None, (
        "begun afresh, all count as heard"
    )
    guard.use((Limit("clock", 5000.0),))
    assert guard.look(900.0, (99.0, 2.0, None, None, None)) is None, "other ceilings hold, and nothing was heard of yet"
    assert guard.look(901.0, (99.0, 2.0, 5000.5, None, None)) == Breach("clock", 5000.0, 5000.5)


def test_samples_are_gathered_until_a_block_is_full_and_a_rig_without_sensors_gathers_none() -> None:
    gathered = BlockGatherer(RIG)
    row = (1.0, 2.0, None, 4.0, 5.0)
    assert gathered.flush() is None
    assert gathered.add(10.0, row, 4.0) is None
    assert gathered.add(13.9, row, 4.0) is None
    block = gathered.add(14.0, row, 4.0)
    assert block is not None
    assert (block.channels, block.times_s, block.rows) == (
        tuple(c.id for c in CHANNELS),
        (10.0, 13.9, 14.0),
        (row,) * 3,
    )
    assert gathered.add(15.0, row, 4.0) is None
    rest = gathered.flush()
    assert rest is not None
    assert rest.times_s == (15.0,)
    blind = BlockGatherer(replace(RIG, channels=()))
    assert [blind.add(float(t), (), 1.0) for t in range(9)] == [None] * 9


def test_a_pass_is_summed_up_by_what_each_sensor_says() -> None:
    summary = PassSummary(RIG, (20.0, 1.2, 800.0, 5.0, None))
    rows: list[tuple[Reading, ...]] = [
        (60.0, 1.25, 4200.0, 5.0, 2.0),
        (70.0, None, 4100.0, 7.0, 2.0),
        (65.0, 1.15, None, 7.0, 3.0),
    ]
    for row in rows:
        summary.add(row)
    summary.end((30.0, 1.3, 900.0, 9.0, 8.0))
    told = summary.measured()
    assert told.mean == {"die": 65.0, "volts": 1.2, "clock": 4150.0}
    assert told.most == {"die": 70.0}
    assert told.least == {"volts": 1.15}
    assert told.errors == {"errors": 4.0}
    assert told.counted == {}, "what it stood at before the pass isn't known"
    known = PassSummary(RIG, (20.0, 1.2, 800.0, 5.0, 6.0))
    known.add((None, None, None, 5.0, 6.0))
    known.end((None, None, None, 5.0, 8.0))
    assert (known.measured().mean, known.measured().errors, known.measured().counted) == ({}, {}, {"throttles": 2.0})
    blind = PassSummary(RIG, ())
    assert blind.measured().errors == {}


class _Clock:
    """A clock that a test may wind."""

    block_s = 4.0

    def __init__(self) -> None:
        self.t = 0.0

    def now(self) -> float:
        return self.t

    def wall(self) -> datetime:
        return datetime(2026, 10, 17, 20, 30, 1, 5, UTC)

    def wait(self, seconds: float) -> None:
        self.t += seconds

    def slept_s(self) -> float:
        return 0.0


class _Rig:
    def __init__(self, rows: list[tuple[Reading, ...]]) -> None:
        self.declaration, self._rows = RIG, rows

    def sample(self) -> tuple[Reading, ...]:
        return self._rows.pop(0)


class _Record:
    def __init__(self) -> None:
        self.taken: list[Any] = []

    def take(self, record: Any) -> None:
        self.taken.append(record)


def _bench(*rows: tuple[Reading, ...]) -> tuple[Bench, _Record, _Clock]:
    record, clock = _Record(), _Clock()
    return Bench(cast("Rig", _Rig([*rows])), clock, record, lambda _: None, Requests()), record, clock


def _watch_on(bench: Bench) -> None:
    for _ in range(9):
        bench.watch(None)


@pytest.mark.parametrize(
    ("row", "words", "failure", "seen"),
    [
        ((96.2, 1.2, 0, 0, 0), "Die reached 96.2 °C; its ceiling is 95.5 °C.",
         Failure.CEILING, {"channel": "die", "reading": 96.2, "most": 95.5}),
        ((60.0, 1.402, 0, 0, 0), "Core voltage reached 1.402 V; its ceiling is 1.400 V.",
         Failure.CEILING, {"channel": "volts", "reading": 1.402, "most": 1.4}),
        ((None, 1.2, 0, 0, 0), "Die gave no reading any more; the test was stopped because its ceiling is 95.5 °C.",
         Failure.SENSOR_LOST, {}),
    ],
)  # fmt: skip
def test_a_breach_ends_the_test_and_is_told_with_its_figures(
    row: tuple[Reading, ...], words: str, failure: Failure, seen: dict[str, Any]
) -> None:
    fine = (60.0, 1.2, 0.0, 0.0, 0.0)
    bench, record, clock = _bench(fine, *[row] * 9)
    bench.guard.begin(0.0)
    assert bench.watch(None) == fine
    with pytest.raises(Ended) as ended:
        _watch_on(bench)
    assert ended.value.outcome.reason.replace("\u202f", " ") == words
    assert (ended.value.outcome.failure, ended.value.outcome.seen, ended.value.halted) == (failure, seen, False)
    bench.flush()
    times = [t for r in record.taken if isinstance(r, BlockRecorded) for t in r.block.times_s]
    assert times == [2.0 * (i + 1) for i in range(len(times))]
    assert times[-1] == clock.t, "what breached it is in the record"


def test_waiting_is_cut_into_samples_and_the_time_is_written_to_the_second() -> None:
    bench, _, clock = _bench()
    waited: list[float] = []
    clock.wait = waited.append  # type: ignore[method-assign]
    bench.idle(5.0)
    assert waited == [2.0, 2.0, 1.0]
    assert bench.wall() == "2026-10-17T20:30:01+00:00"


IN_PASS = {"stage": "mixed_load", "workload": "mixed_load", "t": 100.0}


@pytest.mark.parametrize(
    ("act", "detail", "last_s", "where", "stage", "after_s"),
    [
        (Act.STEP_OPENED, {}, None, "before anything was set", "opening", None),
        (Act.APPLY_OPENED, {}, None, "while the values were being set", "setting", None),
        (Act.APPLIED, {}, 40.0, "between passes", "between passes", None),
        (Act.SETTLE_OPENED, {}, 40.0, "while it was cooling down", "cooling down", None),
        (Act.PASS_OPENED, IN_PASS, None, "in the first moments of Mixed load", "mixed_load", 0.0),
        (Act.PASS_OPENED, IN_PASS, 100.0, "in the first moments of Mixed load", "mixed_load", 0.0),
        (Act.PASS_OPENED, IN_PASS, 100.5, "at least 0.5 s into Mixed load", "mixed_load", 0.5),
        (Act.PASS_OPENED, {"workload": "stacking"}, 90.0, "at least 1 min 30 s into Stacking", "", 90.0),
    ],
)
def test_an_attempt_left_open_is_told_by_where_it_stood(
    act: Act, detail: dict[str, Any], last_s: float | None, where: str, stage: str, after_s: float | None
) -> None:
    down = judge_unclosed(HERON, "boot 1", "boot 2", act, detail, last_s, ("a panic", "a machine check"))
    assert down.reason.replace("\u202f", " ") == (
        f"The machine went down {where} and has restarted since. It kept a record of the crash: a panic; a machine check."
    )
    assert (down.failure, down.stage, down.time_to_failure_s) == (Failure.RESTARTED, stage, after_s)
    stayed = judge_unclosed(HERON, "boot 1", "boot 1", act, detail, last_s)
    assert stayed.reason.replace("\u202f", " ") == (
        f"Yondle was interrupted {where}; the machine stayed up, so this says nothing about the setting."
    )
    assert (stayed.failure, stayed.stage, stayed.time_to_failure_s) == (Failure.INTERRUPTED, stage, after_s)
    silent = judge_unclosed(HERON, "boot 1", "boot 2", act, detail, last_s)
    assert silent.reason.endswith("has restarted since.")
