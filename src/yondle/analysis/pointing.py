"""Which part of the machine a failure points to, and each sign of it in words.

Every sign counts for one subsystem with a weight; the heaviest sum wins, a tie names nothing. The weights put what the
machine itself says (a code, counted errors) above what merely went along with the failure.
"""

from __future__ import annotations

from yondle.analysis.judging import Trial, errors_by_channel, sag
from yondle.language.saying import say
from yondle.model.knobs import Subsystem
from yondle.model.quantities import count, number, quantity
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Quantity
from yondle.model.verdicts import MACHINE_FAILURES, Failure, Outcome, Pointer

SAID, COUNTED, CHANGED, LOADED, HINTED = 4.0, 3.0, 1.5, 1.0, 0.5
DROOP_SHARE = 0.04
"""A voltage this far below what was asked is worth telling."""

_OF_CONTROLLER = ("controller_voltage", "controller_ratio")
"""Roles of knobs that set the memory controller, whatever part they count to."""

Sign = tuple[Subsystem, float, str]


def point(declaration: RigDeclaration, trial: Trial, outcome: Outcome) -> Pointer:
    """Weigh the signs of a failure; the subsystem is empty when they don't agree on one."""
    if outcome.failure in (Failure.REFUSED, Failure.NOT_IN_FORCE, Failure.CEILING, Failure.CLOCK_NOT_HELD):
        return Pointer()
    signs = [
        *_code_signs(declaration, outcome),
        *_counted_signs(declaration, trial),
        *_change_signs(declaration, trial),
        *_load_signs(declaration, trial, outcome),
        *_voltage_signs(declaration, trial),
    ]
    weights: dict[Subsystem, float] = {}
    for subsystem, weight, _ in signs:
        weights[subsystem] = weights.get(subsystem, 0.0) + weight
    fallen = sag(declaration, trial.passes)
    sagged = (
        (say("scores fell by {fall} % from pass to pass before", fall=number(100 * fallen.fall, 1)),) if fallen else ()
    )
    ranked = sorted(weights.items(), key=lambda pair: -pair[1])
    if not ranked or (len(ranked) > 1 and ranked[0][1] == ranked[1][1]):
        return Pointer("", (*(words for _, _, words in signs), *sagged))
    first = ranked[0][0]
    return Pointer(str(first), (*(words for subsystem, _, words in signs if subsystem is first), *sagged))


def _code_signs(declaration: RigDeclaration, outcome: Outcome) -> list[Sign]:
    meaning = declaration.codes.get(outcome.code)
    return (
        [(meaning[0], SAID, say("the board shows {code}: {meaning}", code=outcome.code, meaning=meaning[1]))]
        if meaning is not None
        else []
    )


def _counted_signs(declaration: RigDeclaration, trial: Trial) -> list[Sign]:
    counted = errors_by_channel(declaration, trial.passes)
    return [
        (
            c.subsystem,
            COUNTED,
            say("{errors} corrected in the {subsystem}", errors=count(round(n), "error"), subsystem=c.subsystem),
        )
        for c, n in counted.items()
    ]


def _change_signs(declaration: RigDeclaration, trial: Trial) -> list[Sign]:
    changed = {declaration.knob(c.knob).subsystem for c in trial.changes}
    if len(changed) != 1:
        return []
    only = changed.pop()
    if only in (Subsystem.COOLING, Subsystem.WHOLE):
        return []
    signs: list[Sign] = [(only, CHANGED, say("only the {only} was changed", only=only))]
    if any(declaration.knob(c.knob).plays in _OF_CONTROLLER for c in trial.changes):
        signs.append((Subsystem.CONTROLLER, CHANGED + HINTED, say("what was changed belongs to the memory controller")))
    return signs


def _load_signs(declaration: RigDeclaration, trial: Trial, outcome: Outcome) -> list[Sign]:
    failed = next((p for p in reversed(trial.passes) if p.result is not None and not p.result.ok), None)
    if failed is None:
        return []
    work = declaration.workload(failed.workload)
    signs: list[Sign] = [
        (
            work.subsystem,
            LOADED,
            say("it failed in {work}, which works the {subsystem} hardest", work=work.name, subsystem=work.subsystem),
        )
    ]
    silent = not any(c.subsystem is Subsystem.MEMORY for c in errors_by_channel(declaration, trial.passes))
    counts = any(
        c.quantity is Quantity.ERRORS and c.subsystem is Subsystem.MEMORY for c in declaration.channels
    )  # fmt: skip
    touched = any(declaration.knob(c.knob).subsystem is Subsystem.MEMORY for c in trial.changes)
    if touched and silent and counts and outcome.failure in MACHINE_FAILURES:
        words = say("the machine went down and no memory error was counted before, as when the controller gives up")
        signs.append((Subsystem.CONTROLLER, COUNTED, words))
    return signs


def _voltage_signs(declaration: RigDeclaration, trial: Trial) -> list[Sign]:
    """A voltage that sags under load speaks for the part it feeds."""
    followed = (c for c in declaration.channels if c.quantity is Quantity.VOLTAGE and c.follows in trial.setup)
    channel = next((c for c in followed if c.subsystem is Subsystem.PROCESSOR), None)
    if channel is None:
        return []
    asked = trial.setup[channel.follows]
    least = [p.result.measured.least for p in trial.passes if p.result is not None]
    lows = [readings[channel.id] for readings in least if channel.id in readings]
    if not lows or min(lows) > asked * (1.0 - DROOP_SHARE):
        return []
    low, full = quantity(min(lows), channel.unit, channel.digits), quantity(asked, channel.unit, channel.digits)
    return [
        (
            Subsystem.PROCESSOR,
            HINTED,
            say("{channel} fell to {low} of {full} under load", channel=channel.name, low=low, full=full),
        )
    ]
