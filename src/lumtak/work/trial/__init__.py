"""Trials on a computer: what is refused, what is switched, what is measured, what is kept."""
