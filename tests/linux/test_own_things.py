"""Knobs and sensors of the tuner's own: set, read back and put back; and whatever is wrong with one ends in a sentence."""

from __future__ import annotations

import json
import os
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from tests.linux import trees
from tests.linux.test_evidence import TreeHost

from yondle.app.machine import own_things
from yondle.app.machine.clocks import RealClock
from yondle.app.machine.hands import NobodyThere
from yondle.app.machine.machines import Machine
from yondle.app.session.proposing import Propose
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.logbook.logbook import Logbook
from yondle.main import run
from yondle.model.errors import KnownError
from yondle.model.sensors import Quantity
from yondle.model.verdicts import Failure, Verdict
from yondle.rigs.linux.administrators import administrators_probes
from yondle.rigs.linux.knobs import left_out_words, offered
from yondle.rigs.linux.probe import Probe
from yondle.rigs.linux.root.helper.server import Server
from yondle.rigs.linux.this import ThisRig
from yondle.rigs.own.knobs import OwnKnob
from yondle.rigs.own.own_file import KnobEntry, fingerprint, parse_own
from yondle.rigs.own.sensors import OwnSensor
from yondle.rigs.wanted import Wanted

HEAD = 'format = "yondle-own 1"\n'
KNOB = HEAD + '[knob.level]\nname = "Level"\nlow = 0\nhigh = 100\nstep = 10\n'
SENSOR = HEAD + '[sensor.flow]\nname = "Flow"\n'


def knob(text: str) -> OwnKnob:
    (thing,) = parse_own(text, "own.toml")
    assert isinstance(thing.entry, KnobEntry)
    return OwnKnob(thing.id, thing.entry, thing.pattern)


def sensor(text: str) -> OwnSensor:
    (thing,) = parse_own(text, "own.toml")
    assert not isinstance(thing.entry, KnobEntry)
    return OwnSensor(thing.id, thing.entry, thing.pattern)


def script(folder: Path, text: str, name: str = "tool") -> Path:
    file = folder / name
    file.write_text(f"#!/bin/sh\n{text}\n")
    file.chmod(0o755)
    return file


def until(ready: Callable[[], bool]) -> None:
    limit = time.monotonic() + 20
    while not ready():
        assert time.monotonic() < limit
        time.sleep(0.01)


@pytest.mark.parametrize(
    ("before", "keys", "value", "written", "put_back"),
    [
        ("60\n", "", 80.0, "80\n", "60\n"),
        ("63", "", 80.0, "80", "63"),
        ("400", "", 80.0, "80", "400"),
        ("A=1\nSPEED=60\nB=2\n", "pattern = '^SPEED=(\\d+)$'", 80.0, "A=1\nSPEED=80\nB=2\n", "A=1\nSPEED=60\nB=2\n"),
        ("600000", "scale = 10000", 80.0, "800000", "600000"),
        ("6", "scale = 0.1", 75.0, "7.5", "6"),
        ("mq-deadline [none] kyber", "choices = ['none', 'kyber']", 1.0, "kyber", "none"),
        ("0x1", "choices = ['off', 'on']\nwords = ['0x0', '0x1']", 0.0, "0x0", "0x1"),
    ],
)
def test_a_file_is_read_set_read_back_and_put_back(
    tmp_path: Path, before: str, keys: str, value: float, written: str, put_back: str
) -> None:
    file = tmp_path / "value"
    file.write_text(before)
    text = KNOB.replace("step = 10", "step = 5") + f"file = '{file}'\n{keys}\n"
    made = knob(text)
    assert made.knob.checked(made.knob.stock) == made.knob.stock, "what was found is one of its values"
    assert made.value() == made.knob.stock
    made.set(value)
    assert file.read_text() == written
    assert made.value() == value
    made.put_back()
    assert file.read_text() == put_back


