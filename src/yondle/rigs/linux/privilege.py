"""The way to the helper that runs as root: how it is started here, and the talk with it."""

from __future__ import annotations

import json
import os
import select
import shutil
import subprocess
import sys
import threading
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.quantities import duration
from yondle.rigs.linux import root
from yondle.rigs.linux.root.helper.keeping import NIGHT_UNIT, UNIT
from yondle.rigs.linux.root.helper.nights import HELPER
from yondle.rigs.linux.root.helper.server import TIMEOUT_S

SOURCE = Path(root.__file__).parent


@dataclass(frozen=True, slots=True)
class HelperPlace:
    """Where a helper is installed: what is started, which runs what lies in the folder, and the policy it is asked by.

    `keeps` starts what keeps profiles over restarts and brings plans back, as the services of the names UNITS in the folder
    `units`, and by hand; it lies in the same folder and shares its policy's file, with an action of its own.
    """

    starts: Path
    folder: Path
    policy: Path
    action: str
    keeps: Path
    units: Path

    @property
    def there(self) -> bool:
        """Tell whether one is installed there."""
        return self.starts.is_file() and self.policy.is_file()

    @property
    def is_this(self) -> bool:
        """Tell whether it is the same as Yondle's own, to the letter."""
        return parts_of(self.folder) == parts_of(SOURCE)

    def below(self, root: Path) -> HelperPlace:
        """Give the same place below another root."""
        places = (self.starts, self.folder, self.policy, self.keeps, self.units)
        starts, folder, policy, keeps, units = (root / path.relative_to("/") for path in places)
        return HelperPlace(starts, folder, policy, self.action, keeps, units)


UNITS = (UNIT, NIGHT_UNIT)
_POLICIES = Path("/usr/share/polkit-1/actions")
LOCAL = HelperPlace(
    Path("/usr/local/libexec/yondle-helper"),
    Path("/usr/local/lib/yondle-helper"),
    _POLICIES / "net.yondle.helper.policy",
    "net.yondle.helper",
    Path("/usr/local/libexec/yondle-keep"),
    Path("/etc/systemd/system"),
)
"""Where `yondle helper install` puts it."""
PACKAGED = HelperPlace(
    Path("/usr/libexec/yondle-helper"),
    Path("/usr/lib/yondle-helper"),
    _POLICIES / "net.yondle.packaged-helper.policy",
    "net.yondle.packaged-helper",
    Path("/usr/libexec/yondle-keep"),
    Path("/usr/lib/systemd/system"),
)
"""Where a package of the system has it. Both may be there, each with a policy of its own."""
ALIVE_EVERY_S = TIMEOUT_S / 5
LEAVES_WITHIN_S = 5.0


class RootSetter(Protocol):
    """Something that sets values as root, and reads what only root may read."""

    def begin(self) -> bool:
        """Have it ready, so that it can be looked through; tells whether it is. Who was refused once isn't asked again."""

    def look(self, what: str) -> Any:
        """Give 'energies', 'own', 'log' or 'memory' as the helper does; None while it isn't at work, or doesn't tell."""

    def set(self, knob: str, value: float) -> float | None:
        """Set a value and give what reads back; raises KnownError with the helper's reason when it is refused."""

    @property
    def ended(self) -> str:
        """Say how the one that set values ended before it was told to, which puts everything back; nothing where it hasn't."""

    def close(self) -> None:
        """Have everything put back."""


@dataclass(frozen=True, slots=True)
class HelperWay:
    """How the helper can be started here: the command, or why there is none and what would make one."""

    command: tuple[str, ...]
    by: str
    missing: str = ""


def parts_of(folder: Path) -> dict[str, str]:
    """Give the helper's files with what is in them, by their place in its folder; none of what can't be read."""
    found = {}
    for file in sorted(folder.rglob("*.py")):
        with suppress(OSError, UnicodeDecodeError):
            found[str(file.relative_to(folder))] = file.read_text("utf-8")
    return found


def find_way(
    uid: int | None = None, places: tuple[HelperPlace, ...] = (PACKAGED, LOCAL), asks: bool = True
) -> HelperWay:
    """Find out how values that only root may set can be set here; nobody is asked where nobody could answer (`asks`)."""
    if HELPER in os.environ:
        return HelperWay((HELPER, os.environ[HELPER]), say("by the service that brings plans back"))
    if (os.getuid() if uid is None else uid) == 0:
        return HelperWay((sys.executable, "-I", str(SOURCE)), say("directly, since Yondle runs as root"))
    if not asks:
        return _without_asking(places)
    pkexec = shutil.which("pkexec")
    if pkexec is None:
        return HelperWay((), "", say("the desktop's authorisation service (pkexec) isn't there"))
    same, missing = _installed(places)
    if same is None:
        return HelperWay((), "", missing)
    return HelperWay((pkexec, str(same.starts)), say("through the desktop's authorisation service"))


