"""Two knobs with a risky end, one on either side."""

from yondle.model.knobs import Knob, Risk, Subsystem

CLOCK = Knob("core_clock", "Core clock", "MHz", Subsystem.PROCESSOR, 3600, 5200, 25, 4200, risk=Risk.UP)
VOLTAGE = Knob("core_voltage", "Core voltage", "V", Subsystem.PROCESSOR, 0.9, 1.4, 0.005, 1.2, 3, risk=Risk.DOWN)
