"""A machine across the room as a rig: everything is asked over the line, and a line that dies is told from a bench that does."""

from __future__ import annotations

import secrets
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import Any, NoReturn, TypeVar

from yondle.language.saying import say
from yondle.model.errors import KnownError, MachineDownError
from yondle.model.knobs import Change, Setup
from yondle.model.quantities import duration
from yondle.model.rigs import KnobReply, RigDeclaration, RigInfo
from yondle.model.sensors import Reading
from yondle.model.verdicts import Failure
from yondle.model.workloads import PassResult
from yondle.rigs.bench.clock import (
    EARLY_AT_MOST_S,
    LATE_AT_MOST_S,
    RELATED_FOR_S,
    BenchClock,
    OwnClock,
    Related,
    related,
)
from yondle.rigs.bench.line import SETS_WITHIN_S, Line, LineDeadError, Over, Row
from yondle.rigs.bench.protocol import (
    FORMAT,
    NotUnderstoodError,
    boot_of,
    changes_of,
    declaration_of,
    facts_of,
    numbers_of,
    replies_of,
    words,
)
from yondle.rigs.bench.ssh import Address, why_not

BEGINS_WITHIN_S = 60.0
"""ssh has connected and the agent has looked at its machine by then."""
TRIES_EVERY_S, AT_REST_S = 3.0, 5.0
BELIEVED_WITHIN_S = 20.0
"""A line that is heard, and over which no sample comes that could be one for so long, is given up."""
COMES_BACK_WITHIN_S = 240.0
"""How long a bench that is lost is waited for before the test is left open; a plan at night waits longer."""
SIGNS_SLACK_S, AROUND_S = 5.0, 30.0
"""How much older than it was asked for what is kept of a crash may be; than the silence that it began with."""
LONGEST_NAP_S = 1.0
"""Suspended for longer, the notebook heard nothing for want of being awake."""


@dataclass
class Patience:
    """How a bench that is lost is waited for. `gives_up` is asked meanwhile, `tells` hears how it goes, `restart` makes it start.

    `waits` tells whether it is waited for at all: a face that asks something at rest isn't to stand still.

    `restart` is called once after `restart_after_s` without a word of it, and says what it did; None where nobody may do so.
    """

    within_s: float = COMES_BACK_WITHIN_S
    waits: Callable[[], bool] = lambda: True
    gives_up: Callable[[], bool] = lambda: False
    tells: Callable[[str], None] = lambda words: None
    restart: Callable[[], str] | None = None
    restart_after_s: float = 45.0
    guards: bool = False
    """Whether the bench's watchdog is armed."""
    came_down: Callable[[], bool] = lambda: True
    """Told that it went down, and tells whether it may be restarted again."""


@dataclass(frozen=True, slots=True)
class BenchSettings:
    """How workloads are run there; see `WorkloadSettings`, but for paths, which are the bench's own matter."""

    nice: int = 0
    memory_mib: int = 0
    processors: tuple[int, ...] = ()

    def told(self) -> dict[str, object]:
        """As they are sent."""
        return {"nice": self.nice, "memory_mib": self.memory_mib, "processors": list(self.processors)}


@dataclass
class Contact:
    """How the bench is reached now: why it isn't, how both clocks stand, and what isn't offered there for want of something."""

    why: str = ""
    remedy: str = ""
    related: Related | None = None
    missing: str = ""


T = TypeVar("T")


