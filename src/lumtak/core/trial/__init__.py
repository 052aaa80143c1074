"""Trials: one change switched on and off in random order, and what that says.

`design` fixes everything before the first block: pairs, order, looks and how much error each may
spend. `inference` says what the blocks show, by the orders that could have been drawn.
"""

from lumtak.core.trial.design import Design, design
from lumtak.core.trial.inference import Shown, could_show, shown

__all__ = ["Design", "Shown", "could_show", "design", "shown"]