def test_all_else_in_a_file_stays_as_it_is_even_if_somebody_changes_it_meanwhile(tmp_path: Path) -> None:
    file = tmp_path / "render.env"
    file.write_bytes(b"A=\xff\xe9\r\nSPEED=60\n")
    made = knob(KNOB + f"file = '{file}'\npattern = '^SPEED=(\\d+)$'\n")
    made.set(80.0)
    assert file.read_bytes() == b"A=\xff\xe9\r\nSPEED=80\n"
    file.write_bytes(b"B=2\nSPEED=80\nC=3\n")
    made.put_back()
    assert file.read_bytes() == b"B=2\nSPEED=60\nC=3\n"
    made.set(90.0)
    file.write_text("all gone\n")
    with pytest.raises(KnownError, match="no longer says"):
        made.put_back()
    assert file.read_text() == "all gone\n"
    file.write_text("SPEED=60\n" + "#" * 70_000)
    with pytest.raises(KnownError, match="too large"):
        knob(KNOB + f"file = '{file}'\npattern = '^SPEED=(\\d+)$'\n")


def test_commands_take_the_value_as_one_argument_and_no_shell_sees_it(tmp_path: Path) -> None:
    kept = tmp_path / "kept"
    kept.write_text("30")
    tool = script(tmp_path, f'[ "$1" = set ] && printf %s "$2" > {kept}; cat {kept}; [ "$1" = set ] || echo; exit 0')
    made = knob(KNOB + f"read = ['{tool}', 'get']\nwrite = ['{tool}', 'set', '{{value}}']\n")
    made.set(50.0)
    assert (kept.read_text(), made.value()) == ("50", 50.0)
    made.put_back()
    assert kept.read_text() == "30"


RANGE = "low=0\nhigh=1\n"
FILE = f"[knob.x]\nname='x'\nfile='/x'\n{RANGE}"
BARE = "[knob.x]\nname='x'\n"
READ = "[sensor.x]\nname='x'\nfile='/x'\n"
BAD_FILES = [
    ("", "has no knob and no sensor"),
    (BARE, "a file or a command"),
    (FILE.replace("/x", "rel"), "from / on"),
    (FILE.replace("low=0", "low=1"), "above low"),
    (f"{BARE}read=['a']\nwrite=['b']\n{RANGE}", "once"),
    (f"{BARE}read=['a']\nwrite=['{{value}}', '{{value}}']\n{RANGE}", "once"),
    (FILE.replace("high=1", "high=1e400"), "finite"),
    (FILE.replace("low=0", "low=nan"), "finite"),
    (FILE.replace("high=1", "high=1e9") + "step=1e-9\n", "steps"),
    (f"{BARE}file='/x'\nchoices=['a']\n", "two choices"),
    (f"{BARE}file='/x'\nchoices=['a', 'b']\nwords=['a']\n", "as many words"),
    (f"{FILE}shell=true\n", "unknown key"),
    (f"{FILE}pattern='(('\n", "no pattern"),
    (f"{FILE}pattern='\\d+'\n", "groups"),
    (FILE.replace("knob.x", "knob.'../x'"), "describes no knobs"),
    (FILE + FILE.replace("knob.x", "knob.y").replace("/x", "/./x"), "two knobs write one file"),
    (FILE + READ, "one id"),
    (f"{READ}stop_at=90\nunit='furlongs'\n", "unit that means something"),
    (f"{READ}goes_on=true\n", "only a command"),
    (f"{READ}every_s=0\n", "every_s"),
    ("knob = 5", "describes no"),
    ("[knob.x", "valid TOML"),
    ("x = " + "[" * 5000, "too deep"),
]


@pytest.mark.parametrize(("text", "says"), BAD_FILES)
def test_a_file_that_is_wrong_is_refused_in_a_sentence(text: str, says: str) -> None:
    with pytest.raises(KnownError, match=says):
        parse_own(HEAD + text, "own.toml")


