"""What no commit may hold: private keys, places of a machine, strange names at the top.

`make check` runs it over the files that git knows or would add.
"""

import argparse
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
AT_THE_TOP = {
    ".ci", ".gitignore", "CHANGELOG.md", "CONTRIBUTING.md", "LICENSE", "Makefile", "README.md",
    "constraints.txt", "docs", "pyproject.toml", "scripts", "src", "tests",
}  # fmt: skip
"""Whatever else stands there was not meant to be."""
_KEY = re.compile(rb"-----BEGIN (?:[A-Z0-9]+ )*PRIVATE KEY(?: BLOCK)?-----\s+[A-Za-z0-9+/=:-]{16}")
"""With what follows it: the mark alone is how a key is known."""
_MADE_UP = {b"u", b"mia", b"lum", b"mate", b"someone", b"owner", b"kim", b"ada", b"user", b"me",
            b"crib", b"other", b"anna"}  # fmt: skip
"""People of the tests and of the examples."""
_HOME = re.compile(rb"(?<![\w/.$~{}*-])/(?:home|Users)/([A-Za-z][\w.-]*)")
_EVERYWHERE = {"/", "/tmp", "/var/tmp", "/root", "/home", "/opt", "/srv", "/mnt", "/usr/src"}  # noqa: S108 - names of folders
"""Every machine has these, so that they say nothing of this one."""
_OURS = [str(p).encode() for p in (ROOT, ROOT.parent) if str(p) not in _EVERYWHERE]
"""Where this tree stands on whatever machine this runs on."""


def files(root: Path) -> list[str]:
    """What git knows, or would add."""
    listed = subprocess.run(
        ["git", "ls-files", "-z", "--cached", "--others", "--exclude-standard"],
        cwd=root,
        capture_output=True,
        check=True,
    ).stdout
    names = {name for name in listed.decode("utf-8", "surrogateescape").split("\0") if name}
    return sorted(name for name in names if (root / name).is_file())


def faults(root: Path, names: list[str]) -> Iterator[str]:
    """What is wrong, a sentence each."""
    for top in sorted({name.partition("/")[0] for name in names} - AT_THE_TOP):
        yield f"{top}: nothing of that name belongs at the top of the repository"
    for name in names:
        data = (root / name).read_bytes()
        if _KEY.search(data):
            yield f"{name}: holds a private key"
        if name.endswith((".png", ".po")):
            continue
        strangers = sorted(set(_HOME.findall(data)) - _MADE_UP)
        if strangers:
            yield f"{name}: names the home of {strangers[0].decode()}, who is not made up"
        if any(re.search(rb"(?<![\w.-])" + re.escape(place) + rb"/", data) for place in _OURS):
            yield f"{name}: names a folder of this machine"


def main() -> int:
    """Print what is wrong; 1 where anything is."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("root", nargs="?", type=Path, default=ROOT, help="the tree (this one)")
    root = parser.parse_args().root
    found = list(faults(root, files(root)))
    for fault in found:
        print(fault)
    return bool(found)


if __name__ == "__main__":
    sys.exit(main())
