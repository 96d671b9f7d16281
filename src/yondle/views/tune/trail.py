"""The trail of steps: each in two lines, with its gain."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import overload

from yondle.analysis.margins import Gain, GainWord
from yondle.language.saying import named, say
from yondle.model.findings import Finding
from yondle.model.steps import StepRecord
from yondle.model.verdicts import Failure, Verdict
from yondle.model.workloads import Workload
from yondle.views.shared.gains import figure_words, gain_of, gain_words, words_of_gain
from yondle.views.shared.snapshot import Snapshot
from yondle.views.shared.steps import on_path, step_detail, title_parts


@dataclass(frozen=True, slots=True)
class TrailRow:
    """One step as the trail shows it; `on_path` tells whether it lies between the baseline and where the rig is."""

    number: int
    name: str
    """What it changed; it may be cut where there is little room, `value` never."""
    value: str
    detail: str
    verdict: Verdict
    word: Verdict | Failure
    gain: Gain | None
    gain_text: str
    on_path: bool
    is_position: bool
    running: bool
    notes: int
    recorded: bool = False
    """Whether it is only told of: Yondle tested none of it."""

    @property
    def title(self) -> str:
        """What it changed, with the value."""
        return f"{self.name} {self.value}".rstrip()


Words = tuple[tuple[str, str], str, Gain | None, str]
"""Title with its value apart, detail, gain and gain in words."""


class TrailRows(Sequence[TrailRow]):
    """The rows of the trail at one moment; each is worked out when it is looked at."""

    def __init__(
        self,
        records: tuple[StepRecord, ...],
        path: set[int],
        position: int | None,
        running: int | None,
        benchmark: Workload | None,
        waiting: int | None,
        words_of: Callable[[StepRecord, Workload | None], Words],
    ) -> None:
        self.numbers = [record.step.number for record in records]
        self.top_of_path = next((i for i, n in enumerate(self.numbers) if n in path), len(records))
        self._records = records
        self._path, self._position, self._running = path, position, running
        self._benchmark, self._words_of = benchmark, words_of
        self._waiting = waiting

    def __len__(self) -> int:
        return len(self._records)

    @overload
    def __getitem__(self, i: int) -> TrailRow: ...

    @overload
    def __getitem__(self, i: slice) -> list[TrailRow]: ...

    def __getitem__(self, i: int | slice) -> TrailRow | list[TrailRow]:
        if isinstance(i, slice):
            return [self[k] for k in range(*i.indices(len(self)))]
        record = self._records[i]
        (name, value), detail, gain, words = self._words_of(record, self._benchmark)
        n = record.step.number
        here, running = n == self._position, n == self._running
        if n == self._waiting:
            detail = say("waits for values entered by hand")
        notes = len(record.notes)
        return TrailRow(
            n, name, value, detail, record.verdict, record.word, gain, words, n in self._path, here, running, notes,
            record.recorded,
        )  # fmt: skip


class Trail:
    """The trail of a logbook. What a row says is kept until the steps change, so that scrolling is quick.

    Any step may change what another says: they all tell how tests differ.
    """

    def __init__(self) -> None:
        self._kept: dict[int, tuple[StepRecord, tuple[StepRecord, ...], str, tuple[Finding, ...], Words]] = {}

    def rows(self, book: Snapshot, benchmark: Workload | None, running: int | None = None) -> TrailRows:
        """Give the rows, newest first; without a benchmark they carry no gains."""
        position = book.position.step.number if book.position else None
        records = tuple(reversed(book.steps))
        waiting = book.waiting.step.number if book.waiting and book.waiting.step else None
        words = partial(self._words, book)
        return TrailRows(records, on_path(book), position, running, benchmark, waiting, words)

    def _words(self, book: Snapshot, record: StepRecord, benchmark: Workload | None) -> Words:
        about = benchmark.id if benchmark is not None else ""
        kept = self._kept.get(record.step.number)
        if kept is not None and kept[0] is record and kept[1] is book.steps and kept[2:4] == (about, book.findings):
            return kept[4]
        value = gain_of(book, record, benchmark) if benchmark is not None else None
        detail = step_detail(book, record, benchmark)
        words = words_of_gain(book, record, benchmark) if benchmark is not None else ""
        if value is not None and value.word is GainWord.WITHIN_NOISE and words == gain_words(value):
            words, detail = figure_words(value), f"{named(value.word)} · {detail}"
        elif value is not None and not value.sure and words == gain_words(value):
            words, detail = figure_words(value), f"{say('by itself')} · {detail}"
        shown = (title_parts(book.declaration, record.step), detail, value, words)
        self._kept[record.step.number] = (record, book.steps, about, book.findings, shown)
        return shown
