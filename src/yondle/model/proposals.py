"""What is proposed: knob values on top of the settings in force, and what a proposal may not be."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.knobs import Change, Knob, Setup
from yondle.model.rigs import RigDeclaration


@dataclass(frozen=True, slots=True)
class Proposal:
    """What is proposed on top of the setup in force: knob values, and whether two at once were asked for."""

    changes: tuple[Change, ...]
    joint: bool

    def value(self, knob: str) -> float | None:
        """Give the proposed value of a knob, None when it stays."""
        return next((c.new for c in self.changes if c.knob == knob), None)


def proposed_with(
    declaration: RigDeclaration, before: Proposal | None, in_force: Setup, knob_id: str, value: float, joint: bool
) -> Proposal | None:
    """Give the proposal with a knob at a value; the value in force takes the knob out of it, and None is nothing left.

    A second knob needs `joint`. Raises KnownError for a value the knob doesn't take or outside the tuner's own range.
    """
    knob = declaration.settable(knob_id)
    taken = knob.checked(value)
    must_be_allowed(declaration, knob, taken)
    others = tuple(c for c in before.changes if c.knob != knob_id) if before else ()
    joint = joint or (before is not None and before.joint)
    if others and not joint:
        named = declaration.knob(others[0].knob)
        raise KnownError(
            say(
                "{named} {new} is already proposed; one step changes one knob.",
                named=named.name,
                new=named.text(others[0].new),
            ),
            say(
                "Test that one first, drop it, or make it a joint step (then no gain is credited to either knob alone)."
            ),
        )
    own = (Change(knob_id, in_force[knob_id], taken),) if taken != in_force[knob_id] else ()
    changes = tuple(sorted(others + own, key=lambda c: c.knob))
    return Proposal(changes, joint and len(changes) > 1) if changes else None


def must_be_allowed(declaration: RigDeclaration, knob: Knob, value: float) -> None:
    """Raise KnownError for a value outside the range this tuner stands for."""
    beyond = declaration.beyond(knob, value)
    if beyond:
        raise KnownError(f"{beyond}.", say("Change the limit first if you mean it."))
