"""Two logbooks of one rig made into a third: steps in the order they were made, everything about them with new numbers."""

from __future__ import annotations

from typing import Any

from yondle.language.saying import say
from yondle.logbook.archive import Values
from yondle.logbook.writing import ENTRY, HEADING
from yondle.model.errors import KnownError

_BY_STEP = ("note", "attachment", "result", "sensor_log")
_BY_ATTEMPT = ("pass", "sample_block", "journal")
_BORN = "started_at"
_OF_THE_RIG = (ENTRY, HEADING)


def merged(one: Values, other: Values, addressed: tuple[str, ...] = ()) -> Values:
    """Merge what `archive.values_of` gives of two logbooks; the first one's own limits, conditions and profiles win.

    Tests that stand in both are taken once. `addressed` names the small values that speak of steps by their numbers, as
    a list or as names. Raises KnownError for logbooks of two rigs.
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
    for source in sources:
        source.add(tables)
    tables["state"] = _states(sources, addressed)
    tables["profile"] = _profiles(sources)
    return {**one, "tables": tables}


class _Source:
    """One logbook, and the new numbers of its steps and attempts."""

    def __init__(self, tables: dict[str, list[Values]]) -> None:
        self.tables = tables
        self.steps: dict[Any, int] = {}
        self.attempts: dict[Any, int] = {}
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

    def renumbered(self, value: Any) -> Any:
        """Give a small value with its steps in their new numbers; those of other logbooks stay, what is gone is left out."""
        if isinstance(value, list):
            return [new for each in value if (new := self._address(each)) is not None]
        if isinstance(value, dict):
            return {new: each for name, each in value.items() if (new := self._address(name)) is not None}
        return value

    def _address(self, address: Any) -> Any:
        if not isinstance(address, str) or not address.isdigit():
            return address
        number = self.steps.get(int(address))
        return str(number) if number is not None else None

    def add(self, tables: dict[str, list[Values]]) -> None:
        """Add everything that hangs on steps and attempts."""
        for name in _BY_STEP:
            for row in self.tables[name]:
                if row["step"] not in self.steps:
                    continue
                made = {**row, "step": self.steps[row["step"]]}
                if row["step"] in self.doubles and any({**made, "id": each["id"]} == each for each in tables[name]):
                    continue
                tables[name].append({**made, "id": len(tables[name]) + 1})
        for name in _BY_ATTEMPT:
            for row in self.tables[name]:
                if row["attempt"] in self.attempts:
                    made = {**row, "attempt": self.attempts[row["attempt"]]}
                    tables[name].append({**made, "id": len(tables[name]) + 1} if "id" in row else made)


def _states(sources: list[_Source], addressed: tuple[str, ...]) -> list[Values]:
    """Small values: the first logbook's where it has them. Steps they speak of get their new numbers.

    Where the rig is, and what it waits for or was on its way to, is known of the first logbook's rig alone.
    """
    values: dict[str, Any] = {}
    for source in reversed(sources):
        for row in source.tables["state"]:
            if source is sources[0] or row["name"] not in (*_OF_THE_RIG, "position"):
                known = row["name"] in addressed
                values[row["name"]] = source.renumbered(row["value"]) if known else row["value"]
    values["position"] = sources[0].steps.get(values.get("position"))
    heading = values.get(HEADING)
    if isinstance(heading, dict):
        values[HEADING] = {**heading, "position": sources[0].steps.get(heading.get("position"))}
    entry = values.get(ENTRY)
    if isinstance(entry, dict):
        values[ENTRY] = {**entry, "attempt": sources[0].attempts.get(entry.get("attempt"), 0)}
    return [{"name": name, "value": value} for name, value in sorted(values.items())]


def _profiles(sources: list[_Source]) -> list[Values]:
    kept: dict[str, Values] = {}
    for source in reversed(sources):
        for row in source.tables["profile"]:
            kept[row["name"]] = {**row, "step": source.steps.get(row["step"])}
    return [kept[name] for name in sorted(kept)]
