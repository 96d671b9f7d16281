"""Climbs toward a goal: what is wanted, what was learnt, what is believed of it, what is worth trying, and the moves."""
