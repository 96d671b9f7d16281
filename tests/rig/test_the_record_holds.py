"""What a record promises whatever happens around it: nothing half written, nobody else's lock, names that mean what they say."""

from __future__ import annotations

import fcntl
import json
import os
import resource
import sqlite3
import stat
import threading
import zlib
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest
from tests.conftest import quick_rig
from tests.fakes import changed_session

from yondle.app.books.columns import CompareThese, KeepPrice, Shelf, compared, offers, prices
from yondle.app.books.export import logbook_text, merge, share, write
from yondle.app.books.reading import read_book
from yondle.app.books.watching import watch
from yondle.app.machine.clocks import RealClock
from yondle.app.machine.machines import goes_on
from yondle.app.machine.this_machine import add_command
from yondle.app.plans.plans import StartPlan
from yondle.app.profiles.profiles import KeepProfile
from yondle.app.reports.reporting import report_of
from yondle.app.session.limits import LimitReading
from yondle.app.session.opening import open_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.remarks import WriteNote
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryFrom, TryProposal
from yondle.app.system.helper_install import install
from yondle.formats.whole_files import write_whole, written_whole
from yondle.logbook.store import WriterLock
from yondle.model.errors import KnownError
from yondle.model.events import AttemptClosed, PassEnded, PassOpened
from yondle.model.steps import FOR_EDGE, LONG
from yondle.model.verdicts import Verdict
from yondle.rigs.linux.privilege import LOCAL
from yondle.views.record.log import Kind, LogRows, pass_facts
from yondle.views.shared.steps import stage_words
from yondle.views.traces.traces import trace_of
from yondle.views.tune.step import step_view

MakeSession = Callable[..., Session]


@pytest.fixture
def book(measured: Path) -> Path:
    return measured


def left_beside(path: Path) -> list[str]:
    return sorted(each.name for each in path.parent.iterdir() if each.name.startswith((".", path.name)))


def half_written(path: Path) -> None:
    with written_whole(path) as new:
        new.write_text("half")
        raise ZeroDivisionError


def written_late(path: Path) -> None:
    with written_whole(path, replaces=False) as new:
        new.write_text("late")
        path.write_text("somebody was faster")


def test_a_file_that_can_not_be_finished_leaves_the_one_before_as_it_was(tmp_path: Path) -> None:
    path = tmp_path / "night.html"
    write_whole(path, "good")
    path.chmod(0o640)
    soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (4096, hard))
    try:
        with pytest.raises(KnownError, match="can't be written"):
            write(path, "x" * 100_000)
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))
    with pytest.raises(ZeroDivisionError):
        half_written(path)
    assert path.read_text() == "good"
    assert left_beside(path) == ["night.html"]
    with path.open() as read_meanwhile:
        write(path, "better")
        assert read_meanwhile.read() == "good"
    assert path.read_text() == "better"
    assert stat.S_IMODE(path.stat().st_mode) == 0o640


def test_what_must_not_be_replaced_is_not_and_folders_and_devices_are_told_apart(tmp_path: Path) -> None:
    path = tmp_path / "a.toml"
    write_whole(path, "mine")
    with pytest.raises(KnownError, match="already there"):
        write_whole(path, "yours", replaces=False)
    with pytest.raises(KnownError, match="already there"):
        written_late(tmp_path / "b")
    with pytest.raises(KnownError, match="is a folder"):
        write_whole(tmp_path, "x")
    with pytest.raises(KnownError, match="no folder"):
        write_whole(tmp_path / "gone" / "a", "x")
    write_whole(Path("/dev/null"), "x")
    assert (path.read_text(), (tmp_path / "b").read_text()) == ("mine", "somebody was faster")
    assert left_beside(path) == ["a.toml"]


def test_a_lock_is_its_owners_alone_and_goes_with_the_writer(book: Path) -> None:
    lock = WriterLock(book)
    before = os.umask(0)
    try:
        lock.take()
    finally:
        os.umask(before)
    file = book.with_name(book.name + ".lock")
    assert stat.S_IMODE(file.stat().st_mode) == 0o600
    with pytest.raises(KnownError, match=f"process {os.getpid()}"):
        open_logbook(book)
    lock.release()
    assert not file.exists()
    file.touch(0o644)
    held = os.open(file, os.O_RDONLY)
    open_logbook(book).close()
    fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
    open_logbook(book).close()
    os.close(held)


