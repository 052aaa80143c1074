"""Hostile input of every kind that Lumtak reads, in process and from a seed: `make fuzz`."""
