"""Whether the schemas of desktops have every key that Lumtak sets, and where: a check by hand.

    apt-get download PACKAGES, dpkg-deb -x each to FOLDER, then: python scripts/stores.py FOLDER

Prints a line a key; ends with 1 where one is missing or stands elsewhere.
"""

import sys
from pathlib import Path

from lumtak.computers.hands.desktops import FAMILIES
from lumtak.computers.linux.schemas import keys_in


def main() -> int:
    """Print the check."""
    files = sorted(Path(sys.argv[1]).rglob("*.gschema.xml"))
    there = {(s, k): (p, d) for f in files for s, k, p, d in keys_in(f.read_bytes())}
    wrong = 0
    print("| desktop | effect | schema and key | shipped default | |\n| - | - | - | - | - |")
    for family in FAMILIES:
        for key in family.keys:
            path, default = there.get((key.schema, key.key), ("", ""))
            said = "as Lumtak has it" if path == key.path else path or "missing"
            wrong += path != key.path
            row = (family.desktops[0], key.effect, f"{key.schema} {key.key}", default, said)
            print("| " + " | ".join(row) + " |")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
