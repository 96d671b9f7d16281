"""How children that crash, hang, lie or never start are told apart, and that none of them outlives its pass."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import numpy
import pytest

import yondle
from yondle.model.errors import KnownError
from yondle.model.verdicts import Failure
from yondle.model.workloads import PassResult
from yondle.workloads import host
from yondle.workloads.children import living_in_group
from yondle.workloads.host import ChildRun

CHILD = str(Path(__file__).with_name("bad_child.py"))


class FastClock:
    """The monotonic clock, but running fifty times as fast, so that deadlines are met without waiting for them."""

    def __init__(self, speed: float = 1.0) -> None:
        self._speed = speed
        self._began = time.monotonic()
        self.ahead_s = 0.0

    def now(self) -> float:
        return (time.monotonic() - self._began) * self._speed + self.ahead_s


def outcome(how: str, speed: float = 1.0, seconds: float = 5.0, more: tuple[str, ...] = ()) -> PassResult:
    run = ChildRun([sys.executable, CHILD, how, *more], seconds, FastClock(speed).now)
    try:
        limit = time.monotonic() + 20
        while (result := run.poll()) is None:
            assert time.monotonic() < limit, "the child was never judged"
            os.sched_yield()
        return result
    finally:
        run.stop()
        assert not run.alive


@pytest.mark.parametrize(
    ("how", "failure", "says"),
    [
        ("segfault", Failure.PROGRAM_CRASHED, "segmentation fault"),
        ("illegal", Failure.PROGRAM_CRASHED, "illegal instruction"),
        ("killed", Failure.INTERRUPTED, "killed from outside"),
        ("terminated", Failure.INTERRUPTED, "ended from outside (SIGTERM)"),
        ("cannot start", Failure.NOT_RUN, "no such instruction set"),
        ("falls at start", Failure.NOT_RUN, "segmentation fault"),
        ("silent end", Failure.PROGRAM_CRASHED, "without a result"),
        ("wrong", Failure.WRONG_RESULTS, "processor 1"),
        ("garbage", Failure.PROGRAM_CRASHED, "can't be read"),
    ],
)
def test_each_way_of_failing_is_told_apart(how: str, failure: Failure, says: str) -> None:
    result = outcome(how)
    assert not result.ok
    assert result.score is None
    assert result.failure == failure.value
    assert says in result.detail


@pytest.mark.parametrize("how", ["hang", "deaf"])
def test_a_child_that_falls_silent_has_hung_and_is_killed(how: str) -> None:
    result = outcome(how, speed=20.0, seconds=600.0)
    assert result.failure == Failure.PROGRAM_HUNG.value
    assert "silent" in result.detail


def test_a_child_that_somebody_stopped_has_not_failed() -> None:
    result = outcome("stopped", speed=20.0, seconds=600.0)
    assert result.failure == Failure.INTERRUPTED.value
    assert "stopped from outside" in result.detail


def test_a_yondle_that_stood_still_does_not_take_its_child_for_hung() -> None:
    """Stopped with SIGSTOP, or asleep: what the child said meanwhile hasn't been read yet."""
    clock = FastClock()
    run = ChildRun([sys.executable, CHILD, "hang"], 600.0, clock.now)
    while clock.now() < 1.0:
        assert run.poll() is None
        os.sched_yield()
    clock.ahead_s = 60.0
    assert run.poll() is None
    run.stop()


