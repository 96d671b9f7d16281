"""The command line as its users meet it: the same operations, plain sentences, and exit codes to rely on."""

from __future__ import annotations

import json
import os
import resource
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from xml.etree import ElementTree

import pytest
from tests.cli.conftest import Said, until_set
from tests.conftest import HERON

from yondle.app.session.opening import machine_file, open_logbook


def test_a_step_and_its_status_say_the_same_in_words_and_in_json(yondle: Said, book: Path) -> None:
    code, out, _ = yondle("step", str(book), "core_clock=4400", "-n", "3", "--json")
    assert code == 0
    step = json.loads(out)
    assert (step["step"], step["verdict"], step["position"]) == (2, "held", 2)
    gain = step["gains"]["stacking"]
    assert gain["low"] < gain["fraction"] < gain["high"]
    code, out, _ = yondle("status", str(book), "--json")
    status = json.loads(out)
    assert status["steps"][1] | {"format": step["format"], "position": 2, "waiting": None} == step
    assert status["verified"] == {"as_set": 27, "of": 27, "told": 0}
    code, out, _ = yondle("status", str(book))
    assert code == 0
    assert "Core clock 4\u202f400" in out
    assert "← here" in out


def test_going_back_and_notes_work_from_the_command_line(yondle: Said, book: Path) -> None:
    assert yondle("step", str(book), "core_clock=4300", "-n", "2")[0] == 0
    code, out, _ = yondle("back", str(book), "1")
    assert (code, "Step 1 is active again" in out) == (0, True)
    assert yondle("note", str(book), "2", "no louder than before")[0] == 0
    notes = json.loads(yondle("status", str(book), "--json")[1])["steps"][1]["notes"]
    assert notes[0]["text"] == "no louder than before"


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["core_clock=4601"], "between its steps"),
        (["core_clock=99999"], "outside its range"),
        (["core_clock=nan"], "can't be nan"),
        (["core_clock"], "is no setting"),
        (["core_clock=fast"], "can't be 'fast'"),
        (["colour=3"], "It has: core_clock, core_voltage, load_line"),
        (["core_voltage=1.4"], "your own limit"),
        (["core_clock=4300", "fan_level=80"], "make it a joint step"),
        (["core_clock=4200"], "already in force"),
        (["core_clock=4300", "-n", "1"], "2 to 200"),
    ],
)
def test_bad_values_are_refused_in_a_sentence_and_change_nothing(
    yondle: Said, book: Path, arguments: list[str], says: str
) -> None:
    before = json.loads(yondle("status", str(book), "--json")[1])
    code, out, err = yondle("step", str(book), *arguments)
    assert code == 2
    assert says in err
    assert "Traceback" not in out + err
    assert json.loads(yondle("status", str(book), "--json")[1]) == before


def test_a_joint_step_is_marked_as_one(yondle: Said, book: Path) -> None:
    code, out, _ = yondle("step", str(book), "core_clock=4300", "fan_level=60", "--joint", "-n", "2", "--json")
    assert code == 0
    assert json.loads(out)["joint"]


def test_files_that_are_none_end_with_code_2(yondle: Said, tmp_path: Path, book: Path) -> None:
    text = tmp_path / "text.yondle"
    text.write_text("hello")
    for arguments, says in (
        (("status", str(tmp_path / "none.yondle")), "There is no logbook"),
        (("status", str(text)), "is no logbook"),
        (("new", str(book)), "already there"),
        (("new", str(tmp_path / "no" / "folder.yondle")), "There is no folder"),
        (("new", str(tmp_path / "x.yondle"), "--rig", "nothing"), "There is no rig"),
        (("demo", "--headless", "--into", str(tmp_path / "nowhere")), "There is no folder"),
        (("status",), "Missing argument"),
        (("dance",), "No such command"),
    ):
        code, out, err = yondle(*arguments)
        assert code == 2, arguments
        assert says in err
        assert "Traceback" not in out + err
    assert not (tmp_path / "x.yondle").exists()


def test_a_rig_file_with_an_unknown_key_is_refused(yondle: Said, tmp_path: Path) -> None:
    rig = tmp_path / "rig.toml"
    rig.write_text(HERON.replace("[chip]", "[chip]\nturbo = true"))
    code, _, err = yondle("new", str(tmp_path / "x.yondle"), "--rig", str(rig))
    assert (code, "chip.turbo: unknown key" in err) == (2, True)


