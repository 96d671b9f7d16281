"""The goal of a logbook: what its tuner wants, kept for the ways that are told and the climbs that are begun."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.app.session.commands import Command, WhileTesting
from yondle.app.session.session import Session
from yondle.formats.documents import WantedGoal
from yondle.planning.goals.goal import Goal, checked_goal
from yondle.planning.plan_files import goal_text


@dataclass(frozen=True)
class WantGoal(Command[None]):
    """Keep a goal; raises KnownError for one that makes no sense on this rig."""

    goal: Goal
    while_testing = WhileTesting.AT_NEXT_READING

    def do(self, session: Session) -> None:
        """Keep it."""
        session.keep(WantedGoal(goal_text(session.declaration, checked_goal(self.goal, session.declaration))))
