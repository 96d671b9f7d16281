from __future__ import annotations

from dataclasses import replace
from random import Random

import pytest
from tests.conftest import quick_rig

from yondle.analysis.judging import Trial, judge, limited, pass_failed, sag, started_at, what_was_run
from yondle.analysis.pointing import point
from yondle.engine.recovery import judge_unclosed
from yondle.model.acts import Act
from yondle.model.knobs import Change, Subsystem
from yondle.model.measured import Measured
from yondle.model.sensors import Channel, Quantity
from yondle.model.steps import SCORE_STAGE, Attempt, PassRecord, Step, StepKind, StepRecord, deciding, verdict_of
from yondle.model.verdicts import VERDICT_OF_FAILURE, Failure, Outcome, Verdict
from yondle.model.workloads import PassResult
from yondle.planning.ladder import quick_check
from yondle.rigs.simulated.rig import declaration_of
from yondle.rigs.simulated.rigfile import parse_rig_file
from yondle.views.shared.steps import failure_words

HERON = declaration_of(parse_rig_file(quick_rig(), "heron"))


def a_pass(workload: str = "stacking", stage: str = SCORE_STAGE, seconds: float = 6.0, **facts: float) -> PassRecord:
    shown = {name.replace("_of_", " ", 1): value for name, value in facts.items()}
    return PassRecord(
        1, stage, workload, 0, False, 0.0, PassResult(True, 213.0, seconds, measured=Measured.of(dict(shown)))
    )


def judged(passes: list[PassRecord], *changes: Change) -> Outcome:
    setup = HERON.stock.with_values({c.knob: c.new for c in changes})
    return judge(HERON, Trial(setup, changes, tuple(passes)))


def rounds(falling: float, chance: Random, noise: float = 0.007) -> tuple[PassRecord, ...]:
    """Five rounds of three benchmarks that fall by a share over all of them."""
    return tuple(
        PassRecord(1, SCORE_STAGE, name, n, False, 0.0, PassResult(True, score * (1 + turned * falling * n / 4), 12.0))
        for n in range(5)
        for name, level, turned in (("stacking", 208.0, -1), ("star_match", 294.0, -1), ("sharpening", 2.7, 1))
        for score in (level * chance.lognormvariate(0.0, noise),)
    )


def test_a_round_started_where_it_settled_last_whatever_was_run_before_a_benchmark_counted() -> None:
    """On a machine whose every benchmark a limit acts in, each is run before it counts: the reading is with that pass."""

    def ran(round_: int, warm_up: bool, settled: float | None) -> PassRecord:
        start = {"hottest_core": settled} if settled is not None else {}
        result = PassResult(True, 213.0, 6.0, measured=replace(Measured(), start=start))
        return PassRecord(1, SCORE_STAGE, "stacking", round_, warm_up, 0.0, result)

    check = replace(quick_check(HERON, 3), settle_channel="hottest_core")
    warmed_up, preloaded = [ran(0, True, 50.0), ran(0, True, None)], [ran(1, True, 41.0), ran(1, False, None)]
    warmed = [ran(2, True, 30.0), ran(2, True, 35.0), ran(2, True, 40.0), ran(2, False, None), ran(2, False, None)]
    assert started_at(check, [*warmed_up, *preloaded, *warmed, ran(3, False, 42.0)]) == (41.0, 40.0, 42.0)


def test_held_always_says_for_which_load_and_how_long() -> None:
    passes = [a_pass(), a_pass("sharpening"), a_pass("mixed_load", "mixed load", 180.0)]
    outcome = judged(passes)
    assert outcome.verdict is Verdict.HELD
    assert outcome.reason.replace("\u202f", " ") == "Held: 2 score passes of 2 benchmarks, 3 min of Mixed load."
    assert what_was_run(HERON, []) == "nothing was run"
    spoiled = replace(a_pass(), disturbed="other programs used 9 % of the machine")
    assert what_was_run(HERON, [spoiled, a_pass()]).endswith("1 disturbed pass left out")


