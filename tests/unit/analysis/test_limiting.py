"""What holds a benchmark back is said with evidence, or not said."""

from __future__ import annotations

from dataclasses import replace

import pytest

from yondle.analysis.limiting import (
    ANSWERS,
    BUSY_PERCENT,
    DOES_NOT,
    FLAGGED_SHARE,
    HELD_SHARE,
    Answer,
    Bound,
    Evidence,
    Flag,
    what_limits,
)

CORE = Answer(Bound.PROCESSOR, "core clock", 0.9, 0.8, 1.0)
CORE_STILL = Answer(Bound.PROCESSOR, "core clock", 0.05, -0.05, 0.15)
MEMORY = Answer(Bound.MEMORY, "memory rate", 0.5, 0.4, 0.6)
WIDE = Answer(Bound.PROCESSOR, "core clock", 0.66, 0.17, 1.15)
"""More than memory, perhaps: it may as well be much less."""
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
        (Evidence("", (), 100.0, None, (WIDE, MEMORY)), Bound.MEMORY, "memory rate"),
    ],
)
def test_the_strongest_evidence_decides_and_is_told(seen: Evidence, bound: Bound, sign: str) -> None:
    found = what_limits(seen)
    assert found.bound is bound
    assert any(sign in words for words in found.signs)


MORE = "not told yet: measure more passes at both ends"
BUSY = ("processor 70 % in use",)


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
    assert what_limits(Evidence(answers=(WIDE,))).bound is Bound.UNTOLD
    assert "memory ratio" in what_limits(Evidence(answers=(CORE_STILL,), sweeps=sweeps)).words


@pytest.mark.parametrize(
    ("seen", "words", "signs"),
    [
        (Evidence("every pass at 60", (POWER,)), "its cap", ("every pass at 60",)),
        (
            Evidence("", (POWER, Flag("heat limit", FLAGGED_SHARE, None), Flag("current limit", 0.9, HELD_SHARE))),
            "power limit and heat limit",
            ("reached 80 % of the time, the clock held 70 % of what was asked", "reached 5 % of the time"),
        ),
        (Evidence("", (), 103.0, BUSY_PERCENT), "graphics", ("processor 100 % in use", "graphics 90 % in use")),
        (
            Evidence("", (), -2.0, BUSY_PERCENT, (MEMORY, CORE)),
            "the processor",
            ("0.90 % for each +1 % of core clock (0.80 to 1.00)", "processor 0 % in use", "graphics 90 % in use"),
        ),
        (
            Evidence("", (), None, 50.0, (replace(CORE, slope=ANSWERS), CORE_STILL)),
            "the processor",
            ("0.40 % for each +1 % of core clock (0.80 to 1.00)", "graphics 50 % in use"),
        ),
        (
            Evidence("", (), 70.0, 5.0, (CORE_STILL, MEMORY_STILL)),
            "neither clock nor memory",
            (
                "0.05 % for each +1 % of core clock (−0.05 to 0.15)",
                "0.00 % for each +1 % of memory rate (−0.10 to 0.10)",
                "processor 70 % in use",
                "graphics 5 % in use",
            ),
        ),
        (
            Evidence("", (), 70.0, None, (CORE_STILL, replace(MEMORY, slope=0.35))),
            "memory",
            ("0.35 % for each +1 % of memory rate (0.40 to 0.60)", "0.05 % for each +1 % of core clock (−0.05 to 0.15)"),
        ),
        (Evidence("", (), 70.0, None, (replace(CORE, low=0.0),)), MORE, BUSY),
        (Evidence("", (), 70.0, None, (replace(CORE_STILL, high=DOES_NOT), replace(MEMORY, slope=0.35))), MORE, BUSY),
        (Evidence("", (), 70.0, None, (CORE_STILL, replace(CORE_STILL, part=Bound.GRAPHICS, low=0.01))), MORE, BUSY),
        (Evidence("", (), 70.0), "can't be told: no clock or rate can be set here", BUSY),
        (Evidence("", (), 70.0, sweeps=((Bound.MEMORY, "rate"),)), "not told yet: sweep rate", BUSY),
    ],
)  # fmt: skip
def test_every_answer_has_its_words_and_all_of_its_signs(seen: Evidence, words: str, signs: tuple[str, ...]) -> None:
    found = what_limits(seen)
    assert found.words.startswith(words)
    assert tuple(sign.replace("\u202f", " ") for sign in found.signs) == signs
    assert (found.bound is Bound.UNTOLD) == ("told" in words)
