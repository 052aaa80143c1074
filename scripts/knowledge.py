"""How well items of real desktops are known: `make knowledge`.

tests/data/desktop-items.csv holds services, units of users' managers and login entries of Debian's
desktops, facts only (names, packages), with what a careful technician would say of each. What
counts as right for which wish stands in `RIGHT`. The two counts that matter most are *dangerous*
(eased unasked where it must not be) and *unsaid* (one “no” may switch it off, and nobody says what
is lost). `make knowledge ITEMS=FILE.csv` counts another list of the same form.
"""

import argparse
import csv
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import NamedTuple

from lumtak.core.known import Known, known
from lumtak.core.profile import Profile
from lumtak.core.setting import parse_ref
from lumtak.work.knowledge import shipped_catalogue, shipped_profiles

ITEMS = Path(__file__).parents[1] / "tests" / "data" / "desktop-items.csv"
PROFILES = ("writing-and-web", "shared-classroom", "play", "sound-and-picture")
_LETTERS = {"guarded": "G", "keep": "K", "ask": "A", "ease": "E", "set": "E"}
_NEVER_EASED = {"guard or keep", "never eased unasked", "another question"}
_BREAKS = (
    "Is new mail to show at once",
    "Does anybody paste things",
    "Does anybody run another system",
)
"""Questions whose honest “no” broke something when they were put for these items."""


class Said(NamedTuple):
    """One item: what is wanted, and what Lumtak says in each profile."""

    item: str
    wanted: str
    before: tuple[str, ...]
    role_before: str
    says: tuple[Known, ...]

    @property
    def stances(self) -> str:
        """A letter a profile."""
        return "".join(_LETTERS[k.stance] for k in self.says)

    @property
    def is_careful(self) -> bool:
        """Never eased unasked, and what is lost is said with every question."""
        return all(
            k.stance not in {"ease", "set"} and (k.stance != "ask" or k.consequence)
            for k in self.says
        )

    @property
    def is_dangerous(self) -> bool:
        """Whether it goes unasked though it must not."""
        return self.wanted in _NEVER_EASED and "E" in self.stances

    @property
    def is_unsaid(self) -> bool:
        """Whether one “no” switches it off, and nobody says what is lost."""
        asked = [k for k in self.says if k.stance == "ask"]
        return self.wanted == "guard or keep" and any(not k.consequence for k in asked)


RIGHT: dict[str, Callable[[Said], bool]] = {
    "as today": lambda s: s.stances in s.before,
    "guard or keep": lambda s: s.is_careful,
    "never eased unasked": lambda s: s.is_careful,
    "known, optional": lambda s: bool(s.says[0].role) and "G" not in s.stances,
    "ask is fair": lambda s: set(s.stances) == {"A"},
    "too careful or useless": lambda s: bool({"A", "E"} & set(s.stances)),
    "other role": lambda s: s.says[0].role not in {"", s.role_before},
    "another question": lambda s: s.is_careful and not s.says[0].question.startswith(_BREAKS),
}


def said_of_all(path: Path = ITEMS) -> Iterator[Said]:
    """Every item of a list, in every profile."""
    catalogue, profiles = shipped_catalogue(), shipped_profiles()
    wanted: list[Profile] = [profiles[name] for name in PROFILES]
    with path.open(encoding="utf-8", newline="") as file:
        for row in csv.DictReader(file):
            ref = parse_ref(row["item"])
            says = tuple(known(ref, row["package"], profile, catalogue) for profile in wanted)
            before = row.get("stances_before") or row.get("stances_today") or ""
            role = row.get("role_before") or row.get("role_today") or ""
            yield Said(row["item"], row["wanted"], tuple(before.split(",")), role, says)


def main(path: Path) -> None:
    """Print the counts, then every item that is not as wanted."""
    every = list(said_of_all(path))
    odd = [s for s in every if not RIGHT[s.wanted](s)]
    print(f"{len(every)} items, {100 * (1 - len(odd) / len(every)):.1f} % as wanted")
    print(f"dangerous {sum(s.is_dangerous for s in every)}")
    print(f"unsaid {100 * sum(s.is_unsaid for s in every) / len(every):.1f} %")
    for wanted, count in Counter(s.wanted for s in every).most_common():
        print(f"  {wanted:<24}{count - sum(s.wanted == wanted for s in odd)} of {count}")
    for s in odd:
        print(f"  not as wanted ({s.wanted}): {s.item}, {s.says[0].role or 'no role'}, {s.stances}")


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("items", nargs="?", type=Path, default=ITEMS, help="another list (CSV)")
    main(parser.parse_args().items)
