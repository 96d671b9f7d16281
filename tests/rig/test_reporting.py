"""The report of a climb on the simulated rig: everything that was found is in it, and it repeats by its own plan."""

from __future__ import annotations

import tomllib
from collections.abc import Callable
from pathlib import Path

import pytest
from tests.conftest import quick_rig

from yondle.app.machine.machines import RigChoice
from yondle.app.plans.plans import StartPlan
from yondle.app.plans.reproducing import plan_again
from yondle.app.profiles.profiles import KeepProfile
from yondle.app.reports.report_choices import (
    AskQuestion,
    ChooseSections,
    parts_named,
    sections_chosen,
)
from yondle.app.reports.report_files import report_bytes
from yondle.app.reports.reporting import report_of
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.remarks import AttachFile, DiscardPass, WriteNote
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryFrom
from yondle.main import run
from yondle.model.errors import KnownError
from yondle.model.parts import Part
from yondle.model.steps import Check, StageKind
from yondle.model.verdicts import Verdict
from yondle.views.tune.summary import latest_attempt, summary_words

GRID = """
format = "yondle-plan 1"
name = "one"
passes = 2
[[do]]
kind = "steps"
steps = [{ core_clock = 4050 }]
"""


@pytest.fixture(scope="module")
def climbed(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("report") / "book.yondle"
    session = create_logbook(path, RigChoice("simulated", "Heron", quick_rig()))
    session.do(RunBaseline(3))
    for clock in (4300.0, 4400.0, 5000.0):
        here = session.snapshot.position
        session.do(TryFrom(here.step.number if here else 1, {"core_clock": clock}))
    session.do(KeepProfile("Daily", step=3))
    session.do(WriteNote(3, "the shed was cold", caveat=True))
    proof = path.with_name("screen.png")
    proof.write_bytes(b"proof")
    session.do(AttachFile(3, proof))
    made = next(p for a in session.snapshot.step(3).attempts for p in a.passes if p.counts)
    session.do(DiscardPass(3, session.snapshot.step(3).attempts[0].id, made.ordinal, "door open"))
    session.close()
    return path


def test_a_report_holds_what_was_asked_found_failed_and_written(climbed: Path) -> None:
    session = open_logbook(climbed)
    session.do(AskQuestion("What is the clock worth?"))
    report = report_of(session.snapshot)
    text = report_bytes(report, ".md").decode()
    for words in (
        "What is the clock worth?", "Calder C8", "Core clock 4\u202f400", "within noise", "went down", "Daily",
        "the shed was cold", "door open", "screen.png", "yondle-plan 1", "seed", "95\u202f% range",
    ):  # fmt: skip
        assert words.replace("\u202f", " ") in text.replace("\u202f", " ").replace("\\", ""), words
    assert [s.part for s in report.sections] == [part for part in Part if part is not Part.ADDED]
    assert report_bytes(report_of(session.snapshot), ".pdf") == report_bytes(report, ".pdf")
    session.do(ChooseSections((Part.GAINS, Part.QUESTION)))
    assert [s.part for s in report_of(session.snapshot).sections] == [Part.GAINS, Part.QUESTION]
    session.do(ChooseSections(tuple(Part)))
    for wrong in ((), (Part.GAINS, Part.GAINS)):
        with pytest.raises(KnownError, match="each section once"):
            session.do(ChooseSections(wrong))
    with pytest.raises(KnownError, match="no section 'moon'"):
        parts_named("gains, moon")
    with pytest.raises(KnownError, match="isn't written as"):
        report_bytes(report, ".doc")
    assert sections_chosen(session.snapshot) == tuple(Part)
    session.close()


def test_its_plan_makes_the_same_steps_with_the_same_verdicts(climbed: Path, tmp_path: Path) -> None:
    session = open_logbook(climbed)
    plan, wanted = (
        plan_again(session.snapshot),
        {r.step.setup: r.verdict for r in session.snapshot.steps if r.verdict is Verdict.HELD},
    )
    failed = [r for r in session.snapshot.steps if r.verdict is not Verdict.HELD]
    session.close()
    assert failed
    assert all(f"# not done again: step {r.step.number}, " in plan for r in failed)
    assert tomllib.loads(plan)["format"] == "yondle-plan 1"
    again = create_logbook(tmp_path / "again.yondle", RigChoice("simulated", "Heron", quick_rig()))
    again.do(RunBaseline(3))
    again.do(StartPlan(plan, "again", lambda *_: None))
    assert {r.step.setup: r.verdict for r in again.snapshot.steps} == wanted
    again.close()


def test_a_step_that_was_only_loaded_is_told_by_the_latest_figures_of_the_same_settings(
    new_session: Callable[..., Session],
) -> None:
    session = new_session(quick_rig())
    session.do(RunBaseline(2))
    scored, clock, power = session.snapshot.check(2), {"core_clock": 4300.0}, {"power_limit": 110.0}
    load = Check(tuple(stage for stage in scored.stages if stage.kind is not StageKind.SCORE))
    for origin, values, check in ((1, clock, load), (2, power, scored), (1, power, scored), (4, clock, load)):
        session.do(TryFrom(origin, values, check))
    assert session.snapshot.step(5).verdict is Verdict.HELD
    assert session.snapshot.step(5).step.setup == session.snapshot.step(3).step.setup
    assert not session.snapshot.step(5).scores("stacking")
    text = report_bytes(report_of(session.snapshot), ".md").decode()
    assert "Its figures were measured at step 3, with the same settings." in text
    assert "Nothing but stock is in force" not in text
    session.do(KeepProfile("Loaded", step=5))
    assert (
        "Loaded, other: Stacking "
        in report_bytes(report_of(session.snapshot), ".md").decode().split("Recommended settings")[1]
    )


def test_a_fresh_book_and_the_command_line_have_a_report_too(climbed: Path, tmp_path: Path) -> None:
    create_logbook(tmp_path / "fresh.yondle", RigChoice("simulated", "Heron", quick_rig())).close()
    for name in ("r.html", "r.pdf", "r.md"):
        assert run(["report", str(tmp_path / "fresh.yondle"), str(tmp_path / name)]) == 0
    assert b"no baseline yet" in (tmp_path / "r.html").read_bytes()
    made = tmp_path / "gains.html"
    assert run(["report", str(climbed), str(made), "--sections", "gains,again", "--question", "Worth it?"]) == 0
    page = made.read_text("utf-8")
    assert "Worth it?" in page
    assert 'id="gains"' in page
    assert 'id="path"' not in page
    assert run(["report", str(climbed), str(made), "--sections", "all"]) == 2
    assert run(["report", str(climbed), str(tmp_path / "no" / "r.html"), "--sections", "gains"]) == 2


def test_what_a_stretch_of_work_came_to_is_summed_up_and_scripts_get_an_exit_code(
    climbed: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    session = open_logbook(climbed)
    assert summary_words(session.snapshot, latest_attempt(session.snapshot)) == ""
    words = summary_words(session.snapshot, 1)
    session.close()
    assert words.startswith("3 tests in ")
    assert "2 held, 1 went down" in words
    assert "Most Stacking that held: step 3, Core clock 4\u202f400, +" in words
    book = tmp_path / "b.yondle"
    create_logbook(book, RigChoice("simulated", "Heron", quick_rig())).close()
    assert run(["baseline", str(book), "-n", "2"]) == 0
    assert run(["step", str(book), "core_clock=4100", "-n", "2", "--strict"]) == 0
    assert run(["step", str(book), "core_clock=5000", "-n", "2"]) == 0
    assert run(["again", str(book), "3", "-n", "2", "--strict"]) == 3
    plan = tmp_path / "plan.toml"
    plan.write_text(GRID, "utf-8")
    capsys.readouterr()
    assert run(["plan", "run", str(book), str(plan)]) == 0
    assert "1 test in " in capsys.readouterr().out