class BenchRig:
    """A machine that is reached over a line, satisfying the engine's ports. One thread uses it, and its `clock`.

    `known` is what it was like when its logbook was open last: with it a bench that is away can be opened, and only read.
    """

    def __init__(
        self,
        address: Address,
        own: OwnClock,
        settings: BenchSettings = BenchSettings(),
        known: RigDeclaration | None = None,
        session: str = "",
        command: Sequence[str] | None = None,
    ) -> None:
        """Reach it; raises KnownError with what stands against it, but where it is `known` and may only be away.

        An agent of the same `session` whose line is dead is ended there; one of another has the bench for itself.
        """
        self._address, self._settings, self._command = address, settings, tuple(command or address.command())
        self._own = own
        self._session = session or secrets.token_hex(12)
        self.patience = Patience()
        self.contact = Contact()
        self.clock = BenchClock(own, self._next)
        self._line: Line | None = None
        self._guarded_over: Line | None = None
        self._boot = ""
        self._agent_died = False
        self._related_at = 0.0
        self._row: Row | None = None
        self._latest_t = 0.0
        self._claimed_s = 0.0
        self._slept_s = own.slept_s()
        self._run: _BenchRun | None = None
        try:
            self.declaration = self._connect()
        except _AwayError as away:
            if known is None or not away.passes:
                raise KnownError(away.problem, away.remedy) from away
            self.declaration = known
            self._is_away(away)

    # -- the engine's port -------------------------------------------------------------------------------------------------

    def boot_id(self) -> str:
        """Name the bench's present boot, or the last it told of."""
        return self._boot

    def crash_signs(self, since: float) -> tuple[str, ...]:
        """Describe what the bench kept of a crash; its clock may stand otherwise, so that it is asked for an age."""
        ago_s = max(0.0, time.time() - since) + SIGNS_SLACK_S
        return self._read(lambda: _signs(self._ask("signs", ago_s=ago_s)))

    def apply(self, values: Mapping[str, float]) -> tuple[KnobReply, ...]:
        """Ask for knob values."""
        self._slept_s = self._own.slept_s()
        self._guard()
        return self._read(lambda: replies_of(self._ask("apply", SETS_WITHIN_S, values=dict(values)).get("replies")))

    def restart(self) -> float:
        """Yondle doesn't restart a bench in good order; its tuner does."""
        raise KnownError(
            say("Yondle doesn't restart a bench by itself."), say("Restart it yourself; Yondle connects again.")
        )

    def read_back(self) -> Setup:
        """Read the values in force; of a bench that is away none can be told."""
        if self._line is None:
            return Setup.of({})
        values = self._read(lambda: numbers_of(self._ask("read").get("values")))
        return Setup.of({knob.id: values[knob.id] for knob in self.declaration.knobs if knob.id in values})

    def gone_back(self) -> str:
        """Say why values may have gone back, as it was heard last; of a bench that is away nothing is known. Asks nothing."""
        line = self._line
        if line is not None and not line.alive and not self.patience.waits():
            self._let_go_of(line)
        if self._line is None:
            return say("the bench is away")
        return self._line.gone

    def pending(self) -> Mapping[str, float]:
        """No value of a bench waits for a restart."""
        return {}

    def sample(self) -> tuple[Reading, ...]:
        """Give the latest samples; the first begins the stream, which ends by itself once nobody takes any."""
        line = self._there()
        if not line.streams or self._row is None:
            self._row = None
            self._guarded(lambda: line.stream(self.declaration.sample_interval_s))
            self.clock.wait(0.0)
        self._claimed_s = time.monotonic()
        row = self._row
        if self._line is None or not self._line.alive:
            self._lost()
        return row.values if row is not None else (None,) * len(self.declaration.channels)

    def start(self, workload: str, seconds: float, setup: Setup) -> _BenchRun:
        """Start a pass."""
        del setup
        line = self._there()
        self._slept_s = self._own.slept_s()
        if time.monotonic() - self._related_at > RELATED_FOR_S:
            self._guarded(lambda: self._read(lambda: self._relate(line, 3)))
        self._guard()
        told = self._ask("start", SETS_WITHIN_S, workload=workload, seconds=seconds).get("pass")
        self._run = _BenchRun(self, told if type(told) is int else 0)
        return self._run

    def bring_back(self) -> float:
        """It has come back already when a test hears that it went down."""
        return 0.0

    def facts(self) -> dict[str, str | float]:
        """Give the conditions; a bench that is away has those of its parts. The line's delay is none: no figure hangs on it."""
        told: dict[str, str | float] = dict(self.declaration.info.facts)
        if self._line is not None:
            told |= self._read(lambda: facts_of(self._ask("facts").get("facts")))
        return told

    def close(self) -> tuple[Change, ...]:
        """Have the bench put everything back; gives what it put back, as it tells."""
        line, self._line = self._line, None
        return changes_of(line.close(), self.declaration) if line is not None else ()

    # -- the line ----------------------------------------------------------------------------------------------------------

    @property
    def away(self) -> bool:
        """Tell whether there is no line."""
        return self._line is None

    @property
    def away_words(self) -> str:
        """Say that it is away, why, and what to do."""
        away = self._away()
        return f"{away.problem} {away.remedy}"

    def can_be_guarded(self) -> str:
        """See whether its watchdog can be armed; gives why it can't, nothing where it can."""
        try:
            self._ask("guard", SETS_WITHIN_S, on=True)
            self._ask("guard", on=False)
        except KnownError as error:
            return f"{error.problem} {error.remedy}"
        return ""

    def let_go_of_guard(self) -> None:
        """Disarm its watchdog; a bench that is away does so by itself, or is restarted."""
        if self._line is not None and self._guarded_over is self._line:
            with suppress(LineDeadError, KnownError):
                self._line.ask("guard", on=False)
        self._guarded_over = None

    def must_be_there(self) -> None:
        """Raise KnownError while it is away."""
        self._there()

    def _guard(self) -> None:
        """Have its watchdog armed before the first that may freeze it; every agent that answers anew is asked anew."""
        if self.patience.guards and self._guarded_over is not self._there():
            self._ask("guard", SETS_WITHIN_S, on=True)
            self._guarded_over = self._line

    def _connect(self) -> RigDeclaration:
        """Reach the bench and begin; raises _AwayError."""
        line = Line(self._command)
        try:
            began = line.ask("begin", BEGINS_WITHIN_S, format=FORMAT, session=self._session, **self._settings.told())
            if began.get("format") != FORMAT:
                raise NotUnderstoodError("it speaks otherwise")
            declaration = self._named(declaration_of(began.get("declaration")))
            boot = boot_of(began.get("boot"))
            line.channels = len(declaration.channels)

            self._relate(line, 5)
            before = began.get("before")
            told = before if isinstance(before, dict) else {}
            ours = (told.get("session"), told.get("boot")) == (self._session, boot)
            self._agent_died = ours and told.get("ended") == ""
        except (LineDeadError, NotUnderstoodError) as error:
            line.drop()
            raise self._why(line, error) from error
        except KnownError as refused:
            line.close()
            raise _AwayError(refused.problem, refused.remedy, False) from refused
        self._line, self._boot = line, boot
        self._latest_t = 0.0
        self.contact.why, self.contact.remedy, self.contact.missing = "", "", words(began.get("missing"))
        return declaration

    def _relate(self, line: Line, times: int) -> None:
        """Relate both clocks."""

        def asked() -> tuple[float, float]:
            answer = line.ask("clock")
            told = numbers_of({name: answer.get(name) for name in ("t", "wall")})
            return told["t"], told["wall"]

        made = self.contact.related = related(asked, time.monotonic, time.time, times)
        self.clock.delay_s, self._related_at = made.within_s, time.monotonic()

    def _why(self, line: Line, error: Exception) -> _AwayError:
        if line.broken or isinstance(error, NotUnderstoodError):
            said = line.broken or str(error)
            return _AwayError(
                say("What answers on {at} isn't understood ({said}).", at=self._address.target, said=said),
                say(
                    "Install the same version of Yondle there as here; see that a login there prints nothing by itself."
                ),
                False,
            )
        return _AwayError(*why_not(self._address, line.said, line.code))

    def _named(self, declaration: RigDeclaration) -> RigDeclaration:
        """Call the bench by the name it is reached by."""
        info = RigInfo("bench", self._address.host, str(self._address), False, declaration.info.facts)
        return replace(declaration, info=info)

    def _is_away(self, why: _AwayError) -> None:
        self.contact.why, self.contact.remedy = why.problem, why.remedy

    def _there(self) -> Line:
        """Give the line; raises KnownError while the bench is away."""
        if self._line is None:
            raise self._away()
        return self._line

    def _away(self) -> KnownError:
        why = self.contact.why or say("nothing is heard of it.")
        return KnownError(
            say("{bench} is away: {why}", bench=self._address.host, why=why),
            say("{remedy} Then open its logbook again.", remedy=self.contact.remedy),
        )

    def _ask(self, do: str, within_s: float | None = None, **more: object) -> dict[str, Any]:
        line = self._there()
        self.clock.release()
        if not self.patience.waits():
            within_s = min(within_s or AT_REST_S, AT_REST_S)
        return self._guarded(lambda: line.ask(do, within_s, **more))

    def _guarded(self, does: Callable[[], T]) -> T:
        try:
            return does()
        except LineDeadError:
            self._lost()

    def _read(self, reads: Callable[[], T]) -> T:
        """Read an answer; one that isn't understood ends the line, as a bench that speaks otherwise can't be worked with."""
        try:
            return reads()
        except NotUnderstoodError as error:
            line, self._line = self._line, None
            if line is not None:
                line.drop()
            self._is_away(self._why(line, error) if line is not None else _AwayError(str(error), "", False))
            raise self._away() from error

    def _next(self, seconds: float) -> tuple[float, float] | None:
        """Wait for the next samples; None while none stream. What isn't dated as it could be is none."""
        line, relation = self._line, self.contact.related
        claimed = self._row is None or time.monotonic() - self._claimed_s < 5.0
        if line is None or relation is None or not line.streams or not claimed:
            self._row = None
            return None
        until = time.monotonic() + seconds + BELIEVED_WITHIN_S
        try:
            while True:
                heard = line.take(until - time.monotonic())
                if isinstance(heard, Over):
                    if self._run is not None and heard.number == self._run.number:
                        self._run.result = heard.result
                    continue
                if heard is None:
                    line.give_up(say("its samples are dated otherwise than they can be, or don't come"))
                    raise LineDeadError
                at = heard.t + relation.offset_s + self._own.now() - time.monotonic()
                plausible = -LATE_AT_MOST_S < at - self._own.now() < EARLY_AT_MOST_S
                if plausible and heard.t >= self._latest_t + self.declaration.sample_interval_s / 4:
                    self._latest_t, self._row = heard.t, heard
                    return at, heard.slept_s
                if time.monotonic() > until:
                    line.give_up(say("its samples are dated otherwise than they can be, or don't come"))
        except LineDeadError:
            self._row = None
            return None

    def _lost(self) -> NoReturn:
        """Nothing is heard any more: wait for the bench, and say what happened once that can be told.

        Raises MachineDownError: *crashed and restarted* where the bench has started anew, *interrupted* where it stayed up;
        KnownError where it doesn't come back in time. Then what was under way is left open, and named when it is reached again.
        """
        line, boot, began, patience = self._line, self._boot, self._own.now(), self.patience
        self.clock.hold()
        if line is not None:
            began -= line.silent_s
            self._let_go_of(line)
        if not patience.waits():
            raise self._away()
        self._wait_for_it(began)
        gone_s = self._own.now() - began
        if self._boot != boot:
            if not patience.came_down():
                patience.guards, patience.restart = False, None
            raise MachineDownError(Failure.RESTARTED, signs=self._kept_of_it(gone_s))
        napped_s = self._own.slept_s() - self._slept_s
        if napped_s >= LONGEST_NAP_S:
            words_ = say(
                "this computer was suspended for {napped}, and heard nothing; the bench stayed up",
                napped=duration(napped_s),
            )
        elif self._agent_died:
            words_ = say("the agent on the bench was ended or died; the bench stayed up")
        else:
            words_ = say("the line to the bench was lost for {gone}; the bench stayed up", gone=duration(gone_s))
        raise MachineDownError(Failure.INTERRUPTED, words_)

    def _kept_of_it(self, gone_s: float) -> tuple[str, ...]:
        """Ask a bench that has come back what it kept of its crash; one that doesn't tell kept nothing."""
        if self._line is not None:
            with suppress(LineDeadError, NotUnderstoodError, KnownError):
                return _signs(self._line.ask("signs", ago_s=gone_s + AROUND_S))
        return ()

    def _let_go_of(self, line: Line) -> None:
        """Have no line any more, and know why."""
        self._line = self._row = None
        line.drop()
        self._is_away(self._why(line, LineDeadError()))

    def _wait_for_it(self, began: float) -> None:
        """Try to reach it again and again; raises KnownError once nobody waits any longer."""
        patience, asked = self.patience, False
        while True:
            gone_s = self._own.now() - began
            patience.tells(
                say("nothing is heard of {bench} for {gone}", bench=self._address.host, gone=duration(gone_s))
            )
            try:
                fresh = self._connect()
            except _AwayError as away:
                self._is_away(away)
                if not away.passes:
                    raise self._away() from away
            else:
                self._must_be_the_same(fresh)
                return
            if patience.restart is not None and not asked and gone_s >= patience.restart_after_s:
                asked = True
                patience.tells(patience.restart())
            if patience.gives_up() or gone_s > patience.within_s:
                raise self._away()
            self._own.wait(TRIES_EVERY_S)

    def _must_be_the_same(self, fresh: RigDeclaration) -> None:
        """See that the bench offers what it did; the record goes by that."""
        ours = self.declaration
        lacks = {knob.id for knob in ours.knobs} - {knob.id for knob in fresh.knobs}
        if lacks or [c.id for c in fresh.channels] != [c.id for c in ours.channels]:
            if self._line is not None:
                self._line.close()
                self._line = None
            self._is_away(
                _AwayError(say("it has come back with other sensors or knobs."), say("See what changed there."), False)
            )
            raise self._away()


def _signs(answer: Mapping[str, Any]) -> tuple[str, ...]:
    told = answer.get("signs")
    return tuple(words(each)[:300] for each in told[:20]) if isinstance(told, list) else ()


class _BenchRun:
    """A pass under way on a bench; its result comes after the samples that were taken before it."""

    def __init__(self, rig: BenchRig, number: int) -> None:
        self._rig, self.number = rig, number
        self.result: PassResult | None = None
        self._stopped = False

    def poll(self) -> PassResult | None:
        """Give the result once there is one."""
        return self.result

    def stop(self) -> None:
        """End it now; on a bench that is away its agent does so by itself."""
        if self._stopped:
            return
        self._stopped = True
        line = self._rig._line
        if line is not None:
            with suppress(LineDeadError, KnownError):
                line.ask("stop", SETS_WITHIN_S)


class _AwayError(Exception):
    """The bench can't be reached: why, what to do, and whether that may be over by itself."""

    def __init__(self, problem: str, remedy: str, passes: bool) -> None:
        super().__init__(problem)
        self.problem, self.remedy, self.passes = problem, remedy, passes
