"""The window: everything that needs Qt lives here and nowhere else."""

import sys

if "pydantic" in sys.modules:
    import pydantic.fields  # noqa: F401 - loaded by halves when Qt comes, it could not be loaded to its end: Qt looks into imports
