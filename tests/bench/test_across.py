"""A bench across the room over a real ssh server: lines cut, agents killed, benches that restart, and what each is called."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from itertools import pairwise
from pathlib import Path
from threading import Timer

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from tests.bench.ssh import SshBench, bench_over_ssh, can_be_had
from tests.desktop.driving import words as words_of
from yondle.app.books.export import share
from yondle.app.books.reading import read_book
from yondle.app.machine.machines import choose_rig
from yondle.app.plans.nights import Bounds
from yondle.app.plans.plans import StartPlan
from yondle.app.profiles.keeping import KeepOverRestarts
from yondle.app.profiles.profiles import KeepProfile
from yondle.app.session.across import LookAtBench, RestartWith, restart_words
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.remarks import WriteNote
from yondle.app.session.returning import BringBack
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.desktop.look.theme import Theme
from yondle.desktop.shell.shelf import Shelf
from yondle.desktop.tune.nights import NightConsent
from yondle.desktop.tune.plans import SweepCard
from yondle.model.errors import KnownError
from yondle.model.kept import BOTH
from yondle.model.plan_runs import Ended
from yondle.model.steps import StepRecord
from yondle.model.verdicts import Failure, Verdict
from yondle.rigs.bench import line, rig, ssh

PATIENCE_S = {each: getattr(line, each) for each in ("SILENT_S", "ANSWERS_WITHIN_S", "BEATS_S")}

pytestmark = pytest.mark.skipif(
    not can_be_had(), reason="only root makes a network of its own, and it takes an ssh server"
)


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Iterator[SshBench]:
    with bench_over_ssh(tmp_path_factory.mktemp("bench")) as made:
        yield made


@pytest.fixture(autouse=True)
def ready(bench: SshBench, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """Have ssh know its key, and everybody be quicker to believe that the other is gone."""
    monkeypatch.setenv("PATH", f"{bench.folder}/bin:{os.environ['PATH']}")
    monkeypatch.setattr(line, "SILENT_S", 2.0)
    monkeypatch.setattr(line, "ANSWERS_WITHIN_S", 3.0)
    monkeypatch.setattr(line, "BEATS_S", 0.5)
    monkeypatch.setattr(rig, "TRIES_EVERY_S", 0.3)
    monkeypatch.setattr(ssh, "CONNECTS_WITHIN_S", 2)
    (bench.folder / "silent").write_text("4")
    yield
    bench.kill_agents()
    (bench.folder / "boot").write_text("b1")
    for each in ("agent.json", "ahead", "sign", "dog"):
        (bench.folder / each).unlink(missing_ok=True)


@pytest.fixture(scope="module")
def measured(bench: SshBench, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Give a logbook with a baseline and a step that held, to be copied: each test begins where it stands."""
    path = tmp_path_factory.mktemp("measured") / "bench.yondle"
    before = os.environ["PATH"]
    os.environ["PATH"] = f"{bench.folder}/bin:{before}"
    try:
        made = create_logbook(path, choose_rig(bench.address))
        assert made.do(RunBaseline(2)).outcome
        made.do(Propose("clock", 4300))
        assert verdict(made.do(TryProposal(2, turns=False))) is Verdict.HELD
        made.close()
    finally:
        os.environ["PATH"] = before
    return path


@pytest.fixture
def session(measured: Path, tmp_path: Path) -> Iterator[Session]:
    shutil.copy(measured, tmp_path / "bench.yondle")
    made = open_logbook(tmp_path / "bench.yondle")
    made.do(BringBack())
    yield made
    with suppress(KnownError):
        made.close()


def verdict(record: StepRecord) -> Verdict | None:
    return record.outcome.verdict if record.outcome is not None else None


def values(bench: SshBench) -> str:
    return (bench.folder / "values").read_text()


def restart(bench: SshBench, boot: str) -> None:
    (bench.folder / "boot").write_text(boot)
    bench.kill_agents()


