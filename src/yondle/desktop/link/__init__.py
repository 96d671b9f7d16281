"""Between threads: commands to the owner of the logbook, records from it, and libraries loaded meanwhile."""
