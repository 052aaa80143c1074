"""What an item costs, how sure that is, and what easing it can show."""

from collections.abc import Iterable

from lumtak.core.audit.records import AtMost, Finding, Grade, Weight
from lumtak.core.catalogue import Role
from lumtak.core.clutter import Pile
from lumtak.core.facts import Item
from lumtak.core.floor import LEAST_BYTES
from lumtak.core.reading import ConsumerLoad
from lumtak.core.record import Figure, NotMeasured, known
from lumtak.core.stance import Stance
from lumtak.core.units import MIB, counted

NO_READING = "no reading was taken; take a baseline first"


_NOT_DRAWN = {
    "thumbnails", "image-thumbnails", "event-sounds", "indexed-folders", "index-on-battery",
    "location", "search-providers", "update-downloads",
}  # fmt: skip
"""Effects in which what draws the screen has no part."""


def drawing(costs: Iterable[ConsumerLoad]) -> AtMost | None:
    """What effects that cannot be told apart cost together at most: what draws the screen does.

    Args:
        costs: of display server, compositor and shell; none where nothing of them was seen.
    """
    mine = list(costs)
    if not mine:
        return None
    memory, cpu = sum(known(c.ram_bytes) for c in mine), sum(c.cpu_pct for c in mine)
    return AtMost(cpu_pct=cpu, ram_bytes=memory)


def weigh(
    item: Item,
    window: str,
    cost: ConsumerLoad | None,
    ram_total_bytes: int,
    drawn: AtMost | None = None,
) -> Weight:
    """What an item cost in a reading; with the reason where that cannot be told.

    Args:
        item: of any area.
        window: of the reading, in words; empty where none was taken.
        cost: in the reading; None where it was not seen.
        ram_total_bytes: of the computer.
        drawn: from `drawing`.
    """
    if item.area in {"power", "memory", "storage", "upkeep"}:
        nothing = NotMeasured(
            not_measured=(
                "a plan or a rule has no load of its own; a reading before and after shows it"
            )
        )
        return Weight(cpu_pct=nothing, ram_bytes=nothing, source=nothing.not_measured)
    if not window:
        nothing = NotMeasured(not_measured=NO_READING)
        return Weight(cpu_pct=nothing, ram_bytes=nothing, source=NO_READING)
    if cost is None and item.area == "effects":
        nothing = NotMeasured(not_measured=_not_told_apart(item.key, drawn))
        return Weight(cpu_pct=nothing, ram_bytes=nothing, source=nothing.not_measured)
    if cost is None:
        return Weight(cpu_pct=0.0, ram_bytes=0.0, source=f"{window}: not seen running")
    return Weight(
        cpu_pct=cost.cpu_pct,
        cpu_se_pct=cost.cpu_se_pct,
        ram_bytes=cost.ram_bytes,
        source=_source(window, cost),
        heft=cost.cpu_pct + 100 * known(cost.ram_bytes) / ram_total_bytes,
    )


def weigh_pile(pile: Pile, total_bytes: Figure) -> Weight:
    """What clutter weighs: space on the disk, and no load."""
    days = f", older than {counted(pile.age_days, 'day')}" if pile.age_days else ""
    when = f" on {pile.looked_at[:10]}" if pile.looked_at else ""
    source = f"looked through{when}: {counted(pile.files, 'file')}{days}"
    if isinstance(pile.bytes, NotMeasured):
        return Weight(
            cpu_pct=0.0, ram_bytes=0.0, disk_bytes=pile.bytes, source=pile.bytes.not_measured
        )
    whole = known(total_bytes)
    return Weight(
        cpu_pct=0.0,
        ram_bytes=0.0,
        disk_bytes=pile.bytes,
        source=source,
        heft=100 * pile.bytes / whole if whole else 0.0,
    )


def _not_told_apart(effect: str, drawn: AtMost | None) -> str:
    if effect in _NOT_DRAWN:
        return "several programs have a part in it, so its share cannot be told apart"
    apart = "drawn by the desktop itself, so its share cannot be told apart"
    if drawn is None:
        return apart
    return f"{apart}; all such effects together take at most what draws the screen: {drawn.words}"


def _source(window: str, cost: ConsumerLoad) -> str:
    return f"{window}, memory {cost.ram_how}" if cost.ram_how else window


def grade_of(stance: Stance, weight: Weight, role: Role | None) -> Grade:
    """From what was measured.

    Something measurable is expected to fall, nothing measurable is no effect.

    A role of which the catalogue says that it depends stays so until a trial has proved it here.
    """
    if isinstance(weight.cpu_pct, NotMeasured) and isinstance(weight.ram_bytes, NotMeasured):
        return "depends"
    if isinstance(weight.disk_bytes, NotMeasured):
        return "depends"
    if stance == "guarded":
        return "harmful"
    clear = (
        known(weight.cpu_pct) > max(0.1, 2 * weight.cpu_se_pct)
        or known(weight.ram_bytes) >= MIB
        or weight.disk_bytes >= LEAST_BYTES
    )
    if not clear:
        return "no effect"
    return role.grade if role else "expected"


def eased_sum(findings: Iterable[Finding]) -> tuple[float, float]:
    """(CPU percentage points, bytes of RAM) that easing all that may be eased would save."""
    mine = [f for f in findings if f.stance in {"ease", "ask"}]
    return sum(known(f.weight.cpu_pct) for f in mine), sum(known(f.weight.ram_bytes) for f in mine)