def into_a_pass(session: Session, does: Callable[[], None]) -> None:
    """Do something shortly after the next pass has begun."""
    begun: list[Timer] = []

    def hear(record: object) -> None:
        if type(record).__name__ == "PassOpened" and not begun:
            begun.append(Timer(0.3, does))
            begun[0].start()

    session.subscribe(hear)


@pytest.mark.parametrize(
    ("what", "failure", "words"),
    [
        (lambda bench: bench.road.cut(), Failure.INTERRUPTED, "the line to the bench was lost"),
        (lambda bench: bench.kill_agents(), Failure.INTERRUPTED, "the agent on the bench was ended or died"),
        (lambda bench: bench.kill_agents("-STOP"), Failure.INTERRUPTED, "the bench stayed up"),
        (lambda bench: restart(bench, "b2"), Failure.RESTARTED, "Crashed and restarted"),
    ],
    ids=["line cut", "agent killed", "agent frozen", "bench restarted"],
)
def test_what_was_lost_is_told_apart_and_the_test_before_it_is_in_force_again(
    bench: SshBench,
    session: Session,
    what: Callable[[SshBench], None],
    failure: Failure,
    words: str,
) -> None:
    session.do(Propose("clock", 4400))
    into_a_pass(session, lambda: what(bench))
    record = session.do(TryProposal(2, turns=False))
    assert record.outcome is not None
    assert record.outcome.failure is failure, record.outcome.reason
    assert words in record.outcome.reason
    assert record.outcome.time_to_failure_s is not None
    assert 0.1 <= record.outcome.time_to_failure_s <= 0.8, "up to the last sample, and none of the waiting after it"
    block = session.logbook.reader.latest_block(record.attempts[-1].id)
    assert block is not None, "samples are there up to the last that arrived"
    passed = block.times_s[-1] - record.attempts[-1].passes[-1].started_s
    assert passed == pytest.approx(record.outcome.time_to_failure_s, abs=0.15)
    assert session.snapshot.position is not None
    assert session.snapshot.position.step.number == 2
    assert values(bench) == "clock=4300 fan=40", "the last that held is in force"
    assert session.snapshot.verified is not None
    assert session.snapshot.verified.as_set == session.snapshot.verified.of


def test_a_bench_that_is_away_can_be_read_and_what_was_open_is_named_once_it_is_there(
    bench: SshBench, session: Session, tmp_path: Path
) -> None:
    session.machine.bench.patience.within_s = 0.0  # type: ignore[union-attr]
    session.do(Propose("clock", 4400))
    into_a_pass(session, lambda: bench.plug(out=True))
    try:
        with pytest.raises(KnownError, match="is away"):
            session.do(TryProposal(2, turns=False))
        with pytest.raises(KnownError, match="is away"):
            session.do(Propose("clock", 4350))
        assert "is away" in session.snapshot.looked.away, "the window and `status` say so"
        session.close()
        away = open_logbook(tmp_path / "bench.yondle")
        assert [record.step.number for record in away.snapshot.steps] == [1, 2, 3]
        assert away.snapshot.in_force["clock"] == 4300.0
        assert "is away" in away.snapshot.looked.away
        assert "is away" in away.do(LookAtBench()).lines()[0]
        with pytest.raises(KnownError, match="is away"):
            away.do(RunBaseline(2))
        assert away.logbook.unclosed(), "nothing is said of it as long as nothing is known"
        away.close()
        until = time.monotonic() + 15.0
        while values(bench) != "clock=4200 fan=40":
            assert time.monotonic() < until, "the agent doesn't put back what it set"
            time.sleep(0.1)
    finally:
        bench.plug(out=False)
    with opened(tmp_path) as back:
        (resumed,) = back.snapshot.resumed
        assert resumed.outcome.failure is Failure.INTERRUPTED
        assert not back.logbook.unclosed()