def test_a_clock_below_what_was_asked_is_held_back_with_the_limit_that_did_it() -> None:
    passes = [
        a_pass(mean_of_core_clock_effective=4199.0),
        a_pass(mean_of_core_clock_effective=4001.0, mean_of_power_limited=0.8),
    ]
    outcome = judged(passes)
    assert outcome.failure is Failure.CLOCK_NOT_HELD
    assert "4\u202f001 of 4\u202f200\u202fMHz in Stacking; power limit reached in 80 % of the time" in outcome.reason


def test_sensor_noise_alone_is_no_lost_clock() -> None:
    assert judged([a_pass(mean_of_core_clock_effective=4195.0)]).verdict is Verdict.HELD


def test_a_value_measured_otherwise_than_asked_did_not_take_effect() -> None:
    outcome = judged([a_pass(measured_of_core_clock=4100.0)])
    assert outcome.failure is Failure.NOT_IN_FORCE
    assert "was asked" in outcome.reason


def test_long_loads_and_disturbed_passes_are_kept_out_of_figures() -> None:
    assert a_pass().counts
    assert not a_pass(stage="mixed load").counts
    disturbed = PassRecord(1, SCORE_STAGE, "stacking", 0, False, 0.0, PassResult(True, 1.0, 1.0), "others used 9 %")
    assert not disturbed.counts


def test_a_failed_pass_says_what_after_how_long_and_why() -> None:
    result = PassResult(False, None, 72.0, Failure.WRONG_RESULTS.value, "processor 3 differs")
    outcome = pass_failed(HERON, PassRecord(1, "mixed load", "mixed_load", 0, False, 0.0, result))
    assert outcome.reason.replace("\u202f", " ") == "Wrong results after 1 min 12 s of Mixed load: processor 3 differs."
    assert (outcome.verdict, outcome.stage, outcome.time_to_failure_s) == (Verdict.WRONG, "mixed load", 72.0)


def test_every_failure_has_its_verdict() -> None:
    assert set(VERDICT_OF_FAILURE) == set(Failure)


def test_errors_that_were_corrected_are_not_called_held() -> None:
    outcome = judged([a_pass(errors_of_memory_errors=3.0)], Change("memory_rate", 5600.0, 6200.0))
    assert (outcome.failure, outcome.verdict) == (Failure.ERRORS_CORRECTED, Verdict.WRONG)
    assert "3 in the memory" in outcome.reason


def test_scores_that_fall_from_pass_to_pass_are_told_and_noise_hardly_ever_is() -> None:
    alarms = sum(sag(HERON, rounds(0.0, Random(seed))) is not None for seed in range(1000))
    found = sum(sag(HERON, rounds(0.03, Random(seed))) is not None for seed in range(300))
    assert alarms <= 10, f"{alarms} false alarms in 1 000"
    assert found >= 285, f"{found} of 300 falls of 3 % found"
    outcome = judged(list(rounds(0.03, Random(1))))
    assert outcome.failure is Failure.SCORE_SAGGED
    assert "last warning" in outcome.reason


def test_a_limit_that_acts_below_what_was_asked_is_not_in_force() -> None:
    change = Change("graphics_power_limit", 60.0, 90.0)
    passes = [a_pass("frames", mean_of_graphics_power_limited=0.9, mean_of_graphics_power=74.8)]
    outcome = judged(passes, change)
    assert outcome.failure is Failure.NOT_IN_FORCE
    assert "90\u202fW reads back, but the limit acts at 75\u202fW" in outcome.reason
    assert judged([a_pass("frames", mean_of_graphics_power=74.8)], change).verdict is Verdict.HELD


def test_the_clock_that_wide_work_is_to_lose_does_not_count_as_lost() -> None:
    passes = [a_pass("sharpening", mean_of_core_clock_effective=4100.0)]
    assert judged(passes, Change("vector_offset", 0.0, 100.0)).verdict is Verdict.HELD
    assert judged(passes).failure is Failure.CLOCK_NOT_HELD