def test_what_the_helper_is_installed_into_can_be_written_by_root_alone(tmp_path: Path) -> None:
    before = os.umask(0)
    try:
        made = install(tmp_path)
    finally:
        os.umask(before)
    for path in made:
        for each in (path, *path.parents):
            if each == tmp_path:
                break
            assert not each.stat().st_mode & 0o022, each
    for folder in (tmp_path / LOCAL.folder.relative_to("/").parent, made[-2].parent, made[-1].parent):
        folder.chmod(0o777)
        with pytest.raises(KnownError, match="others than its owner"):
            install(tmp_path)
        folder.chmod(0o755)
    (tmp_path / LOCAL.folder.relative_to("/")).chmod(0o777)
    install(tmp_path)
    assert (tmp_path / LOCAL.folder.relative_to("/")).stat().st_mode & 0o777 == 0o755, "it is made anew"


def test_a_note_written_while_a_test_ends_does_not_hide_its_verdict(new_session: MakeSession) -> None:
    """The verdict is read anew in one thread while the note is read anew in another: the later reading stays."""
    session = new_session()
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4300))
    ready, go = threading.Event(), threading.Event()
    reading = session.logbook.step

    def slowly(number: int, passes_of: int | None = None):  # type: ignore[no-untyped-def]
        record = reading(number, passes_of)
        if threading.current_thread() is not threading.main_thread():
            ready.set()
            go.wait(5.0)
        return record

    session.logbook.step = slowly  # type: ignore[method-assign]
    writer = threading.Thread(target=lambda: session.do(WriteNote(2, "a door fell shut")))

    late = threading.Timer(0.3, go.set)

    last = False

    def meanwhile(record: object) -> None:
        nonlocal last
        if isinstance(record, PassOpened):
            last = record.number == record.of
        elif isinstance(record, PassEnded) and last:
            writer.start()
            ready.wait(5.0)
            late.start()
        elif isinstance(record, AttemptClosed):
            go.set()

    session.subscribe(meanwhile)
    session.do(TryProposal(2))
    writer.join()
    late.join()
    kept = reading(2)
    assert session.snapshot.step(2).verdict is kept.verdict is Verdict.HELD
    assert [note.text for note in session.snapshot.step(2).notes] == ["a door fell shut"]


def test_a_rule_of_a_plan_judges_what_the_plan_has_tested(session: Session) -> None:
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 5000))
    assert session.do(TryProposal(2)).verdict is not Verdict.HELD
    failed = session.snapshot.steps[-1].verdict
    plan = f"""
format = "yondle-plan 1"
name = "one"
passes = 2
[stop]
failures = 1
verdicts = ["{failed}"]
[[do]]
kind = "steps"
steps = [{{core_clock = 4250}}]
"""
    end = session.do(StartPlan(plan, "one", lambda *_: None))
    assert (str(end.ended), end.moves) == ("done", 1)


def test_what_a_plan_only_recalls_is_no_failure_of_it(new_session: MakeSession) -> None:
    """Stock is held back by a ceiling, and a search begins by recalling what is known of it."""
    power = "[sensors.package_power]\nnoise = 0.5\nquantum = 0.1\nlimit = "
    session = new_session(quick_rig().replace(f"{power}130.0", f"{power}70.0"), name="capped")
    assert session.do(RunBaseline(2)).verdict is Verdict.HELD_BACK
    plan = """
format = "yondle-plan 1"
name = "edge"
[stop]
failures = 1
[[do]]
kind = "edge"
knob = "memory_rate"
loads = ["mixed_load"]
standard = "quick"
to = 6000
"""
    session.do(StartPlan(plan, "edge", lambda *_: None))
    assert len(session.snapshot.steps) > 1


def test_the_clock_of_a_machine_goes_on_over_its_restarts(session: Session) -> None:
    session.do(RunBaseline(2))
    attempt = session.snapshot.steps[0].attempts[0]
    keeping, began = session.logbook.keeping, RealClock()
    attempt = replace(attempt, boot_id="first", started_s=began.now(), started_at=began.wall().isoformat())
    last_s = attempt.started_s + 3600.0
    goes_on(began, "first", keeping, attempt, last_s)
    assert abs(began.now() - attempt.started_s) < 5.0
    after = RealClock()
    goes_on(after, "second", keeping, attempt, last_s)
    assert 0.0 <= after.now() - last_s < 5.0
    again = RealClock()
    goes_on(again, "second", keeping, attempt, last_s + 50.0)
    assert abs(again.now() - after.now()) < 5.0


