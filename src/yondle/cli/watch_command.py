"""`yondle watch`: a test that runs elsewhere, seen in a terminal; and `yondle integrate`, which makes the desktop know Yondle."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Annotated

import typer
from platformdirs import user_data_path
from rich.console import Console, Group
from rich.live import Live
from rich.text import Text

from yondle.app.books.watching import Watched, watch
from yondle.app.machine.clocks import RealClock
from yondle.app.session.stopping import ask_to_stop
from yondle.app.system.desktop_entries import running_command
from yondle.app.system.integrate import integrate, take_out
from yondle.cli.exits import EXIT_NOT_HELD
from yondle.cli.running import AsJson, LogbookPath
from yondle.cli.shown import print_json, tell
from yondle.language.saying import say
from yondle.model.verdicts import Verdict

_EVERY_S = 2.0
_LOOKED_AT_S, _PUT_BACK_WITHIN_S = 0.2, 60.0
_MARKS = {
    Verdict.HELD: "●", Verdict.UNPROVEN: "◐", Verdict.WRONG: "▲", Verdict.DOWN: "☒", Verdict.HELD_BACK: "◆",
    Verdict.REFUSED: "○",
}  # fmt: skip


def add_watch_command(app: typer.Typer, console: Console) -> None:
    """Add `watch`, which follows a logbook another program writes."""

    @app.command(name="watch")
    def watch_(
        logbook: LogbookPath,
        once: Annotated[bool, typer.Option("--once", help="Say where it stands, and end.")] = False,
        until_done: Annotated[bool, typer.Option("--until-done", help="End when no test runs any more.")] = False,
        every: Annotated[float, typer.Option(min=0.2, max=3600.0, help="Seconds between two looks.")] = _EVERY_S,
        as_json: AsJson = False,
    ) -> None:
        """Watch a test that another Yondle runs, also over SSH; the logbook is only read.

        Exits with 3 if a test went down or gave wrong results meanwhile.
        """
        clock = RealClock()
        first = seen = watch(logbook)
        if as_json:
            print_json({**asdict(seen), "done": [list(each) for each in seen.done]})
        elif once:
            console.print(_shown(seen))
        else:
            with Live(_shown(seen), console=console, auto_refresh=False) as live:
                while seen.running is not None or not until_done:
                    clock.wait(every)
                    seen = watch(logbook)
                    live.update(_shown(seen), refresh=True)
        if seen.failed > first.failed:
            raise typer.Exit(EXIT_NOT_HELD)

    @app.command()
    def stop(
        logbook: LogbookPath,
        emergency: Annotated[bool, typer.Option("--emergency", help="Go to stock at once.")] = False,
        as_json: AsJson = False,
    ) -> None:
        """Stop the test that another Yondle runs on a logbook; that one puts the machine back, as with Esc in its window."""
        clock = RealClock()
        running = watch(logbook).running
        ask_to_stop(logbook, emergency, clock.wait)
        left = _PUT_BACK_WITHIN_S
        while watch(logbook).running is not None and left > 0:
            clock.wait(_LOOKED_AT_S)
            left -= _LOOKED_AT_S
        what = running or say("What ran")
        seen = watch(logbook)
        where = say("stock") if emergency else say("where the test began")
        words = (
            say("{what}: stopped, and the machine went back to {where}.", what=what, where=where)
            if seen.running is None
            else say("{what}: asked to stop; it is still being put back.", what=what)
        )
        tell(console, as_json, words, running=seen.running)

    @app.command(name="integrate")
    def integrate_(
        remove: Annotated[bool, typer.Option("--remove", help="Take it out again.")] = False,
        share: Annotated[Path | None, typer.Option(help="The share folder; by default the user's own.")] = None,
        as_json: AsJson = False,
    ) -> None:
        """Make Yondle known to your desktop: menu entry, icons, and *.yondle files that open by a double click."""
        folder = share or user_data_path()
        if remove:
            gone = [str(path) for path in take_out(folder)]
            words = say("{files} files are taken out of {folder}.", files=len(gone), folder=folder)
            tell(console, as_json, words, files=gone)
            return
        made = [str(path) for path in integrate(folder, running_command())]
        tell(console, as_json, "\n".join(made), files=made)


def _shown(seen: Watched) -> Group:
    """Write a moment as lines; words from the logbook are never read as markup."""
    lines = [Text(f"{seen.rig}: {seen.running or say('no test is under way')}", style="bold")]
    if seen.running is not None:
        lines.append(Text(" · ".join(part for part in (seen.doing, seen.passes, seen.lasted) if part)))
    lines += [Text(f"  {name:<24} {words}") for name, words in seen.readings]
    lines += [Text(f"{_MARKS[verdict]} {title}: {words}", style="dim") for title, verdict, words in seen.done]
    lines.append(
        Text(say("{tests} tests, {failed} went down or gave wrong results", tests=seen.tests, failed=seen.failed))
    )
    return Group(*lines)
