"""What the tasks about updates, start and stop found, in words."""

from collections.abc import Sequence

from lumtak.core.record import Record
from lumtak.core.text import plain
from lumtak.core.units import counted, span
from lumtak.core.upkeep.tasks import Found, Result, named, not_possible

_OLD_DAYS, _MOST = 14, 2000
MENU_WAITS_S, STOP_USUAL_S = 10.0, 90.0
"""What usual systems have; more is worth a look."""


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
    said = f"{counted(len(ordered), 'update waits', 'updates wait')}"
    said += f", {holes} of them for security." if ordered else "."
    if restarts := [u.name for u in ordered if u.restart]:
        said += f" A restart is needed after {named(restarts)}."
    notes = [_of_lists(lists_days)]
    if owed:
        notes.append(f"Updates that are installed already wait for a restart: {plain(owed, 200)}.")
    old = lists_days is None or lists_days > _OLD_DAYS
    return Result(
        task="updates",
        at=at,
        state="found" if holes or old or owed else "fine",
        says=said,
        found=tuple(
            Found(
                kind="waits",
                what=u.name,
                why=u.in_words(),
                of="security" if u.security else "",
            )
            for u in ordered
        ),
        found_count=len(ordered),
        notes=tuple(notes),
        mend=("Lumtak fetches nothing: apt-get update, then apt-get upgrade.",)
        if ordered or old
        else (),
    )


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
    found = [
        Found(
            kind="look", what=unit, why="did not stop in time at the last shutdown, and was ended"
        )
        for unit in late
    ]
    found += [
        Found(
            kind="look" if seconds > usual else "setting",
            what=what,
            why=words.format(span(seconds)),
        )
        for what, words, seconds, usual in (
            ("boot menu", "waits {}", menu_s, MENU_WAITS_S),
            ("services", "have {} to stop, unless they say else", stop_s, STOP_USUAL_S),
        )
        if seconds is not None
    ]
    menu = "how long is not known" if menu_s is None else span(menu_s)
    stop = "a time that is not known" if stop_s is None else span(stop_s)
    said = f"The boot menu waits: {menu}. Services may take {stop} to stop."
    if late:
        said += f" At the last shutdown {counted(len(late), 'unit')} did not stop in time."
    count = sum(f.counts for f in found)
    if menu_s is None and stop_s is None and not late:
        return not_possible("stopping", at, "neither boot menu nor service manager tell of it")
    mend = []
    if menu_s is not None and menu_s > MENU_WAITS_S:
        mend.append(
            "The boot menu's file is generated: set GRUB_TIMEOUT in /etc/default/grub and have it"
            " made anew (update-grub)."
        )
    if stop_s is not None and stop_s > STOP_USUAL_S:
        mend.append("How long services may take is a setting: upkeep:stop_seconds.")
    return Result(
        task="stopping",
        at=at,
        state="found" if count else "fine",
        says=said,
        found=tuple(found),
        found_count=count,
        notes=tuple(notes),
        mend=tuple(mend),
    )