@pytest.mark.parametrize(
    ("change", "failure", "code", "facts", "load", "points_to", "says"),
    [
        (Change("memory_rate", 5600.0, 6800.0), Failure.STOPPED_IN_START, "b7", {}, "", "memory", "board shows b7"),
        (Change("core_clock", 4200.0, 4700.0), Failure.FROZE, "", {"errors_of_core_errors": 12.0}, "mixed_load",
         "processor", "12 errors corrected in the processor"),
        (Change("memory_rate", 5600.0, 6200.0), Failure.FROZE, "", {}, "memory_check", "memory controller",
         "as when the controller gives up"),
        (Change("graphics_clock", 2100.0, 2400.0), Failure.WRONG_RESULTS, "", {}, "frames_check", "graphics",
         "only the graphics was changed"),
        (Change("fan_level", 40.0, 30.0), Failure.RESTARTED, "", {"errors_of_memory_errors": 4.0}, "mixed_load",
         "memory", "4 errors corrected in the memory"),
    ],
)  # fmt: skip
def test_a_failure_points_to_a_part_with_its_evidence(
    change: Change, failure: Failure, code: str, facts: dict[str, float], load: str, points_to: str, says: str
) -> None:
    passes: list[PassRecord] = []
    if load:
        shown = {name.replace("_of_", " ", 1): value for name, value in facts.items()}
        result = PassResult(False, None, 60.0, failure.value, measured=Measured.of(dict(shown)))
        passes = [a_pass(), PassRecord(2, load, load, 0, False, 10.0, result)]
    tested = Trial(HERON.stock.with_values({change.knob: change.new}), (change,), tuple(passes))
    pointer = point(HERON, tested, Outcome(VERDICT_OF_FAILURE[failure], "", failure, code=code))
    assert pointer.subsystem == points_to
    assert any(says in sign for sign in pointer.signs), pointer.signs


def test_a_step_that_failed_once_needs_more_than_one_better_try() -> None:
    held, down = Outcome(Verdict.HELD, ""), Outcome(Verdict.DOWN, "", Failure.FROZE)
    stopped = Outcome(Verdict.UNPROVEN, "", Failure.STOPPED)
    assert verdict_of([down, held]) is Verdict.UNPROVEN
    assert verdict_of([down, held, held]) is Verdict.HELD
    assert verdict_of([held, down]) is Verdict.DOWN
    assert verdict_of([held, stopped]) is Verdict.HELD
    assert verdict_of([stopped]) is Verdict.UNPROVEN
    slow = Outcome(Verdict.HELD_BACK, "", Failure.CLOCK_NOT_HELD)
    assert verdict_of([down, slow]) is Verdict.DOWN, "a later test that was only held back hides no crash"
    assert verdict_of([down, held, slow]) is Verdict.UNPROVEN
    assert verdict_of([down, held, held, slow]) is Verdict.HELD_BACK
    assert deciding([down, held, stopped]) is down
    assert deciding([held, slow, stopped]) is slow
    assert deciding([stopped]) is stopped


def test_errors_that_were_corrected_are_called_what_they_are() -> None:
    corrected = Outcome(Verdict.WRONG, "", Failure.ERRORS_CORRECTED)
    wrong = Outcome(Verdict.WRONG, "", Failure.WRONG_RESULTS)
    step = Step(2, StepKind.CHANGE, 1, HERON.stock)
    words = [
        StepRecord(step, tuple(Attempt(i, 2, "", 0.0, "", o) for i, o in enumerate(each))).word
        for each in ((corrected,), (wrong,), (corrected, Outcome(Verdict.HELD, "")))
    ]
    assert words == [Failure.ERRORS_CORRECTED, Verdict.WRONG, Verdict.UNPROVEN]


def test_what_was_left_open_is_judged_by_boot_and_last_act() -> None:
    opened = {"stage": "mixed load", "workload": "mixed_load", "t": 100.0}
    down = judge_unclosed(HERON, "boot 1", "boot 2", Act.PASS_OPENED, opened, 143.0)
    assert (down.failure, down.time_to_failure_s) == (Failure.RESTARTED, 43.0)
    assert "at least 43\u202fs into Mixed load" in down.reason
    for act in (Act.STEP_OPENED, Act.APPLY_OPENED, Act.APPLIED, Act.SETTLE_OPENED, Act.PASS_ENDED):
        same = judge_unclosed(HERON, "boot 1", "boot 1", act, {}, None)
        assert same.verdict is Verdict.UNPROVEN
        assert "says nothing about the setting" in same.reason


