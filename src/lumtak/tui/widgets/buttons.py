"""Left and right between the buttons of a row."""

from typing import Any

from textual.binding import Binding
from textual.screen import Screen
from textual.widgets import Button


def to_button(screen: "Screen[Any]", steps: int) -> bool:
    """From the button that is lit to the next one of its row that can be pressed.

    Whether a button is lit at all; at either end it stays.
    """
    here = screen.focused
    if not isinstance(here, Button) or here.parent is None:
        return False
    row = [
        b
        for b in here.parent.children
        if isinstance(b, Button) and b.display and (not b.disabled or b is here)
    ]
    place = row.index(here) + steps
    if 0 <= place < len(row):
        screen.set_focus(row[place])
    return True


BESIDE = (
    Binding("left", "beside(-1)", "The button before", show=False),
    Binding("right", "beside(1)", "The next button", show=False),
)


class Beside:
    """A screen on which these keys do that."""

    def action_beside(self, steps: int) -> None:
        """Between the buttons."""
        if isinstance(self, Screen):
            to_button(self, steps)