@pytest.mark.parametrize(
    ("does", "says"),
    [
        ("sleep 60", "had not ended after"),
        ("echo 10 20", "2 numbers"),
        ("echo nothing", "no number"),
        ("exit 3", "code 3"),
        ("yes 1", "prints without an end"),
        ("kill -9 $$", "code -9"),
        ("echo 1e999", "no number"),
        ("(sleep 300 >/dev/null 2>&1 &) ; sleep 300 & echo 50", ""),
        ("trap '' TERM; sleep 300", "had not ended after"),
    ],
)
def test_a_command_that_misbehaves_ends_in_a_sentence_and_leaves_nothing_running(
    tmp_path: Path, does: str, says: str
) -> None:
    tool = script(tmp_path, does)
    text = KNOB + f"read = ['{tool}']\nwrite = ['{tool}', '{{value}}']\nat_most_s = 0.5\n"
    if says:
        with pytest.raises(KnownError, match=says):
            knob(text)
    else:
        assert knob(text).value() == 50.0


@pytest.mark.parametrize("what", ["gone", "a folder", "a pipe", "empty", "rubbish", "endless"])
def test_a_file_that_is_none_or_says_rubbish_gives_no_knob_and_no_reading(tmp_path: Path, what: str) -> None:
    file = tmp_path / "value"
    match what:
        case "a folder":
            file.mkdir()
        case "a pipe":
            os.mkfifo(file)
        case "empty":
            file.touch()
        case "rubbish":
            file.write_bytes(b"\x00\xff\xfe" * 99)
        case "endless":
            file.write_text("9" * 200_000)
    with pytest.raises(KnownError):
        knob(KNOB + f"file = '{file}'\n")
    made = sensor(SENSOR + f"file = '{file}'\n")
    assert made.read() is None
    assert made.trouble
    made.close()


def test_a_file_that_vanishes_is_told_as_not_in_force_and_links_are_not_written(tmp_path: Path) -> None:
    file, other = tmp_path / "value", tmp_path / "other"
    file.write_text("50")
    made = knob(KNOB + f"file = '{file}'\n")
    file.rename(other)
    assert made.value() is None
    file.symlink_to(other)
    with pytest.raises(KnownError, match="can't be written"):
        made.set(60.0)
    assert other.read_text() == "50"


def test_sensors_give_a_reading_by_file_by_command_and_line_by_line_and_fall_silent(tmp_path: Path) -> None:
    file = tmp_path / "temp"
    file.write_text("41500\n")
    by_file = sensor(SENSOR + f"file = '{file}'\nscale = 1000\nunit = '°C'\n")
    assert (by_file.read(), by_file.channel.quantity, by_file.channel.id) == (41.5, Quantity.TEMPERATURE, "own_flow")
    asked = sensor(SENSOR + f"command = ['cat', '{file}']\nevery_s = 0.1\n")
    goes_on = script(tmp_path, f"while [ -f {file} ]; do echo flow 3.5 l; sleep 0.05; done; exec sleep 60")
    heard = sensor(SENSOR + f"command = ['{goes_on}']\ngoes_on = true\npattern = 'flow ([\\d.]+)'\n")
    until(lambda: asked.read() == 41500.0 and heard.read() == 3.5)
    file.unlink()
    assert by_file.read() is None
    until(lambda: asked.read() is None and heard.read() is None)
    assert "code 1" in asked.trouble
    for each in (by_file, asked, heard):
        each.close()