THROTTLES = replace(
    HERON,
    channels=(*HERON.channels, Channel("throttles", "Throttled", "", Quantity.COUNT, Subsystem.PROCESSOR, 0)),
)


@pytest.mark.parametrize(
    ("knob", "old", "new", "verdict"),
    [
        ("memory_rate", 5600.0, 5400.0, Verdict.HELD),
        ("link_width", 2.0, 1.0, Verdict.HELD),
        ("core_clock", 4200.0, 4300.0, Verdict.HELD_BACK),
        ("core_voltage", 1.2, 1.25, Verdict.HELD_BACK),
        ("core_voltage", 1.2, 1.15, Verdict.HELD),
    ],
)
def test_a_machine_that_throttled_at_home_too_is_held_back_only_by_what_asks_for_more(
    knob: str, old: float, new: float, verdict: Verdict
) -> None:
    """A notebook that counts how often it throttled, and does so at stock: an unrelated change is not blamed for it."""
    counted = a_pass(counted_of_throttles=3.0)
    trial = Trial(HERON.stock.with_values({knob: new}), (Change(knob, old, new),), (counted,))
    assert judge(THROTTLES, trial).verdict is Verdict.HELD_BACK, "at home it didn't"
    home = limited(THROTTLES, HERON.stock, [counted])
    assert judge(THROTTLES, replace(trial, home=home)).verdict is verdict


def test_a_baseline_without_a_figure_that_counts_is_none() -> None:
    """Every pass was disturbed: it ran through, but nothing could be compared with it."""
    disturbed = replace(a_pass(), disturbed="another program")
    told = judge(HERON, Trial(HERON.stock, (), (disturbed, disturbed), baseline=True))
    assert (told.verdict, told.failure) == (Verdict.UNPROVEN, None)
    assert "no pass gave a figure that counts" in told.reason
    assert judge(HERON, Trial(HERON.stock, (), (disturbed, a_pass()), baseline=True)).verdict is Verdict.HELD


@pytest.mark.parametrize(
    ("failure", "seen", "words"),
    [
        (
            Failure.CLOCK_NOT_HELD,
            {"channel": "core_clock_effective", "held": 4710.2, "asked": 4800.0},
            "clock not held: 4 710 of 4 800 MHz",
        ),
        (Failure.CLOCK_NOT_HELD, {}, "clock not held"),
        (Failure.CLOCK_NOT_HELD, {"channel": "gone", "held": 1.0, "asked": 2.0}, "clock not held"),
        (Failure.ERRORS_CORRECTED, {"core_errors": 2.0}, "errors corrected: 2 in the processor"),
        (
            Failure.CEILING,
            {"channel": "package_power", "reading": 131.24, "most": 130.0},
            "Package power reached 131.2 W",
        ),
    ],
)
def test_a_failure_is_told_from_what_showed_it_whatever_was_said_of_it_then(
    failure: Failure, seen: dict[str, str | float], words: str
) -> None:
    outcome = Outcome(
        VERDICT_OF_FAILURE[failure], "Kerntakt nicht gehalten: in Mixed load; so; war es.", failure, seen=seen
    )
    assert failure_words(HERON, outcome).replace("\u202f", " ") == words


def test_what_showed_a_failure_is_kept_with_it() -> None:
    slow = judge(HERON, Trial(HERON.stock, (), (a_pass(mean_of_core_clock_effective=4000.0),)))
    assert (slow.failure, slow.seen["held"], slow.seen["asked"]) == (Failure.CLOCK_NOT_HELD, 4000.0, 4200.0)
    counted = judge(HERON, Trial(HERON.stock, (), (a_pass(errors_of_core_errors=3.0),)))
    assert (counted.failure, counted.seen) == (Failure.ERRORS_CORRECTED, {"core_errors": 3.0})


