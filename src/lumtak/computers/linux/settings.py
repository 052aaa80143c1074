"""The settings of a real Linux computer.

Which adapter keeps one, and what is recorded is checked before anything is done with it.
"""

import posixpath
from collections.abc import Callable, Collection, Sequence

from lumtak.computers.hands.reach import reason_of
from lumtak.computers.hands.sent.states.states import Exact
from lumtak.computers.hands.whose import Hands, User
from lumtak.computers.linux.adapter import Adapter, check_fits, unfit
from lumtak.computers.linux.clutter import Clutters
from lumtak.computers.linux.folder import UserFolder
from lumtak.computers.linux.root import Root
from lumtak.computers.linux.undo_kit import FileUndoKit
from lumtak.computers.linux.upkeep import acting
from lumtak.computers.linux.watch import Watching
from lumtak.core.emptying import Doubts, Emptied
from lumtak.core.owned import Chosen
from lumtak.core.setting import Area, SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError


class LinuxSettings:
    """See `Settings`.

    Args:
        hands: of the computer.
        user: whose settings are changed.
        adapters: of the computer, in the order of the registry.
    """

    def __init__(self, hands: Hands, user: User, adapters: Sequence[Adapter]) -> None:
        self._hands, self._user, self._root = hands, user, Root(hands)
        self._adapters = adapters

    @property
    def take_root(self) -> tuple[Area, ...]:
        """Areas whose changes take root."""
        return tuple(
            dict.fromkeys(a.area for a in self._adapters if any(kind.root for kind in a.kinds))
        )

    def read(self, ref: SettingRef) -> State:
        """The state of a setting, exact enough to be brought back."""
        return self._keeper(ref).read(ref)

    def foresee(self, ref: SettingRef, state: State) -> State:
        """The state as it will be.

        Files to the byte, links by their targets, values as they are stored.
        """
        return self._settled(ref, state)[1]

    def write(self, ref: SettingRef, state: State, *, believed: bool = False) -> None:
        """Bring a setting to a value, or restore it exactly."""
        adapter, wanted = self._settled(ref, state)
        way = "believed" if believed else "forth" if state.exact is None else "back"
        with self._root.going(way):
            adapter.write(ref, wanted.exact)

    def vouched(self, ref: SettingRef, state: State) -> bool:
        """See `Settings.vouched`: what takes only the user's rights needs no receipt."""
        exact = state.exact
        if not isinstance(exact, Exact):
            return not self.takes_root(ref)
        return not exact.root or self._root.vouches(ref, exact)

    def _settled(self, ref: SettingRef, state: State) -> tuple[Adapter, State]:
        """(who writes it, the exact state to be written).

        What was recorded, by the kind of its state; else what the value comes to here.
        """
        exact = state.exact
        if exact is None:
            adapter = self._keeper(ref)
            foreseen = adapter.foresee(ref, state.value)
            check_fits(ref, _known(ref, foreseen.exact))
            return adapter, foreseen
        check_fits(ref, _known(ref, exact))
        of_kind = [a for a in self._adapters if isinstance(exact, a.kinds)]
        keeper = next((a for a in of_kind if a.has(ref)), None)
        if keeper is None:
            raise unfit(ref, f"it was recorded as {exact.kind}, and nothing here keeps it so now")
        keeper.accept(ref, exact)
        return keeper, state

    def _keeper(self, ref: SettingRef) -> Adapter:
        found = next((a for a in self._adapters if a.has(ref)), None)
        if found is None:
            raise ComputerError(
                f"Nothing here keeps {plain(str(ref))}.",
                "`lumtak audit local` lists what there is.",
            )
        return found

    def in_force(self, ref: SettingRef) -> str:
        """See `Settings.in_force`."""
        return self._keeper(ref).in_force(ref)

    def takes_root(self, ref: SettingRef) -> bool:
        """See `Settings.takes_root`; of storage and upkeep it follows from whose it is, else from
        the area.
        """
        if ref.area not in {"storage", "upkeep"}:
            return ref.area in self.take_root
        keepers = (a for a in self._adapters if a.area == ref.area and a.has(ref))
        return any(kind.root for a in keepers for kind in a.kinds)

    def choose(self, ref: SettingRef, chosen: Chosen) -> None:
        """See `Settings.choose`."""
        keeper = self._keeper(ref)
        if isinstance(keeper, Clutters):
            keeper.choose(ref, chosen)

    def remove_programs(self, names: Sequence[str]) -> tuple[str, ...]:
        """See `Settings.remove_programs`."""
        try:
            gone = self._hands.root().remove_packages(names)
        except OSError as error:
            raise ComputerError(
                f"Nothing was removed: {reason_of(error)}.",
                "`lumtak storage local programs` shows what is installed now.",
            ) from error
        return tuple(gone)

    def note_ceilings(self, cpu_pct: float, ram_pct: float) -> None:
        """See `Settings.note_ceilings`."""
        for adapter in self._adapters:
            if isinstance(adapter, Watching):
                adapter.ceilings = (cpu_pct, ram_pct)

    def hints(self) -> tuple[str, ...]:
        """See `About.hints`."""
        return tuple(h for a in self._adapters if isinstance(a, Watching) for h in a.hints())

    def trim(self) -> dict[str, int]:
        """See `Settings.trim`."""
        return acting.trim(self._hands)

    def reinstall(self, packages: Sequence[str], *, rehearse: bool) -> tuple[str, ...]:
        """See `Settings.reinstall`."""
        return acting.reinstall(self._hands, packages, rehearse=rehearse)

    def gather(self, path: str) -> tuple[int, int]:
        """See `Settings.gather`."""
        return acting.gather(self._hands, path)

    def doubts(self, ref: SettingRef) -> Doubts:
        """See `Settings.doubts`."""
        return self._clutters(ref).doubts(ref)

    def empty(
        self, ref: SettingRef, on_progress: Callable[[Emptied], None], agreed: Collection[int] = ()
    ) -> Emptied:
        """See `Settings.empty`."""
        return self._clutters(ref).empty(ref, on_progress, agreed)

    def _clutters(self, ref: SettingRef) -> Clutters:
        keeper = self._keeper(ref)
        if not isinstance(keeper, Clutters):
            raise ComputerError(
                f"{plain(str(ref))} was never set aside.", "`lumtak storage` lists what was."
            )
        return keeper

    def undo_kit(self) -> FileUndoKit:
        """Leaves the undo script in the user's data folder."""
        folder = UserFolder(self._hands.user, posixpath.join(self._user.data_home, "lumtak-undo"))
        return FileUndoKit(self._user, folder, self._hands)

    def take_rights(self, *, ask: bool) -> None:
        """Have a hand of root, for which sudo may ask on the terminal."""
        self._hands.take(ask=ask)

    def give_back_rights(self) -> None:
        """The hand of root ends."""
        self._hands.give_back()


def _known(ref: SettingRef, exact: object) -> Exact:
    if not isinstance(exact, Exact):
        raise unfit(ref, "its kind is not known")
    return exact
