"""Prints how many fault points the journal has, how many were tried, and what was lost.

`make faults`.
"""

import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from faulting import ACTS, KINDS, STRIKES, WORLDS, Tally, damage_everywhere, strike_everywhere


def tallies(folder: Path) -> Iterator[Tally]:
    """Every kind of fault, one after the other, each in a folder of its own."""
    for number, world in enumerate((*WORLDS, *KINDS)):
        for act in ACTS:
            for strike in STRIKES:
                yield strike_everywhere(
                    world, act, strike, folder / f"{number}-{act.__name__}-{strike}"
                )
        for suffix in ("", "-wal") if world in WORLDS else ():
            yield damage_everywhere(world, folder / f"{number}{suffix}-damage", suffix)


def main() -> int:
    """Try everything; 1 when anything was lost."""
    began = time.monotonic()
    points = tried = lost = 0
    memory = Path("/dev/shm")  # noqa: S108 - a world a fault point, thousands of them: in memory where there is some
    with tempfile.TemporaryDirectory(dir=memory if memory.is_dir() else None) as folder:
        print(f"{'points':>7} {'tried':>6} {'lost':>5}   where and what")
        for tally in tallies(Path(folder)):
            print(
                f"{tally.points:>7} {tally.tried:>6} {len(tally.lost):>5}   {tally.name}",
                flush=True,
            )
            for line in tally.lost[:10]:
                print(f"          {line}")
            points, tried, lost = points + tally.points, tried + tally.tried, lost + len(tally.lost)
    print(f"{points:>7} {tried:>6} {lost or 'none':>5}   in all, {time.monotonic() - began:.0f} s")
    print(
        "A kill is SIGKILL before every step, and after half of a write; a broken or full disk"
        " fails every step. A step is one statement of the"
    )
    print(
        "journal, or one call that changes a file: second copies, undo script, and the computer"
        " itself."
    )
    return 1 if lost else 0


if __name__ == "__main__":
    sys.exit(main())
