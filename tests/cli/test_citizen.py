"""Yondle on a desktop and seen from outside: menu entry and kind of file, manual, completion, watching, kept awake."""

from __future__ import annotations

import configparser
import json
import os
import shutil
import subprocess
import sys
from pathlib import Path
from xml.etree import ElementTree

import pytest
from tests.conftest import quick_rig
from tools.manpage import page

from yondle.app.books.watching import watch
from yondle.app.machine.machines import RigChoice
from yondle.app.session.opening import create_logbook
from yondle.app.session.testing import RunBaseline, TryFrom
from yondle.app.system.awake import KeepsAwake
from yondle.app.system.desktop_entries import running_command
from yondle.app.system.integrate import ID, PLACES, integrate, take_out
from yondle.main import run
from yondle.model.errors import KnownError
from yondle.model.events import AttemptClosed, PassOpened, StepOpened


def test_the_desktop_gets_a_menu_entry_icons_and_a_kind_of_file_and_gives_them_back(tmp_path: Path) -> None:
    assert run(["integrate", "--share", str(tmp_path)]) == 0
    made = {name: tmp_path / folder / name for name, folder in PLACES.items()}
    assert all(path.is_file() for path in made.values())
    entry = configparser.ConfigParser(interpolation=None)
    entry.optionxform = str  # type: ignore[assignment,method-assign]
    entry.read(made[f"{ID}.desktop"], "utf-8")
    own = entry["Desktop Entry"]
    assert own["MimeType"] == "application/vnd.yondle.logbook;"
    assert own["Exec"].endswith(" open %f")
    kinds = ElementTree.parse(made[f"{ID}.mime.xml"]).getroot()
    assert "*.yondle" in {e.get("pattern") for e in kinds.iter() if e.tag.endswith("glob")}
    for name in (f"{ID}.svg", "net.yondle.logbook.svg", f"{ID}.metainfo.xml"):
        ElementTree.parse(made[name])
    if shutil.which("desktop-file-validate"):
        subprocess.run(["desktop-file-validate", str(made[f"{ID}.desktop"])], check=True)
    assert run(["integrate", "--share", str(tmp_path), "--remove"]) == 0
    assert not any(path.exists() for path in made.values())
    integrate(tmp_path, ('a b/"$yondle',))
    assert r'Exec="a b/\\"\\$yondle" open %f' in made[f"{ID}.desktop"].read_text("utf-8")
    assert len(take_out(tmp_path)) == len(PLACES)
    (tmp_path / "file").write_text("")
    with pytest.raises(KnownError, match="can't be written"):
        integrate(tmp_path / "file")


def test_the_menu_starts_the_yondle_that_made_the_entry_wherever_it_lies(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    program = tmp_path / "pipx/bin/yondle"
    program.parent.mkdir(parents=True)
    program.write_text("#!/bin/sh\n")
    program.chmod(0o755)
    monkeypatch.setattr("sys.argv", [str(program), "integrate"])
    assert run(["integrate", "--share", str(tmp_path)]) == 0
    entry = (tmp_path / PLACES[f"{ID}.desktop"] / f"{ID}.desktop").read_text("utf-8")
    assert f"Exec={program} open %f" in entry
    assert f"TryExec={program}\n" in entry
    monkeypatch.setattr("sys.argv", ["-m"])
    monkeypatch.setattr("sys.executable", "/opt/one/python3")
    assert running_command() == ("/opt/one/python3", "-m", "yondle.main")
    integrate(tmp_path, running_command())
    assert (
        "Exec=/opt/one/python3 -m yondle.main open %f"
        in (tmp_path / PLACES[f"{ID}.desktop"] / f"{ID}.desktop").read_text()
    )


def test_a_logbook_is_what_the_kind_of_file_looks_for(tmp_path: Path) -> None:
    create_logbook(tmp_path / "b.yondle", RigChoice("simulated", "Heron", quick_rig())).close()
    head = (tmp_path / "b.yondle").read_bytes()[:72]
    assert head.startswith(b"SQLite format 3")
    assert head[68:72] == b"YNDL"


def test_the_manual_and_completion_know_every_command() -> None:
    manual = page()
    for command in ("yondle baseline", "yondle plan run", "yondle report", "yondle watch", "yondle profile keep"):
        assert f".SS {command}" in manual
    command = [sys.executable, "-c", "import sys; from yondle.main import main; sys.argv[0] = 'yondle'; main()"]
    for shell in ("bash", "zsh", "fish"):
        made = subprocess.run(
            command, env={**os.environ, "_YONDLE_COMPLETE": f"source_{shell}"}, capture_output=True, text=True
        )
        assert "yondle" in made.stdout


def test_a_running_test_is_watched_from_outside_and_its_end_is_an_exit_code(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    path = tmp_path / "b.yondle"
    session = create_logbook(path, RigChoice("simulated", "Heron", quick_rig()))
    session.do(RunBaseline(2))
    seen = []
    session.subscribe(
        lambda record: seen.append(watch(path)) if isinstance(record, PassOpened) and len(seen) < 12 else None
    )
    session.do(TryFrom(1, {"core_clock": 4100.0}, None))
    session.do(TryFrom(1, {"core_clock": 5000.0}, None))
    session.close()
    during = seen[-1]
    assert during.running is not None
    assert during.running.startswith("Step 2")
    assert "of about" in during.passes
    assert dict(during.readings)
    after = watch(path)
    assert after.running is None
    assert after.failed == 1
    assert after.done[0][0].startswith("Step 3")
    assert run(["watch", str(path), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["tests"] == 3
    assert run(["watch", str(path), "--until-done"]) == 0
    assert run(["watch", str(path), "--once"]) == 0
    assert "1 went down or gave wrong results" in capsys.readouterr().out
    assert run(["watch", str(tmp_path / "gone.yondle"), "--once"]) == 2


def test_the_machine_is_kept_awake_while_a_test_runs_and_no_longer(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    tool, told = tmp_path / "systemd-inhibit", tmp_path / "told"
    tool.write_text(f'#!/bin/sh\necho "$@" > {told}\ncat > /dev/null\necho over >> {told}\n')
    tool.chmod(0o755)
    monkeypatch.setenv("PATH", f"{tmp_path}:{os.environ['PATH']}")
    awake = KeepsAwake()
    opened, closed = StepOpened.__new__(StepOpened), AttemptClosed.__new__(AttemptClosed)
    awake.take(opened)
    awake.take(opened)
    holding = awake._holding
    assert holding is not None
    assert holding.poll() is None
    awake.take(closed)
    assert holding.poll() is not None
    assert "--what=sleep:idle" in told.read_text()
    assert told.read_text().endswith("over\n")
    awake.let_go()
    assert awake._holding is None
