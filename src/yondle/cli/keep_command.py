"""`yondle keep`: a profile that is in force after every start of this machine, what it has lived through, and its end."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer
from rich.console import Console

from yondle.app.profiles.keeping import KeepOverRestarts, keep_again, keep_nothing, kept_here, left_out_words
from yondle.app.session.opening import open_logbook
from yondle.app.system.kept_tells import tell_now
from yondle.cli.running import AsJson, opened
from yondle.cli.shown import print_json, tell
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.kept import BATTERY, BOTH, MAINS, KeptNow
from yondle.model.quantities import count


class Source(StrEnum):
    """Which power source a profile is kept for."""

    MAINS = MAINS
    BATTERY = BATTERY
    BOTH = BOTH


def add_keep_command(app: typer.Typer, console: Console) -> None:
    """Add it."""

    @app.command()
    def keep(
        logbook: Annotated[Path | None, typer.Argument(help="The logbook of this machine.", show_default=False)] = None,
        name: Annotated[str, typer.Argument(help="The profile's name.", show_default=False)] = "",
        source: Annotated[Source, typer.Option("--for", help="The power source it is kept for.")] = Source.BOTH,
        instead: Annotated[bool, typer.Option(help="Also where another logbook keeps one.")] = False,
        again: Annotated[
            bool, typer.Option("--again", help="Go on after a failure put this machine to stock.")
        ] = False,
        off: Annotated[
            bool, typer.Option("--off", help="Keep nothing any more; everything goes back to stock.")
        ] = False,
        notify: Annotated[bool, typer.Option("--notify", hidden=True)] = False,
        as_json: AsJson = False,
    ) -> None:
        """Keep a profile in force over restarts; without any, say what is kept."""
        if sum((again, off, notify, logbook is not None)) > 1 or (logbook is not None and not name):
            raise KnownError(
                say("That is either a logbook and a profile, or --again, or --off."),
                "yondle keep BOOK NAME",
            )
        if notify:
            tell_now(kept_here())
        elif off:
            keep_nothing()
            tell(console, as_json, say("Nothing is kept over restarts; everything is at stock again."), kept={})
        elif again:
            keep_again()
            _show(kept_here(), console, as_json)
        elif logbook is not None:
            with opened(lambda: open_logbook(logbook)) as session:
                part = session.do(KeepOverRestarts(name, source.value, instead))
            words = say("'{name}' is in force after every start from now on.", name=name)
            more = [words, *filter(None, (left_out_words(part),))]
            tell(console, as_json, "\n".join(more), kept=part.values, left_out=list(part.left_out))
        else:
            _show(kept_here(), console, as_json)


def _show(now: KeptNow, console: Console, as_json: bool) -> None:
    if as_json:
        print_json(
            {
                "kept": {source: {"name": name, "step": step} for source, (name, _, step) in now.profiles.items()},
                "in_force": now.in_force,
                "stopped": now.stopped,
                "night": {"book": now.night, "came_back": now.came_back} if now.night else None,
                "incidents": [{"at": each.at, "why": each.why, "name": each.name} for each in now.incidents],
            }
        )
        return
    for line in kept_lines(now):
        console.print(line, highlight=False, markup=False)


def kept_lines(now: KeptNow) -> list[str]:
    """Say what is kept on this machine, and what went wrong."""
    times = count(now.came_back, "time")
    on = say(
        "The plan of {book} goes on by itself over restarts; it came back {times} so far.", book=now.night, times=times
    )
    night = [on] if now.night else []
    if not now.profiles and not now.stopped:
        return [say("Nothing is kept over restarts."), *night, *_went_wrong(now)]
    where = {MAINS: say("on mains"), BATTERY: say("on battery")}
    lines = [f"{name}: {where[source]}" for source, (name, _, _) in now.profiles.items()]
    if now.stopped:
        lines.append(say("Stock, since {why}. Go on with:  yondle keep --again", why=now.stopped))
    elif now.in_force:
        lines.append(say("'{name}' is in force now.", name=now.in_force))
    else:
        lines.append(say("Nothing is set now."))
    return [*lines, *night, *_went_wrong(now)]


def _went_wrong(now: KeptNow) -> list[str]:
    return [f"{each.at}  {each.name}  {each.why}" for each in now.incidents[-5:]]
