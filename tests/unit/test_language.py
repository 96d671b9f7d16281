"""The catalogues are complete and fit the sentences, the surroundings choose the language, and machines read the same in each."""

from __future__ import annotations

import ast
import copy
import json
import os
import subprocess
import sys
from collections.abc import Iterator, Sequence
from pathlib import Path

import pytest
from tests.conftest import quick_rig
from tools.texts import SOURCE, compiled, path_of, placeholders, read, renewed, texts

from yondle.app.machine.machines import RigChoice
from yondle.app.session.opening import create_logbook
from yondle.app.session.testing import RunBaseline
from yondle.language.saying import LANGUAGE, chosen, in_sentence, languages, say
from yondle.model.quantities import count

OTHERS = languages()[1:]


def both(told: str | Sequence[str] | None) -> tuple[str, ...]:
    return (told,) if isinstance(told, str) else tuple(told)


@pytest.mark.parametrize("language", OTHERS)
def test_every_text_of_the_program_is_translated(language: str) -> None:
    written, wanted = read(language), renewed(language)
    assert {m.id for m in wanted} == {m.id for m in written}, "run `make texts`"
    assert [m.id for m in wanted if m.id and not all(both(m.string))] == []


@pytest.mark.parametrize("language", OTHERS)
def test_a_translation_names_the_parts_its_sentence_has_and_keeps_its_edges(language: str) -> None:
    for message in read(language):
        if not message.id:
            continue
        for ours, theirs in zip(both(message.id), both(message.string), strict=True):
            assert placeholders(ours) == placeholders(theirs), theirs
            assert ours.endswith(" ") == theirs.endswith(" "), theirs
            assert ours.count("\n") == theirs.count("\n"), theirs


@pytest.mark.parametrize("language", OTHERS)
def test_what_the_program_reads_was_compiled_from_what_people_write(language: str) -> None:
    assert path_of(language, "mo").read_bytes() == compiled(read(language)), "run `make texts`"


def test_texts_are_gathered_from_code_enumerations_rig_files_and_help() -> None:
    gathered = {(t.words, t.plural) for t in texts()}
    for words, plural in (
        ("There is no step {number}.", ""),
        ("went down", ""),
        ("pass", "passes"),
        ("{names} runs into a cap.", "{names} run into a cap."),
        ("Star match", ""),
        ("graphics driver", ""),
        ("Put every knob at stock.", ""),
    ):
        assert (words, plural) in gathered, words


@pytest.mark.parametrize(
    ("surroundings", "language"),
    [
        ({}, "en"),
        ({"LANG": "de_DE.UTF-8"}, "de"),
        ({"LANG": "de_AT@euro", "LC_MESSAGES": "en_GB.UTF-8"}, "en"),
        ({"LANG": "en_US.UTF-8", "LANGUAGE": "fr:de:en"}, "de"),
        ({"LANG": "de_DE.UTF-8", "LC_ALL": "C"}, "en"),
        ({"LANG": "de_DE.UTF-8", "YONDLE_LANGUAGE": "en"}, "en"),
        ({"LANG": "en_US.UTF-8", "YONDLE_LANGUAGE": "de"}, "de"),
        ({"YONDLE_LANGUAGE": "xx"}, "en"),
    ],
)
def test_the_surroundings_choose_the_language(surroundings: dict[str, str], language: str) -> None:
    assert chosen(surroundings) == language
    assert LANGUAGE == "en"


def test_a_count_is_copied_and_kept_as_any_text() -> None:
    counted = count(2, "pass", "passes")
    assert copy.deepcopy(counted) == "2 passes"
    assert json.loads(json.dumps({"told": counted})) == {"told": "2 passes"}
    assert say("{passes} of 3", passes=copy.copy(counted)) == "2 passes of 3"


def in_german(*command: str) -> str:
    done = subprocess.run(
        [sys.executable, *command], env={**os.environ, "YONDLE_LANGUAGE": "de"}, capture_output=True, text=True
    )
    return done.stdout + done.stderr


