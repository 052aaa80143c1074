"""How a screening is laid out, fixed before it begins: several changes in the same blocks.

Twelve blocks hold up to seven changes in a two-level design of Plackett and Burman (1946), of which
each column is balanced against every other; eight blocks hold all combinations of up to three. Each
round of blocks is made in an order drawn by itself. A round that leaves something open is folded
over: the next has every change on where it was off, which frees each figure of what two changes do
only together (Box and Wilson 1951).
"""

import hashlib
from itertools import product

from lumtak.core.record import AtLeastOne, Record
from lumtak.core.trial.design import BLOCK_S, BLOCKS, ERROR, WASHOUT_S, check_blocks
from lumtak.errors import UsageError

FEWEST_CHANGES, MOST_CHANGES = 2, 7
MOST_SCREENED = 48
"""Blocks."""
_LARGE, _SMALL, _IN_SMALL = 12, 8, 3
_FIRST = (True, True, False, True, True, True, False, False, False, True, False)
"""The first row of the design of twelve; the others are turned from it, and one has all off."""


class Layout(Record):
    """All of a screening that is fixed beforehand."""

    block_s: float
    washout_s: float
    rows: tuple[tuple[bool, ...], ...]
    """Block by block, whether each change is on."""
    round_blocks: AtLeastOne
    """After each round of so many it is looked at."""
    spends: float
    """Chance of a false alarm that each look may add; together 5 %."""
    seed: int

    @property
    def blocks(self) -> int:
        """How many there are at most."""
        return len(self.rows)

    @property
    def rounds(self) -> int:
        """How many there are at most."""
        return len(self.rows) // self.round_blocks

    @property
    def changes(self) -> int:
        """How many are tried."""
        return len(self.rows[0])

    @property
    def length_s(self) -> float:
        """From beginning to end, where nothing comes between."""
        return len(self.rows) * (self.block_s + self.washout_s)

    def freedom(self, rounds: int) -> int:
        """Degrees of freedom that are left after so many rounds."""
        return rounds * (self.round_blocks - 1) - self.changes

    def confounded(self, rounds: int) -> str:
        """What cannot be told apart after so many rounds, as a sentence."""
        if self.round_blocks == _SMALL:
            return (
                "Every combination was made, so what changes do only together is in no figure; it"
                " makes the intervals wider."
            )
        if rounds % 2:
            return (
                "Each figure holds a third of what every two of the others do only together; a"
                " round that is folded over would tell that apart."
            )
        return (
            "What two changes do only together is in no figure; which two it would be is not told"
            " apart."
        )


def screening(
    changes: int,
    blocks: int = BLOCKS,
    block_s: float = BLOCK_S,
    washout_s: float = WASHOUT_S,
    *,
    seed: int,
) -> Layout:
    """The layout of a screening.

    Args:
        changes: how many are tried.
        blocks: at most; whole rounds of 12, or of 8 for up to three changes.
        block_s: kept of each.
        washout_s: left out before.
        seed: columns and orders are drawn from it.

    Raises:
        UsageError: nothing can be laid out so.
    """
    if not FEWEST_CHANGES <= changes <= MOST_CHANGES:
        raise UsageError(
            f"A screening of {changes} changes is not possible.",
            f"Name {FEWEST_CHANGES} to {MOST_CHANGES}; more would leave nothing to judge by.",
        )
    size = _size(changes, blocks)
    check_blocks(block_s, washout_s)
    plain = _columns(changes, size, seed)
    rows: list[tuple[bool, ...]] = []
    for number in range(blocks // size):
        mine = [tuple(on is not bool(number % 2) for on in row) for row in plain]
        rows += [mine[i] for i in drawn_order(f"{seed} round {number}", size)]
    return Layout(
        block_s=block_s,
        washout_s=washout_s,
        rows=tuple(rows),
        round_blocks=size,
        spends=ERROR * size / blocks,
        seed=seed,
    )


def _size(changes: int, blocks: int) -> int:
    """Blocks of a round."""
    if _LARGE <= blocks <= MOST_SCREENED and blocks % _LARGE == 0:
        return _LARGE
    small = _SMALL <= blocks <= MOST_SCREENED and blocks % _SMALL == 0
    if small and changes <= _IN_SMALL:
        return _SMALL
    raise UsageError(
        f"A screening of {changes} changes in {blocks} blocks is not possible.",
        f"Choose 12, 24, 36 or {MOST_SCREENED} blocks; 8, 16 or 32 are enough for up to"
        f" {_IN_SMALL} changes only.",
    )


def _columns(changes: int, size: int, seed: int) -> list[tuple[bool, ...]]:
    """The rows of a round before they are put in an order: a column a change."""
    if size == _SMALL:
        return [row[:changes] for row in product((False, True), repeat=_IN_SMALL)]
    turned = [_FIRST[-i:] + _FIRST[:-i] for i in range(len(_FIRST))]
    picked = drawn_order(f"{seed} columns", len(_FIRST))[:changes]
    every = [*turned, (False,) * len(_FIRST)]
    return [tuple(row[column] for column in picked) for row in every]


def drawn_order(seed: str, count: int) -> list[int]:
    """An order of so many, the same for the same seed wherever and whenever: by their SHA-256."""
    return sorted(range(count), key=lambda i: hashlib.sha256(f"{seed} {i}".encode()).digest())
