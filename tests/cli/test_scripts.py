"""What scripts rely on: exit codes, one document whatever happens, and lines that nobody has wrapped."""

from __future__ import annotations

import io
import json
import signal
import subprocess
import sys
from pathlib import Path

import pytest
from tests.cli.conftest import Said, until_set

from yondle.app.session.opening import open_logbook
from yondle.app.session.progress import Progress
from yondle.app.session.proposing import Propose
from yondle.app.session.testing import TryProposal
from yondle.cli.shown import TOLD_EVERY_S, ProgressLine
from yondle.model.events import PassOpened

PLAN = """
format = "yondle-plan 1"
name = "two"
passes = 2
[[do]]
kind = "steps"
steps = [{ core_clock = 4300 }, { core_clock = 4325 }]
"""


@pytest.fixture(autouse=True)
def no_terminal(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv("COLUMNS", raising=False)


def test_errors_are_documents_too_for_whoever_asked_for_one(yondle: Said, book: Path, tmp_path: Path) -> None:
    code, out, err = yondle("step", str(book), "corclock=1", "--json")
    told = json.loads(out)
    assert code == 2
    assert told["format"] == "yondle-output 1"
    assert "corclock" in told["error"]["problem"]
    assert told["error"]["remedy"] == "Did you mean core_clock?"
    assert err.startswith("yondle: ")
    assert json.loads(yondle("status", str(book), "--json")[1])["format"] == "yondle-output 1"
    assert yondle("status", str(tmp_path / "none.yondle"))[1] == ""


def test_files_of_kinds_there_are_none_of_are_refused_and_nothing_is_made(
    yondle: Said, book: Path, tmp_path: Path
) -> None:
    for asked in (("export", str(book), str(tmp_path / "x.xlsx")), ("new", str(tmp_path / "bad.txt"))):
        code, _, err = yondle(*asked)
        assert (code, "End " in err) == (2, True)
    assert not [each.name for each in tmp_path.iterdir() if each.name.startswith(("x.", "bad."))]
    code, out, _ = yondle("export", str(book), "-")
    assert code == 0
    assert json.loads(out)["format"] == "yondle-logbook 2"


def test_nothing_is_wrapped_where_there_is_no_terminal(
    yondle: Said, book: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    out = yondle("status", str(book))[1]
    assert max(len(line) for line in out.splitlines()) > 200
    monkeypatch.setenv("COLUMNS", "80")
    out = yondle("status", str(book))[1]
    assert max(len(line) for line in out.splitlines()) <= 80


def test_a_table_that_is_too_wide_is_turned_and_nothing_in_it_is_cut(
    yondle: Said, book: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for value in ("4100", "4300"):
        assert yondle("step", str(book), f"core_clock={value}", "-n", "2")[0] == 0
    wide, narrow = {}, {}
    for columns, said in (("200", wide), ("44", narrow)):
        monkeypatch.setenv("COLUMNS", columns)
        for command in (("scaling", "core_clock"), ("compare", "stock", "2", "3"), ("log", "--kind", "pass")):
            said[command] = yondle(command[0], str(book), *command[1:])[1]
    for command, shown in narrow.items():
        assert max(len(line) for line in shown.splitlines()) <= 44, command
        figures = {word for word in wide[command].split() if any(letter.isdigit() for letter in word)}
        assert figures <= set(shown.split()), (command, "every figure of the table is there")
    assert "\n  Sharpening  " in narrow["scaling", "core_clock"]


def test_where_there_is_no_terminal_a_line_a_minute_tells_what_is_at_hand(
    book: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    heard, session, now = io.StringIO(), open_logbook(book), [0.0]
    monkeypatch.setattr(sys, "stderr", heard)
    try:
        line = ProgressLine(Progress(session.declaration), lambda _: 600.0, lambda: now[0])

        def take(record: object) -> None:
            now[0] += TOLD_EVERY_S / 4 if isinstance(record, PassOpened) else 0.0
            line.take(record)  # type: ignore[arg-type]

        session.subscribe(take)
        session.do(Propose("core_clock", 4300))
        attempt = session.do(TryProposal(2)).attempts[-1]
    finally:
        session.close()
    told = heard.getvalue().splitlines()
    assert len(told) == len(attempt.all_passes) // 4
    assert all(each.startswith("step 2 · pass ") for each in told)


def test_turns_can_be_left_out_of_a_step_and_of_a_plan(book: Path, tmp_path: Path, yondle: Said) -> None:
    plan, took = tmp_path / "plan.toml", []
    for turns in ("", "turns = false\n"):
        plan.write_text(PLAN.replace("[[do]]", f"{turns}[[do]]"))
        took.append(json.loads(yondle("plan", "check", str(book), str(plan), "--json")[1])["seconds"])
    assert took[1] < 0.75 * took[0]
    assert yondle("plan", "run", str(book), str(plan))[0] == 0
    assert yondle("step", str(book), "core_clock=4350", "-n", "2", "--without-turns")[0] == 0
    assert yondle("step", str(book), "core_clock=4375", "-n", "2")[0] == 0
    session = open_logbook(book)
    alone = [not attempt.compared for record in session.snapshot.steps[1:] for attempt in record.attempts]
    session.close()
    assert alone == [True, True, True, False]


def test_ctrl_c_before_anything_was_begun_is_a_document_too(
    book: Path, yondle: Said, monkeypatch: pytest.MonkeyPatch
) -> None:
    def interrupted(*_: object) -> None:
        raise KeyboardInterrupt

    for early in ("yondle.cli.status_command.open_logbook", "yondle.cli.commands.build"):
        monkeypatch.setattr(early, interrupted)
        code, out, err = yondle("status", str(book), "--json")
        assert (code, json.loads(out)["error"]["problem"], err.count("\n")) == (130, "Ended by Ctrl+C.", 1)


def test_a_plan_that_ctrl_c_ended_goes_on(book: Path, tmp_path: Path, yondle: Said) -> None:
    plan = tmp_path / "plan.toml"
    plan.write_text(PLAN)
    command = [sys.executable, "-m", "yondle.main", "plan", "run", str(book), str(plan), "--pace", "20", "--json"]
    running = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    until_set(book, "core_clock", 4300.0)
    running.send_signal(signal.SIGINT)
    out, _ = running.communicate(timeout=60)
    assert running.returncode == 130
    told = json.loads(out)
    assert (told["position"], told["plan"]["ended"]) == (1, "stopped by the tuner")
    code, out, _ = yondle("plan", "go-on", str(book), "--json")
    told = json.loads(out)
    assert (code, told["plan"]["ended"], told["in_force"]["core_clock"]) == (0, "done", 4325.0)
