"""A terminal whose locale isn't UTF-8 gets plain characters, in every language, and no command ends in a fault."""

from __future__ import annotations

import io
import subprocess
import sys
from pathlib import Path

import pytest

from yondle.cli.plain import speak_plainly
from yondle.cli.shown import print_json


@pytest.mark.parametrize(
    ("encoding", "language"), [("ascii", "en"), ("ascii", "de"), ("latin-1", "de"), ("cp437", "en")]
)
def test_every_command_speaks_where_the_locale_knows_few_characters(
    measured: Path, language: str, encoding: str
) -> None:
    env = {
        "PYTHONIOENCODING": encoding,
        "YONDLE_LANGUAGE": language,
        "PATH": "/usr/bin:/bin",
        "HOME": str(measured.parent),
    }
    for command in (
        ["status"],
        ["log"],
        ["scaling"],
        ["limits"],
        ["--help"],
        ["step", "--help"],
        ["status", "no such ⟦ book"],
    ):
        names = [str(measured)] if "--help" not in command and len(command) == 1 else []
        done = subprocess.run(
            [sys.executable, "-m", "yondle.main", *command, *names], capture_output=True, check=False, env=env
        )
        said = done.stdout + done.stderr
        assert done.returncode in (0, 2), said
        assert said.decode(encoding), "it is text in that encoding"
        for words in (b"fault of the program", b"Fehler des Programms", b"Traceback"):
            assert words not in said


def test_marks_stay_apart_and_accents_are_lost_rather_than_letters(monkeypatch: pytest.MonkeyPatch) -> None:
    kept = io.BytesIO()
    out = io.TextIOWrapper(kept, "ascii")
    monkeypatch.setattr("sys.stdout", out)
    speak_plainly()
    print("●◐▲☒◆○ −13,4\u202f% ± 7,6 · é → „Prüfung“ \U0001f600")
    print_json({"name": "Prüfung"})
    out.flush()
    first, *rest = kept.getvalue().decode("ascii").splitlines()
    assert first == '*%^X#o -13,4 % +- 7,6 - e -> "Pruefung" ?'
    assert any("Pruefung" in line for line in rest)
