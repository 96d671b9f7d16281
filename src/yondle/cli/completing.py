"""What a shell completes inside a command: knobs, steps, profiles and benchmarks of the logbook on the line, and rigs."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yondle.model.errors import KnownError

if TYPE_CHECKING:
    from yondle.views.shared.snapshot import Snapshot

SHIPPED = ("heron", "heron-ii", "bittern", "this", "elsewhere", "ssh://")
Offers = Callable[["Snapshot"], Iterator[tuple[str, str]]]
"""Gives words with what each is, for a logbook."""


def _knobs(book: Snapshot) -> Iterator[tuple[str, str]]:
    for knob in book.declaration.knobs:
        yield knob.id, knob.name


def _values(book: Snapshot) -> Iterator[tuple[str, str]]:
    for knob in book.declaration.knobs:
        yield f"{knob.id}=", knob.text(book.in_force.get(knob.id, knob.stock))


def _limited(book: Snapshot) -> Iterator[tuple[str, str]]:
    yield from _values(book)
    for channel in book.declaration.channels:
        if channel.nature.limited:
            yield f"{channel.id}=", channel.name


def _steps(book: Snapshot) -> Iterator[tuple[str, str]]:
    from yondle.views.shared.steps import step_title

    for record in reversed(book.steps):
        yield str(record.step.number), f"{step_title(book.declaration, record.step)}: {record.word}"


def _profiles(book: Snapshot) -> Iterator[tuple[str, str]]:
    for profile in book.profiles:
        yield profile.name, str(profile.purpose)


def _benchmarks(book: Snapshot) -> Iterator[tuple[str, str]]:
    for benchmark in book.declaration.benchmarks:
        yield benchmark.id, benchmark.name


def _loads(book: Snapshot) -> Iterator[tuple[str, str]]:
    for work in book.declaration.workloads:
        yield work.id, work.name


OFFERS: dict[str, Offers] = {
    "knob": _knobs, "across": _knobs, "up": _knobs, "along": _knobs,
    "number": _steps, "step": _steps,
    "benchmark": _benchmarks, "load": _loads,
    "values": _values,
}  # fmt: skip
"""By the name of an argument or option, whichever command it belongs to."""
OF_COMMAND: dict[tuple[str, str], Offers] = {
    ("limit", "what"): _limited, ("use", "name"): _profiles, ("export", "name"): _profiles, ("show", "name"): _profiles,
    ("drop", "name"): _profiles, ("try", "name"): _profiles, ("keep", "name"): _profiles, ("scaling", "knob"): _knobs,
}  # fmt: skip


def completing(command: Any) -> Any:
    """Have every argument and option of a command, and of those in it, complete what it can be; gives the command."""
    for inner in getattr(command, "commands", {}).values():
        completing(inner)
    for param in command.params:
        offers = OF_COMMAND.get((command.name, param.name)) or OFFERS.get(param.name)
        if param.name == "rig" or (command.name == "inspect" and param.name == "what"):
            param.shell_complete = _complete_rigs
        elif offers is not None and command.name != "knob":
            param.shell_complete = _completes(offers)
    return command


def _complete_rigs(ctx: Any, incomplete: str) -> list[Any]:
    from typer._click.shell_completion import CompletionItem

    files = sorted(Path().glob(f"{incomplete}*.toml"))
    return [CompletionItem(each) for each in (*SHIPPED, *map(str, files)) if each.startswith(incomplete)]


def _completes(offers: Offers) -> Callable[[Any, str], list[Any]]:
    def complete(ctx: Any, incomplete: str) -> list[Any]:
        from typer._click.shell_completion import CompletionItem

        from yondle.app.books.reading import read_book

        path = ctx.params.get("logbook")
        if path is None:
            return []
        try:
            told = list(offers(read_book(Path(path))))
        except KnownError:
            return []
        return [CompletionItem(word, help=about) for word, about in told if word.startswith(incomplete)]

    return complete
