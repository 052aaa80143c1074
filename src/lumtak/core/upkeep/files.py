"""What the tasks over many files found, in words: the system's against what was recorded, the
user's shown to a scanner, the user's in pieces.
"""

import re
from collections.abc import Callable, Iterable

from lumtak.core.text import plain
from lumtak.core.units import counted, ram
from lumtak.core.upkeep.tasks import Found, Partial, Result, named, not_possible

SEEK_S, READ_S = 0.012, 1 / 100e6
"""What a spinning disk takes to get to another place, and to read a byte: a usual disk of 7,200
turns a minute."""
_WORTH = 0.25
"""From here on of the time that reading takes, pieces are worth mending."""
_OLD_DAYS = 14
_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9+._:~-]{0,120}")
"""Names of packages that can stand in a command that somebody types."""
_LIMITS = (
    "The scanner has limits of its own for large files and archives; what is beyond them it calls"
    " clean."
)
_TOLD = (
    ("configured", "{} of configuration changed, which is what they are for."),
    ("strangers", "{} in program folders that no package brought."),
    ("unread", "{} could not be read without root."),
    ("left_out", "{} left out by the package manager's own settings."),
)


def integrity_result(
    done: Partial,
    at: str,
    *,
    without: tuple[str, ...] = (),
    broken: str = "",
    again: str = "apt-get install --reinstall",
) -> Result:
    """What a whole check found.

    Args:
        done: with everything that was found; counts: damaged, configured, strangers, unread,
            left_out.
        at: the computer's clock.
        without: packages that recorded nothing of their files.
        broken: why the package database cannot be trusted, as a clause.
        again: the command that installs packages once more.
    """
    damaged = done.counts.get("damaged", 0)
    packages = _packages(done.found)
    said = f"{counted(done.files, 'file')} ({ram(done.bytes)}) held against what was recorded: "
    if damaged:
        said += f"{counted(damaged, 'file is', 'files are')} not as the packages brought them"
        said += f" ({named(packages)})."
    else:
        said += "all are as the packages brought them."
    notes = [
        words.format(counted(done.counts[name], "file"))
        for name, words in _TOLD
        if done.counts.get(name)
    ]
    if without:
        notes.append(f"Nothing was recorded of the files of {named(without)}.")
    if broken:
        notes.insert(0, f"Not all can be told: {plain(broken, 200)}.")
    return Result(
        task="integrity",
        at=at,
        took_s=done.spent_s,
        state="found" if damaged or broken else "fine",
        says=said,
        found=done.found,
        found_count=damaged,
        notes=tuple(notes),
        mend=(f"{again} {' '.join(packages)}",) if packages else (),
    )


def _packages(found: Iterable[Found]) -> list[str]:
    """Those of what is damaged, by names that can be typed."""
    names = {f.of for f in found if f.kind == "damaged"}
    return sorted(filter(_NAME.fullmatch, names))


# -- shown to a scanner ----------------------------------------------------------------------------


def signatures(name: str, days: int | None) -> str:
    """How old a scanner's signatures are, a sentence.

    Args:
        name: of the scanner, as it says.
        days: since they were made; None where it does not say.
    """
    if days is None:
        return f"{plain(name, 60)} does not say how old its signatures are."
    if days < 0:
        return f"The signatures of {plain(name, 60)} are from the future; see the clock."
    old = "; they are old, have them brought up to date first" if days > _OLD_DAYS else ""
    return f"The signatures of {plain(name, 60)} are {counted(days, 'day')} old{old}."


def scanned_result(
    done: Partial, at: str, known: str, advised: Callable[[Found], Found], folders: int = 0
) -> Result:
    """What a scanner found.

    Args:
        done: counts: finding, unread, unsure.
        at: the computer's clock.
        known: from `signatures`.
        advised: gives a finding with what can be done about it.
        folders: that could not be looked into.
    """
    found = done.counts.get("finding", 0)
    unsure = done.counts.get("unsure", 0) + done.counts.get("unread", 0)
    if done.files and unsure >= done.files:
        why = f"of {counted(unsure, 'file')} the scanner could say nothing"
        return not_possible("unwanted", at, why, "See its log, and start this again.")
    said = f"{known} {counted(done.files, 'file')} ({ram(done.bytes)}) shown to it: "
    nothing = "nothing found in those it could look into." if unsure else "nothing found."
    said += counted(found, "finding") + "." if found else nothing
    notes = [_LIMITS]
    for name, words in (
        ("unread", "{} could not be read by this user."),
        ("unsure", "Of {} the scanner could not say anything."),
    ):
        if number := done.counts.get(name, 0):
            notes.append(words.format(counted(number, "file")))
    if folders:
        notes.append(f"{counted(folders, 'folder')} could not be looked into by this user.")
    return Result(
        task="unwanted",
        at=at,
        took_s=done.spent_s,
        state="found" if found else "fine",
        says=said,
        found=tuple(map(advised, done.found)),
        found_count=found,
        notes=tuple(notes),
    )


# -- in pieces -------------------------------------------------------------------------------------


def fragments_result(
    done: Partial, at: str, worst: list[tuple[int, int, str]], disk: str
) -> Result:
    """What was measured, and whether it matters on such a disk.

    A piece more is a seek more: 12 ms; a byte is read at 100 MB/s. From a quarter of the time of
    reading on, mending is worth it, on a spinning disk.

    Args:
        done: counts: measured, pieces, many.
        at: the computer's clock.
        worst: pieces, bytes and path, the worst first.
        disk: spinning, solid, or empty where that is not known.
    """
    measured, pieces = done.counts.get("measured", 0), done.counts.get("pieces", 0)
    if not measured:
        return Result(
            task="fragments",
            at=at,
            took_s=done.spent_s,
            state="fine",
            says=f"None of {counted(done.files, 'file')} is large enough to matter.",
        )
    more_s, read_s = SEEK_S * max(0, pieces - measured), READ_S * done.bytes
    said = (
        f"{counted(measured, 'large file')} ({ram(done.bytes)}) in {counted(pieces, 'piece')},"
        f" {done.counts.get('many', 0):,} of them in more than one."
    )
    matters = disk == "spinning" and more_s > _WORTH * read_s
    if disk == "spinning":
        share = 100 * more_s / read_s if read_s else 0.0
        said += (
            f" By 12 ms a piece, reading them takes {share:.0f} % longer than in one piece each."
        )
    else:
        kind = "a solid-state disk" if disk == "solid" else "a disk whose kind is not known"
        said += f" On {kind} it makes no difference, and putting them together only wears it."
    return Result(
        task="fragments",
        at=at,
        took_s=done.spent_s,
        state="found" if matters else "fine",
        says=said,
        found=tuple(
            Found(
                kind="look" if matters else "setting",
                what=path,
                why=f"{counted(number, 'piece')}, {ram(size)}",
            )
            for number, size, path in worst
        ),
        found_count=done.counts.get("many", 0) if matters else 0,
    )
