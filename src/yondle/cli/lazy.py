"""The commands, each made when it is asked for: the module of one loads all that it works with, which takes a while.

Only names and the first sentence of each command's help are known before (a test holds them against the commands).
"""

from __future__ import annotations

from collections.abc import Iterator, MutableMapping
from importlib import import_module
from typing import Any, NamedTuple

import typer.main
from typer.core import TyperGroup

from yondle.cli.completing import completing
from yondle.cli.help import translated
from yondle.language.saying import later, named


class CommandPlace(NamedTuple):
    """Where a command is made: the module, the function that adds it to an app, and the first sentence of its help."""

    module: str
    adds: str
    help: str


_MADE_BY = {
    ("window_commands", "add_window_commands"): {
        "open": later("Open a logbook in the window."),
        "demo": later(
            "Heron, the simulated PC in a shed observatory: an evening's climb to look at and to go on with."
        ),
    },
    ("step_commands", "add_step_commands"): {
        "new": later("Start a logbook for a rig."),
        "baseline": later("Measure stock, so that gains can be told from noise."),
        "step": later("Propose one step and test it."),
        "back": later("Put the settings of an earlier step in force again."),
    },
    ("status_command", "add_status_command"): {
        "status": later("Show the trail, what is in force, and what was found open."),
    },
    ("rig_commands", "add_rig_commands"): {
        "ready": later("Check whether the rig is ready for a baseline."),
        "condition": later(
            "Tell something about the rig that it can't find out by itself; it is stored with every attempt from now on."
        ),
        "limit": later("Set your own limit on a knob or a sensor."),
    },
    ("rig_commands", "add_again_commands"): {
        "again": later("Test a step once more, to be sure."),
        "go-on": later("Go on with a step that waited for values entered by hand, or for a restart."),
        "drop": later("Give up a step that waits for values to be entered."),
        "stock": later("Put every knob at stock."),
    },
    ("step_commands", "add_looking_commands"): {
        "inspect": later(
            "Say what a rig offers: what can be set and by whom, what can be read, what is missing and why it matters."
        ),
        "workloads": later("List the benchmarks and loads of a rig."),
    },
    ("record_commands", "add_record_commands"): {
        "note": later("Write a note at a step."),
        "discard": later(
            "Leave a pass or a typed figure out, or with an empty reason count it again; it stays in the logbook."
        ),
        "attach": later("Keep a picture or another file at a step as proof."),
        "log": later("Look through everything the logbook holds: tests, passes, incidents, notes, figures, files."),
        "export": later("Write the whole logbook as JSON, or its passes as CSV."),
        "restore": later("Make a logbook of what 'yondle export' wrote as JSON."),
        "share": later("Make a copy to give away, without serial numbers, host and user names."),
        "merge": later("Make one logbook of two about the same rig; both stay as they are."),
    },
    ("goal_commands", "add_goal_commands"): {
        "next": later("Say what is worth trying next toward a goal, and why."),
        "climb": later("Climb toward a goal, one change at a time, and end with what is proved."),
    },
    ("report_commands", "add_report_command"): {
        "report": later(
            "Write a report: conditions, what was tried, gains with margins, failures, limits, settings, how to repeat it."
        ),
    },
    ("trace_command", "add_trace_command"): {
        "trace": later(
            "Tell lowest, mean and highest readings of a test, dips, limits reached, and what moved before a failure."
        ),
    },
    ("watch_command", "add_watch_command"): {
        "watch": later("Watch a test that another Yondle runs, also over SSH; the logbook is only read."),
        "stop": later(
            "Stop the test that another Yondle runs on a logbook; that one puts the machine back, as with Esc in its window."
        ),
        "integrate": later(
            "Make Yondle known to your desktop: menu entry, icons, and *.yondle files that open by a double click."
        ),
    },
    ("bench_commands", "add_bench_commands"): {
        "benchmarks": later("Show which benchmarks are run, or choose them and how they are run."),
        "result": later("Type in a figure that was measured elsewhere, at a step's settings."),
        "import": later("Read whole tables, figures, frame times or sensor logs of other programs."),
    },
    ("table_commands", "add_table_commands"): {
        "record": later("Record a step that Yondle didn't test: settings, how it went, figures."),
        "knob": later("Describe a knob of a machine elsewhere (--rig elsewhere)."),
    },
    ("table_commands", "add_table_out"): {
        "table": later(
            "Take a table out: settings with gains beside the figures, single figures, or what a place shows."
        ),
    },
    ("plan_commands", "add_edge_command"): {
        "edge": later("Find the riskiest value of a knob that holds, test by test, from where the rig is now."),
    },
    ("scaling_commands", "add_scaling_command"): {
        "scaling": later("See how scores scale with a knob, or which benchmark answers to which."),
        "map": later("See two knobs together: gains at every pair of values, and what is left over."),
        "limits": later("Say what holds every benchmark back at a step, with the evidence."),
        "target": later("Say how far a target score is, and which setting would reach it if the trend held."),
    },
    ("compare_commands", "add_compare_commands"): {
        "compare": later("Put steps, profiles, samples and rigs side by side."),
        "efficiency": later(
            "Say what scores cost: per watt, per unit of work, in heat and noise, and which settings no other beats."
        ),
        "price": later("Keep what a column costs, so that 'compare --passes' tells the price of its gains."),
        "reference": later("Keep scores from elsewhere to compare with."),
    },
    ("own_commands", "add_own_commands"): {
        "workload": later("Workloads of your own: any command with a number in what it prints."),
        "own": later("Knobs and sensors of your own (docs/own-file.md)."),
        "meter": later("Meters outside the machine, over a serial line or the network."),
        "helper": later("The helper that sets, as root, what only root may set (docs/helper.md)."),
    },
    ("plan_commands", "add_plan_commands"): {
        "plan": later("Sweeps, ladders and lists of steps that run by themselves."),
    },
    ("keep_command", "add_keep_command"): {
        "keep": later("Keep a profile in force over restarts; without any, say what is kept."),
    },
    ("across_command", "add_across_command"): {
        "bench": later("Say how a machine across the room is reached, and what restarts it where it freezes."),
    },
    ("agent_command", "add_agent_command"): {
        "agent": later("Be the bench of a Yondle elsewhere, over standard input and output; its ssh starts this."),
    },
    ("profile_commands", "add_profile_commands"): {
        "profile": later("Setups kept by name: daily, quiet, on battery, best for one benchmark."),
    },
}
"""By module and the function in it: names with the first sentence of their help, in the order in which help lists them."""

