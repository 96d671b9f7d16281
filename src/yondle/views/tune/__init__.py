"""The trail, one step, the proposal, rulers and the chart against the knob in play."""
