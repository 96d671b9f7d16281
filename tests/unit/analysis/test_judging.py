from __future__ import annotations

from tests.conftest import quick_rig

from yondle.analysis.judging import judge, pass_failed, what_was_run
from yondle.engine.recovery import judge_unclosed
from yondle.model.steps import SCORE_STAGE, PassRecord
from yondle.model.verdicts import VERDICT_OF_FAILURE, Failure, Verdict
from yondle.model.workloads import PassResult
from yondle.rigs.simulated.rig import declaration_of
from yondle.rigs.simulated.rigfile import parse_rig_file

HERON = declaration_of(parse_rig_file(quick_rig(), "heron"))


def a_pass(workload: str = "stacking", stage: str = SCORE_STAGE, seconds: float = 6.0, **facts: float) -> PassRecord:
    shown = {name.replace("_of_", " ", 1): value for name, value in facts.items()}
    return PassRecord(1, stage, workload, 0, False, 0.0, PassResult(True, 213.0, seconds, facts=dict(shown)))


def test_held_always_says_for_which_load_and_how_long() -> None:
    passes = [a_pass(), a_pass("sharpening"), a_pass("mixed_load", "mixed load", 180.0)]
    outcome = judge(HERON, HERON.stock, passes)
    assert outcome.verdict is Verdict.HELD
    assert outcome.reason.replace("\u2009", " ") == "Held: 2 score passes of 2 benchmarks, 3 min of Mixed load."
    assert what_was_run(HERON, []) == "nothing was run"


def test_a_clock_below_what_was_asked_is_held_back_with_the_limit_that_did_it() -> None:
    passes = [
        a_pass(mean_of_core_clock_effective=4199.0),
        a_pass(mean_of_core_clock_effective=4001.0, mean_of_power_limited=0.8),
    ]
    outcome = judge(HERON, HERON.stock, passes)
    assert outcome.failure is Failure.CLOCK_NOT_HELD
    assert "4\u2009001 of 4\u2009200\u2009MHz in Stacking; power limit reached in 80 % of the time" in outcome.reason


def test_sensor_noise_alone_is_no_lost_clock() -> None:
    assert judge(HERON, HERON.stock, [a_pass(mean_of_core_clock_effective=4195.0)]).verdict is Verdict.HELD


def test_a_value_measured_otherwise_than_asked_did_not_take_effect() -> None:
    outcome = judge(HERON, HERON.stock, [a_pass(measured_of_core_clock=4100.0)])
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
    assert outcome.reason.replace("\u2009", " ") == "Wrong results after 1 min 12 s of Mixed load: processor 3 differs."
    assert (outcome.verdict, outcome.stage, outcome.time_to_failure_s) == (Verdict.WRONG, "mixed load", 72.0)


def test_every_failure_has_its_verdict() -> None:
    assert set(VERDICT_OF_FAILURE) == set(Failure)


def test_what_was_left_open_is_judged_by_boot_and_last_act() -> None:
    opened = {"stage": "mixed load", "workload": "mixed_load", "t": 100.0}
    down = judge_unclosed(HERON, "boot 1", "boot 2", "PassOpened", opened, 143.0)
    assert (down.failure, down.time_to_failure_s) == (Failure.RESTARTED, 43.0)
    assert "at least 43\u2009s into Mixed load" in down.reason
    for act in ("StepOpened", "ApplyOpened", "Applied", "SettleOpened", "PassEnded"):
        same = judge_unclosed(HERON, "boot 1", "boot 1", act, {}, None)
        assert same.verdict is Verdict.UNPROVEN
        assert "says nothing about the setting" in same.reason