def test_a_profile_means_itself_in_compare_whatever_it_is_called(session: Session) -> None:
    session.do(RunBaseline(2))
    for clock in (4250, 4300):
        session.do(Propose("core_clock", clock))
        session.do(TryProposal(2))
    for name in ("stock", "2", "here", "24/7 #2", "other.yondle#stock", "Daily"):
        session.do(KeepProfile(name, step=3))
    shelf = Shelf(lambda: session.snapshot)

    def step_of(address: str) -> int | None:
        record = shelf.column(address).step
        return record.step.number if record is not None else None

    assert [step_of(a) for a in ("stock", "2", "Daily", "24/7 #2", "profile:2", "profile:stock")] == [1, 2, 3, 3, 3, 3]
    for offer in offers(session.snapshot, ()):
        if offer.name in ("stock", "2", "here", "24/7 #2", "other.yondle#stock", "Daily"):
            assert step_of(offer.address) == 3, offer
    assert len(Shelf(lambda: session.snapshot).columns(compared(session.snapshot))[0]) == len(
        compared(session.snapshot)
    )


def test_merging_takes_compared_steps_and_prices_along(tmp_path: Path, new_session: MakeSession) -> None:
    for name, clock in (("late", 4300), ("early", 4250)):
        session = new_session(name=name)
        session.do(RunBaseline(2))
        session.do(Propose("core_clock", clock))
        session.do(TryProposal(2))
        if name == "late":
            session.do(CompareThese(("1", "2", "stock", "elsewhere.yondle#2")))
            session.do(KeepPrice("2", 120.0))
        session.close()
    with sqlite3.connect(tmp_path / "early.yondle") as changed:
        changed.execute("UPDATE attempt SET started_at = '2020' || substr(started_at, 5)")
    changed.close()
    assert merge(tmp_path / "late.yondle", tmp_path / "early.yondle", tmp_path / "both.yondle") == 4
    both = open_logbook(tmp_path / "both.yondle")
    number = next(r.step.number for r in both.snapshot.steps if r.step.setup["core_clock"] == 4300.0)
    assert number != 2
    assert compared(both.snapshot)[1:] == (str(number), "stock", "elsewhere.yondle#2")
    assert prices(both.snapshot) == {str(number): 120.0}
    both.close()


def test_a_stage_is_kept_by_the_id_of_its_load_and_shown_by_its_name(session: Session) -> None:
    record = session.do(RunBaseline(2))
    assert {p.stage for p in record.attempts[0].passes} == {"score passes", "mixed_load"}
    d = session.declaration
    for stage, shown in (
        ("mixed_load", "mixed load"), ("mixed load", "mixed load"), (f"{LONG}stacking", "long run of stacking"),
        (f"{FOR_EDGE}mixed_load", "mixed load for the edge"), ("long run of stacking", "long run of stacking"),
    ):  # fmt: skip
        assert stage_words(d, stage).lower() == shown


def test_a_copy_to_share_opens_whatever_home_host_and_user_are_called(
    tmp_path: Path, session: Session, monkeypatch: pytest.MonkeyPatch
) -> None:
    session.do(RunBaseline(2))
    home = str(Path.home())
    add_command(
        session.logbook.keeping,
        f'format = "yondle-workload 1"\nid = "render"\nname = "Render"\ncommand = ["{home}/run"]\nfolder = "{home}/films"\n'
        '[score]\npattern = "(\\\\d+)"\nunit = "s"\nbetter = "lower"\n',
        "it",
        (),
    )
    session.do(WriteNote(1, f"films lie in {home}/films, render sees heron"))
    monkeypatch.setattr("socket.gethostname", lambda: "heron")
    monkeypatch.setattr("getpass.getuser", lambda: "render")
    share(session.snapshot, tmp_path / "copy.yondle")
    copy = open_logbook(tmp_path / "copy.yondle")
    text = logbook_text(copy.snapshot)
    assert home + "/" not in text
    assert "render sees" not in text
    assert report_of(copy.snapshot)
    copy.close()


def bomb(path: Path, blocks: int) -> None:
    """Put blocks of zeros into a trace: 61 kB each that claim to unpack to 60 MiB."""
    channels = json.dumps([f"c{i}" for i in range(15)])
    samples = (60 << 20) // 68
    data = zlib.compress(bytes(samples * 68), 9)
    connection = sqlite3.connect(path)
    for i in range(blocks):
        connection.execute(
            "INSERT INTO sample_block (attempt, from_s, to_s, samples, channels, data) VALUES (2, ?, ?, ?, ?, ?)",
            (1000.0 + i, 1001.0 + i, samples, channels, data),
        )
    connection.execute("UPDATE attempt SET closed_at = NULL WHERE id = 2")
    connection.commit()
    connection.close()


def test_blocks_that_would_unpack_to_gigabytes_are_refused_before_they_do(book: Path) -> None:
    bomb(book, 40)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    with pytest.raises(KnownError, match="can't be read"):
        watch(book)
    read_book(book)
    session = open_logbook(book)
    with pytest.raises(KnownError, match="at most"):
        trace_of(session.snapshot, 2)
    with pytest.raises(KnownError):
        logbook_text(session.snapshot)
    session.close()
    grown_mib = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
    assert grown_mib < 200


