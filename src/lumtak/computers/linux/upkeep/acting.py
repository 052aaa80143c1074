"""What upkeep does when it is asked to: packages unpacked once more, files put together, disks told
what is free. Each is an action, done by the hand whose right it is.
"""

import errno
from collections.abc import Sequence

from lumtak.computers.hands.reach import reason_of, text
from lumtak.computers.hands.sent.table import APT
from lumtak.computers.hands.whose import Hands
from lumtak.computers.linux import hardware
from lumtak.computers.linux.upkeep.volumes import volumes
from lumtak.core.record import NotMeasured
from lumtak.core.text import plain
from lumtak.errors import ComputerError

_REHEARSAL = (*APT, "--reinstall", "install", "--")
_REFUSED = {errno.EOPNOTSUPP, errno.ENOTTY, errno.EINVAL, errno.EROFS}
"""That is, this volume takes no word of what is free."""
_MOST = 40


def reinstall(hands: Hands, packages: Sequence[str], *, rehearse: bool) -> tuple[str, ...]:
    """See `Settings.reinstall`: what the package manager would do, line by line, or what was done.

    Raises:
        ComputerError: it would not, or did not.
    """
    names = ", ".join(plain(p, 80) for p in packages[:5])
    try:
        if not rehearse:
            return tuple(hands.root().reinstall_packages(packages))
        said = text(hands.own.run((*_REHEARSAL, *packages), 300.0))
    except OSError as error:
        raise ComputerError(
            f"{names} cannot be installed again from what is here: {reason_of(error)}.",
            "Fetch the archives first (apt-get install --reinstall --download-only NAME), then try"
            " again.",
        ) from error
    lines = [line for line in said.splitlines() if line.startswith(("Inst ", "Remv "))]
    removed = [line for line in lines if line.startswith("Remv ")]
    if removed:
        raise ComputerError(f"Something would go with it: {plain(removed[0], 200)}.", "See apt.")
    return tuple(plain(line, 200) for line in lines[:_MOST])


def gather(hands: Hands, path: str) -> tuple[int, int]:
    """See `Settings.gather`: on a spinning disk only, and where there is room.

    Raises:
        ComputerError: it is another disk, or the file stays where it lies.
    """
    kind = hardware.disk_kind(hands.own)
    if isinstance(kind, NotMeasured):
        raise ComputerError(f"Nothing was moved: {kind.not_measured}.", "Leave it as it is.")
    if kind != "spinning":
        raise ComputerError(
            "Nothing was moved: on a solid-state disk putting files together makes nothing faster,"
            " and wears it.",
            "Leave it as it is.",
        )
    try:
        before, now = hands.user.gather(path)
    except OSError as error:
        raise ComputerError(
            f"{plain(path, 200)} stays as it lies: {reason_of(error)}.", "Nothing was lost."
        ) from error
    return before, now


def trim(hands: Hands) -> dict[str, int]:
    """See `Settings.trim`."""
    takes = [
        v for v in volumes(hands.own) if v.discards and not v.spinning and "ro" not in v.options
    ]
    if not takes:
        raise ComputerError(
            "Nothing here is to be trimmed: no disk takes word of what is free.",
            "Spinning disks need none.",
        )
    told: dict[str, int] = {}
    why = ""
    for volume in takes:
        try:
            told[volume.place] = hands.root().trim(volume.place)
        except OSError as error:
            why = f"{volume.place}: {reason_of(error)}"
            if error.errno not in _REFUSED:
                break
    if not told:
        raise ComputerError(f"No disk was told what is free on it: {why}.", "See its kind.")
    return told
