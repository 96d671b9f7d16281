"""What a test under way is told to be at: its parts fill up, the time left doesn't jump, and its passes say something already."""

from __future__ import annotations

from pathlib import Path

import pytest

from yondle.app.session.opening import open_logbook
from yondle.app.session.progress import Progress
from yondle.app.session.proposing import Propose
from yondle.app.session.session import Session
from yondle.app.session.testing import TryProposal
from yondle.model.events import PassEnded, PassOpened, Record
from yondle.views.shared.gains import gain_of
from yondle.views.tune.proposal import expected_seconds
from yondle.views.tune.running import so_far


@pytest.fixture
def session(measured: Path) -> Session:
    opened = open_logbook(measured)
    yield opened
    opened.close()


def test_parts_fill_time_falls_and_passes_speak(session: Session, monkeypatch: pytest.MonkeyPatch) -> None:
    session.do(Propose("core_clock", 4400.0))
    book = session.snapshot
    progress = Progress(book.declaration)
    expected = expected_seconds(book, book.check())
    benchmark = book.declaration.benchmarks[0]
    left: list[float] = []
    told: list[str] = []
    shares: list[float] = []

    def take(record: Record) -> None:
        progress.take(record)
        if isinstance(record, PassEnded | PassOpened):
            progress.left(expected)
            left.append(progress.told_left_s)
            shares.append(progress.share)
            told.append(so_far(book, benchmark, progress.scores))

    session.subscribe(take)
    session.do(TryProposal())
    assert shares == sorted(shares)
    assert shares[0] == 0.0
    assert shares[-1] == 1.0
    assert [p.over for p in progress.parts] == [p.of for p in progress.parts]
    assert left == sorted(left, reverse=True), "time left only falls while all goes as expected"
    assert left[-1] < 0.1 * left[0]
    assert told[0] == ""
    gain = gain_of(session.snapshot, session.snapshot.steps[-1], benchmark)
    spoken = float(told[-1].split(" so far ")[1].split("\u202f")[0].replace("\u2212", "-"))
    assert spoken == pytest.approx(100.0 * gain.fraction, abs=1.5)
