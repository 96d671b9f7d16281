"""`yondle profile …`: keep setups by name, compare them with stock, put them in force, write and read them as files."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.console import Console

from yondle.app.profiles.profiles import (
    DropProfile,
    ImportProfile,
    KeepProfile,
    ProposeProfile,
    UseProfile,
    compared_to_stock,
    profile,
    standing,
    write_profile,
)
from yondle.app.session.opening import open_logbook
from yondle.app.session.testing import TryProposal
from yondle.cli.running import AsJson, LogbookPath, Pace, Passes, opened, run_test
from yondle.cli.shown import plain_values, print_json, print_table, tell
from yondle.language.saying import named, say
from yondle.model.profiles import Profile, Purpose
from yondle.model.rigs import RigDeclaration
from yondle.views.shared.power import power_hint

ProfileName = Annotated[str, typer.Argument(help="The profile's name.", show_default=False)]


def add_profile_commands(app: typer.Typer, console: Console) -> None:
    """Add the commands about profiles."""
    app.add_typer(profile_app(console), name="profile")


def profile_app(console: Console) -> typer.Typer:
    """Make the commands about profiles."""
    app = typer.Typer(
        add_completion=False, help="Setups kept by name: daily, quiet, on battery, best for one benchmark."
    )

    @app.command()
    def keep(
        logbook: LogbookPath,
        name: ProfileName,
        purpose: Annotated[Purpose, typer.Option("--for", help="What it is for.")] = Purpose.OTHER,
        benchmark: Annotated[str, typer.Option(help="The benchmark it is best for.")] = "",
        step: Annotated[int | None, typer.Option(help="A step that held; by default the present one.")] = None,
        as_json: AsJson = False,
    ) -> None:
        """Keep a setup that held."""
        with opened(lambda: open_logbook(logbook)) as session:
            kept = session.do(KeepProfile(name, purpose, benchmark, step))
            words = say(
                "Kept '{kept}' ({purpose}) from step {step}.", kept=kept.name, purpose=kept.purpose, step=kept.step
            )
            tell(console, as_json, words, profile=_values(kept, session.snapshot.declaration))

    @app.command("list")
    def list_(logbook: LogbookPath, as_json: AsJson = False) -> None:
        """List the profiles, and say which suits the present power source."""
        with opened(lambda: open_logbook(logbook)) as session:
            if as_json:
                print_json(
                    {
                        "profiles": [_values(p, session.snapshot.declaration) for p in session.snapshot.profiles],
                        "hint": power_hint(session.snapshot),
                    }
                )
                return
            for kept in session.snapshot.profiles:
                where = standing(session.snapshot, kept)
                now = say(", put back when Yondle ended") if session.snapshot.put_back else say(", in force")
                here = now if kept.setup == session.snapshot.in_force else ""
                console.print(f"{kept.name}: {named(kept.purpose)}, {where}{here}")
            console.print(
                power_hint(session.snapshot) or ("" if session.snapshot.profiles else say("No profiles yet."))
            )

    @app.command()
    def show(logbook: LogbookPath, name: ProfileName, as_json: AsJson = False) -> None:
        """Compare a profile with stock."""
        with opened(lambda: open_logbook(logbook)) as session:
            shown = profile(session.snapshot, name)
            compared = compared_to_stock(session.snapshot, shown)
            if as_json:
                print_json({"profile": _values(shown, session.snapshot.declaration), "gains": dict(compared.gains)})
                return
            gained = [(benchmark, "", gain) for benchmark, gain in compared.gains]
            print_table(console, ("", say("stock"), name), [*compared.knobs, *compared.derived, *gained], (1, 2))

    @app.command()
    def use(logbook: LogbookPath, name: ProfileName, as_json: AsJson = False) -> None:
        """Put a profile in force exactly, every knob of it."""
        with opened(lambda: open_logbook(logbook)) as session:
            record = session.do(UseProfile(name))
            words = say("'{name}' is in force (step {number}).", name=name, number=record.step.number)
            tell(
                console,
                as_json,
                words,
                step=record.step.number,
                setup=plain_values(session.snapshot.declaration, record.step.setup),
            )

    @app.command("try")
    def try_(
        logbook: LogbookPath, name: ProfileName, passes: Passes = None, pace: Pace = None, as_json: AsJson = False
    ) -> None:
        """Test a profile from a file as one joint step."""
        with opened(lambda: open_logbook(logbook, pace)) as session:
            session.do(ProposeProfile(name))
            run_test(session, lambda: session.do(TryProposal(passes)), console, as_json)

    @app.command()
    def drop(logbook: LogbookPath, name: ProfileName, as_json: AsJson = False) -> None:
        """Drop a profile; its step stays on the trail."""
        with opened(lambda: open_logbook(logbook)) as session:
            session.do(DropProfile(name))
            tell(console, as_json, say("Dropped '{name}'.", name=name), name=name)

    @app.command()
    def export(logbook: LogbookPath, name: ProfileName, file: Path, as_json: AsJson = False) -> None:
        """Write a profile to a TOML file."""
        with opened(lambda: open_logbook(logbook)) as session:
            write_profile(session.snapshot, profile(session.snapshot, name), file, replaces=False)
            tell(console, as_json, say("Written to {file}.", file=file), file=str(file))

    @app.command("import")
    def import_(logbook: LogbookPath, file: Path, as_json: AsJson = False) -> None:
        """Read a profile from a TOML file; it is kept untested."""
        with opened(lambda: open_logbook(logbook)) as session:
            kept = session.do(ImportProfile(file))
            words = say(
                "Kept '{kept}'. It is untested here: yondle profile try {logbook} '{kept}'",
                kept=kept.name,
                logbook=logbook,
            )
            tell(console, as_json, words, profile=_values(kept, session.snapshot.declaration))

    return app


def _values(kept: Profile, declaration: RigDeclaration) -> dict[str, object]:
    return {
        "name": kept.name,
        "purpose": str(kept.purpose),
        "benchmark": kept.benchmark,
        "step": kept.step,
        "at": kept.at,
        "setup": plain_values(declaration, kept.setup),
    }
