"""A machine across the room: its agent, the line to it, and the rig that is made of both (docs/bench.md)."""