def test_a_notebook_that_dies_and_a_bench_that_restarted_meanwhile(
    bench: SshBench, session: Session, tmp_path: Path
) -> None:
    session.close()
    program = (
        "import os, sys; from threading import Timer\n"
        "from tests.bench.test_across import *\n"
        "session = open_logbook(Path(sys.argv[1]))\n"
        "into_a_pass(session, lambda: os.kill(os.getpid(), 9))\n"
        "session.do(Propose('clock', 4400))\n"
        "session.do(TryProposal(2))\n"
    )
    died = subprocess.run([sys.executable, "-c", program, str(tmp_path / "bench.yondle")], check=False)
    assert died.returncode == -9
    restart(bench, "b7")
    (bench.folder / "sign").write_text("60")
    (bench.folder / "ahead").write_text("-10800")
    with opened(tmp_path) as back:
        (resumed,) = back.snapshot.resumed
        assert resumed.outcome.failure is Failure.RESTARTED
        assert "kept a record of the crash: the kernel panicked." in resumed.outcome.reason, (
            "the clocks are hours apart"
        )
        assert back.snapshot.verified is not None
        assert values(bench) == "clock=4300 fan=40", "the last that held"
    assert values(bench) == "clock=4200 fan=40"


def test_a_night_through_restarts_is_bounded_and_rests_at_stock(bench: SshBench, session: Session) -> None:
    plan = 'format = "yondle-plan 1"\nname = "night"\npasses = 2\nturns = false\n[[do]]\nkind = "steps"\nsteps = [{steps}]\n'
    text = plan.replace("{steps}", ", ".join(f"{{ clock = {4325 + 25 * i} }}" for i in range(6)))
    boots = iter(f"b{i}" for i in range(10, 20))
    dog, armed = bench.folder / "dog", list[str]()
    (bench.folder / "sign").write_text("60")

    def hear(record: object) -> None:
        if type(record).__name__ == "ApplyOpened":
            Timer(0.1, lambda: armed.append(dog.read_text())).start()
        if type(record).__name__ == "PassOpened" and session.book.steps[-1].step.number in (3, 5):
            Timer(0.3, lambda: (dog.write_text(""), restart(bench, next(boots)))).start()

    with pytest.raises(KnownError, match="Nothing would restart the bench"):
        session.do(StartPlan(text, "it", comes_back=Bounds(10, 1)))
    session.do(RestartWith("true"))
    session.subscribe(hear)
    dog.write_text("")
    end = session.do(StartPlan(text, "it", comes_back=Bounds(10, 1)))
    assert end.ended is Ended.RULE
    assert end.reason == "the bench went down 2 times"
    verdicts = [verdict(record) for record in session.snapshot.steps]
    assert verdicts[2:] == [Verdict.DOWN, Verdict.HELD, Verdict.DOWN]
    outcome = session.snapshot.steps[-1].outcome
    assert outcome is not None
    assert outcome.reason.endswith("It kept a record of the crash: the kernel panicked.")
    assert set(armed) == {"True"}, "over every value, by the agent of each start"
    assert values(bench) == "clock=4200 fan=40"
    assert session.snapshot.in_force == session.declaration.stock


