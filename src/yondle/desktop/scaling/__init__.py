"""Scaling: what each knob is worth, benchmark by benchmark."""
