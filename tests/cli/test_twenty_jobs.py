"""Twenty jobs of the trade by command line (twenty_jobs.txt), and what every command has in common."""

from __future__ import annotations

import inspect
import shlex
import subprocess
import sys
from collections.abc import Iterator
from importlib import import_module
from pathlib import Path
from typing import Any

import pytest
import typer
from tests.cli.conftest import Said
from tests.conftest import quick_rig

from yondle.cli.commands import build
from yondle.cli.lazy import COMMANDS
from yondle.cli.terminal import console_for

SCRIPT = Path(__file__).with_name("twenty_jobs.txt")
WITHOUT_A_DOCUMENT = {"open", "agent"}
"""One shows a window, the other speaks a protocol."""


def test_the_twenty_jobs_answer_what_they_should(yondle: Said, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("COLUMNS", "400")
    dial = '[knobs.graphics_fan]\nwhen = "by hand, at once"\nreadable = false\n'
    Path("rig.toml").write_text(quick_rig().replace("[knobs.graphics_fan]\n", dial))
    job = said = ""
    code = wanted = 0
    lines = iter(SCRIPT.read_text("utf-8").splitlines())
    for line in lines:
        if line[:1].isdigit():
            job = line
        elif line.startswith("file "):
            Path(line.removeprefix("file ")).write_text("".join(f"{each}\n" for each in _until_end(lines)))
        elif line.startswith("$ "):
            assert code == wanted, (job, said)
            code, said = _answer(yondle, shlex.split(line[2:]))
            wanted = 0
            assert ".." not in said.replace("…", ""), (line, "two periods at an end", said)
        elif line.startswith("code: "):
            wanted = int(line.removeprefix("code: "))
        elif line.startswith("not: "):
            assert line.removeprefix("not: ") not in said, (job, line, said)
        elif job and line.strip():
            assert line.strip() in said, (job, line, said)
    assert code == wanted, (job, said)
    assert job.startswith("20."), "the script was read to its end"


def _until_end(lines: Iterator[str]) -> Iterator[str]:
    for line in lines:
        if line == "end":
            return
        yield line


def _answer(yondle: Said, arguments: list[str]) -> tuple[int, str]:
    if arguments[0] == "read":
        return 0, _plain(Path(arguments[1]).read_text("utf-8"))
    code, out, err = yondle(*arguments)
    return code, _plain(out + err)


def _plain(words: str) -> str:
    return words.replace("\u202f", " ")


def commands(of: Any, path: tuple[str, ...] = ()) -> Iterator[tuple[str, Any]]:
    for name, each in getattr(of, "commands", {}).items():
        yield from commands(each, (*path, name))
    if not hasattr(of, "commands"):
        yield " ".join(path), of


def test_every_command_has_a_document_for_scripts() -> None:
    app = typer.main.get_command(build(lambda _: 0))
    without = {name for name, each in commands(app) if not any("--json" in p.opts for p in each.params)}
    assert without == WITHOUT_A_DOCUMENT


def test_the_list_of_commands_knows_them_all_and_says_what_they_say(yondle: Said) -> None:
    """Help lists commands without making them, so the list is held against them here."""
    made = typer.main.get_command(build(lambda _: 0)).commands  # type: ignore[attr-defined]
    for name, place in COMMANDS.items():
        assert inspect.cleandoc(made[name].help).split("\n\n")[0].replace("\n", " ") == place.help, name
    modules = {place.module for place in COMMANDS.values()}
    adders = {(place.module, place.adds) for place in COMMANDS.values()}
    for module, adds in adders:
        app = typer.Typer()
        getattr(import_module(f"yondle.cli.{module}"), adds)(app, console_for())
        assert set(typer.main.get_group(app).commands) <= set(COMMANDS), "every command that is made is listed"
    assert len(modules) > 8
    assert all(f"  {name} " in yondle("--help")[1] for name in COMMANDS)


@pytest.mark.parametrize("language", ["en", "de"])
def test_version_help_and_the_names_of_commands_load_nothing_heavy(
    language: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What only lists or names the commands is done before anything that measures, draws or stores is loaded."""
    monkeypatch.setenv("YONDLE_LANGUAGE", language)
    heavy = ("numpy", "scipy", "sqlite3", "pydantic", "PySide6", "rich", "yondle.app", "yondle.engine")
    for arguments in (["--version"], ["--help"]):
        code = (
            "import sys\nfrom yondle.main import run\nrun(sys.argv[1:])\n"
            f"print([name for name in {heavy!r} if name in sys.modules], file=sys.stderr)"
        )
        done = subprocess.run(
            [sys.executable, "-c", code, *arguments], capture_output=True, text=True, check=True, timeout=60
        )
        assert done.stderr.splitlines()[-1] == "[]", (arguments, done.stderr)
