"""How the tests of the command line call it, and a book to call it on."""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from tests.conftest import quick_rig

from yondle.app.session.opening import machine_file
from yondle.main import run

Said = Callable[..., tuple[int, str, str]]


@pytest.fixture
def yondle(capsys: pytest.CaptureFixture[str]) -> Said:
    def call(*arguments: str) -> tuple[int, str, str]:
        code = run(list(arguments))
        out, err = capsys.readouterr()
        return code, out, err

    return call


@pytest.fixture
def book(tmp_path: Path, yondle: Said) -> Path:
    rig = tmp_path / "rig.toml"
    rig.write_text(quick_rig())
    path = tmp_path / "book.yondle"
    assert yondle("new", str(path), "--rig", str(rig))[0] == 0
    assert yondle("baseline", str(path), "-n", "2")[0] == 0
    return path


def until_set(book: Path, knob: str, value: float) -> None:
    """Wait until another program has set a knob of the book's simulated rig; fails after a minute."""
    limit = time.monotonic() + 60
    while json.loads(machine_file(book).read_text())["values"][knob] != value:
        assert time.monotonic() < limit, f"{knob} was never set to {value}"
        time.sleep(0.02)
