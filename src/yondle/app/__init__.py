"""The composition root and the operations; window and command line are two thin faces over it."""
