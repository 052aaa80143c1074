"""A real Linux computer, read through a transport: this machine, or a folder with the same files."""
