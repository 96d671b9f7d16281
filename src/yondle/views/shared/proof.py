"""What settings are proved by: the load they stood, and the edges that searches found, in figures and words."""

from __future__ import annotations

import math
from dataclasses import dataclass

from yondle.analysis.stability import HOUR_S, STANDARD_WORDS, Standard, most_per_hour
from yondle.language.saying import named, say, together
from yondle.model.findings import Finding
from yondle.model.knobs import Setup
from yondle.model.quantities import chance, count, duration, quantity
from yondle.views.shared.snapshot import Snapshot

TOLD_WARMER_K = 0.5
LEAST_PROVEN_S = 60.0
"""Less load than this proves nothing worth a line."""


@dataclass(frozen=True, slots=True)
class LoadProof:
    """All load of one kind that some settings stood: its name, seconds, the runs that failed, and what that proves.

    `every_s` is the shortest mean time between failures that isn't excluded with 95 %.
    """

    load: str
    seconds: float
    failures: int
    every_s: float


def proofs(book: Snapshot, setup: Setup) -> list[LoadProof]:
    """Sum up the load on some settings, over all steps that have them; the longest first."""
    from yondle.analysis.exposure import runs_of

    records = book.same_settings(setup)
    knob = next(iter(setup), "")
    summed: dict[str, tuple[float, int]] = {}
    for run in runs_of(records, knob, {}) if knob else ():
        seconds, failures = summed.get(run.load, (0.0, 0))
        summed[run.load] = (seconds + run.seconds, failures + run.failures)
    loads = {w.id: w for w in book.declaration.workloads if not w.scored or w.id == book.declaration.hard_load}
    made = [
        LoadProof(loads[load].name, seconds, failures, HOUR_S / most_per_hour(failures, seconds))
        for load, (seconds, failures) in summed.items()
        if load in loads and seconds >= LEAST_PROVEN_S
    ]
    return sorted(made, key=lambda proof: -proof.seconds)


def proof_words(proof: LoadProof) -> str:
    """Write what a load proves."""
    how = count(proof.failures, "failure") if proof.failures else say("none failed")
    return say(
        "{lasted}, {how}; proves under 1 failure in {every_s}",
        lasted=duration(proof.seconds),
        how=how,
        every_s=duration(proof.every_s),
    )


def recommended_words(found: Finding) -> str:
    """Write how sure it is that the value a search left a step at meets its standard."""
    standard = named(STANDARD_WORDS[Standard(found.standard)])
    return say("fails {standard} with {sure}", standard=standard, sure=chance(found.sure_there))


def finding_words(book: Snapshot, found: Finding) -> str:
    """Say what a search found, in a sentence; knobs and loads that are gone are told by their ids."""
    declaration = book.declaration
    knob = next((k for k in declaration.knobs if k.id == found.knob), None)
    names = {w.id: w.name for w in declaration.workloads}
    loads = together(names.get(load, load) for load in found.loads)

    def text(value: float) -> str:
        return knob.text(value) if knob is not None else f"{value:g}"

    words = say(
        "{knob} {value}: expected to fail {standard} of {loads} with {sure} probability, estimated under the model.",
        knob=knob.name if knob is not None else found.knob,
        value=text(found.left_at),
        standard=named(STANDARD_WORDS[Standard(found.standard)]),
        loads=loads,
        sure=chance(found.sure_there),
    )
    if found.along:
        other = next((k for k in declaration.knobs if k.id == found.along), None)
        at = f"{other.name} {other.text(found.at)}" if other is not None else f"{found.along} {found.at:g}"
        words = say("At {at}: {words}", at=at, words=words)
    low, high = found.edge
    if math.isfinite(low) and math.isfinite(high):
        words += say(" The edge lies between {low} and {high} (95\u202f%).", low=text(low), high=text(high))
    room = room_words(found.room_c, found.warmer_k)
    return f"{words} {room}" if room else words


def room_words(room_c: float | None, warmer_k: float) -> str:
    """Say how warm a room a recommendation holds for; nothing where nobody told how warm it was."""
    if room_c is None:
        return ""
    room = quantity(room_c, "°C", 1)
    if warmer_k < TOLD_WARMER_K:
        return say("Holds for a room of {room}.", room=room)
    return say(
        "Holds for a room of {room}, {kelvin} warmer than in its tests.", room=room, kelvin=quantity(warmer_k, "K", 1)
    )


def rests_on(runs: int, known: int, failures: int, held_back: int, loaded_s: float) -> str:
    """Say in a sentence what a search rests on."""
    words = say("{runs}, {loaded} under load", runs=count(runs, "run"), loaded=duration(loaded_s))
    if known:
        words = say("{words}, {known} of them from before", words=words, known=known)
    ends = [count(failures, "failure")] if failures else []
    ends += [say("{held_back} held back", held_back=held_back)] if held_back else []
    return say("{words}; {ends}.", words=words, ends=", ".join(ends) or say("none failed"))
