"""Keeping a profile over restarts, in the window: asked for by hand, told when it was given up."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from pytestqt.qtbot import QtBot
from tests.conftest import quick_rig
from tests.desktop.conftest import Open
from tests.desktop.driving import button_of
from tests.fakes import KeeperInMind, WatchdogInMind

from yondle.app.profiles.profiles import KeepProfile
from yondle.app.session.commands import Command
from yondle.app.session.proposing import Propose
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.desktop.shell.window import MainWindow
from yondle.desktop.tune.keeping import KeepCard
from yondle.desktop.tune.nights import NightConsent
from yondle.desktop.tune.plans import SweepCard
from yondle.formats.documents import KeptOverRestarts
from yondle.model.kept import BATTERY, Incident, KeptNow
from yondle.model.profiles import Purpose
from yondle.rigs.linux.guarding import PlanGuard


class Use(Command[None]):
    """Have a keeper and a watchdog at the machine, and see what it keeps."""

    def __init__(self, keeper: KeeperInMind, watchdog: WatchdogInMind | None = None) -> None:
        self.keeper, self.guard = keeper, PlanGuard(watchdog) if watchdog is not None else None

    def do(self, session: Session) -> None:
        session.machine = replace(session.machine, keeper=self.keeper, guard=self.guard)
        session.kept_here = self.keeper.now()


def shown(window: MainWindow, qtbot: QtBot, keeper: KeeperInMind) -> Any:
    tune = window.tune
    assert tune is not None
    tune.book.ask(Use(keeper), lambda _: None, lambda error: None)
    qtbot.waitUntil(lambda: tune.book.now.kept_here == keeper.kept)
    return tune


def test_a_profile_is_kept_after_a_question_and_ended_or_taken_up_again(
    new_session: Callable[..., Session], open_book: Open, qtbot: QtBot
) -> None:
    session = new_session(quick_rig(hard_load_s="1900.0"))
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4300))
    session.do(TryProposal(2))
    session.do(Propose("fan_level", 45))
    session.do(TryProposal(2))
    session.do(KeepProfile("Daily", Purpose.DAILY))
    session.keep(KeptOverRestarts(id="5f0c"))
    session.close()
    keeper = KeeperInMind("core_clock")
    window = open_book(session.logbook.path)
    tune = shown(window, qtbot, keeper)
    tune.profiles.show()
    button_of(tune.side, "Keep after restart").click()
    card = tune.side.findChild(KeepCard)
    assert card is not None
    card.source.setCurrentIndex(2)
    card.keep_button.click()
    qtbot.waitUntil(lambda: len(keeper.told) == 1)
    word, request = keeper.told[0]
    assert request is not None
    assert (word, request["for"], request["instead"]) == ("set", BATTERY, False)
    assert request["profile"] == {"name": "Daily", "logbook": "5f0c", "step": 3, "values": {"core_clock": 4300.0}}
    qtbot.waitUntil(lambda: "Kept over restarts on battery, in force now" in texts(tune))
    qtbot.waitUntil(lambda: "Not kept, since the kernel doesn't set it: fan level." in " ".join(texts(tune)))
    incident = Incident("it went down", "", "Daily", "5f0c")
    keeper.kept = KeptNow(keeper.kept.profiles, "the machine went down", "", (incident,))
    shown(window, qtbot, keeper)
    tune.profiles.tell_given_up()
    qtbot.waitUntil(lambda: "'Daily' is no longer kept over restarts: the machine went down." in " ".join(texts(tune)))
    button_of(tune.side, "Show the profiles").click()
    button_of(tune.side, "Keep it again").click()
    qtbot.waitUntil(lambda: keeper.told[-1] == ("again", None))
    button_of(tune.side, "Keep nothing over restarts").click()
    qtbot.waitUntil(lambda: keeper.told[-1] == ("off", None))
    qtbot.waitUntil(lambda: not any(text.startswith("Kept over restarts") for text in texts(tune)))


def test_a_plan_comes_back_after_a_crash_where_its_card_is_ticked(
    new_session: Callable[..., Session], open_book: Open, qtbot: QtBot
) -> None:
    session = new_session(quick_rig())
    session.do(RunBaseline(2))
    session.close()
    window = open_book(session.logbook.path)
    tune, keeper, told = window.tune, KeeperInMind("core_clock"), list[str]()
    assert tune is not None
    tune.plans.ask_sweep(tune.book.now.declaration.knob("core_clock"))
    assert not [box for box in tune.side.findChildren(NightConsent) if box.isVisible()], "a simulated rig has no nights"
    tune.book.ask(Use(keeper, WatchdogInMind(told)), lambda _: None, lambda error: None)
    qtbot.waitUntil(lambda: tune.book.now.kept_here is not None)
    tune.plans.ask_sweep(tune.book.now.declaration.knob("core_clock"))
    card = tune.side.findChildren(SweepCard)[-1]
    card.low.setValue(4250.0)
    card.high.setValue(4300.0)
    card.by.setValue(50.0)
    consent = card.findChild(NightConsent)
    assert consent is not None
    assert consent.isVisible()
    consent.tick.click()
    assert any("6 times within an hour" in text for text in texts(tune))
    qtbot.waitUntil(card.run_button.isEnabled)
    card.run_button.click()
    qtbot.waitUntil(lambda: told[-1:] == ["end night"], timeout=60_000)
    assert told == ["guard", "unguard", "end night"], "tried before it begins, taken back at the end"
    ((word, request),) = keeper.told
    assert request is not None
    assert (word, request["an_hour"], request["in_all"]) == ("night", 6, 50)
    assert request["command"][-4:] == ["plan", "go-on", str(session.logbook.path), "--unattended-restarts"]
    assert [record.step.setup["core_clock"] for record in tune.book.now.steps] == [4200.0, 4250.0, 4300.0]


def texts(tune: Any) -> list[str]:
    from PySide6.QtWidgets import QLabel

    return [each.text() for each in tune.side.findChildren(QLabel) if each.isVisible()]
