"""Workloads of the user's own, and figures that were measured elsewhere, as a logbook about this machine keeps them."""

from __future__ import annotations

import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from xml.etree import ElementTree

import pytest

from yondle.app.machine import own_things
from yondle.app.machine.machines import choose_rig
from yondle.app.session.limits import ChooseBenchmarks
from yondle.app.session.measuring import AddWorkload, RemoveWorkload
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.results import (
    ImportFrames,
    ImportScores,
    ImportSensors,
    MeasuredWith,
    TypeIn,
)
from yondle.app.system.helper_install import install, install_packaged, remove
from yondle.main import run
from yondle.model.errors import KnownError
from yondle.model.verdicts import Failure
from yondle.model.workloads import Direction, PassResult
from yondle.rigs.linux.privilege import LOCAL, PACKAGED, HelperPlace
from yondle.views.shared.gains import gain_of
from yondle.workloads.command_file import parse_command
from yondle.workloads.commands import CommandRun

FILE = """
format = "yondle-workload 1"
id = "render"
name = "Render"
command = {command}
at_most_s = {at_most}
{more}
[score]
pattern = 'total:\\s*([\\d.,\\s]+) s'
unit = "s"
better = "lower"
[parts.shading]
pattern = 'shading ([\\d.]+)'
unit = "s"
"""


def described(code: str, at_most: float = 20.0, more: str = "") -> str:
    return FILE.format(command=[sys.executable, "-c", code], at_most=at_most, more=more)


def result_of(code: str, at_most: float = 20.0, more: str = "") -> PassResult:
    run = CommandRun(parse_command(described(code, at_most, more), "a test"), time.monotonic)
    limit = time.monotonic() + 20
    try:
        while (result := run.poll()) is None:
            assert time.monotonic() < limit
            time.sleep(0.005)
        return result
    finally:
        run.stop()


def test_the_last_number_a_command_prints_is_its_score_and_sub_scores_go_with_it() -> None:
    result = result_of("print('total: 9 s'); print('shading 1.5'); print('total: 1,204.5 s')")
    assert (result.ok, result.score, result.measured.parts["shading"]) == (True, 1204.5, 1.5)
    assert result_of("print('shading 2 total: 1.204,5 s')", more="decimal_comma = true").score == 1204.5


@pytest.mark.parametrize(
    ("code", "failure", "says"),
    [
        ("print('nothing')", Failure.NOT_RUN, "no number for a score"),
        ("print('total: 3 s')", Failure.NOT_RUN, "sub-score 'shading'"),
        ("raise SystemExit('out of film')", Failure.PROGRAM_CRASHED, "out of film"),
        ("import os; os.abort()", Failure.PROGRAM_CRASHED, "gave up"),
        ("import time; time.sleep(60)", Failure.PROGRAM_HUNG, "not ended"),
    ],
)
def test_a_command_that_fails_says_how(code: str, failure: Failure, says: str) -> None:
    result = result_of(code, at_most=0.5 if failure is Failure.PROGRAM_HUNG else 20.0)
    assert (result.ok, result.failure) == (False, failure.value)
    assert says in result.detail


@pytest.mark.parametrize(
    ("wrong", "says"),
    [
        (("total:\\s*([\\d.,\\s]+) s", "(a)(b)"), "2 groups"),
        (("total:\\s*([\\d.,\\s]+) s", "("), "no pattern"),
        (('id = "render"', 'id = "Render it"'), "id"),
        (("at_most_s = 20.0", "at_most_s = -1"), "at_most_s"),
        (("at_most_s = 20.0", 'folder = "here"'), "absolute"),
        (("at_most_s = 20.0", "shell = true"), "unknown key"),
    ],
)
def test_a_file_that_describes_no_workload_says_why(wrong: tuple[str, str], says: str) -> None:
    with pytest.raises(KnownError, match=says):
        parse_command(described("pass").replace(*wrong), "a file")


@pytest.fixture
def home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    return tmp_path


def test_a_command_from_another_is_not_run_before_it_is_allowed_here(home: Path) -> None:
    book = home / "this.yondle"
    session = create_logbook(book, choose_rig("this"))
    session.do(AddWorkload(described("print('total: 2 s shading 1')"), "a file"))
    session.close()
    session = open_logbook(book)
    assert "render" not in {w.id for w in session.declaration.workloads}
    waiting = own_things.not_allowed(session.snapshot.kept)
    assert [asked.name for asked in waiting] == ["Render"]
    waiting[0].allow()
    session.close()
    session = open_logbook(book)
    assert "render" in {w.id for w in session.declaration.benchmarks}
    session.do(ChooseBenchmarks(("render",)))
    assert [w.id for w in session.declaration.benchmarks] == ["render"]
    with pytest.raises(KnownError, match="no workload called 'sing'"):
        session.do(ChooseBenchmarks(("sing",)))
    session.do(RemoveWorkload("render"))
    session.close()


