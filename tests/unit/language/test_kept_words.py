"""Words that are kept are said again in the language of whoever reads them, and hostile ones ask for nothing."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from datetime import datetime

import pytest

from yondle.language.saying import capital, clause, in_sentence, kept, listed, named, said_again, say, several
from yondle.model.quantities import count, date, duration, moment, number, quantity, ranged, signed_percent
from yondle.model.verdicts import Failure, Verdict

DAY = datetime(2026, 10, 18, 1, 12, 3)  # noqa: DTZ001
MADE = (
    say("Ran through, but errors had to be corrected: {counted}.", counted=listed([count(3, "pass", "passes")])),
    say("{channel} not held: {held} of {asked} in {load}.", channel=named("Core clock"), held=number(4311.25, 1),
        asked=quantity(4400.0, "MHz"), load="Stacking"),
    say("{failure} {when} of {name}.", failure=capital(named(Failure.FROZE)), when=duration(72.4), name=Verdict.HELD),
    listed([date(DAY), moment(DAY), signed_percent(0.031), ranged(66.5, 66.1, 66.9, "s")], " and "),
    clause(say("Nothing is proposed.")),
    several(2, "{n} step", "{n} steps"),
    in_sentence("Core clock"),
)  # fmt: skip


@pytest.mark.parametrize("words", MADE)
def test_words_that_were_kept_are_said_again_the_same(words: str) -> None:
    assert said_again(kept(words)) == str(words)
    assert kept(said_again(kept(words))) == kept(words), "they know what they were made of again"


def test_another_reader_has_them_in_his_own_language_with_his_own_decimal_mark() -> None:
    words = say("Ran through, but scores fell by {fall} % over {passes} passes, often the last warning before a crash.",
                fall=number(3.25, 1), passes=5)  # fmt: skip
    reads = "import sys, yondle.model.quantities; from yondle.language.saying import said_again; print(said_again(sys.argv[1]))"
    environment = {**os.environ, "YONDLE_LANGUAGE": "de"}
    ran = subprocess.run(
        [sys.executable, "-c", reads, kept(words)], env=environment, capture_output=True, text=True, check=True
    )
    assert ran.stdout.startswith("Lief durch, aber die Scores fielen über 5 Messungen um 3,2 %")


def test_plain_words_stay_as_they_are_also_such_as_look_like_kept_ones() -> None:
    for words in ("", "held back by the weather", '["a", "list"]', "{}", kept("no recipe")):
        assert said_again(words) == words


@pytest.mark.parametrize(
    "recipe",
    [
        ["say", ["{x:99999999d}"], {"x": 1}],
        ["say", [], {}],
        ["eval", ["1"], {}],
        ["number", ["a"], {}],
        ["number", [1.0, 10**9], {}],
        ["listed", [3], {}],
        ["at", ["yesterday"], {}],
        ["counted", [1], {}],
        ["say", ["{x.__class__}"], {"x": 1}],
        [],
    ],
)
def test_a_recipe_that_can_not_be_followed_leaves_the_words_as_they_were_written(recipe: list[object]) -> None:
    mark = json.loads(kept(say("Nothing is proposed.")))[0]
    found = said_again(json.dumps([mark, "as written", *recipe], ensure_ascii=False))
    assert found in ("as written", f"1.{'0' * 15}")


def test_recipes_inside_recipes_without_end_are_left_alone() -> None:
    mark = json.loads(kept(say("Nothing is proposed.")))[0]
    deep = f'["clause", [{{"{mark}": ' * 4000 + '["clause", ["x"], {}]' + "}], {}]" * 4000
    assert said_again(f'["{mark}", "as written", {deep[1:-1]}]') == "as written"
