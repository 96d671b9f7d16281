"""A machine that runs no Yondle: its knobs are described by its tuner, its figures come from tables and fingers."""
