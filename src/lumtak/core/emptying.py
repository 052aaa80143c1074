"""What was set aside, deleted for good: what speaks against it, and what became of it."""

from collections import Counter
from collections.abc import Iterable

from lumtak.core.record import Record
from lumtak.core.text import plain
from lumtak.core.units import counted, ram


class Emptied(Record):
    """What was deleted of what had been set aside."""

    files: int
    bytes: float
    """That became free."""
    held: int = 0
    """Files that are held still."""
    left: dict[str, int] = {}
    """Files by the reason why they stay."""
    named: tuple[tuple[str, str], ...] = ()
    """(where, why) of some that stay."""

    @property
    def stays(self) -> str:
        """What stays, and why; a clause, empty for nothing."""
        if not self.left:
            return ""
        parts = [f"{counted(n, 'file')} {why}" for why, n in sorted(self.left.items())]
        such = f", such as {plain(self.named[0][0], 120)}" if self.named else ""
        return f"{', '.join(parts)}{such}"


class Doubts(Record):
    """What emptying would delete now, and what speaks against it; looked at just before."""

    files: int
    bytes: float
    """That would become free."""
    pieces: int
    last: tuple[tuple[int, str], ...] = ()
    """(number of the piece, file) where no other copy is left, though one was to stay: it is only
    deleted where somebody says yes to just that."""
    more_last: int = 0
    only: tuple[tuple[str, str], ...] = ()
    """(what, where) of what may be the only copy of something."""
    more_only: int = 0
    whole: bool = True
    """Whether all of it could be looked through for that."""
    left: dict[str, int] = {}
    """Files that stay in any case, by the reason why."""
    named: tuple[tuple[str, str], ...] = ()

    def in_words(self) -> list[str]:
        """What is said before anything is deleted, but of last copies, which are asked about one by
        one; a sentence each.
        """
        said = [f"{counted(self.files, 'file')} would be deleted, {ram(self.bytes)} become free."]
        if self.only:
            such = ", ".join(f"{what} ({plain(at, 100)})" for what, at in self.only[:3])
            more = len(self.only) - 3 + self.more_only
            said.append(f"May be only copies: {such}{f' and {more} more' if more > 0 else ''}.")
        if not self.whole:
            said.append("Not all of it could be looked through for what may be an only copy.")
        stays = Emptied(files=0, bytes=0, left=self.left, named=self.named).stays
        return [*said, f"Stays: {stays}."] if stays else said


LAST_COPY = "the other copy, which was to stay, is gone or different now"


def total(doubts: Iterable[Doubts]) -> Doubts:
    """Of several emptyings together."""
    whole = Doubts(files=0, bytes=0.0, pieces=0)
    for one in doubts:
        whole = Doubts(
            files=whole.files + one.files,
            bytes=whole.bytes + one.bytes,
            pieces=whole.pieces + one.pieces,
            last=whole.last + one.last,
            more_last=whole.more_last + one.more_last,
            only=whole.only + one.only,
            more_only=whole.more_only + one.more_only,
            whole=whole.whole and one.whole,
            left=dict(Counter(whole.left) + Counter(one.left)),
            named=whole.named + one.named,
        )
    return whole