def test_a_cell_that_holds_what_its_column_can_not_is_told(book: Path, tmp_path: Path) -> None:
    whole = book.read_bytes()
    for wrong in (
        "UPDATE pass SET score = 'fast' WHERE ordinal = 2", "UPDATE attempt SET started_s = 1e300",
        "UPDATE attempt SET started_at = 'yesterday'", "UPDATE step SET setup = '{\"core_clock\": NaN}' WHERE number = 2",
        "UPDATE pass SET facts = '{\"mean core_clock_effective\": \"x\"}' WHERE ordinal = 2",
        "INSERT INTO state (name, value) VALUES ('limits', '[1')", "INSERT INTO state (name, value) VALUES ('ranges', '7')",
    ):  # fmt: skip
        book.write_bytes(whole)
        connection = sqlite3.connect(book)
        connection.execute(wrong)
        connection.commit()
        connection.close()
        with pytest.raises(KnownError, match="is damaged"):
            open_logbook(book)
    book.write_bytes(whole)
    with sqlite3.connect(book) as older:
        older.execute("PRAGMA user_version = 2")
    older.close()
    with pytest.raises(KnownError, match="table result already exists"):
        open_logbook(book)


def test_a_limit_on_a_sensor_that_is_gone_is_told_and_guards_nothing(tmp_path: Path) -> None:
    path = tmp_path / "book.yondle"
    session = changed_session(path, quick_rig())
    session.do(LimitReading("package_power", 150.0))
    session.close()
    session = changed_session(path, quick_rig(), without=frozenset({"package_power"}))
    assert "Package power" in session.snapshot.notices[0]
    assert all(limit.channel != "package_power" for limit in session.declaration.limits)
    session.close()


def test_what_a_sensor_read_stays_when_it_is_taken_away(tmp_path: Path) -> None:
    """A meter that is removed, a driver that is gone: the readings are in the record, and every place still tells them."""
    path = tmp_path / "book.yondle"
    session = changed_session(path, quick_rig())
    session.do(RunBaseline(2))
    session.close()
    session = changed_session(path, quick_rig(), without=frozenset({"package_power"}))
    record = session.snapshot.step(1)
    rows = LogRows().rows([("Heron", session.snapshot)])
    a_pass = next(r for r in rows if r.kind is Kind.PASS and not r.left_out)
    assert any(name.startswith("Package power, ") for name, _ in pass_facts(session.declaration, record, a_pass))
    assert any(name.startswith("Package power") for name, _ in step_view(session.snapshot, 1).rows)
    trace = trace_of(session.snapshot, record.attempts[0].id)
    assert any(channel.id == "package_power" for panel in trace.panels for channel in panel.channels)
    session.close()


def test_a_share_is_never_more_than_the_whole_nor_less_than_nothing(new_session: MakeSession) -> None:
    session = new_session(quick_rig().replace("[sensors.in_use]\nnoise = 0.6", "[sensors.in_use]\nnoise = 30.0"))
    session.do(RunBaseline(2))
    read = trace_of(session.snapshot, session.snapshot.step(1).attempts[0].id).columns["in_use"]
    assert (read[read == read].max(), read[read == read].min() >= 0.0) == (100.0, True)
    idle = [session.machine.rig.sample() for _ in range(60) if session.machine.clock.wait(1.0) is None]
    at = [c.id for c in session.declaration.channels].index("in_use")
    shares = [row[at] for row in idle if row[at] is not None]
    assert min(shares) == 0.0


def test_what_is_at_hand_is_what_is_on_disk_after_every_record(new_session: MakeSession) -> None:
    session = new_session()
    differ: list[str] = []

    def compare(record: object) -> None:
        if list(session.snapshot.steps) != session.logbook.steps():
            differ.append(type(record).__name__)

    session.subscribe(compare)
    session.do(RunBaseline(2))
    session.do(TryFrom(1, {"core_clock": 4300.0}, session.snapshot.check(2)))
    session.do(WriteNote(2, "while it rests"))
    session.do(TryFrom(1, {"core_clock": 4300.0}, session.snapshot.check(3)))
    session.do(TryFrom(1, {"core_clock": 5000.0}, session.snapshot.check(2)))
    session.do(TryFrom(1, {"core_clock": 4300.0}, session.snapshot.check(2)))
    assert len(session.snapshot.step(2).attempts) == 3
    assert len({len(a.passes) for a in session.snapshot.step(2).attempts}) == 2
    assert differ == []
