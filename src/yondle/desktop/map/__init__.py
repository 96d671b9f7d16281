"""Map: two knobs at once."""
