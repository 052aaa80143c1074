"""Whoever asks a hand: an attribute for each operation of the table, near or far."""

from collections.abc import Callable
from typing import Any

from lumtak.computers.hands.sent.hand import Hand
from lumtak.computers.hands.sent.operations import OPERATIONS, REQUIRED, Operation


def filled(operation: Operation, given: tuple[object, ...], named: dict[str, object]) -> list[Any]:
    """All arguments of an operation in their order, with the table's own where none was given.

    Raises:
        TypeError: one is missing, or is none of this operation.
    """
    found = list(given)
    for one in operation.given[len(given) :]:
        value = named.pop(one.name, one.default)
        if value is REQUIRED:
            raise TypeError(f"{operation.name} takes {one.name}")
        found.append(value)
    if named or len(found) > len(operation.given):
        raise TypeError(f"{operation.name} does not take all of that")
    return found


class Asking:
    """Gives what asks for an operation, as an attribute of its name; made once."""

    def asker(self, operation: Operation) -> Callable[..., Any]:
        """What asks for it."""
        raise NotImplementedError

    def __getattr__(self, name: str) -> Any:
        operation = OPERATIONS.get(name)
        if operation is None:
            raise AttributeError(name)
        asker = self.asker(operation)
        self.__dict__[name] = asker
        return asker


class Near(Asking):
    """A hand in this process: held to the table like any other.

    Args:
        hand: acts.
    """

    def __init__(self, hand: Hand) -> None:
        self.hand, self.live = hand, hand.live

    def asker(self, operation: Operation) -> Callable[..., Any]:
        """See `Asking`."""

        def ask(*given: object, **named: object) -> object:
            return self.hand.asked(operation.name, filled(operation, given, named))

        return ask
