"""Says after a login what became of kept profiles and of plans that come back: an autostart entry, and one notification."""

from __future__ import annotations

import logging

from platformdirs import user_state_path

from yondle.app.system.autostart import entry_path, write_entry
from yondle.app.system.telling import notify
from yondle.formats.whole_files import own_folder, write_whole
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.kept import KeptNow
from yondle.model.quantities import count

logger = logging.getLogger(__name__)

NAME = "yondle-keep.desktop"


def tell_at_login() -> bool:
    """Have it said after every login where something has happened; tells whether that could be arranged."""
    return write_entry(NAME, say("Yondle tells of kept profiles"), ("keep", "--notify"), "NoDisplay=true\n")


def tell_no_more() -> None:
    """Take the entry away."""
    entry_path(NAME).unlink(missing_ok=True)


def tell_now(now: KeptNow) -> bool:
    """Notify once of the latest incident, and of a plan that has come back; tells whether there was anything to say.

    Where nothing is kept and no plan may come back any more, this was the last time.
    """
    if not now.profiles and not now.stopped and not now.night:
        tell_no_more()
    latest = now.incidents[-1] if now.incidents else None
    told = user_state_path("yondle", appauthor=False) / "kept-told"
    key = f"{len(now.incidents)} {latest.at if latest is not None else ''} {now.night} {now.came_back}\n"
    if (latest is None and not now.came_back) or (told.is_file() and told.read_text("utf-8") == key):
        return False
    words = [say("{name}: {why}.", name=latest.name, why=latest.why)] if latest is not None else []
    words += [say("This machine stays at stock until you say again.")] if now.stopped else []
    if now.came_back:
        times = count(now.came_back, "time")
        words.append(say("The plan of {book} goes on; it came back {times} so far.", book=now.night, times=times))
    notify(say("After the restart"), " ".join(words))
    try:
        own_folder(told.parent)
        write_whole(told, key)
    except (OSError, KnownError):
        logger.warning("it can't be noted in %s that this was told", told)
    return True
