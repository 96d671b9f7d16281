"""Storage: one file on a chosen folder read and written past the system's cache, in 1 MiB pieces one after the other.

`storage_random` reads 4 KiB pieces in random order instead. One request is under way at a time. Every 4 KiB piece carries
its own number and random words, and all that is read is compared with what was written. Comparing isn't timed.
"""

from __future__ import annotations

import math
import mmap
import os
import tempfile
from collections.abc import Sequence
from pathlib import Path
from time import perf_counter
from typing import Any

import numpy as np

from yondle.language.saying import say
from yondle.workloads.kernels.random_words import Words, fill_words, next_state, word_of
from yondle.workloads.kernels.serve import CannotRun, Kernel, Place, serve
from yondle.workloads.kernels.timings import Timings, rates

FILE_BYTES = 256 << 20
PIECE = 4096
LARGE = 1 << 20
PIECES = FILE_BYTES // PIECE
SEGMENT = 32 << 20
"""What is read, then written anew, before the next; by the time it is read again, a disk's own cache holds others."""

RANDOM_READS = 64
SEED = 0x73_74_6F_72_65
RAM_DISKS = ("tmpfs", "ramfs")
MB = 1e6


class TestFile:
    """The file that is read and written, gone from the folder as soon as it is open; buffers are aligned as O_DIRECT asks."""

    __test__ = False

    def __init__(self, folder: Path) -> None:
        self.large, self.small = mmap.mmap(-1, LARGE), mmap.mmap(-1, PIECE)
        self._content = np.empty(PIECE // 8, np.uint64)
        fill_words(self._content, np.uint64(SEED))
        self._generations = np.zeros(PIECES, np.uint64)
        self.folder = folder
        try:
            _must_have_room(folder)
            handle, name = tempfile.mkstemp(prefix="yondle-storage-", dir=folder)
            os.close(handle)
            self.file, self.direct = _open_past_cache(name)
            os.unlink(name)
            self._write_all()
        except OSError as error:
            raise CannotRun(
                say("The storage test can't write in {folder} ({error}).", folder=folder, error=error),
                say("Choose another folder."),
            ) from error

    def expected(self, first: int, count: int) -> Words:
        """Give what pieces hold: random words turned by the piece's number and the round in which it was written."""
        numbers = np.arange(first, first + count, dtype=np.uint64) + self._generations[first : first + count]
        turned: Words = self._content[None, :] ^ (numbers * np.uint64(0x9E3779B97F4A7C15))[:, None]
        return turned

    def renew(self, first: int) -> None:
        """Put into the large buffer something new for the pieces from `first` on to hold."""
        self._generations[first : first + LARGE // PIECE] += np.uint64(1 << 32)
        np.frombuffer(self.large, np.uint64)[:] = self.expected(first, LARGE // PIECE).reshape(-1)

    def wrong(self, buffer: mmap.mmap, first: int) -> str:
        """Compare a buffer with what it has to hold."""
        held = np.frombuffer(buffer, np.uint64).reshape(-1, PIECE // 8)
        bad = np.argwhere(held != self.expected(first, len(held)))
        if not len(bad):
            return ""
        row, word = (int(v) for v in bad[0])
        return say("{bad} words differ, first at byte {first:#x}", bad=len(bad), first=(first + row) * PIECE + word * 8)

    def _write_all(self) -> None:
        for at in range(0, FILE_BYTES, LARGE):
            self.renew(at // PIECE)
            os.pwritev(self.file, [self.large], at)
        os.fdatasync(self.file)


class Sequential:
    """Reads a segment of the file, writes it anew, and goes on to the next; a unit is 1 MiB."""

    def __init__(self, folder: Path) -> None:
        self.timings = Timings()
        self.file = TestFile(folder)
        self._at = 0
        self._writing = False
        self._spoil = False

    def unit(self) -> tuple[float, str]:
        """Read or write the next MiB; the work is in MB."""
        file, first, wrong = self.file, self._at // PIECE, ""
        if self._writing:
            file.renew(first)
            with self.timings.timing("writing", LARGE / MB):
                os.pwritev(file.file, [file.large], self._at)
        else:
            with self.timings.timing("reading", LARGE / MB):
                os.preadv(file.file, [file.large], self._at)
            wrong = file.wrong(self._spoiled(file.large), first)
        self._at += LARGE
        if self._at % SEGMENT == 0:
            self._end_of_segment()
        return LARGE / MB, wrong

    def spoil(self) -> None:
        """Flip one bit of what is read next."""
        self._spoil = True

    def _spoiled(self, buffer: mmap.mmap) -> mmap.mmap:
        if self._spoil:
            buffer[LARGE // 2] ^= 4
            self._spoil = False
        return buffer

    def _end_of_segment(self) -> None:
        if self._writing:
            with self.timings.timing("writing", 0.0):
                os.fdatasync(self.file.file)
            self._at %= FILE_BYTES
        else:
            self._at -= SEGMENT
        self._writing = not self._writing


class Random:
    """Reads pieces of the file in random order; a unit is 64 of them."""

    def __init__(self, folder: Path) -> None:
        self.timings = Timings()
        self.file = TestFile(folder)
        self._state = np.uint64(SEED)
        self._spoil = False

    def unit(self) -> tuple[float, str]:
        """Read pieces; the work is in requests."""
        file, wrong = self.file, ""
        for _ in range(RANDOM_READS):
            self._state = np.uint64(next_state(self._state))
            piece = int(word_of(self._state)) % PIECES
            began = perf_counter()
            os.preadv(file.file, [file.small], piece * PIECE)
            spent = perf_counter() - began
            self.timings.samples_s.append(spent)
            self.timings.add("reads", spent, 1.0)
            if self._spoil:
                file.small[PIECE // 2] ^= 4
                self._spoil = False
            wrong = wrong or file.wrong(file.small, piece)
        return float(RANDOM_READS), wrong

    def spoil(self) -> None:
        """Flip one bit of what is read next."""
        self._spoil = True


def percentile(values: Sequence[float], share: float) -> float:
    """Give the value that this share of all lie at or below (nearest rank)."""
    ordered = sorted(values)
    return ordered[max(0, math.ceil(share * len(ordered)) - 1)]


def file_system(folder: Path) -> str:
    """Name the type of the file system a folder lies on, as /proc/self/mountinfo tells it."""
    device = os.stat(folder).st_dev
    wanted = f"{os.major(device)}:{os.minor(device)}"
    lines = (line.split() for line in Path("/proc/self/mountinfo").read_text("utf-8").splitlines())
    return next((words[words.index("-") + 1] for words in lines if words[2] == wanted), "unknown")


def _must_have_room(folder: Path) -> None:
    room = os.statvfs(folder)
    free = room.f_bavail * room.f_frsize
    if free < 2 * FILE_BYTES:
        raise CannotRun(
            say(
                "{folder} has {free} MiB free; the storage test needs {file_bytes}.",
                folder=folder,
                free=free >> 20,
                file_bytes=FILE_BYTES >> 19,
            ),
            say("Make room there."),
        )


def _open_past_cache(name: str) -> tuple[int, bool]:
    """Open a file past the system's cache where its file system can do that; tells whether."""
    try:
        return os.open(name, os.O_RDWR | os.O_DIRECT), True
    except OSError:
        return os.open(name, os.O_RDWR), False


def _facts(works: Sequence[Any]) -> dict[str, Any]:
    file: TestFile = works[0].file
    kind = file_system(file.folder)
    memory = say(" (a RAM disk: this measures memory)") if kind in RAM_DISKS else ""
    return {"folder": str(file.folder), "file_system": kind + memory, "past_cache": "yes" if file.direct else "no"}


def _folder(place: Place) -> Path:
    return Path(place.options.folder or tempfile.gettempdir())


def _sequential_figure(works: Sequence[Any], work: float, seconds: float) -> tuple[float, dict[str, float]]:
    """MB read in a second; writing, with what it takes to have it on the disk, is a sub-score."""
    found = rates([each.timings for each in works])
    return found.get("reading", 0.0), found


def _random_figure(works: Sequence[Any], work: float, seconds: float) -> tuple[float, dict[str, float]]:
    """Requests in a second, and in µs what half and 99 % of them take at most."""
    latencies = [1e6 * each for each in works[0].timings.samples_s]
    parts = {"half within": percentile(latencies, 0.5), "99 % within": percentile(latencies, 0.99)} if latencies else {}
    return rates([works[0].timings]).get("reads", 0.0), parts


SEQUENTIAL = Kernel(lambda place: Sequential(_folder(place)), {}, _sequential_figure, single=True, extras=_facts)
RANDOM = Kernel(lambda place: Random(_folder(place)), {}, _random_figure, single=True, extras=_facts)

if __name__ == "__main__":
    serve(SEQUENTIAL)
