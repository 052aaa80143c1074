"""The tasks of upkeep on a real Linux computer, a file each."""
