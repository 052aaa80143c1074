"""Where a computer stands after the work: its ceilings, and what holds it back now."""

from lumtak.core.bottleneck import Bottleneck
from lumtak.core.profile import Ceilings
from lumtak.core.reading import Reading
from lumtak.core.record import Record
from lumtak.core.units import signed


class Standing(Record):
    """A load against its ceiling."""

    what: str
    """CPU, RAM."""
    value_pct: float
    ceiling_pct: float
    was_over: bool
    """Whether it was over it before."""

    @property
    def kept(self) -> bool:
        """Whether it is under, or at, its ceiling."""
        return self.value_pct <= self.ceiling_pct

    @property
    def words(self) -> str:
        """For a person."""
        by, where = abs(self.value_pct - self.ceiling_pct), "under" if self.kept else "over"
        still = {
            (True, True): "now ",
            (True, False): "",
            (False, True): "still ",
            (False, False): "now ",
        }[self.kept, self.was_over]
        return f"{self.what} {signed(self.value_pct, plus=False)} %, {still}{_figure(by)} {where}"


def _figure(by: float) -> str:
    """A distance; never nothing where there is one."""
    text = f"{by:.1f}" if by < 10 else f"{by:.0f}"
    return "less than 0.1" if by and float(text) == 0 else text


def standings(ceilings: Ceilings, before: Reading, after: Reading) -> tuple[Standing, ...]:
    """CPU and RAM of the after reading against their ceilings."""
    return tuple(
        Standing(
            what=what,
            value_pct=after.mean(column),
            ceiling_pct=ceiling,
            was_over=before.mean(column) > ceiling,
        )
        for what, column, ceiling in (
            ("CPU", "cpu_pct", ceilings.cpu_pct),
            ("RAM", "ram_pct", ceilings.ram_pct),
        )
    )


def in_words(found: tuple[Standing, ...]) -> str:
    """All of them in one sentence; empty where there are none."""
    told = [f"{s.words} its ceiling of {s.ceiling_pct:g}" for s in found]
    return f"{'; '.join(told)}." if told else ""


def brake(before: Bottleneck, after: Bottleneck) -> str:
    """What holds the computer back now, as a sentence; with what no setting will mend."""
    if after.kind == "nothing":
        was = f" Before it was the {before.kind}." if before.kind != "nothing" else ""
        return f"Nothing holds it back at idle any more.{was}" if was else _NOTHING
    still = "still holds" if after.kind == before.kind else "now holds"
    shown = after.figures and not after.by_ceiling
    figures = f" ({', '.join(after.figures)})" if shown else ""
    back = f"The {after.kind} {still} this computer back{figures}."
    return f"{back} {after.not_by_settings}".strip()


_NOTHING = "Nothing holds this computer back at idle."
