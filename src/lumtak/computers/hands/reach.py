"""What adapters know of hands.

The operations they use, small helpers over them, and the hands of one computer.
"""

from lumtak.computers.hands.sent.files.places import NotOrdinaryError, RefusalError, real_path
from lumtak.core.text import plain

__all__ = [
    "NotOrdinaryError",
    "Reach",
    "RefusalError",
    "names_at",
    "real_path",
    "reason_of",
    "runs_systemd",
    "text",
    "text_at",
]


from lumtak.computers.hands.operations_asked import Reach


def text(data: bytes) -> str:
    """Bytes of a computer as text; what is not UTF-8 shows as U+FFFD."""
    return data.decode("utf-8", "replace")


def text_at(hand: Reach, path: str, most: int = 1 << 16) -> str:
    """What a small file says, blanks around it left out.

    Empty where it is not there or may not be read.
    """
    try:
        return text(hand.read(path, most)).strip()
    except OSError:
        return ""


def reason_of(error: BaseException) -> str:
    """What an operation failed for, for a person."""
    said = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
    return plain(said, 200)


def names_at(hand: Reach, folder: str) -> list[str]:
    """What a folder holds; nothing where it is not there or may not be read."""
    try:
        return hand.names(folder)
    except OSError:
        return []


def runs_systemd(hand: Reach) -> bool:
    """Whether systemd manages this computer; sd_booted(3)."""
    try:
        hand.names("/run/systemd/system")
    except OSError:
        return False
    return True
