"""Runs a plan on a session, writing down every move before it is made, so that a run goes on after any interruption."""

from __future__ import annotations

from collections.abc import Callable, Generator, Mapping
from contextlib import nullcontext
from dataclasses import dataclass, replace

from yondle.analysis.exposure import runs_of, warmths
from yondle.app.plans.nights import Bounds, over_restarts
from yondle.app.session.commands import Command
from yondle.app.session.proposing import ProposeTogether
from yondle.app.session.requests import heeded
from yondle.app.session.returning import GoOnWaiting, ReturnTo
from yondle.app.session.session import Session
from yondle.app.session.testing import TryAgain, TryFrom, TryProposal, measured_first
from yondle.language.saying import clause, in_sentence, listed, say
from yondle.model.errors import KnownError
from yondle.model.plan_runs import Ended, KeptMove, MoveKind, MoveStage, PlanMove, PlanRun
from yondle.model.quantities import duration
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import StepRecord
from yondle.model.verdicts import Failure, Verdict
from yondle.model.workloads import Workload
from yondle.planning.climb import Again, GoBack, Move, Recall, Tried, Try
from yondle.planning.goals.goal import Goal
from yondle.planning.ladder import step_check
from yondle.planning.plan_files import parse_plan
from yondle.planning.plans import DryRun, Plan, dry_run, moves
from yondle.views.edge.runs import as_values, attempted, findings_of, told_of, tried_now, tried_of
from yondle.views.next.lessons import best_of, lesson_of, lessons_of
from yondle.views.shared.rooms import warmest_room
from yondle.views.shared.snapshot import Snapshot

AfterMove = Callable[[Move | None, StepRecord], None]


def told_by_steps(_: Move | None, __: StepRecord) -> None:
    """Hear nothing of a plan's moves: what it tests is told by the steps alone."""


def never() -> bool:
    """Pause at no move."""
    return False


FAILURES = (Verdict.DOWN, Verdict.WRONG, Verdict.HELD_BACK, Verdict.REFUSED)
_INTERRUPTED_AT_MOST = 5


@dataclass(frozen=True, slots=True)
class PlanEnd:
    """How far a run came: the end, its reason in words, and the moves made in all."""

    ended: Ended
    reason: str
    moves: int


def preview(book: Snapshot, plan: Plan) -> DryRun:
    """Say what a plan would do from where the rig is, if every step held."""
    return dry_run(plan, book.declaration, book.in_force, unattended=book.simulated)


@dataclass(frozen=True)
class StartPlan(Command[PlanEnd]):
    """Begin a run of a plan and go on with it; raises KnownError when another one is not finished.

    `after` is called after each of its moves, in the thread that tests, and `paused` is asked before the next. `unattended`
    lets a simulated rig's owner enter what is entered by hand; with `comes_back` it goes on by itself after a crash of this
    machine, so often at most.
    """

    text: str
    source: str
    after: AfterMove = told_by_steps
    paused: Callable[[], bool] = never
    unattended: bool = False
    comes_back: Bounds | None = None
    tests = runs = True

    def do(self, session: Session) -> PlanEnd:
        """Tell how far it came."""
        book, keeping = session.snapshot, session.logbook.keeping
        if book.baseline_step is None or book.position is None:
            raise KnownError(say("There is no baseline yet, so no gain could be told."), say("Run the baseline first."))
        if keeping.open_plan_run() is not None:
            raise KnownError(say("Another plan is not finished."), say("Go on with it, or end it first."))
        parse_plan(self.text, self.source, session.declaration)
        here = replace(tried_now(book, book.position), at_s=session.machine.clock.now())
        with over_restarts(session, self.comes_back) as over:
            keeping.open_plan(self.text, as_values(here), session.wall(), session.machine.clock.now())
            return GoOnWithPlan(self.after, self.paused, self.unattended).go_on(session, over)


