"""What was set aside, deleted for good. Sent with the hand: the language of Python 3.8."""

from __future__ import annotations

import errno
import os
import stat
from typing import List

from lumtak.computers.hands.sent.files.diving import Dive, LostError
from lumtak.computers.hands.sent.files.kernel import FOLDER, may_enter, open_inside


def delete(folder: int, name: str) -> bool:
    """A file, a link, or a folder with all that is in it is gone; whether it was there."""
    try:
        os.unlink(name, dir_fd=folder)
    except FileNotFoundError:
        return False
    except (IsADirectoryError, PermissionError):
        about = os.stat(name, dir_fd=folder, follow_symlinks=False)
        if not stat.S_ISDIR(about.st_mode):
            raise
        _delete_folder(folder, name)
    return True


def _delete_folder(above: int, name: str) -> None:
    may_enter(above, name)
    with Dive(open_inside(above, name, FOLDER)) as dive:
        dive.here.data = _unlinked(dive.here.descriptor)
        while dive.here.data or len(dive.way) > 1:
            here = dive.here.descriptor
            if dive.here.data:
                inner = dive.here.data.pop()
                may_enter(here, inner)
                level = dive.down(inner)
                if level is None:
                    raise OSError(errno.EXDEV, "something is mounted in what is being emptied")
                level.data = _unlinked(level.descriptor)
                continue
            try:
                gone = dive.up()
            except LostError as error:
                raise OSError(errno.EBUSY, "what is being emptied was moved") from error
            os.rmdir(gone.name, dir_fd=dive.here.descriptor)
    os.rmdir(name, dir_fd=above)


def _unlinked(folder: int) -> List[str]:
    """Every file of a folder is gone; the folders in it."""
    inner = []
    for name in os.listdir(folder):
        about = os.stat(name, dir_fd=folder, follow_symlinks=False)
        if stat.S_ISDIR(about.st_mode):
            inner.append(name)
        else:
            os.unlink(name, dir_fd=folder)
    return inner
