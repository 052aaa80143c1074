"""Computers that can be worked on: one protocol, and each kind in a folder of its own."""
