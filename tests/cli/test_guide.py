"""The guide in docs/guide.md: every command in it is run, in its order, and says what the guide says it does."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

import pytest

from yondle.app.session.opening import open_logbook
from yondle.main import run
from yondle.model.verdicts import Verdict

DOCS = Path(__file__).parents[2] / "docs"
TEXT = (DOCS / "guide.md").read_text("utf-8")


def test_every_step_of_the_guide_does_what_it_says(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(tmp_path)
    plan = re.search(r"```toml\n(.*?)```", TEXT, re.DOTALL)
    assert plan is not None
    Path("sweep.toml").write_text(plan[1], "utf-8")
    commands = [
        line for block in re.findall(r"```sh\n(.*?)```", TEXT, re.DOTALL) for line in block.splitlines() if line
    ]
    said: dict[str, str] = {}
    for line in commands:
        name, *arguments = shlex.split(line)
        assert name == "yondle"
        assert run(arguments) == 0, line
        said[line] = capsys.readouterr().out
    assert len(commands) > 15
    assert "answer to core clock" in " ".join(said["yondle scaling night.yondle core_clock"].split())
    assert "capped" in said["yondle scaling night.yondle core_clock"]
    seen = said["yondle map night.yondle core_clock power_limit"].replace("\u202f", " ")
    rows = [line.split("  ")[0] for line in seen.splitlines()]
    assert {"105 W", "95 W"} <= set(rows), "a map of one row is none"
    assert "step" in said["yondle log night.yondle --kind incident"]
    session = open_logbook(Path("night.yondle"))
    far = next(r for r in session.snapshot.steps if r.step.setup["core_clock"] == 4900.0)
    assert far.verdict in (Verdict.DOWN, Verdict.WRONG)
    assert session.snapshot.step(5).verdict is Verdict.HELD
    assert session.snapshot.in_force == session.declaration.stock
    session.close()
    page = Path("night.html").read_text("utf-8")
    assert "the shed door was open" in page
    assert "Planet night" in page
    assert Path("night.pdf").read_bytes().startswith(b"%PDF")


def test_the_pictures_of_the_guide_are_there() -> None:
    pictures = re.findall(r"!\[.*?\]\((.*?)\)", TEXT)
    assert len(pictures) >= 5
    assert all((DOCS / picture).is_file() for picture in pictures)
