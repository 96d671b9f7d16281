"""The window: everything that needs Qt lives here and nowhere else."""
