"""What a profile kept over restarts has lived through enters its logbook: hours as proof, restarts as failures of its step."""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from tests.conftest import quick_rig
from tests.fakes import KeeperInMind
from tests.linux.trees import put

from yondle.analysis.exposure import ANY_LOAD, runs_of, warmths
from yondle.analysis.stability import Standard
from yondle.app.profiles.keeping import KeepNothing, KeepOverRestarts, kept_part, left_out_words
from yondle.app.profiles.profiles import KeepProfile, UseProfile, profile, standing
from yondle.app.session.kept import look_at_kept, must_be_at_stock
from yondle.app.session.opening import open_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.cli.shown import status_values
from yondle.formats.documents import KeptOverRestarts
from yondle.model.errors import KnownError
from yondle.model.findings import Finding
from yondle.model.kept import MAINS, KeptNow
from yondle.model.plan_runs import KeptMove, MoveKind
from yondle.model.profiles import Purpose
from yondle.model.verdicts import Verdict
from yondle.rigs.linux.keeping import kept_now
from yondle.views.edge.runs import attempted
from yondle.views.shared.kept import given_up
from yondle.views.shared.proof import lived_through, standard_held
from yondle.views.tune.step import step_view

HOUR = 3600.0
STATE = "var/lib/yondle"


def lived(number: int, **changes: Any) -> dict[str, Any]:
    usual = {"boot": "b1", "number": number, "logbook": "5f0c", "step": 2, "name": "Daily", "source": "mains"}
    counted = {"awake_s": 100 * HOUR, "load_s": 21 * HOUR, "errors": 0.0, "throttled": 3.0}
    return {
        **usual,
        "from": f"2026-11-0{number}T08:00:00+01:00",
        **counted,
        "failures": 0,
        "why": "",
        "open": False,
        **changes,
    }


def write(root: Path, *each: dict[str, Any]) -> None:
    put(root, {f"{STATE}/lived/{one['boot']}-{one['number']}.json": json.dumps(one) for one in each})


@pytest.fixture
def kept(new_session: Callable[..., Session], tmp_path: Path) -> Session:
    """A logbook with a daily profile on step 2, known to the service as 5f0c."""
    session = new_session()
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4300))
    session.do(TryProposal(2))
    session.do(KeepProfile("Daily", Purpose.DAILY))
    session.keep(KeptOverRestarts(id="5f0c"))
    return session


def look(session: Session, root: Path) -> None:
    look_at_kept(session, root, os.getuid())


def test_hours_without_a_failure_prove_what_no_test_has_time_for(kept: Session, tmp_path: Path) -> None:
    write(tmp_path, lived(1), lived(2), lived(3, open=True), lived(4, logbook="other"), lived(5, step=99))
    look(kept, tmp_path)
    book = kept.snapshot
    shown = lived_through(book, profile(book, "Daily").setup)
    assert shown is not None
    assert (shown.awake_s, shown.load_s, shown.failures) == (300 * HOUR, 63 * HOUR, 0)
    assert shown.every_s == pytest.approx(63 * HOUR / 2.9957, rel=1e-3)
    words = "12 days awake, 63 h under load, none failed; at most 1 failure in 21 h of load (95 %); throttled 9 times"
    assert standing(book, profile(book, "Daily")).replace("\u202f", " ") == f"step 2; {words}"
    rows = step_view(book, 2).rows
    assert words in dict(rows)["Daily use"].replace("\u202f", " ")
    assert book.step(2).verdict is Verdict.HELD
    version = kept.snapshot.version
    look(kept, tmp_path)
    assert kept.snapshot.version == version, "what is known already is not taken up again"
    write(tmp_path, lived(3, load_s=22 * HOUR))
    look(kept, tmp_path)
    assert (again := lived_through(kept.snapshot, profile(book, "Daily").setup)) is not None
    assert again.load_s == 64 * HOUR, "one that was under way counts for what it came to"


def test_a_restart_that_nobody_ordered_is_a_failure_of_the_step(kept: Session, tmp_path: Path) -> None:
    here, position = kept.snapshot.in_force, kept.snapshot.position
    write(tmp_path, lived(1, failures=1, why="the machine went down, or lost its power", load_s=2 * HOUR))
    put(tmp_path, {f"{STATE}/stopped.json": json.dumps({"why": "the machine went down twice within a week"})})
    told = {"format": "yondle-kept 1", "profiles": {"mains": {"name": "Daily", "logbook": "5f0c", "step": 2}}}
    put(tmp_path, {f"{STATE}/kept.json": json.dumps(told)})
    look(kept, tmp_path)
    book = kept.snapshot
    record = book.step(2)
    assert record.verdict is Verdict.DOWN
    assert record.outcome is not None
    assert "kept in force from 2026-11-01 08:00 on, for 4 days, 2 h of it under load" in record.outcome.reason.replace(
        "\u202f", " "
    )
    assert (book.in_force, book.position and book.position.step.number) == (here, position and position.step.number)
    assert "'Daily' is no longer kept over restarts" in given_up(book.kept.of(KeptOverRestarts), book.kept_here)
    assert any("yondle keep --again" in notice for notice in status_values(book)["notices"])
    with pytest.raises(KnownError, match="holds no longer"):
        kept.do(UseProfile("Daily"))
    runs = runs_of([record], "core_clock", warmths([record]))
    assert [(run.load, run.seconds, run.failures) for run in runs if run.load == ANY_LOAD] == [("", 2 * HOUR, 1)]
    look(kept, tmp_path)
    assert len(kept.snapshot.step(2).attempts) == len(record.attempts), "it is written down once"
    kept.close()
    again = open_logbook(kept.logbook.path)
    try:
        assert again.snapshot.step(2).verdict is Verdict.DOWN
        assert again.snapshot.resumed == ()
    finally:
        again.close()


