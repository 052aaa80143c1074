"""Computers that ship with Lumtak: a load model with a clock of its own."""
