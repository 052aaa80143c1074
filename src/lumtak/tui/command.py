"""Something that can be done on a screen, as the palette offers it."""

from collections.abc import Callable
from typing import NamedTuple


class Command(NamedTuple):
    """Something that can be done on a screen."""

    words: str
    run: Callable[[], object]
    about: str = ""
    key: str = ""
    """The name of its key, or the key itself where it is fixed."""
