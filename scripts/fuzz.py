"""Tries hostile input of every kind, from a seed.

`make fuzz`, or `make fuzz INPUTS=100000 SEED=3 KINDS=profiles`.
"""

import argparse
import gc
import importlib
import multiprocessing
import os
import random
import shutil
import sys
import tempfile
import time
import warnings
from pathlib import Path
from typing import NamedTuple

HERE = Path(__file__).parent
sys.path[:0] = [str(HERE), str(HERE.parent / "tests")]

from fuzzing.kinds import KINDS, TAKE_ROOT
from fuzzing.world import World

_MOST_FAULTS = 10
_TIDY_EVERY = 100


class Tally(NamedTuple):
    """What came of one kind."""

    kind: str
    inputs: int
    seconds: float
    faults: tuple[str, ...]


def tried(kind: str, inputs: int, seed: int, keep: Path | None = None) -> Tally:
    """Try so many inputs of a kind; ends early at ten faults.

    Args:
        kind: of `KINDS`.
        inputs: how many.
        seed: the same one gives the same inputs.
        keep: where to put files that were read at a fault.
    """
    warnings.simplefilter("error")  # what a library warns of, nobody has to read on a terminal
    for name in ("numpy", "scipy.special"):  # once, and in the time of no input
        importlib.import_module(name)
    memory = Path("/dev/shm")  # noqa: S108 - thousands of small files: in memory where there is some
    began, count, faults = time.monotonic(), 0, []
    with (
        tempfile.TemporaryDirectory(dir=memory if memory.is_dir() else None) as folder,
        World(Path(folder)).throwaway() as world,
    ):
        world.keep("tree", world.tree)
        for number, run in enumerate(KINDS[kind](world, random.Random(f"{kind}/{seed}"))):
            count += run.inputs
            if fault := run.said.fault(run.codes):
                faults.append(f"run {number}: {' '.join(run.said.arguments)!r}: {fault}")
                for path in run.files if keep else ():
                    shutil.copyfile(
                        path, keep / f"{kind}-{seed}-{number}-{len(faults)}-{path.name[-40:]}"
                    )
            if len(faults) == _MOST_FAULTS or count >= inputs:
                break
            if number % _TIDY_EVERY == 0:
                gc.collect()
    return Tally(kind, count, time.monotonic() - began, tuple(faults))


def main() -> int:
    """Try every kind; 1 when anything was found."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("kinds", nargs="*", choices=[[], *KINDS], help="default: all")
    parser.add_argument("--inputs", type=int, default=10_000, help="of each kind (default: 10000)")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument(
        "--keep", type=Path, metavar="DIR", help="put the files that were read at a fault there"
    )
    wanted = parser.parse_args()
    if wanted.keep:
        wanted.keep.mkdir(parents=True, exist_ok=True)
    able = set(KINDS) if os.geteuid() == 0 else set(KINDS) - TAKE_ROOT
    if left := {*(wanted.kinds or KINDS)} - able:
        print(f"Only root can try {', '.join(sorted(left))}.")
    asked = [kind for kind in wanted.kinds or KINDS if kind in able]
    tries = [(kind, wanted.inputs, wanted.seed, wanted.keep) for kind in asked]
    found = total = 0
    with multiprocessing.get_context("spawn").Pool() as pool:
        print(f"{'inputs':>7} {'faults':>6} {'s':>6}   kind")
        for tally in pool.imap_unordered(_one, tries):
            print(
                f"{tally.inputs:>7} {len(tally.faults) or 'none':>6} {tally.seconds:>6.0f}  "
                f" {tally.kind}",
                flush=True,
            )
            for fault in tally.faults:
                print(f"          {fault}")
            found, total = found + len(tally.faults), total + tally.inputs
    print(f"{total:>7} {found or 'none':>6}          in all")
    print(
        "A fault is a traceback, a character that a terminal obeys, more than 2 s of processor"
        " time, or a wrong exit code."
    )
    return 1 if found else 0


def _one(what: tuple[str, int, int, Path | None]) -> Tally:
    return tried(*what)


if __name__ == "__main__":
    sys.exit(main())