def test_a_command_runs_only_while_somebody_reads(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """At rest no process is started, and one that goes on is ended; it begins again with the next reading."""
    monkeypatch.setattr(Wanted.__init__, "__defaults__", (0.3,))
    runs, lines = tmp_path / "runs", tmp_path / "lines"
    asks = script(tmp_path, f"echo . >> {runs}; echo 5", "asks")
    says = script(tmp_path, f"while true; do echo . >> {lines}; echo 6; sleep 0.05; done", "says")
    asked = sensor(SENSOR + f"command = ['{asks}']\nevery_s = 0.1\n")
    heard = sensor(SENSOR + f"command = ['{says}']\ngoes_on = true\n")
    time.sleep(0.4)
    assert not runs.exists()
    assert not lines.exists()
    until(lambda: asked.read() == 5.0 and heard.read() == 6.0)
    time.sleep(0.6)
    before = runs.stat().st_size, lines.stat().st_size
    time.sleep(0.5)
    assert (runs.stat().st_size, lines.stat().st_size) == before, "nobody reads them"
    until(lambda: asked.read() == 5.0 and heard.read() == 6.0 and lines.stat().st_size > before[1])
    for each in (asked, heard):
        each.close()


def session_on(
    root: Path, book: Path, knobs: tuple[OwnKnob, ...], probes: tuple[Probe, ...] = ()
) -> tuple[Session, TreeHost]:
    clock = RealClock()
    host = TreeHost(clock)
    rig = ThisRig(host, clock.now, root, more=probes, own=knobs)
    logbook = Logbook.create(book, "this", "This machine", "")
    return Session(logbook, Machine(rig, clock, NobodyThere())), host


def test_an_own_knob_is_tested_like_any_other_and_put_back_as_the_logbook_is_closed(tmp_path: Path) -> None:
    file = tmp_path / "value"
    file.write_text("30\n")
    session, host = session_on(tmp_path, tmp_path / "book.yondle", (knob(KNOB + f"file = '{file}'\n"),))
    session.do(RunBaseline(2))
    session.do(Propose("level", 50.0))
    record = session.do(TryProposal(2))
    assert record.verdict is Verdict.HELD, record.outcome
    assert file.read_text() == "50\n"

    def somebody() -> None:
        file.write_text("40")

    host.happens = somebody
    session.do(Propose("level", 70.0))
    failed = session.do(TryProposal(2))
    assert failed.outcome is not None
    assert failed.outcome.failure is Failure.NOT_IN_FORCE, "somebody else set it meanwhile"
    assert "Level" in failed.outcome.reason
    host.happens = lambda: None
    session.close()
    assert file.read_text() == "30"


def test_what_an_own_sensor_must_not_exceed_stops_a_test(tmp_path: Path) -> None:
    file = tmp_path / "temp"
    file.write_text("95")
    made = sensor(SENSOR + f"file = '{file}'\nunit = '°C'\nstop_at = 90\n")
    probe = Probe(made.channel, made.read, made.source, made.close, most=90.0)
    session, _ = session_on(tmp_path, tmp_path / "book.yondle", (), (probe,))
    outcome = session.do(RunBaseline(2)).outcome
    assert outcome is not None
    assert outcome.failure is Failure.CEILING
    assert "Flow" in outcome.reason
    session.close()


def test_nothing_is_used_before_it_is_allowed_here_and_another_program_is_another_thing(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    tool, book, file = script(tmp_path, "echo 50; exit 0"), str(tmp_path / "my.yondle"), tmp_path / "own.toml"
    file.write_text(
        KNOB + f"read = ['{tool}']\nwrite = ['{tool}', '{{value}}']\n[sensor.flow]\nname = 'Flow'\nfile = '{tool}'\n"
    )
    assert run(["new", book, "--rig", "this"]) == 0
    assert run(["own", "add", book, str(file)]) == 2
    assert "nobody can be asked" in capsys.readouterr().err
    assert run(["own", "list", book]) == 0
    assert "Level: not allowed on this machine yet" in capsys.readouterr().out
    assert run(["own", "add", book, str(file), "--yes"]) == 0
    assert f"runs{tool};{tool}'{{value}}'" in "".join(capsys.readouterr().out.split())
    assert run(["own", "list", book]) == 0
    assert "not offered" not in capsys.readouterr().out
    session = own_things.made_of((file.read_text(),))
    assert [each.knob.id for each in session[0]] == ["level"]
    for probe in session[1]:
        probe.close()
    (thing, _) = parse_own(file.read_text(), "x")
    before = fingerprint(thing)
    script(tmp_path, "echo 50; rm -rf /nothing; exit 0")
    assert fingerprint(thing) != before
    assert run(["own", "list", book]) == 0
    assert "Level: not allowed" in capsys.readouterr().out, "the program isn't the one that was allowed"
    assert run(["own", "add", book, str(file), "--yes", "--json"]) == 0
    assert '"Level"' in capsys.readouterr().out
    assert run(["own", "remove", book, "nothing"]) == 2
    assert run(["own", "remove", book, "level"]) == 0
    assert run(["own", "list", book, "--json"]) == 0
    assert '"own": []' in capsys.readouterr().out


INSTALLED = (
    HEAD
    + """[knob.swappiness]
name = "Swappiness"
file = "/proc/sys/vm/swappiness"
low = 0
high = 200
step = 10
works = "memory"
"""
)


def installed(root: Path, text: str = INSTALLED, name: str = "vm.toml") -> Path:
    folder = root / "etc/yondle/own.d"
    trees.put(root, {"proc/sys/vm/swappiness": "60", f"etc/yondle/own.d/{name}": text})
    folder.chmod(0o755)
    (folder / name).chmod(0o644)
    return folder / name


def asked(root: Path, *requests: dict[str, object], owner: int | None = None) -> list[dict[str, object]]:
    server = Server(root, os.getuid() if owner is None else owner)
    answers = [server.answer(json.dumps({"n": n, **each}).encode()) for n, each in enumerate(requests, 1)]
    server.put_back()
    return answers


def test_what_an_administrator_has_installed_is_set_by_the_helper_and_put_back(tmp_path: Path) -> None:
    installed(tmp_path)
    setting = {"do": "set", "knob": "own_swappiness"}
    hello, taken, beyond = asked(tmp_path, {"do": "hello"}, {**setting, "value": 100}, {**setting, "value": 201})
    assert "own_swappiness" in str(hello["knobs"])
    assert taken["reads"] == 100.0
    assert beyond["why"] == "outside 0 to 200"
    assert (tmp_path / "proc/sys/vm/swappiness").read_text() == "60"
    trees.put(tmp_path, {"etc/yondle/ceilings.toml": "own_swappiness = [0, 90]"})
    assert asked(tmp_path, {**setting, "value": 100})[0]["why"] == "outside 0 to 90"
    (found,) = offered(tmp_path, os.getuid()).knobs.values()
    assert (found.name, found.low, found.high, found.step, found.stock, found.subsystem.value) == (
        "Swappiness", 0.0, 200.0, 10.0, 60.0, "memory",
    )  # fmt: skip


def test_what_others_than_root_could_have_written_is_never_served(tmp_path: Path) -> None:
    file = installed(tmp_path)
    folder = file.parent
    assert served(tmp_path) == ["own_swappiness"]
    assert served(tmp_path, os.getuid() + 1) == [], "it belongs to somebody else"
    for path, mode in ((file, 0o664), (file, 0o646), (folder, 0o775), (folder, 0o777)):
        before = path.stat().st_mode
        path.chmod(mode)
        assert served(tmp_path) == [], f"{path.name} {mode:o}"
        path.chmod(before)
    other = tmp_path / "other.toml"
    file.rename(other)
    file.symlink_to(other)
    assert served(tmp_path) == [], "a link leads anywhere"
    file.unlink()
    os.mkfifo(file)
    assert served(tmp_path) == []


def test_sensors_an_administrator_has_installed_are_read_and_nothing_else_is(tmp_path: Path) -> None:
    told = {
        "good": "file = '/sys/kernel/debug/pump'\nscale = 10\nunit = '°C'\nstop_at = 60", "two": "file = '/proc/two'",
        "gone": "file = '/nowhere'", "pipe": "file = '/proc/pipe'", "runs": "command = ['/bin/cat', '/etc/shadow']",
        "tree": "file = '/proc'", "zero": "file = '/sys/kernel/debug/pump'\nscale = 0",
        "odd": "file = '/sys/kernel/debug/pump'\nunit = 7", "loose": "file = '/sys/kernel/debug/pump'\npattern = '('",
    }  # fmt: skip
    text = HEAD + "".join(f"[sensor.{name}]\nname = '{name}'\n{entry}\n" for name, entry in told.items())
    file = installed(tmp_path, text)
    trees.put(tmp_path, {"sys/kernel/debug/pump": "pump 415\n", "proc/two": "1 2"})
    os.mkfifo(tmp_path / "proc/pipe")
    (answer,) = asked(tmp_path, {"do": "own"})
    assert answer["own"] == {"own_good": 41.5, "own_odd": 415.0}
    left = {each.knob for each in offered(tmp_path, os.getuid()).left_out}
    assert left == {"own_runs", "own_zero", "own_odd", "own_loose"}
    (probe,) = administrators_probes(tmp_path, None, os.getuid())
    assert (probe.channel.name, probe.channel.quantity, probe.read(), probe.most) == (
        "good",
        Quantity.TEMPERATURE,
        41.5,
        60,
    )
    file.chmod(0o666)
    assert asked(tmp_path, {"do": "own"})[0]["own"] == {}
    file.chmod(0o644)
    installed(
        tmp_path, HEAD + "".join(f"[sensor.s{i}]\nfile = '/sys/kernel/debug/pump'\n" for i in range(500)), "zz.toml"
    )
    own = asked(tmp_path, {"do": "own"})[0]["own"]
    assert isinstance(own, dict)
    assert len(own) <= 30


def served(root: Path, owner: int | None = None) -> list[object]:
    knobs = asked(root, {"do": "hello"}, owner=owner)[0]["knobs"]
    assert isinstance(knobs, list)
    return knobs


@pytest.mark.parametrize(
    "entry",
    [
        "read = ['/bin/cat', '/etc/shadow']\nwrite = ['/bin/sh', '-c', '{value}']",
        "file = 'etc/shadow'", "file = ['/etc/shadow']", "file = '/proc/sys/vm/swappiness\\u0000'", "low = 0", "file = 7",
        "file = '/proc/sys/vm/swappiness'\nhigh = 1e400", "file = '/proc/sys/vm/swappiness'\nlow = nan",
        "file = '/proc/sys/vm/swappiness'\nlow = 300", "file = '/proc/sys/vm/swappiness'\nscale = 0",
        "file = '/proc/sys/vm/swappiness'\nscale = true", "file = '/proc/sys/vm/swappiness'\npattern = '(.)(.)'",
        "file = '/proc/sys/vm/swappiness'\npattern = '('",
        "file = '/proc/sys/vm/swappiness'\nchoices = ['a', 'b']\nwords = ['a']",
        "file = '/proc/sys/vm/swappiness'\nchoices = 'ab'", "file = '/nowhere'",
    ],
)  # fmt: skip
def test_what_is_described_wrongly_is_left_out_and_breaks_nothing_else(tmp_path: Path, entry: str) -> None:
    keys = {key.split(" ")[0] for key in entry.split("\n")}
    rest = "".join(f"{key} = {value}\n" for key, value in (("low", 0), ("high", 200)) if key not in keys)
    installed(tmp_path)
    installed(tmp_path, f"{HEAD}[knob.other]\nname = 'Other'\n{entry}\n{rest}", "zz.toml")
    assert served(tmp_path) == ["own_swappiness"]
    assert all(left_out_words(left) for left in offered(tmp_path, os.getuid()).left_out)
    for hostile in (
        "knob = 5",
        "[knob]\nx = 1",
        "x = " + "[" * 5000,
        "\x00\xff",
        "[knob.'../x']\nfile = '/x'",
        "#" * 300_000,
    ):
        installed(tmp_path, HEAD + hostile, "zz.toml")
        assert served(tmp_path) == ["own_swappiness"]
    many = "".join(
        f"[knob.k{i}]\nname = 'k'\nfile = '/proc/sys/vm/swappiness'\nlow = 0\nhigh = 200\n" for i in range(500)
    )
    installed(tmp_path, HEAD + many, "zz.toml")
    assert len(served(tmp_path)) <= 30
