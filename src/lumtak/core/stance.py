"""What becomes of an item, in a word."""

from typing import Literal

Stance = Literal["keep", "ease", "ask", "guarded", "set"]
"""Needed, or worth its cost; better switched off or started on demand; only the owner can know;
never touched; better set to another value, though nothing is switched off."""
MAY_CHANGE: frozenset[Stance] = frozenset({"ease", "set", "ask"})
PROPOSED: frozenset[Stance] = frozenset({"ease", "set"})
"""What takes no answer of the owner."""
