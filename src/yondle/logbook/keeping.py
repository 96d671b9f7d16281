"""What a logbook keeps besides its steps: profiles, runs of plans, and documents such as the tuner's own limits."""

from __future__ import annotations

import json
from contextlib import AbstractContextManager
from dataclasses import asdict
from pathlib import Path
from typing import Any

from yondle.formats.documents import AnyDocument, Document, Documents
from yondle.language.saying import say
from yondle.logbook.moves import end_of, end_text, move_of, move_text
from yondle.logbook.shapes import findings, numbers, plain
from yondle.logbook.sql import Connection, Row, Store, deleted, inserted, updated
from yondle.logbook.store import asking, changing, damaged
from yondle.logbook.writing import keep_document
from yondle.model.findings import Finding
from yondle.model.knobs import Setup
from yondle.model.plan_runs import Ended, KeptMove, PlanMove, PlanRun
from yondle.model.profiles import Profile, Purpose


class KeptReader:
    """What a logbook keeps besides its steps, as it stands now."""

    def __init__(self, path: Path, store: Store) -> None:
        self.path = path
        self._store = store

    @property
    def documents(self) -> Documents:
        """Every document as it stands now."""
        with asking(self._store, self.path) as connection:
            rows = connection.execute("SELECT name, value FROM state").fetchall()
        return Documents({row["name"]: row["value"] for row in rows}, lambda detail: damaged(self.path, detail))

    def find(self, kind: type[AnyDocument]) -> AnyDocument | None:
        """Give a document, None where none was kept; raises KnownError for a damaged one."""
        return self.documents.find(kind)

    def document(self, kind: type[AnyDocument]) -> AnyDocument:
        """Give a document, as it is before anything was kept where nothing was; raises KnownError for a damaged one."""
        return self.documents.of(kind)

    def profiles(self) -> tuple[Profile, ...]:
        """List the profiles by name."""
        with asking(self._store, self.path) as connection:
            rows = connection.execute("SELECT * FROM profile ORDER BY name").fetchall()
        try:
            return tuple(
                Profile(
                    row["name"],
                    Purpose(row["purpose"]),
                    row["benchmark"],
                    Setup.of(numbers(row["setup"])),
                    row["step"],
                    row["at"],
                )
                for row in rows
            )
        except (ValueError, TypeError, AttributeError, RecursionError) as error:
            raise damaged(self.path, say("a profile in it can't be read ({error})", error=error)) from error

    def open_plan_run(self) -> PlanRun | None:
        """Give the latest run of a plan that has not ended."""
        return next(iter(self._plan_runs("ended_at IS NULL")), None)

    def plan_runs(self) -> tuple[PlanRun, ...]:
        """List every run of a plan, latest first."""
        return self._plan_runs("TRUE")

    def _plan_runs(self, which: str) -> tuple[PlanRun, ...]:
        with asking(self._store, self.path) as connection:
            rows = connection.execute(f'SELECT * FROM "plan" WHERE {which} ORDER BY id DESC').fetchall()
            moves = connection.execute(
                f'SELECT * FROM plan_move WHERE "plan" IN (SELECT id FROM "plan" WHERE {which}) ORDER BY "plan", number'
            ).fetchall()
        made: dict[int, list[Row]] = {}
        for each in moves:
            made.setdefault(each["plan"], []).append(each)
        try:
            return tuple(_run_of(row, made.get(row["id"], [])) for row in rows)
        except (ValueError, TypeError, KeyError, AttributeError, RecursionError) as error:
            raise damaged(self.path, say("the run of a plan in it can't be read ({error})", error=error)) from error


class Keeping(KeptReader):
    """The same, and what changes it; every change is durable when its call returns."""

    def keep(self, document: Document) -> None:
        """Keep a document in place of what stood there."""
        with self._changing() as connection:
            keep_document(connection, document)

    def keep_profile(self, profile: Profile) -> None:
        """Keep a profile, in place of one of the same name."""
        with self._changing() as connection:
            deleted(connection, "profile", name=profile.name)
            inserted(
                connection,
                "profile",
                name=profile.name,
                purpose=profile.purpose.value,
                benchmark=profile.benchmark,
                setup=json.dumps(dict(profile.setup)),
                step=profile.step,
                at=profile.at,
            )

    def drop_profile(self, name: str) -> None:
        """Drop a profile; steps that were made from it stay."""
        with self._changing() as connection:
            deleted(connection, "profile", name=name)

    def open_plan(self, definition: str, start: dict[str, Any], at: str, t_s: float) -> int:
        """Write down that a plan's run begins; gives its number."""
        with self._changing() as connection:
            return inserted(
                connection, "plan", definition=definition, start=json.dumps(start), started_at=at, started_s=t_s
            )

    def open_move(self, plan: int, number: int, made: KeptMove, attempt: int | None) -> None:
        """Write down what a plan does next; a move that is taken up again replaces what stood there."""
        with self._changing() as connection:
            deleted(connection, "plan_move", plan=plan, number=number)
            inserted(connection, "plan_move", plan=plan, number=number, words=move_text(made), attempt=attempt)

    def close_move(self, plan: int, number: int, result: dict[str, Any]) -> None:
        """Write down what became of a move."""
        with self._changing() as connection:
            updated(connection, "plan_move", {"plan": plan, "number": number}, result=json.dumps(result))

    def close_plan(self, plan: int, ended: Ended, reason: str, at: str, found: tuple[Finding, ...]) -> None:
        """Write down how a plan's run ended and what it found."""
        kept = json.dumps([{k: v for k, v in asdict(each).items() if k not in _OF_RUN} for each in found])
        with self._changing() as connection:
            updated(connection, "plan", {"id": plan}, ended_at=at, end=end_text(ended, reason), found=kept)

    def _changing(self) -> AbstractContextManager[Connection]:
        return changing(self._store, self.path)


_OF_RUN = ("plan", "at_time")
"""What a finding has from the run it belongs to."""


def _run_of(row: Row, moves: list[Row]) -> PlanRun:
    return PlanRun(
        row["id"],
        row["definition"],
        plain(row["start"]),
        row["started_at"],
        float(row["started_s"]),
        tuple(map(_move_of, moves)),
        row["ended_at"] or "",
        *end_of(row["end"] or ""),
        tuple(Finding(row["id"], row["ended_at"] or "", **each) for each in findings(row["found"]))
        if row["found"]
        else None,
    )


def _move_of(row: Row) -> PlanMove:
    result = plain(row["result"]) if row["result"] else None
    return PlanMove(row["number"], move_of(row["words"]), row["attempt"], result)
