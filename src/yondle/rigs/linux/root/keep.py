"""The service that keeps profiles in force, and what tells it which: `python3 -I keep.py`, with `set`, `off` or `again`."""

import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent))

if len(sys.argv) > 1:
    from helper.keeping import main  # type: ignore[import-not-found]

    main(sys.argv[1:], Path("/"))
else:
    from helper.keeper import live  # type: ignore[import-not-found]

    live(Path("/"))