def test_a_copy_to_give_away_doesnt_say_where_the_bench_is(bench: SshBench, session: Session, tmp_path: Path) -> None:
    session.do(RestartWith("true"))
    session.do(KeepProfile("Daily"))
    with pytest.raises(KnownError, match="is said there"):
        session.do(KeepOverRestarts("Daily", BOTH))
    assert "line" not in " ".join(session.snapshot.conditions), "its delay would be told as a difference between tests"
    assert any("isn't offered: the helper isn't installed." in told for told in session.do(LookAtBench()).lines())
    session.do(WriteNote(2, "on 127.0.0.1"))
    share(session.snapshot, tmp_path / "copy.yondle")
    session.close()
    assert b"127.0.0.1" not in (tmp_path / "copy.yondle").read_bytes()
    copy = read_book(tmp_path / "copy.yondle")
    assert (copy.declaration.info.name, copy.declaration.info.place) == ("bench", "ssh://bench")
    assert [record.step.number for record in copy.steps] == [1, 2]


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda at, folder: (folder / "known").write_text(""), "isn't known here yet"),
        (lambda at, folder: (folder / "authorized_keys").write_text(""), "lets nobody in"),
        (lambda at, folder: at.replace("/yondle", "/nothing"), "Yondle isn't on"),
        (lambda at, folder: at.replace(str(folder / "yondle"), "/bin/false"), "The line to root@127.0.0.1 ended"),
        (lambda at, folder: at.replace(str(folder / "yondle"), "/usr/bin/yes"), "isn't understood"),
        (lambda at, folder: "ssh://root@no-such-host.invalid", "No machine is known by the name"),
        (lambda at, folder: "ssh://root@127.0.0.1:9", "can't be reached"),
        (lambda at, folder: "ssh://-oProxyCommand=true", "is no address of a bench"),
        (lambda at, folder: "ssh://root@host/bin/sh;reboot", "is no address of a bench"),
    ],
    ids=["host key", "no key", "no yondle", "no agent", "no protocol", "no name", "refused", "option", "shell"],
)
def test_what_stands_against_a_bench_is_a_sentence(
    bench: SshBench, tmp_path: Path, change: Callable[[str, Path], object], words: str
) -> None:
    before = {name: (bench.folder / name).read_text() for name in ("known", "authorized_keys")}
    try:
        other = change(bench.address, bench.folder)
        with pytest.raises(KnownError) as stands:
            create_logbook(tmp_path / "x.yondle", choose_rig(other if isinstance(other, str) else bench.address))
        assert words in stands.value.problem
        assert stands.value.remedy
    finally:
        for name, text in before.items():
            (bench.folder / name).write_text(text)


