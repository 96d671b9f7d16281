"""A whole machine that really goes down: a small Debian under an emulator, driven over its serial line (`make vm-test`)."""