@dataclass(frozen=True)
class GoOnWithPlan(Command[PlanEnd]):
    """Go on with the plan that is not finished: replay what is written down, then make the next moves.

    Raises KnownError when there is none, or when the tuner's limits have changed so that it would run differently.
    """

    after: AfterMove = told_by_steps
    paused: Callable[[], bool] = never
    unattended: bool = False
    comes_back: Bounds | None = None
    tests = runs = True

    def do(self, session: Session) -> PlanEnd:
        """Tell how far it came."""
        with over_restarts(session, self.comes_back) as over:
            return self.go_on(session, over)

    def go_on(self, session: Session, over: Callable[[], str]) -> PlanEnd:
        """Go on until its end; `over` says that the machine went down too often."""
        run, waiting = session.logbook.keeping.open_plan_run(), session.waits.now
        if run is None:
            raise KnownError(say("No plan is under way."), say("Start one."))
        with session.unattended() if self.unattended else nullcontext():
            if waiting is not None:
                if not waiting.goes_on:
                    return PlanEnd(Ended.WAITING, say("values have to be set by hand"), len(run.moves))
                GoOnWaiting().do(session)
            return _Runner(session, run, self.after, self.paused, over).run()


@dataclass(frozen=True)
class EndPlan(Command[None]):
    """End the plan that is not finished; what it tested stays."""

    def do(self, session: Session) -> None:
        """End it."""
        if session.logbook.keeping.open_plan_run() is None:
            raise KnownError(say("No plan is under way."), say("Nothing to end."))
        _close(session, Ended.STOPPED, "")


def make_move(session: Session, move: Move, passes: int | None = None, turns: bool = True) -> StepRecord:
    """Carry out one move of a plan; one that only recalls gives the step in force."""
    match move:
        case GoBack():
            return ReturnTo(move.step).do(session)
        case Again():
            return TryAgain(move.step, passes, turns).do(session)
        case Recall():
            here = session.snapshot.position
            if here is None:
                raise KnownError(say("The rig is at no step of the trail."), say("Go back to one first."))
            return here
        case Try(origin=int(origin)):
            return TryFrom(origin, move.values, move.check, move.why, turns).do(session)
        case Try():
            ProposeTogether(move.values).do(session)
            return TryProposal(passes, turns).do(session)


def undone_words(undone: list[str]) -> str:
    """Say what a plan that came to its end left out."""
    return say("all but {what}", what=listed(undone, "; ")) if undone else say("all of it")


def is_failure(record: StepRecord) -> bool:
    """Tell whether a step ended in a failure of the setting."""
    return record.verdict in FAILURES


def kept_move(move: Move) -> KeptMove:
    """Give a move as it is written down; values as exactly as they are compared when a run is taken up again."""
    match move:
        case GoBack():
            return KeptMove(MoveKind.BACK, move.step)
        case Again():
            return KeptMove(MoveKind.AGAIN, move.step)
        case Recall():
            return KeptMove(MoveKind.RECALL, knob=move.knob, values=_rounded(move.others))
        case Try():
            asked = move.check.stages if move.check is not None else ()
            stages = tuple(
                MoveStage(s.workloads, s.rounds, None) if s.pass_s is None else MoveStage(s.workloads, 1, s.pass_s)
                for s in asked
            )
            return KeptMove(MoveKind.TRY, values=_rounded(move.values), stages=stages)


def _rounded(values: Mapping[str, float]) -> dict[str, float]:
    return {knob: float(f"{value:g}") for knob, value in sorted(values.items())}


def move_words(declaration: RigDeclaration, move: KeptMove) -> str:
    """Say a move."""
    if move.kind is MoveKind.BACK:
        return say("back to step {step}", step=move.step)
    if move.kind is MoveKind.AGAIN:
        return say("step {step} once more", step=move.step)
    if move.kind is MoveKind.RECALL:
        return say("what is known of {knob}", knob=_knob_name(declaration, move.knob))
    tried = listed([f"{_knob_name(declaration, knob)} {value:g}" for knob, value in move.values.items()])
    return tried or say("the same settings")


def _knob_name(declaration: RigDeclaration, knob_id: str) -> str:
    return next((in_sentence(knob.name) for knob in declaration.knobs if knob.id == knob_id), knob_id)