def test_of_several_clocks_that_fall_short_the_one_that_lost_most_of_what_was_asked_is_told() -> None:
    passes = [
        a_pass(mean_of_core_clock_effective=4116.0, mean_of_power_limited=0.3, mean_of_heat_limited=0.9),
        a_pass("frames", mean_of_graphics_clock_effective=1932.0, mean_of_graphics_power_limited=1.0),
    ]
    told = judged(passes)
    assert told.reason.replace("\u202f", " ") == (
        "Graphics clock not held: 1 932 of 2 100 MHz in Frames; graphics power limit reached in 100 % of the time."
    )
    assert told.seen == {"channel": "graphics_clock_effective", "held": 1932.0, "asked": 2100.0}
    both = limited(HERON, HERON.stock, passes)
    assert [(s.knob, s.mean, s.limits) for s in both.short] == [
        ("core_clock", 4116.0, (("power limit", 0.3), ("heat limit", 0.9))),
        ("graphics_clock", 1932.0, (("graphics power limit", 1.0),)),
    ]
    at_stock = judge(HERON, Trial(HERON.stock, (), tuple(passes), baseline=True)).reason.replace("\u202f", " ")
    assert at_stock == (
        "Held, limited by graphics power limit, heat limit and power limit: 2 score passes of 2 benchmarks; "
        "graphics clock 1 932 of 2 100 MHz in Frames."
    )


@pytest.mark.parametrize(
    ("change", "home", "verdict"),
    [
        (Change("memory_rate", 5600.0, 5800.0), 4000.0, Verdict.HELD),
        (Change("memory_rate", 5600.0, 5800.0), None, Verdict.HELD_BACK),
        (Change("core_clock", 4200.0, 4300.0), 4000.0, Verdict.HELD_BACK),
        (Change("core_clock", 4200.0, 4100.0), 4000.0, Verdict.HELD),
        (Change("fan_level", 40.0, 30.0), None, Verdict.HELD),
        (Change("power_limit", 125.0, 90.0), None, Verdict.HELD),
    ],
)
def test_a_clock_that_fell_short_at_home_too_is_held_against_a_step_only_if_it_asks_for_more(
    change: Change, home: float | None, verdict: Verdict
) -> None:
    short = a_pass(mean_of_core_clock_effective=4000.0)
    at_home = limited(HERON, HERON.stock, [a_pass(mean_of_core_clock_effective=home)] if home else [])
    trial = Trial(HERON.stock.with_values({change.knob: change.new}), (change,), (short,), home=at_home)
    assert judge(HERON, trial).verdict is verdict
    if home:
        graphics = replace(at_home.short[0], channel="graphics_clock_effective")
        assert judge(HERON, replace(trial, home=replace(at_home, short=(graphics,)))).verdict is Verdict.HELD_BACK


LOADS = (("mixed_load", 90.0), ("memory_check", 60.0), ("mixed_load", 30.0))


def test_what_was_run_adds_up_loads_and_counts_what_was_left_out() -> None:
    disturbed = replace(a_pass(), disturbed="another program")
    passes = [
        a_pass(),
        *(a_pass(load, load, s) for load, s in (("mixed_load", 90.0), ("memory_check", 60.0), ("mixed_load", 30.0))),
    ]
    assert what_was_run(HERON, [*passes, disturbed, disturbed]).replace("\u202f", " ") == (
        "1 score pass of 1 benchmark, 2 min of Mixed load, 1 min of Memory check, 2 disturbed passes left out"
    )
    errors = [a_pass(errors_of_core_errors=2.0, errors_of_memory_errors=1.0), a_pass(errors_of_core_errors=1.0)]
    assert "3 in the processor and 1 in the memory" in judged(errors).reason


@pytest.mark.parametrize(("seconds", "when"), [(0.4, "in the first moment"), (0.5, "after 0.5 s"), (2.0, "after 2 s")])
def test_a_load_that_fails_at_once_failed_in_its_first_moment(seconds: float, when: str) -> None:
    result = PassResult(False, None, seconds, Failure.PROGRAM_CRASHED.value)
    told = pass_failed(HERON, PassRecord(1, "mixed load", "mixed_load", 0, False, 0.0, result))
    assert f" {when} of Mixed load." in told.reason.replace("\u202f", " ")
    with pytest.raises(ValueError, match="no result"):
        pass_failed(HERON, PassRecord(1, "mixed load", "mixed_load", 0, False, 0.0, None))


