"""What is done to a computer that is no setting: actions, each asked for."""

from collections.abc import Callable, Collection, Sequence
from typing import Protocol

from lumtak.core.emptying import Doubts, Emptied
from lumtak.core.setting import SettingRef


class Acts(Protocol):
    """Part of `Settings`."""

    def remove_programs(self, names: Sequence[str]) -> tuple[str, ...]:
        """Packages are removed, and nothing along with them; gives those that are gone.

        Raises:
            ComputerError: it was refused or failed.
        """
        ...

    def doubts(self, ref: SettingRef) -> Doubts:
        """What emptying would delete of what was set aside under this key, and what speaks against
        it.

        Raises:
            ComputerError: nothing is held under it, or it cannot be looked at.
        """
        ...

    def empty(
        self, ref: SettingRef, on_progress: Callable[[Emptied], None], agreed: Collection[int] = ()
    ) -> Emptied:
        """What was set aside under this key is looked at again and deleted, for good, as far as
        nothing speaks against it; told about four times a second.

        Args:
            ref: of the setting.
            on_progress: told how far it is.
            agreed: numbers of pieces that go though no other copy of them is left.

        Raises:
            ComputerError: nothing is held under it, or it cannot be deleted.
        """
        ...

    def reinstall(self, packages: Sequence[str], *, rehearse: bool) -> tuple[str, ...]:
        """Packages are unpacked once more from what is here, nothing is fetched; or rehearsed."""
        ...

    def gather(self, path: str) -> tuple[int, int]:
        """A user's file lies in as few pieces as can be: (before, now); ComputerError: it stays."""
        ...

    def trim(self) -> dict[str, int]:
        """Solid-state disks are told what is free on them: bytes by where each is mounted.

        Raises:
            ComputerError: none takes word of it, or it was refused.
        """
        ...

    def note_ceilings(self, cpu_pct: float, ram_pct: float) -> None:
        """From this load on a watch that is switched on from now on tells the owner."""
        ...
