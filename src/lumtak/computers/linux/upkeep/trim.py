"""Solid-state disks are told what is free on them: an action, done by root's hand."""

import errno

from lumtak.computers.hands.reach import reason_of
from lumtak.computers.hands.whose import Hands
from lumtak.computers.linux.upkeep.volumes import volumes
from lumtak.errors import ComputerError

_REFUSED = {errno.EOPNOTSUPP, errno.ENOTTY, errno.EINVAL, errno.EROFS}
"""That is, this volume takes no word of what is free."""


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
