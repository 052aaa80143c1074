"""What upkeep does when it is asked to: each an action, recorded with what became of it."""

from collections.abc import Sequence

from lumtak.computers.protocol import Computer
from lumtak.core.actions import Action
from lumtak.core.text import plain
from lumtak.core.upkeep.tasks import Result
from lumtak.errors import ComputerError, UsageError


def trim(computer: Computer) -> Action:
    """Solid-state disks are told what is free on them; what became of it."""
    note, told = "", {}  # type: str, dict[str, int]
    try:
        computer.settings.take_rights(ask=False)
        told = computer.settings.trim()
    except ComputerError as error:
        note = plain(str(error), 300)
    return Action(
        at=computer.clock.wall().isoformat(timespec="seconds"),
        kind="trim",
        target=", ".join(plain(p, 60) for p in told) or "no disk",
        consumer="upkeep:trim",
        ended=bool(told),
        refused=bool(note),
        bytes=float(sum(told.values())),
        note=note,
    )


def to_repair(last: Result | None, named: Sequence[str] = ()) -> tuple[str, ...]:
    """Packages with damaged files, by the last check; of those only the named ones, where any are.

    Raises:
        UsageError: there was none, nothing is damaged, or none of that name.
    """
    found = () if last is None else last.of_kind("damaged")
    packages = tuple(dict.fromkeys(f.of for f in found if f.of))
    if not packages:
        raise UsageError(
            "Nothing is known to be damaged.", "`lumtak upkeep COMPUTER integrity` checks it."
        )
    wrong = [n for n in named if n not in packages]
    if wrong:
        raise UsageError(
            f"{plain(wrong[0], 80)} is not known to be damaged.",
            f"Damaged are {', '.join(map(plain, packages[:12]))}.",
        )
    return tuple(p for p in packages if not named or p in named)


def repair(computer: Computer, packages: Sequence[str]) -> Action:
    """Packages are unpacked once more from what is on the computer; what became of it."""
    note, done = "", ()  # type: str, tuple[str, ...]
    try:
        computer.settings.take_rights(ask=False)
        done = computer.settings.reinstall(packages, rehearse=False)
    except ComputerError as error:
        note = plain(str(error), 600)
    passed = [p for p in packages if p not in done]
    if passed and not note:
        names = ", ".join(plain(p, 80) for p in passed[:8])
        note = f"{names} cannot be had from what is here; fetch the archive of the same version"
    return Action(
        at=computer.clock.wall().isoformat(timespec="seconds"),
        kind="repair",
        target=", ".join(done or packages),
        consumer="upkeep:integrity",
        ended=set(done) == set(packages),
        refused=not done,
        packages=done,
        note=note,
    )


def gather(computer: Computer, paths: Sequence[str]) -> Action:
    """Files are put together, one after the other; what became of it.

    Raises:
        ComputerError: not one of them was.
    """
    before = now = done = 0
    problem: ComputerError | None = None
    for path in paths:
        try:
            was, lies = computer.settings.gather(path)
        except ComputerError as error:
            problem = problem or error
            continue
        before, now, done = before + was, now + lies, done + 1
    if problem is not None and not done:
        raise problem
    note = f"in {before:,} pieces before, in {now:,} now"
    if problem is not None:
        note += f"; {len(paths) - done} stay as they lie: {plain(problem.message, 200)}"
    return Action(
        at=computer.clock.wall().isoformat(timespec="seconds"),
        kind="gather",
        target=plain(paths[0], 120) if len(paths) == 1 else f"{done} files",
        consumer="upkeep:fragments",
        ended=True,
        files=done,
        note=note,
    )