def test_a_child_that_is_never_ready_could_not_be_run(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(host, "START_AT_MOST_S", 0.3)
    result = outcome("never ready")
    assert result.failure == Failure.NOT_RUN.value
    assert "not ready" in result.detail


def kernel_run(cache: Path) -> tuple[PassResult, bool]:
    """A pass of a compiled kernel, with another place for what is compiled; gives it, and whether anything was kept there."""
    command = [
        "env",
        f"XDG_CACHE_HOME={cache}",
        sys.executable,
        "-m",
        "yondle.workloads.kernels.whole_numbers",
        "--cpus",
        "0",
    ]
    run = ChildRun(command, 0.5, FastClock().now)
    limit = time.monotonic() + 90
    while (result := run.poll()) is None:
        assert time.monotonic() < limit
        time.sleep(0.01)
    run.stop()
    kept = cache / "yondle/kernels"
    return result, kept.is_dir() and any(kept.rglob("*.nbi"))


def test_what_is_compiled_is_kept_in_a_folder_of_its_own_and_made_anew_where_there_is_none(tmp_path: Path) -> None:
    result, kept = kernel_run(tmp_path)
    assert (result.ok, kept) == (True, True), result.detail
    result, kept = kernel_run(Path("/dev/null/nowhere"))
    assert (result.ok, kept) == (True, False), "a folder that can't be written says nothing of the processor"
    shared = tmp_path / "shared/yondle/kernels"
    shared.mkdir(parents=True)
    shared.chmod(0o777)
    result, kept = kernel_run(tmp_path / "shared")
    assert (result.ok, kept) == (True, False), "what others may write isn't run"


def test_what_the_system_does_not_allow_is_no_fault_of_the_processor() -> None:
    """A disk that fills up, or memory that is not given, in the middle of a pass."""
    for trouble, failure in (
        ("OSError(28, 'No space left on device')", Failure.NOT_RUN),
        ("ValueError()", Failure.PROGRAM_CRASHED),
    ):
        code = (
            "from yondle.workloads.kernels import serve, timings\n"
            "class Work:\n"
            "    timings, units = timings.Timings(), 0\n"
            "    def unit(self):\n"
            "        self.units += 1\n"
            f"        if self.units > 3: raise {trouble}\n"
            "        return 1.0, ''\n"
            "serve.serve(serve.Kernel(lambda place: Work(), {}))"
        )
        run = ChildRun([sys.executable, "-c", code, "--cpus", "0"], 5.0, FastClock().now)
        limit = time.monotonic() + 30
        while (result := run.poll()) is None:
            assert time.monotonic() < limit
            time.sleep(0.01)
        run.stop()
        assert result.failure == failure.value, result.detail
        assert ("No space left" in result.detail) is (failure is Failure.NOT_RUN)


@pytest.fixture
def small_memory() -> Iterator[Path]:
    """The members file of a memory cgroup of 64 MiB, where this machine lets one be made."""
    root = Path("/sys/fs/cgroup")
    first = (root / "memory").is_dir()
    group = (root / "memory" if first else root) / f"yondle-test-{os.getpid()}"
    try:
        group.mkdir()
    except OSError:
        pytest.skip("no memory cgroup can be made here")
    try:
        (group / ("memory.limit_in_bytes" if first else "memory.max")).write_text(str(64 << 20))
    except OSError:
        group.rmdir()
        pytest.skip("memory can't be limited here")
    yield group / "cgroup.procs"
    group.rmdir()


def test_a_child_the_kernel_killed_for_want_of_memory_says_so(small_memory: Path) -> None:
    result = outcome("hungry", more=(str(small_memory),))
    assert result.failure == Failure.NOT_RUN.value
    assert "for want of memory" in result.detail


def test_grandchildren_go_with_their_group() -> None:
    run = ChildRun([sys.executable, CHILD, "grandchild"], 5.0, FastClock().now)
    while run.poll() is None:
        os.sched_yield()
    run.stop()
    assert not living_in_group(run.pid)


ORPHANED = """
import subprocess, sys, time
child = subprocess.Popen([sys.executable, "-m", "yondle.workloads.kernels.whole_numbers", "--cpus", "0"],
                         stdin=subprocess.PIPE, stdout=subprocess.PIPE, start_new_session=True)
if sys.argv[1] == "working":
    child.stdout.readline()
    child.stdin.write(b'{"do": "go", "seconds": 60}\\n')
    child.stdin.flush()
    child.stdout.readline()
print(child.pid, flush=True)
time.sleep(60)
"""


@pytest.mark.parametrize("when", ["getting ready", "working"])
def test_a_workload_whose_program_was_killed_ends_by_itself(when: str) -> None:
    parent = subprocess.Popen([sys.executable, "-c", ORPHANED, when], stdout=subprocess.PIPE)
    assert parent.stdout is not None
    group = int(parent.stdout.readline())
    parent.kill()
    parent.wait()
    parent.stdout.close()
    limit = time.monotonic() + 20
    while living_in_group(group):
        assert time.monotonic() < limit, "it goes on without anybody to listen"
        time.sleep(0.05)


def test_a_program_that_is_not_there_is_a_known_error() -> None:
    with pytest.raises(KnownError, match="can't be started"):
        ChildRun(["/nowhere/nothing"], 1.0, FastClock().now)


def test_a_pass_runs_where_no_python_finds_yondle_by_itself() -> None:
    """As a package of the system starts it: its folder is on the path of the program alone."""
    bare = Path(sys._base_executable)  # type: ignore[attr-defined]
    assert subprocess.run([bare, "-c", "import yondle"], capture_output=True, check=False).returncode != 0
    code = (
        "import sys, time; sys.path[:0] = sys.argv[1:]\n"
        "from yondle.workloads.host import ChildHost\n"
        "host = ChildHost(time.monotonic); run = host.start('compression', 1.0, [0])\n"
        "while (result := run.poll()) is None: time.sleep(0.05)\n"
        "print(result.ok, result)"
    )
    places = [str(Path(yondle.__file__).parent.parent), str(Path(numpy.__file__).parent.parent)]
    done = subprocess.run([bare, "-c", code, *places], capture_output=True, text=True, timeout=120, check=True)
    assert done.stdout.startswith("True"), done.stdout + done.stderr
