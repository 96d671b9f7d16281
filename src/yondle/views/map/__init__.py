"""Two knobs together."""
