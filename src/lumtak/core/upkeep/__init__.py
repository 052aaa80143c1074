"""Upkeep: tasks that take long and run beside other work; what they found, when they are due."""
