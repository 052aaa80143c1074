"""What the tasks about updates, start and stop found, in words."""

from collections.abc import Sequence

from lumtak.core.record import Record
from lumtak.core.text import plain
from lumtak.core.units import counted, span
from lumtak.core.upkeep.tasks import Found, Result, named, not_possible

_OLD_DAYS, _MOST = 14, 2000
_REPAIR = (
    "Save the data first. A file system is repaired while it is not mounted: from a rescue medium,"
    " or at the start (add fsck.mode=force fsck.repair=preserve to the kernel's command line once)."
    " Lumtak repairs none."
)
MENU_WAITS_S, STOP_USUAL_S = 10.0, 90.0
"""What usual systems have; more is worth a look."""


_FETCH = "apt-get update, then apt-get upgrade (Lumtak fetches nothing)"
_SHORTER = {
    "boot menu": (
        "The boot menu's file is generated: set GRUB_TIMEOUT in /etc/default/grub and have it made"
        " anew (update-grub)."
    ),
    "services": "How long services may take is a setting: upkeep:stop_seconds.",
}


class Update(Record):
    """An update that waits."""

    name: str
    old: str
    new: str
    security: bool = False
    restart: bool = False
    """Whether what it replaces is in use until the next start."""

    def in_words(self) -> str:
        """From which to which, and what it is for."""
        why = f"{plain(self.old, 60)} \N{RIGHTWARDS ARROW} {plain(self.new, 60)}"
        why += ", mends a security hole" if self.security else ""
        return why + (", takes a restart" if self.restart else "")


def updates_result(
    waiting: Sequence[Update], at: str, lists_days: float | None, owed: str
) -> Result:
    """How many wait.

    Args:
        waiting: all of them.
        at: the computer's clock.
        lists_days: since the package manager's lists were fetched; None where they never were.
        owed: what of installed ones waits for a restart, as a clause; empty for nothing.
    """
    ordered = sorted(waiting, key=lambda u: (not u.security, u.name))[:_MOST]
    holes = sum(u.security for u in ordered)
    old = lists_days is None or lists_days > _OLD_DAYS
    notes = [_of_lists(lists_days)]
    if owed:
        notes.append(f"Updates that are installed already wait for a restart: {plain(owed, 200)}.")
    return Result(
        task="updates",
        at=at,
        state="found" if holes or old or owed else "fine",
        says=_waiting(ordered, holes),
        found=tuple(
            Found(kind="waits", what=u.name, why=u.in_words(), of="security" if u.security else "")
            for u in ordered
        ),
        found_count=len(ordered),
        notes=tuple(notes),
        mend=(_FETCH,) if ordered or old else (),
    )


def _waiting(updates: Sequence[Update], holes: int) -> str:
    said = f"{counted(len(updates), 'update waits', 'updates wait')}"
    said += f", {holes} of them for security." if updates else "."
    if restarts := [u.name for u in updates if u.restart]:
        said += f" A restart is needed after {named(restarts)}."
    return said


def _of_lists(days: float | None) -> str:
    if days is None:
        return "The lists were never fetched, so that nothing can be known of updates."
    old = "; they are old, so that more may wait" if days > _OLD_DAYS else ""
    return f"By lists that were fetched {counted(round(days), 'day')} ago{old}."


# -- start and stop --------------------------------------------------------------------------------


def stopping_result(
    at: str,
    menu_s: float | None,
    stop_s: float | None,
    late: Sequence[str],
    notes: Sequence[str],
) -> Result:
    """What the boot menu waits for, how long services may take to stop, what did not in time.

    Args:
        at: the computer's clock.
        menu_s: None where it is not known.
        stop_s: the same.
        late: units that did not stop in time at the last shutdown.
        notes: what could not be read.
    """
    words = "did not stop in time at the last shutdown, and was ended"
    found = [Found(kind="look", what=unit, why=words) for unit in late]
    found += _of_time("boot menu", "waits {}", menu_s, MENU_WAITS_S)
    found += _of_time("services", "have {} to stop, unless they say else", stop_s, STOP_USUAL_S)
    if menu_s is None and stop_s is None and not late:
        return not_possible("stopping", at, "neither boot menu nor service manager tell of it")
    count = sum(f.counts for f in found)
    long = {f.what for f in found if f.counts}
    return Result(
        task="stopping",
        at=at,
        state="found" if count else "fine",
        says=_stops_said(menu_s, stop_s, len(late)),
        found=tuple(found),
        found_count=count,
        notes=tuple(notes),
        mend=tuple(words for what, words in _SHORTER.items() if what in long),
    )


def _stops_said(menu_s: float | None, stop_s: float | None, late: int) -> str:
    menu = "not known" if menu_s is None else span(menu_s)
    stop = "not known" if stop_s is None else span(stop_s)
    said = f"Wait of the boot menu: {menu}. Time that services have to stop: {stop}."
    if late:
        said += f" At the last shutdown {counted(late, 'unit')} did not stop in time."
    return said


def _of_time(what: str, words: str, seconds: float | None, usual_s: float) -> list[Found]:
    if seconds is None:
        return []
    kind = "look" if seconds > usual_s else "setting"
    return [Found(kind=kind, what=what, why=words.format(span(seconds)))]


# -- disks -----------------------------------------------------------------------------------------


def disks_result(at: str, looked: str, found: Sequence[Found], notes: Sequence[str]) -> Result:
    """What disks and file systems say.

    Args:
        at: the computer's clock.
        looked: what was looked at, a sentence.
        found: what ends a computer first.
        notes: what is to be known besides.
    """
    count = sum(f.counts for f in found)
    grave = next((f for f in found if f.kind in {"failing", "damaged"}), None)
    said = looked
    if grave is not None:
        said += f" {plain(grave.what, 80)}: {plain(grave.why, 200)}."
    elif not count:
        said += " No error is known of any."
    return Result(
        task="disks",
        at=at,
        state="found" if count else "fine",
        says=said,
        found=tuple(found)[:_MOST],
        found_count=count,
        notes=tuple(notes),
        mend=(_REPAIR,) if any(f.kind == "damaged" for f in found) else (),
    )


# -- what starts -----------------------------------------------------------------------------------


def odd_result(
    at: str, starting: int, seen: Sequence[Found], *, all_jobs: bool, gaps: Sequence[str] = ()
) -> Result:
    """What starts from odd places.

    Args:
        at: the computer's clock.
        starting: how many things start by themselves.
        seen: what there is to look at.
        all_jobs: whether the scheduled jobs of single users could be read.
        gaps: what could not be looked at, a clause each.
    """
    found = tuple({(f.what, f.why): f for f in seen}.values())
    said = f"{counted(starting, 'thing')} that can start by itself looked at: "
    said += f"{counted(len(found), 'thing')} to look at." if found else "nothing to look at."
    notes = [f"Not looked at: {gap}." for gap in gaps]
    if gaps:  # what was not seen comes first: nothing was found is said of the rest only
        said = f"Not all was seen ({gaps[0]}). {said}"
    if not all_jobs:
        notes.append("Scheduled jobs of single users are known to root only.")
    return Result(
        task="odd",
        at=at,
        state="found" if found or gaps else "fine",
        says=said,
        found=found[:_MOST],
        found_count=len(found),
        notes=tuple(notes[:_MOST]),
    )