def test_figures_typed_in_or_imported_count_as_gains_like_any_other(measured: Path, tmp_path: Path) -> None:
    session = open_logbook(measured)
    told = MeasuredWith("high", "meridian", "after a fresh start", (("1 % low", 41.0),))
    for base, step in ((60.1, 66.0), (60.4, 66.3), (60.2, 66.2), (60.0, 66.1)):
        session.do(TypeIn(1, "Sky tour", base, "frames/s", Direction.HIGHER, told))
        added = session.do(TypeIn(2, "Sky tour", step, "frames/s", Direction.HIGHER, told))
    assert added.measured.told["preset"] == "high"
    workload = session.declaration.workload(added.workload)
    gained = gain_of(session.snapshot, session.snapshot.step(2), workload)
    assert gained is not None
    assert gained.low > 0.08
    assert workload.id not in {name for stage in session.snapshot.check().stages for name in stage.workloads}
    with pytest.raises(KnownError, match="is kept in frames/s"):
        session.do(TypeIn(1, "sky tour", 60.0, "s", Direction.LOWER, MeasuredWith()))
    with pytest.raises(KnownError, match="run by Yondle"):
        session.do(TypeIn(1, "Stacking", 60.0, "", Direction.HIGHER, MeasuredWith()))
    with pytest.raises(KnownError, match="no score"):
        session.do(TypeIn(1, "Sky tour", -1.0, "frames/s", Direction.HIGHER, MeasuredWith()))
    table = tmp_path / "scores.csv"
    table.write_text("Programm;Zeit\nEntwickeln;12,5\nStapeln;1.030,75\n", "utf-8")
    found = session.do(
        ImportScores(2, table, ("Programm", "Zeit"), "s", Direction.LOWER, MeasuredWith(), decimal_comma=True)
    )
    assert [each.score for each in found] == [12.5, 1030.75]
    with pytest.raises(KnownError, match="row 1 of column 'Zeit' is no number"):
        session.do(ImportScores(2, table, ("Programm", "Zeit"), "s", Direction.LOWER, MeasuredWith()))
    with pytest.raises(KnownError, match="It has: Programm, Zeit"):
        session.do(ImportScores(2, table, ("Name", "Zeit"), "s", Direction.LOWER, MeasuredWith()))
    mixed = tmp_path / "mixed.csv"
    mixed.write_text("clock,name,score,unit,empty\n4200,Sky,61.0,frames/s,\n4300,Sky,63.0,frames/s,\n", "utf-8")
    kept = session.snapshot.step(2).added
    with pytest.raises(KnownError, match="has more columns: clock, unit") as refused:
        session.do(ImportScores(2, mixed, ("name", "score"), "frames/s", Direction.HIGHER, MeasuredWith()))
    assert "several settings" in refused.value.remedy
    with pytest.raises(KnownError, match="has more columns: clock"):
        session.do(
            ImportScores(2, mixed, ("name", "score"), "frames/s", Direction.HIGHER, MeasuredWith(), left=("Unit",))
        )
    with pytest.raises(KnownError, match="has no column 'clok'"):
        session.do(
            ImportScores(
                2, mixed, ("name", "score"), "frames/s", Direction.HIGHER, MeasuredWith(), left=("clok", "unit")
            )
        )
    assert session.snapshot.step(2).added == kept, "nothing was kept of what was refused"
    both = session.do(
        ImportScores(2, mixed, ("2", "3"), "frames/s", Direction.HIGHER, MeasuredWith(), left=("clock", "unit"))
    )
    assert [each.score for each in both] == [61.0, 63.0]
    session.close()
    again = open_logbook(measured)
    assert [a.score for a in again.snapshot.step(2).added][-4:] == [12.5, 1030.75, 61.0, 63.0]
    again.close()


def test_frame_times_give_average_lows_and_late_frames(measured: Path, tmp_path: Path) -> None:
    session = open_logbook(measured)
    stamps = tmp_path / "frames.csv"
    times = [10.0] * 98 + [20.0, 40.0]
    moments = [sum(times[:i]) / 1000 for i in range(len(times) + 1)]
    stamps.write_text("frame,when\n" + "".join(f"{i},{t:.6f}\n" for i, t in enumerate(moments)))
    added = session.do(ImportFrames(1, stamps, "Sky tour", "when", "s", MeasuredWith(), stamps=True))
    assert added.score == pytest.approx(1000 * 100 / sum(times))
    assert added.measured.parts["1 % low"] == pytest.approx(25.0)
    assert added.measured.parts["late frames"] == pytest.approx(2.0)
    assert added.frame_times_ms[-1] == pytest.approx(40.0, rel=1e-3)
    for column, unit in (("frame", "ms"), ("when", "s")):
        with pytest.raises(KnownError, match="would give a frame"):
            session.do(ImportFrames(1, stamps, "Sky tour", column, unit, MeasuredWith()))
    session.close()


