"""Programs that are run."""
