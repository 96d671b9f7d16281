"""A log of another program's sensors: its columns are told once, and it is looked at in Traces like a test."""

from __future__ import annotations

from pathlib import Path

import pytest
from tests.conftest import quick_rig
from tests.desktop.conftest import Open
from tests.desktop.driving import words

from yondle.app.machine.machines import RigChoice
from yondle.app.session.opening import create_logbook
from yondle.app.session.testing import RunBaseline
from yondle.main import run

HEAD = "when,hot spot,clock,draw\n"


def log_of(path: Path, base: float) -> Path:
    rows = "".join(f"{t},{base + t / 10:.1f},{4200 - t},{'' if t == 5 else 90 + t}\n" for t in range(60))
    path.write_text(HEAD + rows, "utf-8")
    return path


def test_a_log_of_sensors_is_read_once_told_and_shown_over_time(
    open_book: Open, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    book = tmp_path / "book.yondle"
    session = create_logbook(book, RigChoice("simulated", "Heron", quick_rig()))
    session.do(RunBaseline(2))
    session.close()
    first, second = log_of(tmp_path / "first.csv", 40.0), log_of(tmp_path / "second.csv", 50.0)
    assert run(["import", "sensors", str(book), "1", str(first)]) == 2
    assert "It has: when, hot spot, clock, draw" in capsys.readouterr().err
    told = [
        "--time",
        "when",
        "--column",
        "hot spot=Hot spot in °C",
        "--column",
        "clock=Core in MHz",
        "--column",
        "draw=Draw in W",
    ]
    assert run(["import", "sensors", str(book), "1", str(first), *told]) == 0
    assert run(["import", "sensors", str(book), "1", str(second)]) == 0
    window = open_book(book)
    window.go_to(4)
    place = window.places.place("Traces")
    assert place is not None
    assert [r.words for r in place._runs[-2:]] == ["Step 1 · log second.csv", "Step 1 · log first.csv"]
    place.choose_run(place._runs[-1].attempt)
    assert "read from another program" in words(place)
    assert place.view is not None
    rows = {row.name: row for row in place.view.rows}
    assert (rows["Hot spot, °C"].lowest, rows["Hot spot, °C"].highest) == ("40.0", "45.9")
    assert rows["Draw, W"].highest == "149.0"
    place.choose_second(place._runs[-2].attempt)
    assert place.view is not None
    assert next(r for r in place.view.rows if r.name == "Hot spot, °C").apart == "\u221210.0"