def test_a_sensor_log_is_kept_with_its_zone_and_its_gaps(measured: Path, tmp_path: Path) -> None:
    session = open_logbook(measured)
    log = tmp_path / "log.csv"
    log.write_text("Zeit;CPU;GPU\n2026-01-31 20:15:02;61,5;55\n2026-01-31 20:15:00;60;n/a\n")
    columns = {"CPU": "Processor in °C", "GPU": "Graphics in °C"}
    with pytest.raises(KnownError, match="no time zone"):
        session.do(ImportSensors(1, log, "Zeit", columns, "", decimal_comma=True))
    assert session.do(ImportSensors(1, log, "Zeit", columns, "Europe/Berlin", decimal_comma=True)) == 2
    kept = session.logbook.sensor_logs(1)[0]
    assert kept.began_at == "2026-01-31T20:15:00+01:00"
    assert kept.block.times_s == (0.0, 2.0)
    assert kept.block.rows == ((60.0, None), (61.5, 55.0))
    session.close()


def test_the_command_line_types_in_and_chooses(measured: Path, capsys: pytest.CaptureFixture[str]) -> None:
    typed = ["result", str(measured), "1", "Sky tour", "61.2", "--unit", "frames/s", "--part", "1 % low=40"]
    assert run(typed) == 0
    assert "Sky tour 61.2\u202fframes/s (1 % low 40.0)" in capsys.readouterr().out
    assert run(["benchmarks", str(measured), "--use", "stacking"]) == 0
    out = capsys.readouterr().out
    assert "run       stacking" in out
    assert "typed in  typed_sky_tour_1" in out
    assert run(["benchmarks", str(measured), "--memory", "512"]) == 2
    assert "this machine only" in capsys.readouterr().err


@pytest.mark.parametrize(("put", "place"), [(install, LOCAL), (install_packaged, PACKAGED)])
def test_the_helper_is_installed_with_its_policy_and_removed(
    tmp_path: Path, put: Callable[[Path], list[Path]], place: HelperPlace
) -> None:
    installed, at = put(tmp_path), place.below(tmp_path)
    starter, policy, folder = at.starts, at.policy, at.folder
    units = [at.units / "yondle-keep.service", at.units / "yondle-night.service"]
    assert installed[-5:] == [starter, at.keeps, *units, policy]
    assert at.there
    assert at.is_this
    assert starter.stat().st_mode & 0o777 == 0o755
    python = Path(starter.read_text().splitlines()[0].removeprefix("#!").removesuffix(" -IB"))
    assert not any(each.stat().st_mode & 0o022 or each.stat().st_uid for each in (python, *python.parents)), (
        "root's alone"
    )
    assert f"run_path('{place.folder}'" in starter.read_text()
    assert str(place.starts) in policy.read_text()
    assert f"run_path('{place.folder}/keep.py'" in at.keeps.read_text()
    assert f"ExecStart={place.keeps}\n" in units[0].read_text()
    assert f"ExecStart={place.keeps} go\n" in units[1].read_text()
    asked = {
        each.get("id"): each.find("defaults/allow_active").text for each in ElementTree.parse(policy).findall("action")
    }
    assert asked == {place.action: "auth_admin_keep", f"{place.action}.keep": "auth_admin"}
    assert policy.name == f"{ElementTree.parse(policy).find('action').get('id')}.policy"
    here = starter.read_text().replace(str(place.folder), str(folder)).replace("__main__", "helped")
    code = f"{here}\nfrom helper.server import Server, Path; print(Server(Path({str(tmp_path)!r}), 0).answer(b'{{}}'))"
    ran = subprocess.run([python, "-IB", "-c", code], capture_output=True, text=True, input="", check=False)
    assert "No module named" not in ran.stderr
    if place is not LOCAL:
        return
    (folder / "left.py").write_text("of an older version")
    install(tmp_path)
    assert not (folder / "left.py").exists()
    put_there = tmp_path / "var/lib/yondle/lived"
    put_there.mkdir(parents=True)
    assert remove(tmp_path) == [starter, at.keeps, *units, policy, folder, put_there.parent]
    assert not [path for path in tmp_path.rglob("*") if path.is_file()]
    assert remove(tmp_path) == []
