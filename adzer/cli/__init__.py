"""The command line: everything that the desk does, without it."""