def test_files_that_others_could_have_written_are_not_taken_up(kept: Session, tmp_path: Path) -> None:
    write(tmp_path, lived(1), lived(2))
    (tmp_path / STATE / "lived/b1-1.json").chmod(0o666)
    put(tmp_path, {f"{STATE}/lived/b1-3.json": "{", f"{STATE}/lived/b1-4.json": json.dumps({"logbook": "5f0c"})})
    look(kept, tmp_path)
    assert [each.number for each in kept.snapshot.kept.of(KeptOverRestarts).lived] == [2]
    put(tmp_path, {f"{STATE}/kept.json": '{"profiles": 7}'})
    assert kept_now(tmp_path, os.getuid()).profiles == {}


def test_only_what_held_at_a_standard_on_this_machine_is_kept(
    kept: Session, new_session: Callable[..., Session]
) -> None:
    with pytest.raises(KnownError, match="simulated rig"):
        kept.do(KeepOverRestarts("Daily"))
    kept.machine = replace(kept.machine, keeper=KeeperInMind("core_clock"))
    with pytest.raises(KnownError, match="30 min under load"):
        kept.do(KeepOverRestarts("Daily"))
    session = new_session(quick_rig(hard_load_s="1900.0"), "loaded")
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4300))
    session.do(TryProposal(2))
    session.do(KeepProfile("Daily", Purpose.DAILY))
    nothing_to_keep, keeper = KeeperInMind(), KeeperInMind("core_clock")
    session.machine = replace(session.machine, keeper=nothing_to_keep)
    with pytest.raises(KnownError, match="sets nothing that could be kept"):
        session.do(KeepOverRestarts("Daily"))
    assert not nothing_to_keep.told
    session.machine = replace(session.machine, keeper=keeper)
    assert session.do(KeepOverRestarts("Daily", MAINS)).values == {"core_clock": 4300.0}
    name = session.snapshot.kept.of(KeptOverRestarts).id
    profile_ = {"name": "Daily", "logbook": name, "step": 2, "values": {"core_clock": 4300.0}}
    assert keeper.told == [("set", {"for": MAINS, "profile": profile_, "instead": False})]
    assert session.snapshot.kept_here == KeptNow({MAINS: ("Daily", name, 2)}, "", "Daily")
    session.do(KeepNothing())
    assert session.snapshot.kept_here == KeptNow({})
    book = session.snapshot
    assert "core clock" in left_out_words(kept_part(book, profile(book, "Daily"), frozenset()))
    record = book.step(2)
    assert standard_held(book, record) is Standard.QUICK
    found = Finding(1, "", "core_clock", (), "session", 4300, 0.96, 4300, 0.96, (4300, 4400), 9, 0, 1, 0, 900.0, step=2)
    assert standard_held(replace(book, findings=(found,)), record) is Standard.SESSION, "as a search found"
    assert standard_held(replace(book, findings=(replace(found, step=1),)), record) is Standard.QUICK


def test_a_plan_that_was_cut_off_never_takes_a_failure_in_daily_use_for_its_own(kept: Session, tmp_path: Path) -> None:
    keeping_ = kept.logbook.keeping
    attempt = kept.logbook.next_attempt()
    run = keeping_.open_plan("", {}, kept.wall(), 0.0)
    keeping_.open_move(run, 1, KeptMove(MoveKind.TRY, values={"core_clock": 4400.0}), attempt)
    write(tmp_path, lived(1, failures=1, why="the machine went down, or lost its power"))
    look(kept, tmp_path)
    assert attempted(kept.snapshot, attempt) is None
    assert kept.snapshot.step(2).attempts[-1].id == attempt + 1


def test_a_logbook_is_not_begun_where_stock_can_not_be_told(tmp_path: Path) -> None:
    put(tmp_path, {"proc/sys/kernel/random/boot_id": "b1"})
    write(tmp_path, lived(1, open=True))
    with pytest.raises(KnownError, match="isn't its stock"):
        must_be_at_stock(tmp_path, os.getuid())
    write(tmp_path, lived(1, open=False))
    must_be_at_stock(tmp_path, os.getuid())
