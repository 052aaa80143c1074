"""Memory: the kernel's readiness to swap and its relatives, now and over a restart; and what swap there is."""

import base64

from lumtak.computers.hands.reach import Reach, text
from lumtak.computers.hands.states import FILE, LIVE
from lumtak.computers.hands.table import KERNEL, sysctl_file, sysctl_text
from lumtak.computers.linux.known_states import check_kind
from lumtak.computers.linux.root import Root
from lumtak.computers.linux.swap import KEY as SWAP
from lumtak.computers.linux.swap import Swap
from lumtak.core.facts import Fixed, Item, Setting
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError

_TITLES = {
    "swappiness": "Readiness to swap",
    "vfs_cache_pressure": "Readiness to forget names of files",
}


class MemorySettings:
    """Settings of one kernel.

    Args:
        hand: of the computer.
        root: does what takes root.
    """

    def __init__(self, hand: Reach, root: Root) -> None:
        self._hand = hand
        self._root = root
        self._swap = Swap(hand, root)

    def items(self, sizes: dict[str, int]) -> list[Item]:
        """The settings that this kernel has, and the size of swap."""
        why = self._root.why_not()
        items = []
        for name, (lowest, highest) in KERNEL.items():
            value = self._live(name)
            if value is not None:
                items.append(
                    Item(
                        area="memory",
                        key=name,
                        title=_TITLES[name],
                        origin="system",
                        value=value,
                        running=True,
                        setting=Fixed(needed=why) if why else Setting(lowest=lowest, highest=highest),
                    )
                )
        return [*items, self._swap.item(sizes)]

    def _live(self, name: str) -> str | None:
        try:
            value = text(self._hand.read(f"/proc/sys/vm/{name}")).strip()
        except OSError:
            return None
        return value if value.lstrip("-").isdigit() else None

    # -- the setting --------------------------------------------------------------------------------------------------

    @staticmethod
    def _place(ref: SettingRef) -> str:
        if ref.key not in KERNEL:
            raise ComputerError(f"{plain(str(ref))} cannot be changed here.", "`lumtak audit local` says what can be.")
        return sysctl_file(ref.key)

    def read(self, ref: SettingRef) -> State:
        """The value that is in force, and Lumtak's own file that keeps one over a restart."""
        if ref.key == SWAP:
            return self._swap.read()
        path = self._place(ref)
        value = self._live(ref.key)
        if value is None:
            raise ComputerError(f"{ref} cannot be read: this kernel has no such setting.", "Audit the computer again.")
        try:
            file = base64.b64encode(self._hand.read(path)).decode()
        except FileNotFoundError:
            file = ""
        except OSError as error:
            raise ComputerError(f"{path} cannot be read.", "See who may read it.") from error
        return State(value=value, exact=_exact(ref.key, path, value, file))

    def foresee(self, ref: SettingRef, state: State) -> State:
        """The value, and the file that keeps it."""
        if ref.key == SWAP:
            return self._swap.foresee(ref, state)
        if state.exact is not None:
            check_kind(ref, state, ("sysctl",), "it is a value of the kernel")
            return state
        value = state.value or ""
        lowest, highest = KERNEL.get(ref.key, (0, -1))
        if not value.isdigit() or not lowest <= int(value) <= highest:
            raise ComputerError(f"{ref} cannot be {plain(value) or 'unset'}.", f"Choose from {lowest} to {highest}.")
        file = base64.b64encode(sysctl_text(ref.key, value)).decode()
        return State(value=value, exact=_exact(ref.key, self._place(ref), value, file))

    def write(self, ref: SettingRef, state: State) -> None:
        """The file first, so that no restart in between brings the old value back unseen; then the kernel."""
        if ref.key == SWAP:
            self._swap.write(ref, state)
            return
        exact = self.foresee(ref, state).exact or {}
        path = self._place(ref)
        if exact[FILE]:
            self._root.put(path, base64.b64decode(exact[FILE]))
        else:
            self._root.remove(path)
        self._root.set_kernel(f"/proc/sys/vm/{ref.key}", exact[LIVE])


def _exact(name: str, path: str, live: str, file: str) -> dict[str, str]:
    return {"kind": "sysctl", "kernel": f"/proc/sys/vm/{name}", "file": path, LIVE: live, FILE: file}
