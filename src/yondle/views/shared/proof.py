"""What settings are proved by: the load they stood, and the edges that searches found, in figures and words."""

from __future__ import annotations

import math
from dataclasses import dataclass

from yondle.analysis.stability import HOUR_S, PER_HOUR, STANDARD_WORDS, Standard, most_per_hour
from yondle.formats.documents import KeptOverRestarts
from yondle.language.saying import named, say, together
from yondle.model.findings import Finding
from yondle.model.knobs import Setup
from yondle.model.quantities import chance, count, duration, quantity
from yondle.model.steps import StepRecord
from yondle.views.shared.snapshot import Snapshot

DAY_S = 24 * HOUR_S
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


@dataclass(frozen=True, slots=True)
class LivedProof:
    """All that some settings lived through while they were kept over restarts: seconds awake and under load, and what happened.

    `every_s` is the shortest mean time under load between failures that isn't excluded with 95 %; 0 without any load.
    """

    since: str
    awake_s: float
    load_s: float
    failures: int
    errors: float
    throttled: float
    every_s: float


def lived_through(book: Snapshot, setup: Setup) -> LivedProof | None:
    """Sum up what some settings lived through while they were kept over restarts; None where they never were."""
    document = book.kept.of(KeptOverRestarts)
    steps = {record.step.number for record in book.same_settings(setup)} if document.lived else set()
    mine = [each for each in document.lived if each.step in steps]
    if not mine:
        return None
    load_s, failures = sum(each.load_s for each in mine), sum(each.failures for each in mine)
    every_s = HOUR_S / most_per_hour(failures, load_s) if load_s > 0.0 else 0.0
    awake_s, errors, throttled = (sum(getattr(each, of) for each in mine) for of in ("awake_s", "errors", "throttled"))
    return LivedProof(mine[0].began, awake_s, load_s, failures, errors, throttled, every_s)


def lived_words(proof: LivedProof) -> str:
    """Write what settings lived through: '21 days awake, 63 h under load, none failed; at most 1 failure in 21 h (95 %)'."""
    words = say(
        "{awake} awake, {load} under load, {how}",
        awake=long_time(proof.awake_s),
        load=duration(_rounded(proof.load_s)),
        how=count(proof.failures, "failure") if proof.failures else say("none failed"),
    )
    if proof.every_s >= LEAST_PROVEN_S:
        every = duration(_rounded(proof.every_s))
        words = say("{words}; at most 1 failure in {every} of load (95\u202f%)", words=words, every=every)
    if proof.errors:
        errors = count(round(proof.errors), "error corrected", "errors corrected")
        words = say("{words}; {errors}", words=words, errors=errors)
    if proof.throttled:
        words = say("{words}; throttled {times}", words=words, times=count(round(proof.throttled), "time"))
    return words


def long_time(seconds: float) -> str:
    """Write a time in days where it is two or more."""
    return count(round(seconds / DAY_S), "day") if seconds >= 2 * DAY_S else duration(_rounded(seconds))


def _rounded(seconds: float) -> float:
    """Round what is longer than half a day to hours."""
    return round(seconds / HOUR_S) * HOUR_S if seconds >= DAY_S / 2 else seconds


def standard_held(book: Snapshot, record: StepRecord) -> Standard | None:
    """Give the strictest standard a step met: by a search that left the rig there, or by load alone, with 95 %; else None."""
    searched = [Standard(found.standard) for found in book.findings if found.step == record.step.number]
    loaded = [
        standard
        for standard, per_hour in PER_HOUR.items()
        if any(proof.failures == 0 and proof.every_s >= HOUR_S / per_hour for proof in proofs(book, record.step.setup))
    ]
    return min((*searched, *loaded), key=lambda standard: PER_HOUR[standard], default=None)


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
