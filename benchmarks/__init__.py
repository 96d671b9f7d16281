"""Speed and cost of Yondle, measured; `make bench` prints the table of docs/benchmarks.md."""

import pydantic.fields  # noqa: F401 - before Qt, as in `yondle.desktop`: some of these load a half of it, and Qt after that
