"""The entry point: joins command line and window, which don't know each other, and turns errors into exit codes."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

from yondle import __version__
from yondle.cli.exits import EXIT_BUG, EXIT_INTERRUPTED, EXIT_KNOWN
from yondle.cli.plain import speak_plainly
from yondle.cli.quiet import be_quiet
from yondle.language.saying import say
from yondle.model.errors import KnownError

if TYPE_CHECKING:
    from yondle.cli.orders import WindowOrder


def main() -> None:
    """Run `yondle`."""
    sys.exit(run(sys.argv[1:]))


def run(arguments: list[str]) -> int:
    """Run one command line; returns the exit code, one of `yondle.cli.exits` or 0."""
    speak_plainly()
    arguments = be_quiet(arguments)
    if arguments == ["--version"]:
        print(f"yondle {__version__}")
        return 0
    if arguments == ["agent"]:
        from yondle.app.machine.agent import serve_notebook

        serve_notebook()
        return 0
    try:
        import typer.main

        from yondle.cli.commands import build
        from yondle.cli.help import translated

        command = translated(typer.main.get_command(build(_open_window)))
        command(args=arguments, prog_name="yondle")
    except SystemExit as leave:
        if _was_interrupted(leave):
            return _interrupted(arguments)
        return leave.code if isinstance(leave.code, int) else EXIT_BUG
    except KnownError as error:
        _say_why(error, arguments)
        return EXIT_KNOWN
    except KeyboardInterrupt:
        return _interrupted(arguments)
    except ModuleNotFoundError as missing:
        if missing.name != "typer":
            return _report_fault()
        words = say("Only the agent of a bench is installed here. Install the package yondle for everything else.")
        print(f"yondle: {words}", file=sys.stderr)
        return EXIT_KNOWN
    except Exception:
        return _report_fault()
    return 0


def _say_why(error: KnownError, arguments: list[str]) -> None:
    if "--json" in arguments:
        from yondle.cli.shown import print_json

        print_json({"error": {"problem": error.problem, "remedy": error.remedy}})
    print(f"yondle: {error.problem} {error.remedy}", file=sys.stderr)


def _was_interrupted(leave: SystemExit) -> bool:
    """Whether a command ended by a Ctrl+C that nothing in it answered: typer makes an exit of it, from the interrupt."""
    return leave.__context__ is not None and isinstance(leave.__context__.__cause__, KeyboardInterrupt)


def _interrupted(arguments: list[str]) -> int:
    _say_why(KnownError(say("Ended by Ctrl+C."), say("What was recorded until then is kept.")), arguments)
    return EXIT_INTERRUPTED


def _open_window(order: WindowOrder) -> int:
    from yondle.desktop.shell.start import show

    return show(order.logbook, order.pace, order.evening)


def _report_fault() -> int:
    import logging

    from platformdirs import user_log_path

    from yondle.formats.whole_files import own_folder

    try:
        folder = user_log_path("yondle", appauthor=False)
        own_folder(folder)
        log = folder / "yondle.log"
        logging.basicConfig(filename=log, format="%(asctime)s %(levelname)s %(name)s %(message)s")
        logging.exception("a fault of the program")
        where = say("The details are in {log}.", log=log)
    except OSError:
        where = say("The details could not be written.")
    kind = sys.exc_info()[1]
    print(
        say(
            "yondle: a fault of the program ({name}: {kind}). {where}", name=type(kind).__name__, kind=kind, where=where
        ),
        file=sys.stderr,
    )
    return EXIT_BUG


if __name__ == "__main__":
    main()
