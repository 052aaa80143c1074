"""The shell of the undo scripts."""
