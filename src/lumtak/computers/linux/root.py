"""What takes root, by the hand of root, which holds it against its own table whoever asks."""

import contextlib
from collections.abc import Iterator

from lumtak.computers.hands.reach import reason_of
from lumtak.computers.hands.sent.states.exact import Exact, OfRoot
from lumtak.computers.hands.whose import Hands
from lumtak.core.setting import SettingRef
from lumtak.core.text import plain
from lumtak.errors import ComputerError


class Root:
    """Changes the system of one computer.

    Args:
        hands: of the computer.
    """

    def __init__(self, hands: Hands) -> None:
        self._hands = hands

    def why_not(self) -> str:
        """Why nothing that takes root can be done here, as a clause.

        Empty where it can be, perhaps after a password.
        """
        return self._hands.why_no_root

    @contextlib.contextmanager
    def going(self, way: str) -> Iterator[None]:
        """While it lasts root is asked to go this way; see `Settling.change`."""
        kept, self._hands.way = self._hands.way, way
        try:
            yield
        finally:
            self._hands.way = kept

    def bring(self, ref: SettingRef, before: object, wanted: OfRoot) -> None:
        """A setting is in this state.

        Args:
            ref: of the setting.
            before: the exact state that stands now.
            wanted: the one that is to stand.

        Raises:
            ComputerError: it was refused, or failed; what stands then is only known by a look.
        """
        if not isinstance(before, Exact):
            raise ComputerError(f"{plain(str(ref))} cannot be read.", "Audit the computer again.")
        root = self._hands.root()
        try:
            root.change(ref.area, ref.key, before.said(), wanted.said(), self._hands.way)
        except OSError as error:
            by_hand = wanted.by_hand()
            raise ComputerError(
                f"{plain(str(ref))}: {plain(reason_of(error), 400)}.",
                f"If it is to be so all the same, a person can type: {plain(by_hand, 4000)}"
                if by_hand
                else "`lumtak drift COMPUTER` shows how it stands now; the log has the rest.",
            ) from error

    def vouches(self, ref: SettingRef, wanted: Exact) -> bool:
        """Whether root has a receipt that a setting was in this state.

        Raises:
            ComputerError: root cannot be asked.
        """
        root = self._hands.root()
        try:
            return root.vouched(ref.area, ref.key, wanted.said())
        except OSError as error:
            raise ComputerError(
                f"Root could not be asked about {plain(str(ref))}: {reason_of(error)}.",
                "Try again.",
            ) from error
