"""A folder that goes back to where somebody has made one of its name anew: what is in it goes into
that, piece by piece, and nothing is replaced. Sent with the hand: the language of Python 3.8.
"""

from __future__ import annotations

import contextlib
import os
import stat

from lumtak.computers.hands.sent.files.kernel import FOLDER, move_new, only_roots

_DEEPEST = 100


def merge(here: int, name: str, there: int, new: str, root: bool, depth: int = 0) -> bool:
    """Move what is in one folder into another, as far as nothing stands there; whether all of it
    went, and with it the folder.

    Args:
        here: holds the folder that goes back.
        name: of that folder.
        there: holds the folder that it goes into.
        new: the name of that.
        root: whether nothing goes into a folder that others can change.
        depth: how far down this is.
    """
    with contextlib.ExitStack() as open_now:
        try:
            source = os.open(name, FOLDER, dir_fd=here)
            open_now.callback(os.close, source)
            target = os.open(new, FOLDER, dir_fd=there)
            open_now.callback(os.close, target)
        except OSError:
            return False  # a file or a link stands there
        if depth > _DEEPEST or (root and not only_roots(os.fstat(target))):
            return False
        whole = True
        for child in os.listdir(source):
            try:
                move_new(source, child, target, child)
            except FileExistsError:
                about = os.stat(child, dir_fd=source, follow_symlinks=False)
                inner = stat.S_ISDIR(about.st_mode)
                whole &= inner and merge(source, child, target, child, root, depth + 1)
    if whole:
        os.rmdir(name, dir_fd=here)
    return whole
