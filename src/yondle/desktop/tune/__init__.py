"""Tune, where the work is done: rulers, trail, next step, its chart, and one presenter a card."""
