"""A real Linux computer, read through a hand: this machine, or a folder with the same files."""