def _pointed(
    changes: tuple[Change, ...], passes: tuple[PassRecord, ...], failure: Failure = Failure.FROZE, code: str = ""
) -> tuple[str, tuple[str, ...]]:
    setup = HERON.stock.with_values({c.knob: c.new for c in changes})
    outcome = Outcome(VERDICT_OF_FAILURE[failure], "", failure, code=code)
    pointer = point(HERON, Trial(setup, changes, passes), outcome)
    return pointer.subsystem, tuple(sign.replace("\u202f", " ") for sign in pointer.signs)


def _fell(workload: str, **facts: float) -> PassRecord:
    shown = {name.replace("_of_", " ", 1): value for name, value in facts.items()}
    return PassRecord(
        2, workload, workload, 0, False, 10.0, PassResult(False, None, 60.0, "froze", measured=Measured.of(dict(shown)))
    )


CORE_UP, MEMORY_UP = Change("core_clock", 4200.0, 4700.0), Change("memory_rate", 5600.0, 6200.0)
IN_FRAMES = "it failed in Picture check, which works the graphics hardest"
IN_SHARPENING = "it failed in Sharpening, which works the processor hardest"


def test_every_sign_is_weighed_and_those_of_the_part_are_told_in_words() -> None:
    voltage = HERON.stock["core_voltage"]
    droop = f"Core voltage fell to {voltage * 0.95:.3f} V of {voltage:.3f} V under load"
    drooped = _fell("sharpening", least_of_core_voltage_measured=voltage * 0.95)
    assert _pointed((CORE_UP,), (drooped,)) == (
        "processor",
        (
            "only the processor was changed",
            IN_SHARPENING,
            droop,
        ),
    )
    held = _fell("sharpening", least_of_core_voltage_measured=voltage * 0.97)
    over = a_pass(least_of_core_voltage_measured=voltage * 1.05)
    assert _pointed((CORE_UP,), (over, held))[1] == (
        "only the processor was changed",
        IN_SHARPENING,
    )
    both = _pointed((CORE_UP, MEMORY_UP), (a_pass(errors_of_memory_errors=2.0), _fell("frames_check")))
    assert both == ("memory", ("2 errors corrected in the memory",)), "two parts were changed: that speaks for neither"
    assert _pointed((MEMORY_UP,), (_fell("frames_check"),), Failure.WRONG_RESULTS) == (
        "memory",
        ("only the memory was changed",),
    )
    gave_up = "the machine went down and no memory error was counted before, as when the controller gives up"
    assert _pointed((MEMORY_UP,), (_fell("frames_check"),)) == ("memory controller", (gave_up,))
    assert _pointed((CORE_UP,), (_fell("frames_check"),)) == ("processor", ("only the processor was changed",))


def test_signs_that_do_not_agree_name_nothing_and_all_are_told() -> None:
    passes = (a_pass(errors_of_memory_errors=1.0, errors_of_core_errors=1.0),)
    assert _pointed((), passes) == ("", ("1 error corrected in the processor", "1 error corrected in the memory"))
    assert _pointed((), ()) == ("", ())
    assert _pointed((Change("fan_level", 40.0, 30.0),), (_fell("frames_check"),)) == ("graphics", (IN_FRAMES,))
    assert _pointed((CORE_UP,), (_fell("sharpening"),), Failure.REFUSED) == ("", ())
    fallen = (*rounds(0.03, Random(1)), _fell("frames_check"))
    falling = sag(HERON, fallen)
    assert falling is not None
    told = f"scores fell by {100 * falling.fall:.1f} % from pass to pass before"
    assert _pointed((), fallen)[1] == (IN_FRAMES, told)
    assert _pointed((), rounds(0.03, Random(1)))[1] == (told,)


def test_a_code_of_the_board_outweighs_what_merely_went_along() -> None:
    (code, (part, meaning)), *_ = HERON.codes.items()
    subsystem, signs = _pointed((Change("graphics_clock", 2100.0, 2400.0),), (_fell("frames_check"),), code=code)
    assert (subsystem, signs[0]) == (str(part), f"the board shows {code}: {meaning}")


