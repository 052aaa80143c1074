"""The space that is to stay free, and what would bring a volume over that floor."""

from typing import Literal

from lumtak.core.clutter import Pile
from lumtak.core.facts import Facts
from lumtak.core.profile import Profile
from lumtak.core.record import NotMeasured, Record, known
from lumtak.core.units import GIB, MIB, large, ram

TIGHT_FREE = 0.05
"""Of a volume: so much is to stay free where the profile says nothing."""
LEAST_BYTES = 64 * MIB
"""Less of a class is not worth a question or a change."""
Way = Literal["aside", "ask", "tool", ""]
"""How space can be had of a class: set aside; on the owner's word; by its own command; not."""


def floor_bytes(profile: Profile, total_bytes: float) -> float:
    """What is to stay free of a volume of this size."""
    return max(TIGHT_FREE * total_bytes, (profile.storage.free_gib or 0.0) * GIB)


def is_short(facts: Facts, profile: Profile) -> bool:
    """Whether less is free than is to stay free; not where that is not known."""
    total, free = facts.space.total_bytes, facts.space.free_bytes
    if isinstance(total, NotMeasured) or isinstance(free, NotMeasured):
        return False
    return free < floor_bytes(profile, total)


def way_of(pile: Pile, *, short: bool) -> Way:
    """How space can be had of a class here."""
    if pile.held_at or known(pile.bytes) < LEAST_BYTES:
        return ""
    if pile.disposal == "ask":
        return "ask"
    if pile.disposal == "ease" or (pile.disposal == "short" and short):
        return "tool" if pile.command else "aside"
    return ""


class Room(Record):
    """A volume against its floor, and where more space could come from."""

    total_bytes: float
    free_bytes: float
    floor_bytes: float
    held_bytes: float = 0.0
    """That is set aside, and free once it is emptied."""
    aside_bytes: float = 0.0
    """That can be set aside without a question."""
    tool_bytes: float = 0.0
    """That commands of the system's own programs would free."""
    ask_bytes: float = 0.0
    """About which only the owner can decide."""

    @property
    def is_short(self) -> bool:
        """Whether less is free than is to stay free."""
        return self.free_bytes < self.floor_bytes

    @property
    def missing_bytes(self) -> float:
        """By how much, as a number above 0."""
        return max(0.0, self.floor_bytes - self.free_bytes)

    def in_words(self) -> str:
        """What is missing, and what would bring it over the floor; empty where nothing is
        missing.
        """
        if not self.is_short:
            return ""
        unit, name = large()
        said = (
            f"The system's volume has {self.free_bytes / unit:.0f} of"
            f" {self.total_bytes / unit:.0f} {name} free, and {self.floor_bytes / unit:.0f} {name}"
            " should be"
        )
        ways = [
            (self.held_bytes, "emptying what is set aside"),
            (self.aside_bytes, "setting aside what nobody needs and emptying it"),
            (self.tool_bytes, "the system's own commands for what it keeps"),
            (self.ask_bytes, "what only the owner can decide about"),
        ]
        parts, free = [], self.free_bytes
        for size, words in ways:
            if size >= LEAST_BYTES and free < self.floor_bytes:
                free += size
                parts.append(f"{words} ({ram(size)})")
        if not parts:
            return f"{said}: move what is not needed daily to another disk."
        end = f"{', then '.join(parts)}: that makes {ram(free)} free"
        if free < self.floor_bytes:
            return f"{said}. First {end}; for the rest move what is not needed daily elsewhere."
        return f"{said}. What brings it there: {end}."


def room_of(facts: Facts, profile: Profile) -> Room | None:
    """The volume of a computer; None where its size is not known."""
    total, free = facts.space.total_bytes, facts.space.free_bytes
    if isinstance(total, NotMeasured) or isinstance(free, NotMeasured):
        return None
    short = is_short(facts, profile)
    sums: dict[str, float] = {"held": 0.0, "aside": 0.0, "tool": 0.0, "ask": 0.0}
    for item in facts.items:
        if item.pile is None:
            continue
        which = "held" if item.pile.held_at else way_of(item.pile, short=short)
        if which:
            sums[which] += known(item.pile.bytes)
    return Room(
        total_bytes=total,
        free_bytes=free,
        floor_bytes=floor_bytes(profile, total),
        **{f"{name}_bytes": size for name, size in sums.items()},
    )


class SpaceTold(Record):
    """The system's volume before and after the work: what is free now counts, and nothing else."""

    before_bytes: float
    now_bytes: float
    floor_bytes: float
    held_bytes: float = 0.0
    """That is set aside: no gain until it is emptied."""
    due: str = ""
    """The day from which on it is to be emptied; empty where nothing is held."""

    @property
    def words(self) -> str:
        """What may be said of it."""
        gained = self.now_bytes - self.before_bytes
        said = f"{ram(self.now_bytes)} of the disk are free"
        if abs(gained) >= LEAST_BYTES:
            said += f", {ram(abs(gained))} {'more' if gained > 0 else 'less'} than before"
        else:
            said += ", as before"
        under = self.floor_bytes - self.now_bytes
        said += f"; {ram(under)} are missing of its floor." if under > 0 else "; its floor is kept."
        if self.held_bytes < LEAST_BYTES:
            return said
        then = self.now_bytes + self.held_bytes
        over = "over" if then >= self.floor_bytes else "still under"
        when = f", from {self.due} on" if self.due else ""
        return (
            f"{said} {ram(self.held_bytes)} more are set aside; once they are emptied{when},"
            f" {ram(then)} are free, {over} its floor of {ram(self.floor_bytes)}."
        )