def test_a_logbook_in_use_elsewhere_is_refused(yondle: Said, book: Path) -> None:
    session = open_logbook(book)
    code, _, err = yondle("status", str(book))
    assert (code, "two programs never write one logbook" in err) == (2, True)
    session.close()


@pytest.fixture
def as_nobody(tmp_path: Path) -> Iterator[None]:
    """Permissions don't bind root, so root becomes somebody else for a while."""
    if os.geteuid() != 0:
        yield
        return
    closed = [folder for folder in (tmp_path, *tmp_path.parents) if not folder.stat().st_mode & 0o001]
    for folder in closed:
        folder.chmod(folder.stat().st_mode | 0o055)
    os.seteuid(65534)
    try:
        yield
    finally:
        os.seteuid(0)
        for folder in closed:
            folder.chmod(folder.stat().st_mode & ~0o055)


def test_a_logbook_one_may_not_write_is_refused(yondle: Said, book: Path, as_nobody: None) -> None:
    if os.getuid() != 0:
        book.parent.chmod(0o555)
    for arguments in (("status", str(book)), ("new", str(book.with_name("other.yondle")))):
        code, out, err = yondle(*arguments)
        assert code == 2, err
        assert "Give yourself permission" in err
        assert "Traceback" not in out + err
    if os.getuid() != 0:
        book.parent.chmod(0o755)


def test_a_folder_one_may_not_enter_is_named(yondle: Said, book: Path, as_nobody: None) -> None:
    hidden = book.parent / "hidden"
    if os.getuid() == 0:
        os.seteuid(0)
    hidden.mkdir(mode=0o700)
    hidden.chmod(0o700 if os.getuid() == 0 else 0)
    if os.getuid() == 0:
        os.seteuid(65534)
    code, _, err = yondle("status", str(hidden / "book.yondle"))
    assert code == 2
    assert "Permission denied" in err
    if os.getuid() != 0:
        hidden.chmod(0o700)


def test_a_full_disk_ends_the_test_puts_the_rig_back_and_loses_nothing(book: Path, yondle: Said) -> None:
    before = json.loads(yondle("status", str(book), "--json")[1])
    room = book.stat().st_size + 40_000

    def full() -> None:
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (room, room))

    command = [sys.executable, "-m", "yondle.main", "step", str(book), "core_clock=4300", "-n", "9"]
    done = subprocess.run(command, capture_output=True, text=True, check=False, preexec_fn=full)
    assert done.returncode == 2, done.stderr
    assert "disk is full" in done.stderr
    assert "Traceback" not in done.stderr
    assert json.loads(machine_file(book).read_text())["values"]["core_clock"] == 4200.0
    after = json.loads(yondle("status", str(book), "--json")[1])
    assert after["steps"][0] == before["steps"][0]
    assert after["position"] == 1
    assert after["resumed"][0]["failure"] == "interrupted"


def test_a_disk_still_full_at_the_next_start_keeps_nobody_at_a_setting_on_trial(book: Path, yondle: Said) -> None:
    command = [sys.executable, "-m", "yondle.main"]
    killed = {**os.environ, "YONDLE_FAULT": "kill after 20"}
    subprocess.run([*command, "step", str(book), "core_clock=4300"], env=killed, capture_output=True, check=False)
    assert json.loads(machine_file(book).read_text())["values"]["core_clock"] == 4300.0

    def full() -> None:
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (33_000, 33_000))

    done = subprocess.run([*command, "status", str(book)], capture_output=True, text=True, check=False, preexec_fn=full)
    assert done.returncode == 2, done.stderr
    assert "disk is full" in done.stderr
    assert json.loads(machine_file(book).read_text())["values"]["core_clock"] == 4200.0
    told = json.loads(yondle("status", str(book), "--json")[1])
    assert [r["step"] for r in told["resumed"]] == [2]


def test_ctrl_c_stops_the_test_and_puts_the_rig_back(book: Path, yondle: Said) -> None:
    command = [sys.executable, "-m", "yondle.main", "step", str(book), "core_clock=4300", "--pace", "20", "--json"]
    running = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    until_set(book, "core_clock", 4300.0)
    running.send_signal(signal.SIGINT)
    out, _ = running.communicate(timeout=30)
    assert running.returncode == 130
    assert json.loads(out)["failure"] == "stopped by the tuner"
    assert json.loads(yondle("status", str(book), "--json")[1])["in_force"]["core_clock"] == 4200.0


