"""What a logbook keeps besides its steps: profiles, runs of plans, and small values such as the tuner's own ceilings."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from yondle.language.saying import say
from yondle.logbook import schema
from yondle.logbook.shapes import findings, numbers, plain, small_value
from yondle.logbook.store import CANNOT_ANSWER, asking, damaged, trouble
from yondle.logbook.writing import keep_state
from yondle.model.findings import Finding
from yondle.model.knobs import Setup
from yondle.model.plan_runs import PlanMove, PlanRun
from yondle.model.profiles import Profile, Purpose


class Keeping:
    """Profiles, plan runs and small values; every change is durable when its call returns."""

    def __init__(self, engine: sa.Engine, path: Path) -> None:
        self._engine = engine
        self._path = path

    def value(self, name: str) -> Any:
        """Give a small value by name, None when there is none."""
        with asking(self._engine, self._path) as connection:
            query = sa.select(schema.state.c.value).where(schema.state.c.name == name)
            text = connection.execute(query).scalar_one_or_none()
        try:
            return small_value(name, text) if text is not None else None
        except ValueError as error:
            raise damaged(self._path, say("'{name}' in it can't be read ({error})", name=name, error=error)) from error

    def keep(self, name: str, value: Any) -> None:
        """Keep a small value by name."""
        with self._changing() as connection:
            keep_state(connection, name, value)

    def profiles(self) -> tuple[Profile, ...]:
        """List the profiles by name."""
        with asking(self._engine, self._path) as connection:
            rows = connection.execute(sa.select(schema.profile).order_by(schema.profile.c.name)).all()
        try:
            return tuple(
                Profile(row.name, Purpose(row.purpose), row.benchmark, Setup.of(numbers(row.setup)), row.step, row.at)
                for row in rows
            )
        except (ValueError, TypeError, AttributeError, RecursionError) as error:
            raise damaged(self._path, say("a profile in it can't be read ({error})", error=error)) from error

    def keep_profile(self, profile: Profile) -> None:
        """Keep a profile, in place of one of the same name."""
        with self._changing() as connection:
            connection.execute(schema.profile.delete().where(schema.profile.c.name == profile.name))
            connection.execute(
                schema.profile.insert().values(
                    name=profile.name,
                    purpose=profile.purpose.value,
                    benchmark=profile.benchmark,
                    setup=json.dumps(dict(profile.setup)),
                    step=profile.step,
                    at=profile.at,
                )
            )

    def drop_profile(self, name: str) -> None:
        """Drop a profile."""
        with self._changing() as connection:
            connection.execute(schema.profile.delete().where(schema.profile.c.name == name))

    def open_plan(self, definition: str, start: dict[str, Any], at: str, t_s: float) -> int:
        """Write down that a plan's run begins; gives its number."""
        with self._changing() as connection:
            row = schema.plan.insert().values(
                definition=definition, start=json.dumps(start), started_at=at, started_s=t_s
            )
            key = connection.execute(row).inserted_primary_key
        assert key is not None
        return int(key[0])

    def open_move(self, plan: int, number: int, words: str, attempt: int | None) -> None:
        """Write down what a plan does next; a move that is taken up again replaces what stood there."""
        move = schema.plan_move
        with self._changing() as connection:
            connection.execute(move.delete().where(move.c.plan == plan, move.c.number == number))
            connection.execute(move.insert().values(plan=plan, number=number, words=words, attempt=attempt))

    def close_move(self, plan: int, number: int, result: dict[str, Any]) -> None:
        """Write down what became of a move."""
        move = schema.plan_move
        with self._changing() as connection:
            where = move.update().where(move.c.plan == plan, move.c.number == number)
            connection.execute(where.values(result=json.dumps(result)))

    def close_plan(self, plan: int, end: str, at: str, found: tuple[Finding, ...]) -> None:
        """Write down how a plan's run ended and what it found."""
        kept = json.dumps([{k: v for k, v in asdict(each).items() if k not in _OF_RUN} for each in found])
        with self._changing() as connection:
            where = schema.plan.update().where(schema.plan.c.id == plan)
            connection.execute(where.values(ended_at=at, end=end, found=kept))

    def open_plan_run(self) -> PlanRun | None:
        """Give the latest run of a plan that has not ended."""
        return next(iter(self._plan_runs(schema.plan.c.ended_at.is_(None))), None)

    def plan_runs(self) -> tuple[PlanRun, ...]:
        """List every run of a plan, latest first."""
        return self._plan_runs(sa.true())

    def _plan_runs(self, which: sa.ColumnElement[bool]) -> tuple[PlanRun, ...]:
        plan, move = schema.plan, schema.plan_move
        with asking(self._engine, self._path) as connection:
            rows = connection.execute(sa.select(plan).where(which).order_by(plan.c.id.desc())).all()
            theirs = sa.select(move).where(move.c.plan.in_([row.id for row in rows]))
            moves = connection.execute(theirs.order_by(move.c.plan, move.c.number)).all()
        made: dict[int, list[Any]] = {}
        for each in moves:
            made.setdefault(each.plan, []).append(each)
        try:
            return tuple(_run_of(row, made.get(row.id, [])) for row in rows)
        except (ValueError, TypeError, KeyError, AttributeError, RecursionError) as error:
            raise damaged(self._path, say("the run of a plan in it can't be read ({error})", error=error)) from error

    @contextmanager
    def _changing(self) -> Iterator[sa.Connection]:
        try:
            with self._engine.begin() as connection:
                yield connection
        except CANNOT_ANSWER as error:
            raise trouble(self._path, error) from error


_OF_RUN = ("plan", "at_time")
"""What a finding has from the run it belongs to."""


def _run_of(row: Any, moves: list[Any]) -> PlanRun:
    return PlanRun(
        row.id,
        row.definition,
        plain(row.start),
        row.started_at,
        float(row.started_s),
        tuple(PlanMove(m.number, m.words, m.attempt, plain(m.result) if m.result else None) for m in moves),
        row.ended_at or "",
        row.end or "",
        tuple(Finding(row.id, row.ended_at or "", **each) for each in findings(row.found)) if row.found else None,
    )
