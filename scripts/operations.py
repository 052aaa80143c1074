"""What follows from the table of operations: the types of the client and the page docs/HANDS.md.

`make operations` writes both; `make check` refuses them where they are not as the table has it.
"""

import argparse
import sys
from pathlib import Path

from lumtak.computers.hands.channel import sent
from lumtak.computers.hands.sent.operations import OPERATIONS, REQUIRED, ROLES, Operation

ROOT = Path(__file__).resolve().parents[1]
CLIENT = ROOT / "src/lumtak/computers/hands/operations_asked.py"
PAGE = ROOT / "docs/HANDS.md"
BEGIN, END = "<!-- made from the table: make operations -->", "<!-- as far as here -->"
_HEAD = '''"""What a hand can be asked for, as types: made from the table by `make operations`."""

from collections.abc import Iterator, Sequence
from typing import Any, Protocol


class Reach(Protocol):
    """A hand, here or at the other end of a pipe; `sent.operations` has the table.

    Failures are OSError; what no hand does is a RefusalError, and no ordinary file a
    NotOrdinaryError.
    """

    @property
    def live(self) -> bool:
        """Whether programs run there: a folder has files only."""

'''


def method(operation: Operation) -> str:
    """One operation as a method of the protocol."""
    given = []
    for one in operation.given:
        kind = one.kind.annotation.replace("list[", "Sequence[")
        given.append(f"{one.name}: {kind}{'' if one.default is REQUIRED else ' = ...'}")
    answer = operation.answer.annotation
    answer = f"Iterator[{answer}]" if operation.parts else answer
    return f"    def {operation.name}(self, {', '.join(given)}) -> {answer}: ...\n"


def client() -> str:
    """The whole module, before it is formatted."""
    return _HEAD + "".join(method(o).replace("self, )", "self)") for o in OPERATIONS.values())


def page() -> str:
    """The part of the page that is made."""
    lines = ["| operation | arguments | answer | asked by | |", "|---|---|---|---|---|"]
    for o in OPERATIONS.values():
        given = "; ".join(f"`{g.name}`: {g.kind.in_words()}" for g in o.given) or "none"
        answer = o.answer.in_words() + (", in parts" if o.parts else "")
        who = ", ".join(r for r in ROLES if r in o.who)
        says = o.says + (" **Changes something.**" if o.changes else "")
        cells = (f"`{o.name}`", given, answer, who, says)
        lines.append("| " + " | ".join(c.replace("|", "\\|") for c in cells) + " |")
    modules = ", ".join(f"`{name}`" for name in sent())
    size = sum(len(text.encode()) for text in sent().values()) >> 10
    return "\n".join([*lines, "", f"Sent are, {size} KiB in all: {modules}.", ""])


def _formatted(text: str) -> str:
    import subprocess

    command = [sys.executable, "-m", "ruff", "format", "--stdin-filename", str(CLIENT), "-"]
    done = subprocess.run(command, input=text, capture_output=True, text=True, check=True)
    return done.stdout


def main() -> int:
    """Write them, or see whether they are as they should be."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--check", action="store_true", help="write nothing; 1 where one is not")
    asked = parser.parse_args()
    before, _, rest = PAGE.read_text(encoding="utf-8").partition(BEGIN)
    after = rest.partition(END)[2]
    wanted = {CLIENT: _formatted(client()), PAGE: f"{before}{BEGIN}\n\n{page()}\n{END}{after}"}
    wrong = [p for p, text in wanted.items() if not p.exists() or p.read_text("utf-8") != text]
    for path in wrong:
        if asked.check:
            print(f"{path.relative_to(ROOT)} is not as the table of operations has it:"
                  " make operations")  # fmt: skip
        else:
            path.write_text(wanted[path], encoding="utf-8")
    return bool(asked.check and wrong)


if __name__ == "__main__":
    sys.exit(main())
