"""The last visit to a computer against this one."""

from lumtak.core.record import Figure, NotMeasured, Record
from lumtak.core.text import plain
from lumtak.core.units import MIB, counted, percent, ram

_SAME_BYTES = 64 * MIB
"""A difference of less is none."""


class Load(Record):
    """Load as it was read."""

    cpu_pct: float
    ram_pct: float
    what: str
    """baseline or after, and the day."""


class LastVisit(Record):
    """What became of it since."""

    job: str
    visit: int
    begun_at: str
    verdict: str = ""
    """What came of it then, in few words."""
    changed: int = 0
    """Settings that were changed then."""
    stands: tuple[str, ...] = ()
    """Titles of those that stand as they were left."""
    drifted: tuple[str, ...] = ()
    """Titles of those that do not, each with what it is now."""
    put_back: int = 0
    load: Load | None = None
    free_bytes: Figure
    """On the system's volume then."""
    free_now: Figure
    answers: dict[str, str] = {}
    """What the owner said then, by address."""
    found: tuple[str, ...] = ()
    """What upkeep found since, a sentence each."""
    hints: tuple[str, ...] = ()
    """What a watch on the computer kept: the owner's account wrote it, so that it decides
    nothing."""

    def in_rows(self, now: Load | None) -> list[tuple[str, str]]:
        """(name, words) for people.

        Args:
            now: the load as it was read on this visit; None where it was not yet.
        """
        rows = [("when", f"visit {self.visit}, {self.begun_at[:10]}" + self._of_verdict())]
        rows.append(("changed then", self._of_changes()))
        rows += [("drifted since", words) for words in self.drifted[:8]]
        rows.append(("load then and now", self._of_load(now)))
        rows.append(("free on the disk", self._of_disk()))
        if self.answers:
            said = ", ".join(f"{plain(a, 40)} {w}" for a, w in list(self.answers.items())[:6])
            more = f" and {len(self.answers) - 6} more" if len(self.answers) > 6 else ""
            rows.append(("the owner said", said + more))
        rows += [("upkeep since", words) for words in self.found]
        rows += [("a hint of the watch", words) for words in self.hints]
        return rows

    def _of_verdict(self) -> str:
        return f": {plain(self.verdict, 80)}" if self.verdict else ""

    def _of_changes(self) -> str:
        if not self.changed:
            return "nothing"
        parts = [f"{counted(self.changed, 'setting')}"]
        if self.stands:
            parts.append(f"{len(self.stands)} as they were left")
        if self.drifted:
            parts.append(f"{len(self.drifted)} not")
        if self.put_back:
            parts.append(f"{self.put_back} put back")
        return ", ".join(parts)

    def _of_load(self, now: Load | None) -> str:
        then = self.load
        said = "not read then" if then is None else _load(then)
        return f"{said}; now {'not read yet' if now is None else _load(now)}"

    def _of_disk(self) -> str:
        then, now = self.free_bytes, self.free_now
        if isinstance(now, NotMeasured):
            return f"not known: {now.not_measured}"
        if isinstance(then, NotMeasured):
            return f"{ram(now)} now; {then.not_measured}"
        if abs(now - then) < _SAME_BYTES:
            return f"{ram(now)}, as then"
        less = "less" if now < then else "more"
        return f"{ram(then)} then, {ram(now)} now: {ram(abs(now - then))} {less}"


def _load(load: Load) -> str:
    return f"CPU {percent(load.cpu_pct)}, RAM {percent(load.ram_pct)} ({load.what})"
