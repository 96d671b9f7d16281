"""A seeded physical model of a PC on a virtual clock; see docs/rig-model.md."""
