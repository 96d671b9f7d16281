"""A night on a bench that really goes down, run from this side: the record is here, and names what fell."""

from __future__ import annotations

import json
import os
import signal
import socket
import sqlite3
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from tests.vm.kept import Tally
from tests.vm.machine import NoAnswerError, Vm
from tests.vm.nights import PLAN, SHORTENED, WORKLOAD, misnamed

KINDS = ("frozen user space", "panic", "reset", "powered off")
FOR_THE_BENCH = (
    f"{SHORTENED}; sysctl -q kernel.sysrq=1; mkdir -p /etc/yondle /root/.config/yondle/bench;"
    "echo '{}' > /etc/yondle/bench.json"
)
Rows = list[tuple[int, int, str | None, str | None, str | None]]


class Notebook:
    """This side: a folder with the logbook, and an ssh that knows the bench's key."""

    def __init__(self, folder: Path, port: int) -> None:
        self._place = Path(tempfile.mkdtemp(prefix="notebook"))
        self.book = self._place / "bench.yondle"
        self.address = f"ssh://root@127.0.0.1:{port}"
        host = " ".join((folder / "host.pub").read_text().split()[:2])
        (self._place / "known").write_text(f"[127.0.0.1]:{port} {host}\n")
        (self._place / "config").write_text(
            f"Host *\nIdentityFile {folder}/key\nIdentitiesOnly yes\nUserKnownHostsFile {self._place}/known\n"
        )
        (self._place / "ssh").write_text(f'#!/bin/sh\nexec /usr/bin/ssh -F {self._place}/config "$@"\n')
        (self._place / "ssh").chmod(0o755)
        self._environment = {
            **os.environ, "PATH": f"{self._place}:{os.environ['PATH']}", "XDG_STATE_HOME": str(self._place / "state"),
            "XDG_CONFIG_HOME": str(self._place / "config.d"), "XDG_DATA_HOME": str(self._place / "data"),
        }  # fmt: skip

    def yondle(self, *words: str, within_s: float = 300.0) -> str:
        """Run a command to its end."""
        done = subprocess.run(
            [sys.executable, "-m", "yondle.main", *words], env=self._environment, capture_output=True, text=True,
            timeout=within_s, check=False,
        )  # fmt: skip
        if done.returncode:
            raise NoAnswerError(f"{words}: {done.stdout[-500:]} {done.stderr[-500:]}")
        return done.stdout

    def begin(self, steps: int) -> subprocess.Popen[bytes]:
        """Begin a plan of so many steps that goes on through restarts."""
        values = ("never", "madvise", "always")
        text = ", ".join(f'{{ large_pages = "{values[i % 3]}" }}' for i in range(steps))
        (self._place / "plan.toml").write_text(PLAN.replace("{steps}", text))
        command = [
            "plan",
            "run",
            str(self.book),
            str(self._place / "plan.toml"),
            "--unattended-restarts",
            "--an-hour",
            "900",
        ]
        return subprocess.Popen(
            [sys.executable, "-m", "yondle.main", *command, "--in-all", "900"], env=self._environment,
            stdout=(self._place / "log").open("wb"), stderr=subprocess.STDOUT,
        )  # fmt: skip

    def asked(self) -> tuple[Rows, dict[int, float]]:
        """Give every attempt, and up to when there are samples of each."""
        with sqlite3.connect(f"file:{self.book}?mode=ro", uri=True) as book:
            rows = book.execute("select id, step, failure, verdict, closed_at from attempt order by id").fetchall()
            traced = dict(book.execute("select attempt, max(to_s) from sample_block group by attempt"))
        book.close()
        return rows, traced

    def set_in(self, attempt: int) -> bool:
        """Tell whether values were set in a test: from the first on the bench is guarded."""
        with sqlite3.connect(f"file:{self.book}?mode=ro", uri=True) as book:
            told = book.execute("select act from journal where attempt = ?", (attempt,)).fetchall()
        book.close()
        return any(act == "values read back" for (act,) in told)

    def log(self) -> str:
        """What the plan said last."""
        return (self._place / "log").read_text(errors="replace")[-1200:]


