"""Memory: the kernel's readiness to swap and its relatives, now and over a restart."""

from lumtak.computers.hands.reach import text
from lumtak.computers.hands.sent.states.states import KernelValue
from lumtak.computers.hands.sent.table import KERNEL, sysctl_file, sysctl_text
from lumtak.computers.linux.adapter import Listed, Look, RootAdapter
from lumtak.core.facts import Fixed, Item, Setting
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import number, plain
from lumtak.errors import ComputerError

_TITLES = {
    "swappiness": "Readiness to swap",
    "vfs_cache_pressure": "Readiness to forget names of files",
}


class MemorySettings(RootAdapter):
    """Settings of one kernel."""

    area = "memory"
    kinds = (KernelValue,)

    def items(self, look: Look) -> Listed:
        """The settings that this kernel has."""
        del look
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
                        setting=(
                            Fixed(needed=why) if why else Setting(lowest=lowest, highest=highest)
                        ),
                    )
                )
        return Listed(items)

    def _live(self, name: str) -> str | None:
        try:
            value = text(self._hand.read(f"/proc/sys/vm/{name}")).strip()
        except OSError:
            return None
        return value if number(value.removeprefix("-")) is not None else None

    # -- the setting -------------------------------------------------------------------------------

    def read(self, ref: SettingRef) -> State:
        """The value that is in force, and Lumtak's own file that keeps one over a restart."""
        _bounds(ref)
        value = self._live(ref.key)
        if value is None:
            raise ComputerError(
                f"{ref} cannot be read: this kernel has no such setting.",
                "Audit the computer again.",
            )
        path = sysctl_file(ref.key)
        try:
            kept: bytes | None = self._hand.read(path)
        except FileNotFoundError:
            kept = None
        except OSError as error:
            raise ComputerError(f"{path} cannot be read.", "See who may read it.") from error
        return State(value=value, exact=KernelValue(ref.key, value, kept))

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """The value, and the file that keeps it."""
        wanted = value or ""
        lowest, highest = _bounds(ref)
        size = number(wanted)
        if size is None or not lowest <= size <= highest:
            raise ComputerError(
                f"{ref} cannot be {plain(wanted) or 'unset'}.",
                f"Choose from {lowest} to {highest}.",
            )
        return State(value=wanted, exact=KernelValue(ref.key, wanted, sysctl_text(ref.key, wanted)))


def _bounds(ref: SettingRef) -> tuple[int, int]:
    """(lowest, highest) of a value of the kernel.

    Raises:
        ComputerError: it is none that Lumtak sets.
    """
    if ref.key not in KERNEL:
        raise ComputerError(
            f"{plain(str(ref))} cannot be changed here.", "`lumtak audit local` says what can be."
        )
    return KERNEL[ref.key]
