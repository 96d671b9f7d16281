"""What all tests share: an own data folder, a small quick rig, and a watch over threads and children left behind."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import settings

from yondle.app.session.opening import create_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.testing import RunBaseline, TryProposal

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["YONDLE_LANGUAGE"] = "en"

from yondle.app.machine.machines import RigChoice, choose_rig
from yondle.app.session.session import Session
from yondle.rigs.simulated.rigfile import rig_text

HERON = rig_text("heron")[0]


COMPILED = Path(__file__).parent.parent / ".pytest_cache" / "compiled"
settings.register_profile("unhurried", deadline=None)
settings.load_profile("unhurried")


@pytest.fixture(autouse=True)
def own_folders(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What a test keeps is its own; only what is compiled, which takes seconds, is kept for all of them."""
    for name in ("XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_CONFIG_HOME"):
        monkeypatch.setenv(name, str(tmp_path / name.lower()))
    monkeypatch.setenv("XDG_CACHE_HOME", str(COMPILED))


@pytest.fixture(autouse=True)
def nothing_left_running() -> Iterator[None]:
    before, living = set(threading.enumerate()), children()
    yield
    left = [t.name for t in threading.enumerate() if t not in before and t.is_alive()]
    assert not left, f"threads left running: {left}"
    running = children() - living
    assert not running, f"child processes left running: {running}"


def children() -> set[str]:
    """Name the living child processes of this one; what was there before a test, its fixtures keep."""
    found = set()
    for task in Path("/proc/self/task").iterdir():
        try:
            pids = (task / "children").read_text().split()
        except OSError:
            continue
        for pid in pids:
            try:
                name = Path(f"/proc/{pid}/comm").read_text().strip()
            except OSError:
                continue
            found.add(f"{name} ({pid})")
    return found


def quick_rig(**changes: str) -> str:
    """Heron with short checks; keys of `changes` are lines to be replaced, such as hard_load_s='60.0'."""
    text = HERON.replace("hard_load_s = 180.0", "hard_load_s = 60.0").replace("pass_s = 12.0", "pass_s = 6.0")
    text = text.replace("memory_load_s = 180.0", "memory_load_s = 60.0")
    for key, value in changes.items():
        lines = [f"{key} = {value}" if line.startswith(f"{key} = ") else line for line in text.splitlines()]
        text = "\n".join(lines)
    return text


@pytest.fixture
def new_session(tmp_path: Path) -> Iterator[Callable[..., Session]]:
    opened: list[Session] = []

    def make(rig: str | None = None, name: str = "book", **kwargs: object) -> Session:
        choice = RigChoice("simulated", "Heron", rig or quick_rig()) if rig != "heron" else choose_rig("heron")
        session = create_logbook(tmp_path / f"{name}.yondle", choice, **kwargs)  # type: ignore[arg-type]
        opened.append(session)
        return session

    yield make
    for session in opened:
        session.close()


@pytest.fixture
def session(new_session: Callable[..., Session]) -> Session:
    return new_session()


@pytest.fixture
def measured(tmp_path: Path, new_session: Callable[..., Session]) -> Path:
    """A logbook with a baseline and one step that held."""
    session = new_session(name="measured")
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4300))
    session.do(TryProposal(2))
    session.close()
    return tmp_path / "measured.yondle"
