"""Why a way is worth going, and why a move is made, in a sentence with its evidence."""

from __future__ import annotations

import math

from yondle.analysis.hold import Scale
from yondle.language.saying import in_sentence, say
from yondle.model.knobs import Knob, Setup
from yondle.model.quantities import signed_percent
from yondle.planning.goals.goal import Kind
from yondle.planning.goals.ground import Ground

UPPER = 1.96
_LEAST_WATTS, _LEAST_GAIN = 0.005, 0.002


def reason(ground: Ground, here: Setup, there: Setup, knob: Knob, to_its_edge: bool) -> str:
    """Say why one knob is worth moving, with what that rests on."""
    what = goal_words(ground)
    if ground.features.logs(knob) and knob.proportional:
        slope = signed_percent(0.01 * ground.elasticity(knob)[0], 2)
        if not to_its_edge or not ground.goal.loads:
            return say("{what} gains {slope} for each 1\u202f% of it.", what=what, slope=slope)
        scale, believed = Scale(knob), ground.edges.believed(knob, here, 0)
        low, high = sorted(scale.place(believed.edge + sign * UPPER * believed.edge_spread) for sign in (-1.0, 1.0))
        return say(
            "{what} gains {slope} for each 1\u202f% of it; the edge of the worst load is expected between {low} and {high}.",
            what=what,
            slope=slope,
            low=knob.bare(knob.nearest(low)),
            high=knob.text(knob.nearest(high)),
        )
    gain, spread = ground.gain(there, here)
    if knob.id in ground.measured:
        return say(
            "Measured here: {what} {gain} between the two values, ± {margin}.",
            what=what,
            gain=signed_percent(math.expm1(gain), 1),
            margin=signed_percent(UPPER * spread, 1).lstrip("+"),
        )
    if ground.goal.kind in (Kind.QUIET, Kind.COOL, Kind.TRADE):
        return say("It serves the goal by itself, and what it costs in score is within what you allowed.")
    return (
        say("A limit holds the machine back where it is; this gives it room.")
        if knob.governs
        else say("Expected of a knob of its kind; it isn't measured here yet.")
    )


def pair_reason(ground: Ground, here: Setup, there: Setup, enabler: Knob, follower: Knob) -> str:
    """Say what an enabler is worth: the shift of the edge, times what the follower brings."""
    slope, what = signed_percent(0.01 * ground.elasticity(follower)[0], 2), goal_words(ground)
    moved = moves_edge(ground, here, enabler, there[enabler.id], follower, begins=True)
    if not moved:
        return say(
            "{enabler} gives {follower} room under a limit that would hold it back; {what} gains {slope} for each 1\u202f%.",
            enabler=enabler.name,
            follower=in_sentence(follower.name),
            what=what,
            slope=slope,
        )
    return say("{moved}; {what} gains {slope} for each 1\u202f% of that.", moved=moved, what=what, slope=slope)


def moves_edge(ground: Ground, here: Setup, enabler: Knob, value: float, follower: Knob, begins: bool = False) -> str:
    """Say by how much an enabler moves the edge of a follower up, as a sentence without its end; nothing where it hardly does.

    It `begins` a sentence, or stands within one.
    """
    by, spread = ground.edges.shift(follower, here, here.with_values({enabler.id: value}))
    notch = follower.step * Scale(follower).stride
    if by < 0.5 or enabler.choices:
        return ""
    delta = value - here[enabler.id]
    return say(
        "{enabler} {by} moves the edge of {follower} by about {moved} (± {margin})",
        enabler=enabler.name if begins else in_sentence(enabler.name),
        by=("+" if delta > 0 else "\N{MINUS SIGN}") + enabler.text(abs(delta)),
        follower=in_sentence(follower.name),
        moved=follower.text(notch * round(by)),
        margin=follower.bare(notch * max(1, round(UPPER * spread))),
    )


def why_on_the_way(ground: Ground, home: Setup, knob: Knob, value: float) -> str:
    """Say what a value on the way of a climb is for."""
    there, named_so, text = home.with_values({knob.id: value}), in_sentence(knob.name), knob.text(value)
    for follower in ground.followers:
        moved = moves_edge(ground, home, knob, value, follower) if follower.id != knob.id else ""
        if moved:
            return say("{knob} {value}: {moved}", knob=named_so, value=text, moved=moved)
    gain, spread = ground.gain(there, home)
    watts = (ground.outlook(there).watts or 0.0) - (ground.outlook(home).watts or 0.0)
    if ground.goal.kind is Kind.TRADE and abs(watts) > _LEAST_WATTS:
        return say(
            "{knob} {value}: {gain} of the score for {watts} of the power",
            knob=named_so,
            value=text,
            gain=signed_percent(math.expm1(gain), 1),
            watts=signed_percent(math.expm1(watts), 1),
        )
    if ground.goal.kind is Kind.SCORE and abs(gain) > max(_LEAST_GAIN, spread):
        return say(
            "{knob} {value}: expected to bring {gain}",
            knob=named_so,
            value=text,
            gain=signed_percent(math.expm1(gain), 1),
        )
    if knob.governs:
        return say("{knob} {value}: room for what comes next", knob=named_so, value=text)
    return say("{knob} {value}: it serves the goal", knob=named_so, value=text)


def goal_words(ground: Ground) -> str:
    """Name what the goal counts, as the subject of a sentence."""
    names = [ground.declaration.workload(name).name for name, _ in ground.goal.benchmarks]
    return names[0] if len(names) == 1 else say("the mean of {n} benchmarks", n=len(names))
