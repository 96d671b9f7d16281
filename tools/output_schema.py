"""The documents of `--json` as a JSON Schema: writes docs/output-json.schema.json; a test holds it against what commands print.

Every object may have more keys than are named here: new ones may come within a version, those that are there stay.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, TypeAdapter

PATH = Path(__file__).parent.parent / "docs" / "output-json.schema.json"
Value = float | str
Setup = dict[str, Value]


class _Open(BaseModel):
    model_config = ConfigDict(extra="allow", strict=True)


class _Document(_Open):
    format: Literal["yondle-output 1"]
    put_back: Setup | None = None


class Failed(_Document):
    """The command ended with code 2."""

    class Error(_Open):
        """What is wrong, and what to do about it."""

        problem: str
        remedy: str

    error: Error


class Change(_Open):
    """One knob that a step changes."""

    knob: str
    old: Value
    new: Value


class Gain(_Open):
    """A gain over the baseline as fractions; null where a range has no end."""

    fraction: float
    low: float | None
    high: float | None
    word: str
    sure: bool
    at_cap: bool


class StepFields(_Open):
    """A step with what was measured at it."""

    step: int
    kind: str
    parent: int | None
    joint: bool
    changes: list[Change]
    setup: Setup
    verdict: str
    recorded: bool
    failure: str | None
    stage: str | None
    time_to_failure_s: float | None
    reason: str | None
    code: str | None
    points_to: str | None
    signs: list[str]
    last_readings: dict[str, float | None]
    derived: dict[str, float | None]
    attempts: int
    scores: dict[str, list[float]]
    gains: dict[str, Gain]
    notes: list[dict[str, object]]


class Step(_Document, StepFields):
    """`step`, `baseline`, `again`, `go-on`: one step, where the rig rests, and what waits to be entered."""

    position: int | None
    waiting: Setup | None


class State(_Document):
    """`status`, `new`, `back`, `plan run`, `plan go-on`, `edge`: the logbook as it stands."""

    position: int | None
    in_force: Setup
    verified: dict[str, object] | None
    waiting: Setup | None
    resumed: list[dict[str, object]]
    notices: list[str]
    steps: list[StepFields]


class Done(_Document):
    """Commands that only do something: the sentence for people, and what belongs to it."""

    done: str


class Other(_Document):
    """Everything else: each command's keys stand in output-json.md."""


Output = Failed | Step | State | Done | Other


def schema() -> str:
    """Write the schema."""
    made = {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "What `yondle --json` prints"}
    return json.dumps(made | TypeAdapter(Output).json_schema(), indent=2, ensure_ascii=False) + "\n"


if __name__ == "__main__":
    PATH.write_text(schema(), "utf-8")
    sys.stdout.write(f"{PATH.name} is written\n")
