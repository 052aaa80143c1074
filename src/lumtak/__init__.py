"""Lumtak: a workbench for computer technicians."""

__version__ = "0.1.0"