class _Runner:
    """One stretch of a plan's run, from where it was left to its end or the next interruption."""

    def __init__(
        self, session: Session, run: PlanRun, after: AfterMove, paused: Callable[[], bool], over: Callable[[], str]
    ) -> None:
        self._session = session
        self._run = run
        self._after = after
        self._paused, self._over = paused, over
        self._keeping = session.logbook.keeping
        self._plan = parse_plan(run.definition, say("the plan in this logbook"), session.declaration)
        self._failures = 0
        self._made = 0
        self._latest: Tried | None = None

    def run(self) -> PlanEnd:
        """Replay, then go on."""
        here = tried_of(self._run.start, self._session.declaration)
        undone: list[str] = []
        going = moves(self._plan, self._session.declaration, here, undone)
        try:
            move = next(going)
            for kept in self._run.moves:
                tried = self._replayed(move, kept)
                if tried is None:
                    break
                self._count(move, tried)
                here = tried
                move = going.send(tried)
            self._be_at(here)
            return self._forward(going, move)
        except StopIteration:
            return self._close(Ended.DONE, undone_words(undone))
        finally:
            going.close()

    def _be_at(self, here: Tried) -> None:
        """Bring the rig to where the plan left it: an emergency stop, or the tuner, may have taken it elsewhere since."""
        session = self._session
        if session.waits.now is None and session.rests.position != here.position:
            ReturnTo(here.position).do(session)

    def _forward(self, going: Generator[Move, Tried, None], move: Move) -> PlanEnd:
        while True:
            reason = self._rule()
            if reason:
                return self._close(Ended.RULE, reason)
            if heeded(self._session):
                return PlanEnd(Ended.STOPPED, say("stopped by the tuner between two steps"), self._made)
            if self._paused():
                return PlanEnd(Ended.PAUSED, say("paused between two steps"), self._made)
            instead = self._measured_first(move)
            if instead is not None:
                outcome = instead.outcome
                return PlanEnd(Ended.STOPPED, clause(outcome.reason) if outcome is not None else "", self._made)
            number = self._made + 1
            record = self._make(move, number)
            if self._session.waits.now is not None:
                return PlanEnd(Ended.WAITING, say("values have to be set by hand"), self._made)
            outcome = record.outcome
            if outcome is not None and outcome.failure is Failure.STOPPED and not isinstance(move, GoBack | Recall):
                return PlanEnd(Ended.STOPPED, clause(outcome.reason), self._made)
            if self._session.rests.position is None:
                return self._close(Ended.LOST, say("the rig is at no step of the trail"))
            tried = self._told(move, record)
            self._keeping.close_move(self._run.id, number, as_values(tried, move))
            self._count(move, tried)
            self._after(move, record)
            move = going.send(tried)

    def _measured_first(self, move: Move) -> StepRecord | None:
        """Measure again what is due, before the move is opened: the attempt of a move is that of its test.

        A move with a check of its own has what it is held against among the moves.
        """
        if not isinstance(move, Try) or move.check is not None:
            return None
        session = self._session
        home = session.rests.in_force if move.origin is None else session.book.step(move.origin).step.setup
        setup = home.with_values(dict(move.values))
        check = step_check(session.declaration, self._plan.passes, home, setup, self._plan.turns)
        return measured_first(session, check, home)

    def _make(self, move: Move, number: int) -> StepRecord:
        """Make a move; one that an earlier program was interrupted in tells nothing, so it is made again."""
        for _ in range(_INTERRUPTED_AT_MOST):
            attempt = None if isinstance(move, GoBack | Recall) else self._session.logbook.next_attempt()
            self._keeping.open_move(self._run.id, number, kept_move(move), attempt)
            record = make_move(self._session, move, self._plan.passes, self._plan.turns)
            if record.outcome is None or record.outcome.failure is not Failure.INTERRUPTED or attempt is None:
                break
        return record

    def _replayed(self, move: Move, kept: PlanMove) -> Tried | None:
        """Give what became of a move that is written down; None when it has to be made (again)."""
        declaration = self._session.declaration
        if kept.move != kept_move(move):
            raise KnownError(
                say(
                    "The plan would go on with '{move}' where '{kept}' was made.",
                    move=move_words(declaration, kept_move(move)),
                    kept=move_words(declaration, kept.move),
                ),
                say("A limit or the plan has changed since; end this run and start it anew."),
            )
        if kept.result is not None:
            return tried_of(kept.result, self._session.declaration)
        made = attempted(self._session.snapshot, kept.attempt)
        if made is None or self._session.rests.position is None:
            return None
        tried = self._told(move, made)
        self._keeping.close_move(self._run.id, kept.number, as_values(tried, move))
        self._after(move, made)
        return tried

    def _told(self, move: Move, record: StepRecord) -> Tried:
        """Give what became of a move, with the runs it made or recalls."""
        session = self._session
        tried = replace(tried_now(session.snapshot, record), at_s=session.machine.clock.now())
        match move:
            case Recall():
                wanted = session.rests.in_force.with_values(move.others)
                steps = session.book.steps
                if not move.knob:
                    return replace(tried, lessons=lessons_of(session.snapshot, self._benchmarks))
                here = [r for r in steps if r.step.setup.same_but(wanted, move.knob)]
                return replace(tried, ran=tuple(runs_of(here, move.knob, warmths(steps))), room_c=warmest_room(steps))
            case Try() if (move.of or len(move.values) == 1) and record.attempts:
                told = told_of(session.snapshot, record, move.of or next(iter(move.values)))
                return self._taught(replace(told, at_s=tried.at_s), record, move)
            case Try() if record.attempts:
                # A proof changes nothing and a joint step changes several: they are no knob's, and teach all the same.
                return self._taught(tried, record, move)
            case _:
                return tried

    @property
    def _benchmarks(self) -> list[Workload]:
        """The benchmarks of the goals in this plan."""
        names = dict.fromkeys(
            name for part in self._plan.parts if isinstance(part, Goal) for name, _ in part.benchmarks
        )
        return [self._session.declaration.workload(name) for name in names]

    def _taught(self, tried: Tried, record: StepRecord, move: Try) -> Tried:
        """Add what a test taught, where the plan climbs toward a goal."""
        wanted, book = self._benchmarks, self._session.snapshot
        if not wanted:
            return tried
        lesson = lesson_of(book, record, wanted, move.of)
        return replace(tried, lessons=(lesson,), best=best_of(record, wanted))

    def _count(self, move: Move, tried: Tried) -> None:
        """Count a move; only one that tests something can fail, and only what this run tested is judged by its rules."""
        self._made += 1
        if isinstance(move, Try | Again):
            self._failures += tried.verdict in FAILURES
            self._latest = tried

    def _rule(self) -> str:
        over = self._over()
        if over:
            return over
        stop, run_s = self._plan.stop, self._run_s()
        if stop.failures is not None and self._failures >= stop.failures:
            return say("{failures} steps have failed", failures=self._failures)
        if stop.hours is not None and run_s >= stop.hours * 3600.0:
            return say("it has run for {run_s}", run_s=duration(run_s))
        latest = self._latest
        if latest is not None and latest.verdict in stop.verdicts:
            return say("step {number} is '{verdict}'", number=latest.step, verdict=latest.verdict)
        return ""

    def _run_s(self) -> float:
        """How long the run has lasted, over restarts, too: the clock of a machine goes on from where its record ends."""
        return max(0.0, self._session.machine.clock.now() - self._run.started_s)

    def _close(self, ended: Ended, reason: str) -> PlanEnd:
        _close(self._session, ended, reason)
        return PlanEnd(ended, reason, self._made)


def _close(session: Session, ended: Ended, reason: str) -> None:
    """Write down how the run that goes on ended, and what it found by then."""
    run = session.logbook.keeping.open_plan_run()
    if run is not None:
        session.logbook.keeping.close_plan(run.id, ended, reason, session.wall(), findings_of(session.snapshot, run))
        session.reread()
