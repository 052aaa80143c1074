"""Holds the code to its limits: `make check` runs it.

A function has at most 60 lines and a cyclomatic complexity of at most 12 as radon counts it
(boolean operators, conditional expressions and comprehensions included); a module of the program
has at most 400 lines, and half of them have 100 to 200. What is over a limit is named in
`EXCEPTIONS` with its reason; a name there that is not over its limit any more is a fault too.
"""

import statistics
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from radon.complexity import cc_visit
from radon.visitors import Function

MOST_LINES, MOST_COMPLEX, MOST_IN_MODULE, MEDIAN = 60, 12, 400, (100, 200)
EXCEPTIONS: dict[str, str] = {}
"""What is over a limit, as MODULE or MODULE:FUNCTION, with the reason."""


class Measured(NamedTuple):
    """One function."""

    name: str
    lines: int
    complexity: int


def functions(path: Path, name: str) -> Iterator[Measured]:
    """Every function and method of a module, and those inside of functions."""
    waiting = list(cc_visit(path.read_text(encoding="utf-8")))
    while waiting:
        block = waiting.pop()
        if isinstance(block, Function):
            lines = block.endline - block.lineno + 1
            yield Measured(f"{name}:{block.fullname}", lines, block.complexity)


def main(folder: Path) -> int:
    """Print what is over a limit, then the figures; how many there are."""
    modules = {p.relative_to(folder).as_posix(): p for p in sorted(folder.rglob("*.py"))}
    sizes = {n: len(p.read_text(encoding="utf-8").splitlines()) for n, p in modules.items()}
    measured = [f for name, path in modules.items() for f in functions(path, name)]
    over = {n: f"{size} lines" for n, size in sizes.items() if size > MOST_IN_MODULE}
    over |= {f.name: f"{f.lines} lines" for f in measured if f.lines > MOST_LINES}
    over |= {f.name: f"complexity {f.complexity}" for f in measured if f.complexity > MOST_COMPLEX}
    faults = [f"{name}: {what}" for name, what in over.items() if name not in EXCEPTIONS]
    faults += [
        f"{name}: is under its limits, so it needs no exception"
        for name in EXCEPTIONS
        if name not in over
    ]
    middle = statistics.median(
        size for name, size in sizes.items() if not name.endswith("__init__.py")
    )
    if not MEDIAN[0] <= middle <= MEDIAN[1]:
        faults.append(f"the middle module has {middle:.0f} lines, not 100 to 200")
    for fault in faults:
        print(fault)
    decisions = sum(f.complexity - 1 for f in measured) / sum(sizes.values()) * 100
    print(
        f"{len(sizes)} modules, the middle one {middle:.0f} lines, the largest"
        f" {max(sizes.values())};"
        f" {len(measured)} functions, the longest {max(f.lines for f in measured)} lines, the most"
        f" complex {max(f.complexity for f in measured)}; {decisions:.0f} decisions a 100 lines"
    )
    return len(faults)


if __name__ == "__main__":
    sys.exit(bool(main(Path(__file__).parents[1] / "src" / "lumtak")))