def _without_asking(places: tuple[HelperPlace, ...]) -> HelperWay:
    """Find out whether an administrator has allowed this user to start the helper without being asked (sudo)."""
    same, missing = _installed(places)
    if same is None:
        return HelperWay((), "", missing)
    sudo = shutil.which("sudo")
    told = subprocess.run([sudo, "-n", "-l", str(same.starts)], capture_output=True, check=False) if sudo else None
    if told is None or told.returncode:
        return HelperWay((), "", say("sudo doesn't let this user start the helper without asking: see docs/bench.md"))
    return HelperWay((str(sudo), "-n", str(same.starts)), say("through sudo, without asking"))


def brought_back() -> bool:
    """Tell whether the service that brings plans back has started this program."""
    return HELPER in os.environ


def find_keeping(uid: int | None = None, places: tuple[HelperPlace, ...] = (PACKAGED, LOCAL)) -> HelperWay:
    """Find out how it can be said here what is kept over restarts; the service has to be installed, whoever asks."""
    same, missing = _installed(places)
    if same is None:
        return HelperWay((), "", missing)
    if (os.getuid() if uid is None else uid) == 0:
        return HelperWay((str(same.keeps),), say("directly, since Yondle runs as root"))
    pkexec = shutil.which("pkexec")
    if pkexec is None:
        return HelperWay((), "", say("the desktop's authorisation service (pkexec) isn't there"))
    return HelperWay((pkexec, str(same.keeps)), say("through the desktop's authorisation service"))


def _installed(places: tuple[HelperPlace, ...]) -> tuple[HelperPlace | None, str]:
    """Give the place where the helper is installed as it is here, else what is missing."""
    installed = [place for place in places if place.there]
    if not installed:
        return None, say("the helper isn't installed: run  sudo yondle helper install")
    same = next((place for place in installed if place.is_this), None)
    return same, say("the installed helper is of another version: renew it with  sudo yondle helper install")


class GivenHelper:
    """A helper that was started for this program by the service that brings plans back, reached by two open files.

    It looks like a process as far as the talk with it goes; once it is gone there is no other.
    """

    def __init__(self, handles: str) -> None:
        reads, _, writes = handles.partition(",")
        self.stdout, self.stdin = os.fdopen(int(reads), "rb"), os.fdopen(int(writes), "wb")
        self.returncode = 0

    def poll(self) -> int | None:
        """Tell whether it has ended: then its answers have, too."""
        waiting, _, _ = select.select([self.stdout], [], [], 0.0)
        return 0 if waiting and not self.stdout.peek(1) else None

    def wait(self, timeout: float | None = None) -> int:
        """Wait until it has put everything back and ended."""
        waiting, _, _ = select.select([self.stdout], [], [], timeout)
        if not waiting:
            raise subprocess.TimeoutExpired(HELPER, timeout or 0.0)
        return 0

    def terminate(self) -> None:
        """Leave it to the service, which ends it."""