def test_german_writes_figures_nouns_and_cases_its_own_way() -> None:
    script = """if True:
        from datetime import datetime
        from yondle.app.machine.typed import figure
        from yondle.language.saying import in_sentence, say, several
        from yondle.model.quantities import count, date, duration, number
        from yondle.model.verdicts import Verdict
        steps = count(3, "step")
        print(number(-1234.56, 1), duration(0.25), count(1, "pass", "passes"), count(2, "pass", "passes"), sep="|")
        print(say("{tests} of {steps}, {when}. Made by Yondle {version}.", tests="5 Tests", steps=steps, when="", version=1))
        print(in_sentence("Kerntakt"), say("Step {number}: {verdict}", number=4, verdict=Verdict.DOWN), sep="|")
        print(say("{price:g} is no price.", price=1.5), date(datetime(2026, 3, 1)), steps, sep="|")
        print(several(2, "{names} runs into a cap.", "{names} run into a cap.", names="A und B"))
        print(figure("61,5"), figure("61.5"))
    """
    assert in_german("-c", script).splitlines() == [
        "−1\u202f234,6|0,2\u202fs|1 Messung|2 Messungen",
        "5 Tests von 3 Schritten, . Erstellt mit Yondle 1.",
        "Kerntakt|Schritt 4: abgestürzt",
        "1,5 ist kein Preis.|1. März 2026|3 Schritte",
        "A und B stoßen an einen Deckel.",
        "61.5 61.5",
    ]


def test_what_machines_read_is_the_same_in_every_language(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    book = tmp_path / "book.yondle"
    session = create_logbook(book, RigChoice("simulated", "Heron", quick_rig()))
    session.do(RunBaseline(2))
    session.close()
    run = ("-m", "yondle.main")
    exported = in_german(*run, "export", str(book))
    from yondle.main import run as here

    assert here(["export", str(book)]) == 0
    assert capsys.readouterr().out == exported
    assert here(["status", str(book), "--json"]) == 0
    ours, theirs = json.loads(capsys.readouterr().out), json.loads(in_german(*run, "status", str(book), "--json"))
    assert ours["steps"][0]["verdict"] == theirs["steps"][0]["verdict"] == "held"
    assert ours["steps"][0]["scores"] == theirs["steps"][0]["scores"]
    assert "Grundmessung" in in_german(*run, "status", str(book))
    assert "Kerntakt: 4\u202f712 MHz" in in_german(*run, "step", str(book), "core_clock=4712").replace(
        "\u202fMHz", " MHz"
    )


def test_help_and_errors_of_the_command_line_are_german() -> None:
    run = ("-m", "yondle.main")
    told = in_german(*run, "watch", "--help")
    assert "Einem Test zusehen, den ein anderes Yondle ausführt" in told
    assert "Optionen:" in told
    assert "Es gibt kein Logbuch" in in_german(*run, "status", "/nowhere/book.yondle")


def _at_import(body: list[ast.stmt]) -> Iterator[ast.Call]:
    """Give the calls that are made while a module is read: all but those inside functions."""
    waiting: list[ast.AST] = list(body)
    while waiting:
        node = waiting.pop()
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef | ast.Lambda):
            outside = getattr(node, "decorator_list", [])
            waiting += [*outside, *node.args.defaults, *filter(None, node.args.kw_defaults)]
            continue
        if isinstance(node, ast.Call):
            yield node
        waiting += ast.iter_child_nodes(node)


def test_no_sentence_is_looked_up_before_it_is_shown() -> None:
    """A table of words holds them as `later`; a language chosen after a module was read would be missed otherwise."""
    early = [
        f"{path.relative_to(SOURCE)}:{call.lineno}"
        for path in sorted(SOURCE.rglob("*.py"))
        for call in _at_import(ast.parse(path.read_text("utf-8")).body)
        if isinstance(call.func, ast.Name) and call.func.id in ("say", "named", "count")
    ]
    assert not early


def test_a_name_inside_a_sentence_keeps_the_capitals_it_is_written_with() -> None:
    names = {
        "Core clock": "core clock",
        "CAS latency": "CAS latency",
        "tRCD": "tRCD",
        "Preview, 1 % low": "preview, 1 % low",
    }
    assert {name: str(in_sentence(name)) for name in names} == names
