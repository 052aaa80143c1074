"""How a switchback is laid out, fixed before it begins.

Blocks come in pairs, one with the change on and one with it off; which of them comes first is drawn
for each pair by itself. Before what is kept of a block a washout passes, in which the computer
settles into the new state.
"""

import hashlib
import math
from itertools import pairwise

from lumtak.core.record import Record
from lumtak.errors import UsageError

ERROR = 0.05
"""Of a whole trial: the chance to see an effect where there is none."""
FEWEST, MOST = 12, 40
"""Blocks. Of fewer, not even a trial that is looked at once could show anything."""
SHORTEST_BLOCK_S, LONGEST_BLOCK_S, LONGEST_WASHOUT_S = 5.0, 600.0, 600.0
BLOCKS, BLOCK_S, WASHOUT_S = 24, 30.0, 15.0
_LOOKS = (2 / 3, 5 / 6, 1.0)
"""When the result is looked at, as shares of all pairs."""


class Look(Record):
    """One of the moments at which a trial may end."""

    pairs: int
    """After so many of them."""
    spends: float
    """Chance of a false alarm that this look may add."""


class Design(Record):
    """All that is fixed beforehand."""

    block_s: float
    washout_s: float
    on_first: tuple[bool, ...]
    """Of each pair, whether the change is on in its first block."""
    looks: tuple[Look, ...]
    seed: int

    @property
    def pairs(self) -> int:
        """How many there are."""
        return len(self.on_first)

    @property
    def blocks(self) -> int:
        """How many there are at most."""
        return 2 * self.pairs

    @property
    def length_s(self) -> float:
        """From beginning to end, where nothing comes between."""
        return self.blocks * (self.block_s + self.washout_s)

    def states(self) -> list[bool]:
        """Whether the change is on, block by block."""
        return [on for first in self.on_first for on in (first, not first)]


def design(
    blocks: int = BLOCKS, block_s: float = BLOCK_S, washout_s: float = WASHOUT_S, *, seed: int
) -> Design:
    """The layout of a trial.

    Args:
        blocks: an even number of them.
        block_s: kept of each.
        washout_s: left out before.
        seed: the order is drawn from it.

    Raises:
        UsageError: no trial can be laid out so, or it could never show anything.
    """
    if blocks % 2 or not FEWEST <= blocks <= MOST:
        raise UsageError(
            f"A trial of {blocks} blocks is not possible.",
            f"Choose an even number from {FEWEST} to {MOST}: with fewer it could not show anything,"
            " whatever the change does.",
        )
    check_blocks(block_s, washout_s)
    pairs = blocks // 2
    return Design(
        block_s=block_s,
        washout_s=washout_s,
        on_first=tosses(seed, pairs),
        looks=looks_of(pairs),
        seed=seed,
    )


def check_blocks(block_s: float, washout_s: float) -> None:
    """Whether blocks can be so long.

    Raises:
        UsageError: they cannot.
    """
    fits = SHORTEST_BLOCK_S <= block_s <= LONGEST_BLOCK_S and 0 <= washout_s <= LONGEST_WASHOUT_S
    if not fits:
        raise UsageError(
            f"Blocks of {block_s:g} s after a washout of {washout_s:g} s are not possible.",
            f"Keep {SHORTEST_BLOCK_S:g} to {LONGEST_BLOCK_S:g} s of each, after 0 to"
            f" {LONGEST_WASHOUT_S:g} s.",
        )


def tosses(seed: int, count: int) -> tuple[bool, ...]:
    """So many fair coins, the same for the same seed wherever and whenever: bits of its SHA-256."""
    bits = int.from_bytes(hashlib.sha256(str(seed).encode()).digest(), "big")
    return tuple(bool(bits >> place & 1) for place in range(count))


def looks_of(pairs: int) -> tuple[Look, ...]:
    """When so many pairs are looked at, and what each look may spend.

    The error spent until a share t of the pairs is 2 - 2 Φ(z / √t), z the upper 2.5 % point of the
    normal distribution (Lan and DeMets 1983, after O'Brien and Fleming); what each look may spend
    is what came to it since the one before. A look that could not end the trial, since its p-value
    can be no lower than 2 / 2^pairs, is passed over, and what it would have spent goes to the next.
    """
    z = 1.959963984540054
    found: list[Look] = []
    places = sorted({math.ceil(share * pairs) for share in _LOOKS})
    spent = [ERROR * _tail(z / math.sqrt(n / pairs)) / _tail(z) for n in places]
    carried = 0.0
    for place, (before, now) in zip(places, pairwise([0.0, *spent]), strict=True):
        carried += now - before
        if carried >= 2 / 2**place:
            found.append(Look(pairs=place, spends=carried))
            carried = 0.0
    return tuple(found)


def _tail(z: float) -> float:
    """The chance that a normal variable is farther than that from 0."""
    return math.erfc(z / math.sqrt(2))
