"""Whether what distributions ship has every key of a desktop that Lumtak sets, where Lumtak has it:
a check by hand.

    apt-get download PACKAGES, dpkg-deb -x each to FOLDER, then:
    python scripts/stores.py NAME=FOLDER NAME=FOLDER

Prints a line a key, and what each of the folders says; ends with 1 where one lacks a key that
belongs to it, or has it elsewhere. Of a schema its XML says it; of a channel or a file the programs
and files of the place, in which the name of the key has to stand.
"""

import argparse
import sys
from collections.abc import Iterator
from pathlib import Path

from lumtak.computers.hands.sent.desktop.desktop_data import DESKTOPS
from lumtak.computers.hands.sent.desktop.desktops import Key
from lumtak.computers.linux.schemas import keys_in

_MOST_BYTES = 1 << 25
_FINE = "as Lumtak has it"


class Shipped:
    """What one distribution ships, unpacked in a folder."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        files = sorted(folder.rglob("*.gschema.xml"))
        self._schemas = {
            (s, k): (path, default, kind)
            for f in files
            for s, k, path, default, kind in keys_in(f.read_bytes())
        }
        self._names = {str(f.relative_to(folder)) for f in folder.rglob("*")}
        self._words = {
            str(f.relative_to(folder)): f.read_bytes()
            for f in self._holding()
            if f.stat().st_size < _MOST_BYTES
        }

    def _holding(self) -> Iterator[Path]:
        """Programs, libraries, and files of settings."""
        for top in ("usr/bin", "usr/lib", "usr/share", "etc"):
            for file in (self._folder / top).rglob("*"):
                fits = file.suffix in {".kcfg", ".xml", ".conf", ".json", ".upd", ".service", ""}
                if file.is_file() and not file.is_symlink() and (fits or ".so" in file.name):
                    yield file

    def says(self, key: Key, here: tuple[str, ...]) -> tuple[str, bool]:
        """(what is said of a key, whether that is wrong)."""
        if key.store == "gsettings":
            return self._of_schema(key)
        if here and not any(path.removeprefix("/") in self._names for path in here):
            return "not here", False
        where = self._named(key, here)
        return (f"{_FINE}, in {where}", False) if where else ("no such name", True)

    def _of_schema(self, key: Key) -> tuple[str, bool]:
        if (key.at, key.name) not in self._schemas:
            return "missing", True
        path, default, kind = self._schemas[key.at, key.name]
        if (path, kind) != (key.path, key.kind):
            return f"{path} {kind}", True
        return f"{_FINE}, shipped {' '.join(default.split())[:40]}", False

    def _named(self, key: Key, here: tuple[str, ...]) -> str:
        """A program or file in which the name of a key stands, the most telling one; of a name that
        switches a part of the window manager, that part. Empty where there is none.
        """
        name = key.name.rpartition("/")[2]
        part = name.removesuffix("Enabled")
        if key.at == "kwinrc" and part not in {name, ""}:
            forms = (f"/{part}", f"_effect_{part}")
            parts = [n for n in self._names if "kwin" in n and any(f in n for f in forms)]
            return min(parts, key=len, default="")
        forms_of = (name.encode(), name.encode("utf-16-le"))
        holding = [n for n, words in self._words.items() if any(f in words for f in forms_of)]
        own = tuple(path.removeprefix("/") for path in here)
        stem = key.at.rpartition("/")[2].partition(".")[0].removesuffix("rc")
        return min(
            holding, key=lambda n: (not n.startswith(own), stem not in n, len(n), n), default=""
        )


def _named(word: str) -> tuple[str, str]:
    name, equals, folder = word.partition("=")
    if not equals:
        raise argparse.ArgumentTypeError("this is no NAME=FOLDER")
    return name, folder


def main() -> int:
    """Print the check."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("ships", nargs="+", metavar="NAME=FOLDER", type=_named)
    named = dict(parser.parse_args().ships)
    ships = {name: Shipped(Path(folder)) for name, folder in named.items()}
    print(f"| desktop | setting | where | {' | '.join(ships)} |")
    print("| - | - | - |" + " - |" * len(ships))
    wrong = 0
    for desktop in DESKTOPS:
        for key, here in desktop.here.items():
            found = [shipped.says(key, here) for shipped in ships.values()]
            wrong += sum(bad for _, bad in found)
            name = "any" if desktop.names == ("*",) else desktop.names[0]
            where = f"{key.at} {key.under if key.store == 'ini' else ''} {key.name}"
            row = (
                name,
                f"{key.area}:{key.setting}",
                " ".join(where.split()),
                *(s for s, _ in found),
            )
            print("| " + " | ".join(row) + " |")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
