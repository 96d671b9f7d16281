"""The guide in docs/guide.md: every command in it is run, in its order, and says what the guide says it does."""

from __future__ import annotations

import re
import shlex
from pathlib import Path
from typing import Any

import pytest
import typer.main

from yondle.app.session.opening import open_logbook
from yondle.cli.commands import build
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


def test_every_command_that_a_document_names_is_there_with_its_options() -> None:
    root: Any = typer.main.get_command(build(lambda _order: 0))
    wrong = []
    for document in (*DOCS.glob("*.md"), DOCS.parent / "README.md"):
        for line in re.findall(r"(?:^|`|sudo )(yondle [a-z][^`\n#]*)", document.read_text("utf-8"), re.MULTILINE):
            words, command = line.split()[1:], root
            while (
                words and hasattr(command, "get_command") and (found := command.get_command(None, words[0])) is not None
            ):
                command = found
                words.pop(0)
            if command is root:
                wrong.append(f"{document.name}: no command in '{line}'")
            known = {option for each in command.params for option in (*each.opts, *each.secondary_opts)}
            asked = {
                word.partition("=")[0].rstrip(".,;:)") for word in words if word.startswith("--") and len(word) > 2
            }
            wrong += [f"{document.name}: {option} in '{line}'" for option in asked - known - {"--help"}]
    assert wrong == []
