"""The command line: thin commands over the operations in app/."""
