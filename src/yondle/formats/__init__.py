"""What Yondle's own TOML files share: reading one from disk, validating it, and the table that describes a knob's values."""