def test_a_bench_has_one_notebook_and_a_slow_line_loses_nothing(
    bench: SshBench, session: Session, tmp_path: Path
) -> None:
    with pytest.raises(KnownError, match="Another Yondle works on this bench"):
        create_logbook(tmp_path / "other.yondle", choose_rig(bench.address))
    bench.road.delay(0.2)
    try:
        session.do(Propose("clock", 4400))
        record = session.do(TryProposal(2, turns=False))
        assert verdict(record) is Verdict.HELD
        times = [t for block in session.logbook.reader.trace(record.attempts[-1].id) for t in block.times_s]
        gaps = [after - before for before, after in pairwise(times)]
        assert sorted(gaps)[len(gaps) // 2] == pytest.approx(0.1, abs=0.03), "dated where they were taken"
    finally:
        bench.road.delay(0.0)


def test_a_line_that_dies_while_a_value_is_set_leaves_nothing_set_unknown(bench: SshBench, session: Session) -> None:
    (bench.folder / "slow").write_text("1.5")
    session.do(Propose("clock", 4450))
    cuts = Timer(0.7, bench.road.cut)
    cuts.start()
    try:
        record = session.do(TryProposal(2, turns=False))
    finally:
        (bench.folder / "slow").unlink()
    assert record.outcome is not None
    assert (record.outcome.failure, record.outcome.stage) == (Failure.INTERRUPTED, "setting")
    assert values(bench) == "clock=4300 fan=40"
    assert session.snapshot.in_force["clock"] == 4300.0
    assert len(bench.agents()) == 1, "the agent that was left has ended"


def test_a_notebook_that_slept_finds_out_what_became_of_its_test(
    bench: SshBench, session: Session, tmp_path: Path
) -> None:
    session.close()
    program = (
        "import sys\n"
        "from tests.bench.test_across import *\n"
        "from yondle.app.machine.clocks import RealClock\n"
        "napped = Path(sys.argv[2])\n"
        "RealClock.slept_s = lambda self: 3600.0 if napped.exists() else 0.0\n"
        "session = open_logbook(Path(sys.argv[1]))\n"
        "into_a_pass(session, lambda: print(session.machine.bench._line.pid, flush=True))\n"
        "session.do(Propose('clock', 4400))\n"
        "record = session.do(TryProposal(2, turns=False))\n"
        "print(record.outcome.failure, '|', record.outcome.reason, '|', session.snapshot.in_force['clock'])\n"
    )
    book, napped = str(tmp_path / "bench.yondle"), tmp_path / "napped"
    notebook = subprocess.Popen([sys.executable, "-c", program, book, str(napped)], stdout=subprocess.PIPE, text=True)
    assert notebook.stdout is not None
    both = (int(notebook.stdout.readline()), notebook.pid)
    for each in both:
        os.kill(each, signal.SIGSTOP)
    until = time.monotonic() + 15.0
    while values(bench) != "clock=4200 fan=40":
        assert time.monotonic() < until, "the agent doesn't put back what it set"
        time.sleep(0.1)
    napped.touch()
    for each in both:
        os.kill(each, signal.SIGCONT)
    said = notebook.communicate(timeout=60.0)[0]
    assert said.startswith("interrupted |")
    assert "this computer was suspended for 1\u202fh, and heard nothing; the bench stayed up. | 4300.0" in said


def test_clocks_hours_apart_and_packets_that_get_lost(
    bench: SshBench, session: Session, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    session.close()
    (bench.folder / "ahead").write_text("-10800")
    (bench.folder / "silent").unlink()
    for each, seconds in PATIENCE_S.items():
        monkeypatch.setattr(line, each, seconds)
    try:
        with opened(tmp_path) as again:
            assert "3\u202fh behind" in " ".join(again.do(LookAtBench()).lines())
            bench.lose(15)
            again.do(Propose("clock", 4400))
            record = again.do(TryProposal(2, turns=False))
            assert verdict(record) is Verdict.HELD
    finally:
        bench.lose(0)


def test_the_window_has_a_night_on_a_bench_with_a_command_that_restarts_it(
    bench: SshBench, session: Session, qtbot: QtBot, qapp: QApplication, tmp_path: Path
) -> None:
    session.close()
    (bench.folder / "dog").write_text("")
    shelf = Shelf(Theme(qapp, "paper"))
    shelf.resize(1280, 800)
    shelf.show()
    window = shelf.shown
    window.open_logbook(tmp_path / "bench.yondle")
    qtbot.waitUntil(lambda: window.tune is not None and window.tune.complete, timeout=20_000)
    tune = window.tune
    assert tune is not None
    tune.plans.ask_sweep(tune.book.now.declaration.knob("clock"))
    card = tune.side.findChildren(SweepCard)[-1]
    for box, value in ((card.low, 4325.0), (card.high, 4425.0), (card.by, 50.0)):
        box.setValue(value)
    consent = card.findChild(NightConsent)
    assert consent is not None
    consent.tick.click()
    assert consent.command.isVisible()
    consent.command.setText("no-such-program")
    qtbot.keyClick(consent.command, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: "There is no program 'no-such-program'." in words_of(tune.side))
    consent.command.setText("true 'a b'")
    qtbot.keyClick(consent.command, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: restart_words(tune.book.now) == "true 'a b'")
    begun: list[Timer] = []

    def restarts_once() -> None:
        if tune.progress.running and len(tune.book.now.steps) == 3 and not begun:
            begun.append(Timer(1.0, lambda: restart(bench, "b50")))
            begun[0].start()

    qtbot.waitUntil(card.run_button.isEnabled)
    card.run_button.click()

    def over() -> bool:
        restarts_once()
        return len(tune.book.now.steps) > 3 and not window.bridge.busy

    qtbot.waitUntil(over, timeout=60_000)
    found = [record.outcome.verdict for record in tune.book.now.steps if record.outcome is not None]
    assert found[2:] == [Verdict.DOWN, Verdict.HELD, Verdict.HELD]
    assert (bench.folder / "dog").read_text() == "False", "the watchdog is let go of at the end"
    shelf.close()
    qtbot.waitUntil(lambda: not shelf.books, timeout=20_000)


@contextmanager
def opened(folder: Path) -> Iterator[Session]:
    session = open_logbook(folder / "bench.yondle")
    try:
        yield session
    finally:
        session.close()