class HelperLine:
    """A talk with the helper: started with the first value, kept alive, ended with `close`. Any thread may use it."""

    def __init__(self, command: tuple[str, ...]) -> None:
        self._command = command
        self._lock = threading.Lock()
        self._process: subprocess.Popen[bytes] | GivenHelper | None = None
        self._number = 0
        self._leaving = threading.Event()
        self._keeper: threading.Thread | None = None
        self._ended = ""
        self._declined = self._was_given = False

    @property
    def ended(self) -> str:
        """Say how the helper ended before it was told to, which puts everything back; nothing where it hasn't."""
        process = self._process
        code = process.poll() if process is not None else None
        return _ended_how(code) if code is not None else self._ended

    @property
    def at_work(self) -> bool:
        """Tell whether it has been started and not ended since."""
        process = self._process
        return process is not None and process.poll() is None

    def begin(self) -> bool:
        """Have it ready, so that it can be looked through; tells whether it is. Who was refused once isn't asked again."""
        if not self.at_work and not self._declined:
            try:
                self._declined = not self._ask({"do": "hello"}).get("ok")
            except KnownError:
                self._declined = True
        return self.at_work

    def look(self, what: str) -> Any:
        """Give 'energies', 'own', 'log' or 'memory' as the helper does; None while it isn't at work, or doesn't tell."""
        if not self.at_work:
            return None
        try:
            return self._ask({"do": what}).get(what)
        except KnownError:
            return None

    def set(self, knob: str, value: float) -> float | None:
        """Set a value and give what reads back; raises KnownError with the helper's reason when it is refused."""
        answer = self._ask({"do": "set", "knob": knob, "value": value})
        if not answer.get("ok"):
            raise KnownError(str(answer.get("why", "the helper gave no reason")), say("Choose another value."))
        reads = answer.get("reads")
        return float(reads) if isinstance(reads, int | float) else None

    def guard(self) -> None:
        """Have a watchdog restart this machine unless `feed` is called; raises KnownError where none can be had."""
        answer = self._ask({"do": "guard"})
        if not answer.get("ok"):
            raise KnownError(
                say("No watchdog guards this plan: {why}.", why=answer.get("why", "")),
                say(
                    "Without one a frozen machine stands until somebody restarts it: let the plan begin without coming back "
                    "after a crash."
                ),
            )

    def feed(self) -> None:
        """Tell the watchdog that all is well; one that can't be told any more does what it is for."""
        if self.at_work:
            with suppress(KnownError):
                self._ask({"do": "feed"})

    def unguard(self) -> None:
        """Let go of the watchdog."""
        with suppress(KnownError):
            self._ask({"do": "unguard"})

    def end_night(self) -> None:
        """Take back what allows a plan to come back over restarts."""
        with suppress(KnownError):
            self._ask({"do": "night_over"})

    def close(self) -> None:
        """Let the helper put everything back and end; harmless when it never began. It isn't started again."""
        with self._lock:
            self._leaving.set()
            process, self._process = self._process, None
        if process is not None:
            _end(process)
        if self._keeper is not None:
            self._keeper.join()

    def _ask(self, request: dict[str, Any]) -> dict[str, Any]:
        with self._lock:
            if self._process is not None and self._process.poll() is not None:
                _end(self._process)
                self._process = None
            process = self._process or self._start()
            self._number += 1
            assert process.stdin is not None
            assert process.stdout is not None
            try:
                process.stdin.write((json.dumps({"n": self._number, **request}) + "\n").encode())
                process.stdin.flush()
                line = process.stdout.readline()
                answer: dict[str, Any] = json.loads(line)
            except (OSError, ValueError) as error:
                code = _end(process)
                self._process = None
                if self._number > 1:
                    self._ended = _ended_how(code)
                raise KnownError(
                    say("The helper that sets values as root doesn't answer (it ended with code {code}).", code=code),
                    say("Was the authorisation declined? Try again, or look at 'yondle inspect'."),
                ) from error
            return answer

    def _start(self) -> subprocess.Popen[bytes] | GivenHelper:
        if self._leaving.is_set():
            raise KnownError(
                say("The helper has been let go: this logbook is being closed."), say("Open the logbook again.")
            )
        if self._was_given:
            raise KnownError(
                say("The helper that was started for this plan has ended, and there is no other."),
                say("Go on with the plan by hand: yondle plan go-on"),
            )
        try:
            self._was_given = self._command[0] == HELPER
            self._process = GivenHelper(self._command[1]) if self._command[0] == HELPER else subprocess.Popen(
                list(self._command), stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
                start_new_session=True,
            )  # fmt: skip
        except OSError as error:
            raise KnownError(
                say("The helper can't be started ({error}).", error=error), say("See 'yondle inspect'.")
            ) from error
        self._number, self._ended = 0, ""
        self._keeper = threading.Thread(target=self._keep_alive, name="helper", daemon=True)
        self._keeper.start()
        return self._process

    def _keep_alive(self) -> None:
        while not self._leaving.wait(ALIVE_EVERY_S):
            with self._lock:
                if self._process is None:
                    return
            try:
                self._ask({"do": "alive"})
            except KnownError:
                return


def _ended_how(code: int) -> str:
    """Say how a helper ended that nobody had told to; it puts everything back but when it is killed at once."""
    if code == 0:
        return say(
            "the helper heard nothing for {timeout} and put everything back: Yondle or the machine stood still",
            timeout=duration(TIMEOUT_S),
        )
    return say("the helper ended by itself with code {code}", code=code)


def _end(process: subprocess.Popen[bytes] | GivenHelper) -> int:
    """Close a helper's input, so that it puts everything back, and wait until it has; gives its exit code."""
    assert process.stdin is not None
    assert process.stdout is not None
    with suppress(BrokenPipeError):
        process.stdin.close()
    try:
        process.wait(LEAVES_WITHIN_S)
    except subprocess.TimeoutExpired:
        process.terminate()
        process.wait()
    process.stdout.close()
    return process.returncode
