"""A hand at the other end of two pipes: the operations of the table, with every answer checked."""

from collections.abc import Callable, Iterator
from typing import Any

from lumtak.computers.hands.asking import Asking, filled
from lumtak.computers.hands.channel import Channel, More
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.operations import Operation, misfit, no_answer

_MOST_PARTS = 100_000


class Piped(Channel, Asking):
    """See `Channel` for what it takes, `sent.operations` for what can be asked for.

    An answer in parts is ended by whoever stops listening, and the hand with it.
    """

    def about(self) -> dict[str, int]:
        """See `Hand.about`: what it said as it began."""
        self.open()
        return self._about

    def asker(self, operation: Operation) -> Callable[..., Any]:
        """See `Asking`."""

        def ask(*given: object, **named: object) -> object:
            whole = filled(operation, given, named)
            # What it would refuse is not even sent.
            if why := misfit(operation, whole):
                raise RefusalError(why)
            return self._parts(operation, whole) if operation.parts else self._one(operation, whole)

        return ask

    def _within_s(self, operation: Operation, given: list[Any]) -> float:
        named = zip(operation.given, given, strict=True)
        more = next((value for one, value in named if one.name == operation.waits), 0.0)
        return operation.within_s + float(more)

    def _one(self, operation: Operation, given: list[Any]) -> Any:
        within_s = self._within_s(operation, given)
        value = self.ask(operation.name, *given, answer_s=within_s)
        return self.checked(value, lambda v: not no_answer(operation, given, v))

    def _parts(self, operation: Operation, given: list[Any]) -> Iterator[Any]:
        """The parts of an answer, each of its kind; who stops before the last ends the hand."""
        within_s = operation.within_s
        with self._lock:
            part, ended = self.ask(operation.name, *given, answer_s=within_s), False
            try:
                for _ in range(_MOST_PARTS):
                    if not isinstance(part, More):
                        ended = True
                        return
                    yield self.checked(part.value, lambda v: not operation.answer.why_not(v))
                    with self.plainly():
                        part = self.answer(within_s)
            except RefusalError:
                ended = True
                raise
            finally:
                if not ended:
                    self.close()
