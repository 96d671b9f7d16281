"""Yondle's helper: the small program that runs as root and sets what only root may set. Standard library only.

`server.py` talks, `found.py`, `cards.py` and `maker.py` know what a machine may have, `interfaces.py` how a value is read and
written.
Its threat model is docs/helper.md. Files and their meaning are those of the kernel's Documentation: ABI/testing/sysfs-*,
admin-guide/pm, hwmon, gpu.
"""

VERSION = 2