def test_the_headless_demo_writes_a_logbook_and_a_picture(yondle: Said, tmp_path: Path) -> None:
    code, out, _ = yondle("demo", "--headless", "--into", str(tmp_path))
    assert code == 0
    assert "Each +1 % of core clock has brought" in out
    picture = ElementTree.parse(tmp_path / "heron-evening.svg").getroot()
    assert picture.tag.endswith("svg")
    words = [element.text for element in picture.iter() if element.tag.endswith("text")]
    assert "in proportion" in words
    session = open_logbook(tmp_path / "heron-evening.yondle")
    assert len(session.snapshot.steps) >= 10
    session.close()


def test_inspect_and_workloads_describe_both_rigs(yondle: Said) -> None:
    heron = json.loads(yondle("inspect", "--rig", "heron", "--json")[1])
    assert [k["id"] for k in heron["knobs"]][:2] == ["core_clock", "core_voltage"]
    this = json.loads(yondle("inspect", "--json")[1])
    assert {"in_use", "other_use"} <= {r["id"] for r in this["readings"]}
    for rig, expected in (("heron", "Star match"), ("this", "Wide arithmetic")):
        code, out, _ = yondle("workloads", "--rig", rig)
        assert (code, expected in out) == (0, True)
        assert yondle("inspect", "--rig", rig)[0] == 0
    preview = [
        w for w in json.loads(yondle("workloads", "--rig", "heron", "--json")[1])["workloads"] if w["id"] == "preview"
    ]
    assert preview[0]["cap"] == 60.0


def test_a_fault_of_the_program_ends_with_code_1_and_a_log(tmp_path: Path) -> None:
    """The window's module is made to fail, as a fault anywhere would."""
    script = (
        "import sys; sys.modules['yondle.desktop.shell.start'] = type(sys)('start')\n"
        "from yondle.main import run; sys.exit(run([]))"
    )
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=False)
    assert done.returncode == 1
    assert "a fault of the program (ImportError" in done.stderr
    assert "Traceback" not in done.stderr
    assert "Traceback" in next(tmp_path.rglob("yondle.log")).read_text()


def test_what_is_worth_trying_and_a_climb_are_told_in_words_and_in_json(yondle: Said, book: Path) -> None:
    code, out, _ = yondle("next", str(book))
    assert code == 0
    assert "Worth trying next, for highest Stacking:" in out
    assert "to hold" in out
    told = json.loads(yondle("next", str(book), "--goal", "trade", "-b", "stacking=2", "-b", "preview", "--json")[1])
    assert told["benchmarks"] == {"stacking": 2.0, "preview": 1.0}
    first = told["ways"][0]
    assert first["range_95"][0] <= first["brings"] <= first["range_95"][1]
    code, out, _ = yondle(
        "climb", str(book), "--goal", "matters", "--hours", "1", "--knob", "core_clock", "--knob", "fan_level"
    )
    assert code == 0
    assert "What core clock brings is not known yet." in out
    assert "The plan is done" in out
    assert json.loads(yondle("next", str(book), "--json")[1])["goal"] == "matters"
    grouped = json.loads(yondle("next", str(book), "-b", "processor", "--json")[1])["benchmarks"]
    assert set(grouped) >= {"stacking", "sharpening"}
    assert sum(grouped.values()) == pytest.approx(1.0)


def test_what_a_climb_came_to_is_kept_as_a_profile(yondle: Said, book: Path) -> None:
    asked = (
        "climb",
        str(book),
        "--standard",
        "quick",
        "--hours",
        "1.5",
        "--knob",
        "core_clock",
        "--keep",
        "Planet night",
    )
    code, out, _ = yondle(*asked)
    assert (code, "Kept as the profile 'Planet night'." in out) == (0, True)
    assert "Planet night" in yondle("profile", "list", str(book))[1]


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["--goal", "score", "-b", "mixed_load"], "yields no figure"),
        (["-b", "stacking=much"], "is no weight"),
        (["-b", "stacking=nan"], "has to be above 0"),
        (["--knob", "cas"], "no knob that this goal may touch"),
        (["--knob", "colour"], "has no knob called"),
    ],
)
def test_a_goal_that_makes_no_sense_is_a_sentence(yondle: Said, book: Path, arguments: list[str], says: str) -> None:
    for command in ("climb", "next"):
        code, _, err = yondle(command, str(book), *arguments)
        assert (code, says in err) == (2, True), command