def run(folder: Path, times: int, seed: int) -> Tally:
    """Have the bench go down so many times in one plan, and hold the record here against what it went through."""
    port = _free_port()
    vm, tally = Vm(folder, seed, ssh_port=port), Tally()
    plan: subprocess.Popen[bytes] | None = None
    try:
        vm.start()
        vm.run(FOR_THE_BENCH)
        vm.run(f"cat > /root/.config/yondle/bench/spin.toml <<'X'\n{WORKLOAD}X")
        vm.run("sync")
        notebook = Notebook(folder, port)
        notebook.yondle("new", str(notebook.book), "--rig", notebook.address)
        notebook.yondle("benchmarks", str(notebook.book), "--use", "spin")
        notebook.yondle("baseline", str(notebook.book), "-n", "2", "--anyway")
        plan = notebook.begin(3 * times + 6)
        for number in range(1, times + 1):
            before = _wait_for_a_pass(notebook, plan)
            time.sleep(vm.dice.uniform(0.0, 8.0))
            kind = vm.dice.choice(KINDS)
            tally.kinds[kind] += 1
            rows, traced = notebook.asked()
            open_before = rows[-1] if rows[-1][4] is None else None
            vm.go_down("power cut" if kind == "powered off" else kind)
            found = _wait_for_more(notebook, plan, before)
            wrong = misnamed(open_before, found) or _lost(notebook, traced)
            if wrong:
                tally.wrong.append(f"{number}: {kind}: {wrong}; before {open_before}")
            print(f"{number} {kind}: {wrong or 'goes on'}", flush=True)
        plan.send_signal(signal.SIGINT)
        plan.wait(300.0)
        rows, _ = notebook.asked()
        down = sum(row[2] == "crashed and restarted" for row in rows)
        left = sum(row[4] is None for row in rows)
        stock = "[always]" in vm.run("cat /sys/kernel/mm/transparent_hugepage/enabled")
        print(f"{len(rows)} tests, {down} named as crashes, {left} open, stock after it: {stock}", flush=True)
        if left or not stock:
            tally.wrong.append(f"{left} tests are open; stock: {stock}")
    except (NoAnswerError, subprocess.TimeoutExpired) as error:
        tally.wrong.append(f"{error} {json.dumps(tally.kinds)}")
    finally:
        if plan is not None:
            plan.kill()
            plan.wait()
        vm.close()
    return tally


def _free_port() -> int:
    with socket.socket() as door:
        door.bind(("127.0.0.1", 0))
        return int(door.getsockname()[1])


def _wait_for_a_pass(notebook: Notebook, plan: subprocess.Popen[bytes]) -> int:
    until = time.monotonic() + 240.0
    while time.monotonic() < until:
        rows, _ = notebook.asked()
        if rows and rows[-1][4] is None and notebook.set_in(rows[-1][0]):
            return len(rows)
        if plan.poll() is not None:
            break
        time.sleep(0.5)
    raise NoAnswerError(f"no test is under way: {notebook.log()}")


def _wait_for_more(notebook: Notebook, plan: subprocess.Popen[bytes], before: int) -> Rows:
    until = time.monotonic() + 240.0
    while time.monotonic() < until:
        rows, _ = notebook.asked()
        if len(rows) > before or (rows and rows[-1][4] is not None):
            return rows
        if plan.poll() is not None:
            break
        time.sleep(0.5)
    raise NoAnswerError(f"the plan doesn't go on: {notebook.log()}")


def _lost(notebook: Notebook, before: dict[int, float]) -> str:
    _, after = notebook.asked()
    gone = [attempt for attempt, to_s in before.items() if after.get(attempt, 0.0) < to_s]
    return f"samples that were written are lost, of tests {gone}" if gone else ""
