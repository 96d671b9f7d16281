"""What holds a benchmark back is said with evidence, or not said."""

from __future__ import annotations

import pytest

from yondle.analysis.limiting import Answer, Bound, Evidence, Flag, what_limits

CORE = Answer(Bound.PROCESSOR, "core clock", 0.9, 0.8, 1.0)
CORE_STILL = Answer(Bound.PROCESSOR, "core clock", 0.05, -0.05, 0.15)
MEMORY = Answer(Bound.MEMORY, "memory rate", 0.5, 0.4, 0.6)
MEMORY_STILL = Answer(Bound.MEMORY, "memory rate", 0.0, -0.1, 0.1)
POWER = Flag("power limit", 0.8, 0.7)


@pytest.mark.parametrize(
    ("seen", "bound", "sign"),
    [
        (Evidence("every pass at 60", (POWER,), 100.0, 99.0, (CORE,)), Bound.CAP, "every pass at 60"),
        (Evidence("", (POWER,), 100.0, 0.0, (CORE,)), Bound.LIMIT, "80\u202f% of the time"),
        (Evidence("", (Flag("heat limit", 0.02, 0.9),), 100.0, 0.0, (CORE,)), Bound.PROCESSOR, "core clock"),
        (Evidence("", (Flag("power limit", 0.9, 1.0),), 100.0, 0.0, (CORE,)), Bound.PROCESSOR, "core clock"),
        (Evidence("", (), 100.0, 97.0, (CORE_STILL,)), Bound.GRAPHICS, "graphics 97"),
        (Evidence("", (), 100.0, 20.0, (CORE_STILL, MEMORY)), Bound.MEMORY, "memory rate"),
        (Evidence("", (), 100.0, None, (CORE_STILL, MEMORY_STILL)), Bound.ELSEWHERE, "core clock"),
    ],
)
def test_the_strongest_evidence_decides_and_is_told(seen: Evidence, bound: Bound, sign: str) -> None:
    found = what_limits(seen)
    assert found.bound is bound
    assert any(sign in words for words in found.signs)


def test_without_evidence_it_says_what_would_tell() -> None:
    sweeps = ((Bound.PROCESSOR, "core ratio"), (Bound.MEMORY, "memory ratio"))
    nothing = what_limits(Evidence(sweeps=sweeps))
    assert nothing.bound is Bound.UNTOLD
    assert nothing.words == "not told yet: sweep core ratio and memory ratio", (
        "the knobs of this rig, whatever they are"
    )
    assert what_limits(Evidence(sweeps=sweeps[:1])).words == "not told yet: sweep core ratio"
    assert what_limits(Evidence()).words == "can't be told: no clock or rate can be set here"
    assert nothing.signs == ()
    assert "memory ratio" in what_limits(Evidence(answers=(CORE_STILL,), sweeps=sweeps)).words
