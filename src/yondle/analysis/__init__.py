"""Pure functions on figures and traces: spread, gains with margins, scaling, chance to hold, verdicts."""
