"""What a logbook about a machine across the room keeps besides its steps, and how such a machine is made ready."""

from __future__ import annotations

import secrets

from yondle.app.machine.clocks import RealClock
from yondle.app.machine.hands import NobodyThere
from yondle.app.machine.machines import Machine, RigChoice, by_hand_of, with_by_hand
from yondle.formats.documents import BenchAcross, Documents, RunSettings
from yondle.logbook.keeping import Keeping
from yondle.model.rigs import RigDeclaration
from yondle.rigs.bench.rig import BenchRig, BenchSettings
from yondle.rigs.bench.ssh import address_of


def make_bench(choice: RigChoice, documents: Documents | None = None, known: RigDeclaration | None = None) -> Machine:
    """Reach a bench; raises KnownError with what stands against it, but where it is `known` and may only be away."""
    kept = documents.of(BenchAcross) if documents is not None else BenchAcross()
    run = documents.of(RunSettings) if documents is not None else RunSettings()
    settings = BenchSettings(run.nice, run.memory_mib, tuple(run.processors))
    own = RealClock()
    bench = BenchRig(address_of(choice.definition.partition("\n")[0]), own, settings, known, kept.session)
    if known is not None and bench.away:
        return Machine(bench, bench.clock, NobodyThere(), bench=bench)
    return Machine(with_by_hand(bench, by_hand_of(choice)), bench.clock, NobodyThere(), bench=bench)


def keep_session(keeping: Keeping) -> None:
    """See that the logbook has a name by which its bench knows it: an agent of the same name whose line is dead is ended."""
    kept = keeping.document(BenchAcross)
    if not kept.session:
        keeping.keep(kept.model_copy(update={"session": secrets.token_hex(12)}))
