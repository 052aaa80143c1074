"""When something was thrown away. Source: XDG Trash Specification 1.0.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import os
import re
import time

from lumtak.computers.hands.sent.files.places import read_most

_MOST_INFO = 1 << 16


def thrown_at(folder: int, name: str) -> float:
    """When, by the file that says so; 0 where it does not."""
    descriptor = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=folder)
    try:
        data = read_most(descriptor, _MOST_INFO)
    finally:
        os.close(descriptor)
    said = re.search(rb"^DeletionDate=(\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d)", data, re.MULTILINE)
    if said is None:
        return 0.0
    try:
        return time.mktime(time.strptime(said[1].decode(), "%Y-%m-%dT%H:%M:%S"))
    except (ValueError, OverflowError):
        return 0.0
