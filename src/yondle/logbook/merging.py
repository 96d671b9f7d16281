"""Two logbooks of one rig made into a third: steps in the order they were made, everything about them with new numbers."""

from __future__ import annotations

from typing import Any

from yondle.formats.documents import DOCUMENTS, AnyDocument, TypedWorkloads, document_of, value_of
from yondle.language.saying import say
from yondle.logbook.archive import Values
from yondle.model.errors import KnownError

_BY_STEP = ("note", "attachment", "result", "sensor_log")
_BY_ATTEMPT = ("pass", "sample_block", "journal")
_BORN = "started_at"


def merged(one: Values, other: Values) -> Values:
    """Merge what `archive.values_of` gives of two logbooks; the first one's own limits, conditions and profiles win.

    Tests that stand in both are taken once; each document by its own rule. Raises KnownError for logbooks of two rigs, and
    for documents that can't be made one, ValueError for one that can't be read.
    """
    rigs = [document["tables"]["rig"][0] for document in (one, other)]
    if (rigs[0]["kind"], rigs[0]["name"]) != (rigs[1]["kind"], rigs[1]["name"]):
        raise KnownError(
            say("One logbook is about {one}, the other about {other}.", one=rigs[0]["name"], other=rigs[1]["name"]),
            say("Only logbooks of one rig are merged; Compare shows several side by side."),
        )
    sources = [_Source(document["tables"]) for document in (one, other)]
    known = {sources[0].identity(attempt): attempt["step"] for attempt in sources[0].tables["attempt"]}
    taken = [(sources[0], step) for step in sources[0].tables["step"]]
    taken += [(sources[1], step) for step in sources[1].tables["step"] if sources[1].new(step, known)]
    taken.sort(key=lambda pair: (pair[0].born(pair[1]), pair[0] is not sources[0], pair[1]["number"]))
    for number, (source, step) in enumerate(taken, 1):
        source.steps[step["number"]] = number
    for own, same in sources[1].doubles.items():
        sources[1].steps[own] = sources[0].steps[same]
    tables: dict[str, list[Values]] = {name: [] for name in one["tables"]}
    tables["rig"] = [rigs[0]]
    for source, step in taken:
        parent = source.steps.get(step["parent"])
        tables["step"].append({**step, "number": source.steps[step["number"]], "parent": parent})
    attempts = [(s, a) for s in sources for a in s.tables["attempt"] if s.kept(a)]
    attempts.sort(key=lambda pair: (pair[1][_BORN], pair[0] is not sources[0], pair[1]["id"]))
    for i, (source, attempt) in enumerate(attempts, 1):
        source.attempts[attempt["id"]] = i
        home = source.steps.get(attempt["home_step"])
        tables["attempt"].append({**attempt, "id": i, "step": source.steps[attempt["step"]], "home_step": home})
    typed = [source.document(TypedWorkloads) or TypedWorkloads() for source in sources]
    sources[1].benchmarks = typed[1].as_in(typed[0])
    for source in sources:
        source.add(tables)
    tables["state"] = _states(sources)
    tables["profile"] = _profiles(sources)
    return {**one, "tables": tables}


class _Source:
    """One logbook, and the new numbers of its steps and attempts."""

    def __init__(self, tables: dict[str, list[Values]]) -> None:
        self.tables = tables
        self.steps: dict[Any, int] = {}
        self.attempts: dict[Any, int] = {}
        self.benchmarks: dict[str, str] = {}
        """What benchmarks typed in are called in the merged logbook, where that is not what they are called here."""
        self.doubles: dict[Any, Any] = {}
        """Steps that are in the first logbook already, with what they are there."""
        self._dropped: set[Any] = set()
        self._scores: dict[Any, list[Any]] = {}
        for made in tables["pass"]:
            self._scores.setdefault(made["attempt"], []).append(made["score"])
        self._first = {a["step"]: a[_BORN] for a in reversed(tables["attempt"])}

    def identity(self, attempt: Values) -> tuple[Any, ...]:
        """What tells a test from all others, wherever it is kept."""
        step = next(s for s in self.tables["step"] if s["number"] == attempt["step"])
        setup, scores = sorted(step["setup"].items()), self._scores.get(attempt["id"], [])
        return attempt[_BORN], attempt["boot_id"], attempt["started_s"], tuple(setup), tuple(scores)

    def new(self, step: Values, known: dict[tuple[Any, ...], Any]) -> bool:
        """Tell whether a step holds anything that isn't in the other logbook already; its tests that are there are dropped."""
        own = [a for a in self.tables["attempt"] if a["step"] == step["number"]]
        double = [a for a in own if self.identity(a) in known]
        self._dropped |= {a["id"] for a in double}
        if own and len(double) == len(own):
            self.doubles[step["number"]] = known[self.identity(own[0])]
            return False
        return True

    def born(self, step: Values) -> str:
        """When a step was first tested."""
        return str(self._first.get(step["number"], ""))

    def kept(self, attempt: Values) -> bool:
        """Tell whether an attempt goes into the merged logbook."""
        return attempt["step"] in self.steps and attempt["id"] not in self._dropped

    def document(self, kind: type[AnyDocument]) -> AnyDocument | None:
        """Give a document with steps and tests in their new numbers; None where there is none."""
        value = next((row["value"] for row in self.tables["state"] if row["name"] == kind.NAME), None)
        if value is None:
            return None
        return document_of(kind, value).renumbered(self.steps.get, self.attempts.get)

    def add(self, tables: dict[str, list[Values]]) -> None:
        """Add everything that hangs on steps and attempts."""
        for name in _BY_STEP:
            for row in self.tables[name]:
                if row["step"] not in self.steps:
                    continue
                made = {**row, "step": self.steps[row["step"]]}
                if name == "result":
                    made["workload"] = self.benchmarks.get(row["workload"], row["workload"])
                if row["step"] in self.doubles and any({**made, "id": each["id"]} == each for each in tables[name]):
                    continue
                tables[name].append({**made, "id": len(tables[name]) + 1})
        for name in _BY_ATTEMPT:
            for row in self.tables[name]:
                if row["attempt"] in self.attempts:
                    made = {**row, "attempt": self.attempts[row["attempt"]]}
                    tables[name].append({**made, "id": len(tables[name]) + 1} if "id" in row else made)


def _states(sources: list[_Source]) -> list[Values]:
    """Make the documents of both one, each by its rule; of what no document is known under, the first logbook's stands."""
    values = {row["name"]: row["value"] for source in reversed(sources) for row in source.tables["state"]}
    for kind in DOCUMENTS:
        first, other = sources[0].document(kind), None if kind.OF_THE_RIG else sources[1].document(kind)
        found = first.merged(other) if first is not None and other is not None else first or other
        values.pop(kind.NAME, None)
        if found is not None:
            values[kind.NAME] = value_of(found)
    return [{"name": name, "value": value} for name, value in sorted(values.items())]


def _profiles(sources: list[_Source]) -> list[Values]:
    kept: dict[str, Values] = {}
    for source in reversed(sources):
        for row in source.tables["profile"]:
            kept[row["name"]] = {**row, "step": source.steps.get(row["step"])}
    return [kept[name] for name in sorted(kept)]
