"""Gathers every text the user reads, brings the catalogues up to date with them and compiles them; `make texts`.

A text stands in the code where it is used, in `say`, `named`, `later` or `count`; besides those, the help of the commands, the
words of enumerations that are shown and the names in the shipped rig files are looked up when they are shown.
"""

from __future__ import annotations

import ast
import inspect
import os
import re
import sys
import tomllib
from collections.abc import Iterator
from dataclasses import dataclass
from io import BytesIO
from pathlib import Path
from string import Formatter
from typing import Any

os.environ["YONDLE_LANGUAGE"] = "en"

import typer.main
from babel.messages.catalog import Catalog
from babel.messages.mofile import write_mo
from babel.messages.pofile import read_po, write_po

from yondle import __version__
from yondle.cli.commands import build
from yondle.language.saying import CATALOGUES, CONDITION, DOMAIN

SOURCE = Path(__file__).parent.parent / "src" / "yondle"
MANUAL = Path(__file__).parent / "manpage.py"
APART = Path("rigs/linux/root")
"""The helper: it runs as root by itself, and answers in English."""
SAYING = frozenset({"say", "named", "later"})
NEVER_SHOWN = frozenset({"Trigger", "Risk", "Dropped"})
"""Enumerations whose words no user meets."""
HEAD = "# What Yondle says in another language. `make texts` brings this file up to date and compiles it."
ONLY_IN_A_LANGUAGE = frozenset({"dative", "genitive", "accusative", CONDITION})
"""Contexts a language may add: other forms of a noun that is counted, and words that are others there (`named`)."""


@dataclass(frozen=True, slots=True, order=True)
class Text:
    """One text to translate: its place as file and line, and its plural where it is a noun that is counted."""

    words: str
    plural: str
    place: str
    line: int


def texts() -> list[Text]:
    """Gather every text, in the order of the code."""
    found = [text for path in _code() for text in _in_code(path)]
    found += [text for path in sorted(SOURCE.glob("rigs/simulated/shipped/*.toml")) for text in _in_rig_file(path)]
    found += _in_help(typer.main.get_command(build(lambda order: 0)), "yondle")
    return found


def placeholders(words: str) -> frozenset[str]:
    """List the parts a sentence names; raises ValueError where its braces don't fit together."""
    return frozenset(name for _, name, _, _ in Formatter().parse(words) if name is not None)


def _code() -> list[Path]:
    return [MANUAL, *(path for path in sorted(SOURCE.rglob("*.py")) if APART not in path.relative_to(SOURCE).parents)]


def _in_code(path: Path) -> Iterator[Text]:
    place = str(path.relative_to(SOURCE.parent)) if SOURCE in path.parents else path.name
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        match node:
            case ast.Call(func=ast.Name(id=name), args=[ast.Constant(value=str(words)), *_]) if name in SAYING:
                yield Text(words, "", place, node.lineno)
            case ast.Call(func=ast.Name(id=name)) if name in SAYING and name != "named":
                raise SystemExit(f"{place}:{node.lineno}: {name}() needs its sentence written out where it stands.")
            case ast.Call(
                func=ast.Name(id="several"), args=[_, ast.Constant(value=str(one)), ast.Constant(value=str(many))]
            ):
                yield Text(one, many, place, node.lineno)
            case ast.Call(func=ast.Name(id="count"), args=[_, ast.Constant(value=str(noun)), *rest]):
                plural = rest[0].value if rest and isinstance(rest[0], ast.Constant) else f"{noun}s"
                yield Text(noun, str(plural), place, node.lineno)
            case ast.ClassDef(name=name, bases=[ast.Name(id="StrEnum")]) if name not in NEVER_SHOWN:
                for member in node.body:
                    if isinstance(member, ast.Assign) and isinstance(member.value, ast.Constant):
                        yield Text(str(member.value.value), "", place, member.lineno)


def _in_rig_file(path: Path) -> Iterator[Text]:
    place = str(path.relative_to(SOURCE.parent))
    text = path.read_text("utf-8")
    for key, words in _named_in(tomllib.loads(text)):
        line = next(
            i for i, told in enumerate(text.splitlines(), 1) if re.match(rf'"?{key}"? *= *', told) and words in told
        )
        yield Text(words, "", place, line)


def _named_in(table: Any) -> Iterator[tuple[str, str]]:
    for key, value in table.items() if isinstance(table, dict) else enumerate(table) if isinstance(table, list) else ():
        if key == "facts":
            yield from ((name.strip('"'), name) for name in value)
        elif isinstance(value, str) and key in ("name", "place", "about"):
            yield key, value
        elif isinstance(value, dict | list):
            yield from _named_in(value)


def _in_help(command: Any, place: str) -> list[Text]:
    told = [command.help, *(getattr(p, "help", None) for p in command.params)]
    found = [Text(inspect.cleandoc(words), "", place, 0) for words in told if words]
    for name, inner in getattr(command, "commands", {}).items():
        found += _in_help(inner, f"{place} {name}")
    return found


def path_of(language: str, kind: str = "po") -> Path:
    """Give the file of a language's catalogue: `po` is written by people, `mo` is what the program reads."""
    return CATALOGUES / language / "LC_MESSAGES" / f"{DOMAIN}.{kind}"


def read(language: str) -> Catalog:
    """Read a catalogue as it was written, an empty one where there is none yet."""
    path = path_of(language)
    if not path.exists():
        return Catalog(language, domain=DOMAIN, project="Yondle", fuzzy=False)
    with path.open("rb") as file:
        return read_po(file, language, DOMAIN)


def renewed(language: str) -> Catalog:
    """Give a catalogue with every text of the program: kept where it is translated, empty where it is new, else gone."""
    before = read(language)
    now = Catalog(
        language, domain=DOMAIN, project="Yondle", version=__version__, fuzzy=False, header_comment=HEAD,
        msgid_bugs_address="-", last_translator="-", language_team="-",
    )  # fmt: skip
    now.creation_date = now.revision_date = before.creation_date
    for text in texts():
        old = before.get(text.words)
        wanted = (text.words, text.plural) if text.plural else text.words
        known = old.string if old is not None else ""
        if text.plural or isinstance(getattr(now.get(text.words), "id", None), tuple):
            known = known if isinstance(known, tuple) else (known or "", "")
        now.add(wanted, known, locations=[(text.place, text.line)] if text.line else [(text.place, None)])
    for message in before:
        noun = message.id[0] if isinstance(message.id, tuple) else message.id
        if message.context in ONLY_IN_A_LANGUAGE and now.get(noun) is not None:
            now.add(message.id, message.string, context=message.context)
    return now


def compiled(catalogue: Catalog) -> bytes:
    """Compile a catalogue for the program."""
    file = BytesIO()
    write_mo(file, catalogue)
    return file.getvalue()


def main() -> int:
    """Bring every catalogue up to date; says how much is left to translate, which is also the exit code's word."""
    missing = 0
    for language in sorted(found.parent.parent.name for found in CATALOGUES.glob(f"*/LC_MESSAGES/{DOMAIN}.po")):
        catalogue = renewed(language)
        with path_of(language).open("wb") as file:
            write_po(file, catalogue, width=120, sort_by_file=True, include_lineno=False)
        path_of(language, "mo").write_bytes(compiled(catalogue))
        empty = [m for m in catalogue if m.id and not (all(m.string) if isinstance(m.string, tuple) else m.string)]
        print(f"{language}: {len(catalogue)} texts, {len(empty)} not translated yet")
        missing += len(empty)
    return 1 if missing else 0


if __name__ == "__main__":
    sys.exit(main())
