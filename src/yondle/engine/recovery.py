"""After a start: what became of attempts that were never closed, judged by the journal and the machine's boot."""

from __future__ import annotations

from typing import Any

from yondle.analysis.judging import failed, kept_of_it, of_the_start
from yondle.language.saying import later, say
from yondle.model.acts import Act
from yondle.model.quantities import duration
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import COMPARED_STAGE
from yondle.model.verdicts import Failure, Outcome


def judge_unclosed(
    declaration: RigDeclaration,
    boot_then: str,
    boot_now: str,
    last_act: Act,
    detail: dict[str, Any],
    last_sample_s: float | None,
    signs: tuple[str, ...] = (),
    at_home: bool = False,
) -> Outcome:
    """Judge an unclosed attempt: another boot means the machine went down at that act, the same one an interruption.

    `last_act` and `detail` are the journal's last entry of the attempt, `last_sample_s` the time of its last sample,
    `signs` what the machine kept of a crash, `at_home` that the values it started from were in force.
    """
    where, stage, after_s = _where(declaration, last_act, detail, last_sample_s)
    stage = COMPARED_STAGE if at_home else stage
    if boot_now == boot_then:
        reason = say(
            "Yondle was interrupted {where}; the machine stayed up, so this says nothing about the setting.",
            where=where,
        )
        return failed(Failure.INTERRUPTED, reason, stage, after_s)
    reason = say("The machine went down {where} and has restarted since.{kept}", where=where, kept=kept_of_it(signs))
    return of_the_start(failed(Failure.RESTARTED, reason, stage, after_s))


def _where(
    declaration: RigDeclaration, last_act: Act, detail: dict[str, Any], last_sample_s: float | None
) -> tuple[str, str, float | None]:
    match last_act:
        case Act.STEP_OPENED:
            return say("before anything was set"), later("opening"), None
        case Act.APPLY_OPENED:
            return say("while the values were being set"), later("setting"), None
        case Act.PASS_OPENED:
            stage = str(detail.get("stage", ""))
            name = declaration.workload(str(detail.get("workload"))).name
            began = float(detail.get("t", 0.0))
            if last_sample_s is None or last_sample_s <= began:
                return say("in the first moments of {name}", name=name), stage, 0.0
            after = last_sample_s - began
            return say("at least {after} into {name}", after=duration(after), name=name), stage, after
        case Act.SETTLE_OPENED:
            return say("while it was cooling down"), later("cooling down"), None
        case _:
            return say("between passes"), later("between passes"), None
