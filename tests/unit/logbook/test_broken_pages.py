"""A logbook whose pages are broken opens, or says what is wrong and what to do; it is left as it is, and nothing else happens."""

from __future__ import annotations

from pathlib import Path
from random import Random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.conftest import quick_rig

from yondle.app.books.export import logbook_text, passes_csv
from yondle.app.books.reading import read_book
from yondle.app.books.watching import watch
from yondle.app.machine.machines import RigChoice
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.testing import RunBaseline
from yondle.model.errors import KnownError
from yondle.views.traces.traces import runs, trace_of

PAGE = 4096


@pytest.fixture(scope="module")
def whole(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("whole") / "book.yondle"
    session = create_logbook(path, RigChoice("simulated", "Heron", quick_rig()))
    session.do(RunBaseline(2))
    session.close()
    return path


def broken(whole: Path, seed: int) -> bytes:
    chance, made = Random(seed), bytearray(whole.read_bytes())
    page = chance.randrange(len(made) // PAGE) * PAGE
    match chance.randrange(4):
        case 0:
            for _ in range(chance.choice((1, 5, 50))):
                made[chance.randrange(len(made))] = chance.randrange(256)
        case 1:
            made[page : page + PAGE] = chance.randbytes(PAGE)
        case 2:
            del made[chance.randrange(PAGE, len(made)) :]
        case _:
            made[page : page + PAGE] = bytes(PAGE)
    return bytes(made)


@given(seed=st.integers(0, 2**32 - 1))
@settings(max_examples=60)
def test_broken_pages_are_told_in_a_sentence(seed: int, whole: Path, tmp_path_factory: pytest.TempPathFactory) -> None:
    path = tmp_path_factory.mktemp("broken") / "book.yondle"
    path.write_bytes(broken(whole, seed))

    def open_it() -> None:
        session = open_logbook(path)
        try:
            logbook_text(session.snapshot)
            passes_csv(session.snapshot)
            for run in runs(session.snapshot):
                trace_of(session.snapshot, run.attempt)
        finally:
            session.close()

    for do in (lambda: watch(path), lambda: read_book(path), open_it):
        try:
            do()
        except KnownError as error:
            told = error
            if not told.remedy or any(ord(c) < 32 for c in told.problem):
                raise AssertionError(told.problem) from error
