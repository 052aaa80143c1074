"""Widgets of Lumtak's own."""