COMMANDS = {
    name: CommandPlace(module, adds, words) for (module, adds), made in _MADE_BY.items() for name, words in made.items()
}


class _Loaded(MutableMapping[str, Any]):
    """Commands by name; one that is asked for is made, with those of the same module."""

    def __init__(self) -> None:
        self._made: dict[str, Any] = {}

    def __getitem__(self, name: str) -> Any:
        if name not in self._made:
            from yondle.cli.terminal import console_for

            place = COMMANDS[name]
            app = typer.Typer(rich_markup_mode=None)
            getattr(import_module(f"yondle.cli.{place.module}"), place.adds)(app, console_for())
            made = typer.main.get_group(app).commands
            self._made |= {each: completing(translated(command)) for each, command in made.items() if each in COMMANDS}
        return self._made[name]

    def __setitem__(self, name: str, command: Any) -> None:
        self._made[name] = command

    def __delitem__(self, name: str) -> None:
        del self._made[name]

    def __iter__(self) -> Iterator[str]:
        return iter(COMMANDS)

    def __len__(self) -> int:
        return len(COMMANDS)


class LazyGroup(TyperGroup):
    """The commands of `yondle`; listing, completing and helping with them makes none."""

    def __init__(self, **given: Any) -> None:
        super().__init__(**given)
        self.commands = _Loaded()

    def list_commands(self, ctx: Any) -> list[str]:
        """List the names."""
        return list(COMMANDS)

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """Write names with the first sentences of their help."""
        with formatter.section(named("Commands")):
            formatter.write_dl([(name, named(place.help)) for name, place in COMMANDS.items()])

    def shell_complete(self, ctx: Any, incomplete: str) -> list[Any]:
        """Complete a name, or an option of `yondle` itself."""
        from typer._click.shell_completion import CompletionItem

        if incomplete and not incomplete[0].isalnum():
            return list(super().shell_complete(ctx, incomplete))
        return [
            CompletionItem(name, help=named(place.help))
            for name, place in COMMANDS.items()
            if name.startswith(incomplete)
        ]
