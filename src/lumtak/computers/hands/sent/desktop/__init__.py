"""Desktops: their keys, and what a display says."""
