"""The command line as shells and scripts meet it: what it completes, how it keeps quiet, colours and progress."""

from __future__ import annotations

import json
import os
import pty
import subprocess
import sys
from pathlib import Path

import pytest
from pydantic import ValidationError
from tests.conftest import quick_rig
from tools import output_schema

from yondle.app.machine.machines import RigChoice
from yondle.app.profiles.profiles import KeepProfile
from yondle.app.session.opening import create_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.main import run

PROGRAM = [sys.executable, "-c", "import sys; from yondle.main import main; sys.argv[0] = 'yondle'; main()"]


@pytest.fixture
def book(tmp_path: Path) -> Path:
    path = tmp_path / "b.yondle"
    session = create_logbook(path, RigChoice("simulated", "Heron", quick_rig()))
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4300.0))
    session.do(TryProposal(2))
    session.do(KeepProfile("Planet night"))
    session.close()
    return path


def completed(*words: str) -> list[str]:
    """Ask as bash does for what the last word may become."""
    told = {
        **os.environ,
        "_YONDLE_COMPLETE": "complete_bash",
        "COMP_WORDS": " ".join(("yondle", *words)),
        "COMP_CWORD": str(len(words)),
    }
    done = subprocess.run(PROGRAM, env=told, capture_output=True, text=True, check=False)
    return [line.split(",")[-1] for line in done.stdout.splitlines() if line]


def test_knobs_steps_profiles_and_rigs_are_completed_from_the_logbook(book: Path, tmp_path: Path) -> None:
    assert "core_clock=" in completed("step", str(book), "core_")
    assert completed("edge", str(book), "core_c") == ["core_clock"]
    assert set(completed("back", str(book), "")) == {"1", "2"}
    assert "Planet night" in completed("profile", "use", str(book), "Pla")
    assert "heron-ii" in completed("new", str(tmp_path / "n.yondle"), "--rig", "her")
    assert completed("edge", str(tmp_path / "none.yondle"), "core") == [], "without a logbook nothing is known"
    assert "baseline" in completed("base")


def test_quiet_says_nothing_but_troubles_and_what_was_asked_for(book: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert run(["step", str(book), "core_clock=4350", "--passes", "2", "--quiet"]) == 0
    told = capsys.readouterr()
    assert (told.out, told.err) == ("", "")
    assert run(["--quiet", "status", str(book), "--json"]) == 0
    assert '"format": "yondle-output 1"' in capsys.readouterr().out
    assert run(["step", str(book), "core_clok=4350", "--quiet"]) == 2
    assert "core_clock" in capsys.readouterr().err, "a mistyped knob is told, with the one that is meant"
    assert run(["status", str(book)]) == 0
    assert "Core clock" in capsys.readouterr().out, "it goes for one command line"


@pytest.mark.parametrize("no_colour", [False, True])
def test_colours_and_a_bar_on_a_terminal_and_no_colours_where_they_are_not_wanted(book: Path, no_colour: bool) -> None:
    ours, theirs = pty.openpty()
    told = {**os.environ, "TERM": "xterm-256color", "COLUMNS": "100", "PYTHONIOENCODING": "utf-8"}
    told.pop("NO_COLOR", None)
    told |= {"NO_COLOR": "1"} if no_colour else {}
    program = [*PROGRAM, "step", str(book), "core_clock=4400", "--passes", "2", "--pace", "400"]
    with subprocess.Popen(program, env=told, stdout=theirs, stderr=theirs, stdin=theirs, close_fds=True) as running:
        os.close(theirs)
        seen = b""
        while True:
            try:
                part = os.read(ours, 4096)
            except OSError:
                break
            if not part:
                break
            seen += part
        running.wait()
    os.close(ours)
    text = seen.decode("utf-8", "replace")
    assert "━" in text, "a bar that fills"
    assert " left" in text
    coloured = "\x1b[3" in text or "\x1b[1;3" in text or "\x1b[38" in text
    assert coloured is not no_colour


def test_documents_are_what_their_schema_says_one_a_command(book: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert output_schema.PATH.read_text("utf-8") == output_schema.schema(), "python -m tools.output_schema"

    def printed(*words: str, code: int = 0) -> dict[str, object]:
        assert run([*words, "--json"]) == code
        return json.loads(capsys.readouterr().out)

    kinds = output_schema
    for kind, words in (
        (kinds.State, ("status", str(book))),
        (kinds.Step, ("step", str(book), "core_clock=4350", "--passes", "2")),
        (kinds.Step, ("again", str(book), "3", "--passes", "2")),
        (kinds.State, ("back", str(book), "2")),
        (kinds.Done, ("note", str(book), "2", "quiet")),
        (kinds.Other, ("benchmarks", str(book))),
        (kinds.Other, ("scaling", str(book), "core_clock")),
    ):
        kind.model_validate(printed(*words))
    kinds.Failed.model_validate(printed("step", str(book), "core_clok=1", code=2))
    with pytest.raises(ValidationError):
        kinds.Step.model_validate(printed("status", str(book)))