def test_a_machine_that_says_it_throttled_is_held_back_with_how_often_and_in_which_load() -> None:
    passes = (a_pass(counted_of_throttles=9.0), a_pass("sharpening", "mixed load", counted_of_throttles=21.0), a_pass())
    change = Change("core_clock", 4200.0, 4300.0)
    told = judge(THROTTLES, Trial(HERON.stock.with_values({"core_clock": 4300.0}), (change,), passes))
    assert told.reason == "Throttled 21 times in Sharpening."
    assert (told.failure, told.stage, told.seen) == (
        Failure.CLOCK_NOT_HELD,
        "mixed load",
        {"channel": "throttles", "times": 21.0},
    )
    at_stock = judge(THROTTLES, Trial(HERON.stock, (), passes[:1], baseline=True))
    assert at_stock.reason == "Held, limited (Throttled 9 times in Stacking): 1 score pass of 1 benchmark."
    clock = a_pass(counted_of_throttles=9.0, mean_of_core_clock_effective=4000.0)
    both = judge(THROTTLES, Trial(HERON.stock, (), (clock,), baseline=True))
    assert both.reason.startswith("Held, limited by what no sensor tells: "), "the clock says more than a count"


def test_what_is_not_in_force_is_told_as_asked_and_as_measured() -> None:
    passes = [a_pass(), a_pass("sharpening", "mixed load", measured_of_core_clock=4100.0)]
    told = judged(passes)
    assert told.reason.replace("\u202f", " ") == "Core clock 4 200 MHz was asked, 4 100 MHz was measured in Sharpening."
    assert (told.failure, told.stage) == (Failure.NOT_IN_FORCE, "mixed load")
    unfinished = PassRecord(1, SCORE_STAGE, "stacking", 0, False, 0.0, None)
    assert judged([unfinished, a_pass()]).verdict is Verdict.HELD
    acting = a_pass("frames", "frames load", mean_of_graphics_power_limited=0.9, mean_of_graphics_power=74.8)
    limit = judged([a_pass(), acting], Change("graphics_power_limit", 60.0, 90.0))
    assert limit.reason.replace("\u202f", " ") == "Graphics power limit 90 W reads back, but the limit acts at 75 W."
    assert limit.stage == "frames load"


def test_a_baseline_whose_scores_rise_is_no_measure_and_a_step_may_rise() -> None:
    risen = rounds(-0.03, Random(1))
    told = judge(HERON, Trial(HERON.stock, (), risen, True))
    assert (told.failure, told.verdict) == (Failure.SCORE_ROSE, Verdict.UNPROVEN)
    assert "rose by 3" in told.reason
    assert judge(HERON, Trial(HERON.stock, (), risen)).verdict is Verdict.HELD
    fallen = rounds(0.03, Random(1))
    assert judge(HERON, Trial(HERON.stock, (), fallen, True)).failure is Failure.SCORE_SAGGED
    between = Trial(HERON.stock, (), fallen, True, levels=False)
    assert judge(HERON, between).verdict is Verdict.HELD, "measured between steps it tells what drifts"


def test_a_fall_is_told_by_how_much_and_over_how_many_passes() -> None:
    passes = rounds(0.03, Random(1))
    fallen = sag(HERON, passes)
    assert fallen is not None
    assert (fallen.passes, fallen.fall) == (15, pytest.approx(0.03, abs=0.012))
    told = judged(list(passes))
    assert told.stage == SCORE_STAGE
    assert f"scores fell by {100 * fallen.fall:.1f} % over 15 passes, often" in told.reason
    assert sag(HERON, rounds(0.03, Random(1), noise=1e-9)[:9]) == sag(HERON, rounds(0.03, Random(2), noise=1e-9)[:9])
    assert sag(HERON, rounds(0.05, Random(1), noise=1e-9)[:6]) is None, "too few to tell"
    level = sag(HERON, rounds(0.0201, Random(1), noise=1e-7))
    assert level is not None
    assert level.fall == pytest.approx(0.0201, rel=0.02)
    assert sag(HERON, rounds(0.0098, Random(1), noise=1e-7)) is None, "not worth a word"
