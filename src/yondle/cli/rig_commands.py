"""Commands about the rig and what waits on it: readiness, conditions, own limits, restarts, stock, export."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated

import typer
from rich.console import Console

from yondle.app.session.limits import LimitRange, LimitReading, TellConditions
from yondle.app.session.opening import open_logbook
from yondle.app.session.readiness import CheckReady
from yondle.app.session.returning import DropWaiting, GoOnWaiting, ReturnToStock
from yondle.app.session.testing import TryAgain
from yondle.cli.running import AsJson, Asks, LogbookPath, Pace, Passes, Strict, Together, opened, run_test
from yondle.cli.shown import print_json, status_values, tell
from yondle.formats.documents import Conditions
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.quantities import FAHRENHEIT, celsius, typed_degrees
from yondle.model.sensors import Channel
from yondle.model.steps import StartAnswer
from yondle.model.verdicts import Failure


def add_rig_commands(app: typer.Typer, console: Console) -> None:
    """Add these commands."""

    @app.command()
    def ready(logbook: LogbookPath, as_json: AsJson = False) -> None:
        """Check whether the rig is ready for a baseline."""
        with opened(lambda: open_logbook(logbook)) as session:
            items = session.do(CheckReady()).items
            if as_json:
                print_json({"ready": all(i.ready for i in items), "items": [asdict(i) for i in items]})
                return
            no, yes = say("NOT READY"), say("ready")
            for item in items:
                state = yes if item.ready else no
                console.print(f"{state:{max(len(no), len(yes))}}  {item.name}: {item.words}.")
                if not item.ready:
                    console.print(f"           {item.remedy}")
            for name in session.snapshot.not_told:
                console.print(
                    say("not told   {name}: yondle condition {logbook} '{name}' '…'", name=name, logbook=logbook)
                )

    @app.command()
    def condition(logbook: LogbookPath, name: str, value: str, as_json: AsJson = False) -> None:
        """Tell something about the rig that it can't find out by itself; it is stored with every attempt from now on."""
        with opened(lambda: open_logbook(logbook)) as session:
            session.do(TellConditions({name: value}))
            words = f"{name}: {value}" if value else say("{name} is forgotten.", name=name)
            tell(console, as_json, words, conditions=session.snapshot.kept.of(Conditions).root)

    @app.command()
    def limit(
        logbook: LogbookPath,
        what: Annotated[str, typer.Argument(help="knob=highest, or sensor=highest; 'none' takes it away.")],
        lowest: Annotated[str, typer.Option(help="For a knob: the lowest value you allow.")] = "",
        as_json: AsJson = False,
    ) -> None:
        """Set your own limit on a knob or a sensor."""
        with opened(lambda: open_logbook(logbook)) as session:
            name, _, value = what.partition("=")
            knob, channel = session.snapshot.declaration.limited(name)
            if channel is not None:
                session.do(LimitReading(channel.id, None if value == "none" else _reading(channel, value)))
            elif knob is not None:
                low = knob.parsed(lowest) if lowest else session.snapshot.declaration.floors.get(knob.id)
                session.do(LimitRange(knob.id, low, None if value == "none" else knob.parsed(value)))
            tell(
                console, as_json, say("Limit on {name}: {value}.", name=name, value=value), on=name.strip(), limit=value
            )


def add_again_commands(app: typer.Typer, console: Console) -> None:
    """Add the commands about what waits, and about testing once more."""

    @app.command()
    def again(
        logbook: LogbookPath,
        number: Annotated[int, typer.Argument(help="A step to test once more.")],
        passes: Passes = None,
        pace: Pace = None,
        together: Together = False,
        as_json: AsJson = False,
        strict: Strict = False,
    ) -> None:
        """Test a step once more, to be sure."""
        with opened(lambda: open_logbook(logbook, pace, together)) as session:
            run_test(session, lambda: session.do(TryAgain(number, passes)), console, as_json, strict)

    @app.command("go-on")
    def go_on(
        logbook: LogbookPath,
        started: Annotated[bool, typer.Option("--started/--stopped", help="Did it start with the new values?")] = True,
        at: Annotated[str, typer.Option(help="Where it stopped.")] = "",
        code: Annotated[str, typer.Option(help="The code the board showed.")] = "",
        pace: Pace = None,
        together: Together = False,
        asks: Asks = False,
        as_json: AsJson = False,
    ) -> None:
        """Go on with a step that waited for values entered by hand, or for a restart."""
        with opened(lambda: open_logbook(logbook, pace, together, asks)) as session:
            failure = Failure.STOPPED_IN_START if at or code else Failure.NEVER_STARTED
            told = StartAnswer(None if started else failure, at, code) if asks or not started else None
            run_test(session, lambda: session.do(GoOnWaiting(told)), console, as_json)

    @app.command()
    def drop(logbook: LogbookPath, as_json: AsJson = False) -> None:
        """Give up a step that waits for values to be entered."""
        with opened(lambda: open_logbook(logbook, asks=True)) as session:
            dropped = session.do(DropWaiting())
            if dropped is None:
                raise KnownError(say("No step waits for values to be entered."), say("Nothing to drop."))
            words = say("Step {number} is dropped.", number=dropped.step.number)
            tell(console, as_json, words, step=dropped.step.number)

    @app.command()
    def stock(logbook: LogbookPath, as_json: AsJson = False) -> None:
        """Put every knob at stock."""
        with opened(lambda: open_logbook(logbook)) as session:
            verified = session.do(ReturnToStock())
            if as_json:
                print_json(status_values(session.snapshot))
            else:
                console.print(say("Stock is in force, read back.") if verified else say("Stock does NOT read back."))


def number_of(text: str) -> float:
    """Read a number; raises KnownError."""
    try:
        return float(text.replace(",", "."))
    except ValueError:
        raise KnownError(say("'{words}' is no number.", words=text), say("Give a number, or 'none'.")) from None


def _reading(channel: Channel, value: str) -> float:
    """Read where a sensor is to stop a test; who has temperatures shown in °F says which of both is meant."""
    told, fahrenheit = typed_degrees(value) if channel.unit == "°C" else (value, False)
    number = number_of(told)
    if channel.unit == "°C" and FAHRENHEIT and told == value:
        raise KnownError(
            say("'{value}' could be °C or °F.", value=value), say("Write {value}C or {value}F.", value=value.strip())
        )
    return celsius(number) if fahrenheit else number
