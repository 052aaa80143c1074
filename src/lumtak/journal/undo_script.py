"""The undo script: what puts every open change back without Lumtak, left on a real computer."""

from collections.abc import Sequence

from lumtak.computers.kit import Script, UndoKit, Way
from lumtak.computers.protocol import Computer
from lumtak.core.setting import SettingRef
from lumtak.core.text import plain
from lumtak.errors import ComputerError
from lumtak.journal.entry import UNFINISHED, Entry
from lumtak.journal.store import Journal


def refresh_script(journal: Journal, computer: Computer) -> str:
    """Write the script anew, or remove it when nothing is left to put back.

    Gives its path, empty when there is none.

    Raises:
        ComputerError: it cannot be left on the computer.
    """
    kit = computer.settings.undo_kit()
    if kit is None:
        return ""
    tag = journal.script_tag(computer.identity)
    mine = journal.entries_of(computer)
    waiting = [e for e in mine if e.is_open]
    if not waiting:
        kit.remove(tag, _made(mine))
        return ""
    return kit.leave(tag, _script(waiting, kit, computer.name, tag, mine))


def scripts_left(journal: Journal, computer: Computer) -> list[Script]:
    """The scripts that stand on the computer. Touches nothing."""
    kit = computer.settings.undo_kit()
    return [] if kit is None else kit.left(journal.script_tag(computer.identity))


def older_scripts(journal: Journal, computer: Computer) -> list[Script]:
    """The scripts that were left before records of changes were lost.

    They alone still know those changes.
    """
    kit = computer.settings.undo_kit()
    tags = () if kit is None else journal.older_script_tags(computer.identity)
    return [script for tag in tags if kit is not None for script in kit.left(tag)]


def give_up_lost(journal: Journal, computer: Computer) -> None:
    """Changes whose records were lost are done with.

    One script again stands on the computer, and it knows what the journal knows.

    Raises:
        ComputerError: the scripts cannot be written anew; nothing is forgotten then.
    """
    kit = computer.settings.undo_kit()
    made = _made(journal.entries_of(computer))
    tags = (*journal.older_script_tags(computer.identity), journal.script_tag(computer.identity))
    with journal.writing(computer.identity):
        for tag in tags if kit is not None else ():
            if kit is not None and kit.left(tag):
                kit.remove(tag, made)
        journal.give_up_lost(computer.identity)
        refresh_script(journal, computer)


def _script(
    entries: Sequence[Entry], kit: UndoKit, computer: str, tag: str, ever: Sequence[Entry]
) -> bytes:
    """The script for these open changes: one part for each setting, the newest first.

    A setting that was changed several times goes straight to what it was before the first change. A
    record that no part can be made of, such as one that somebody forged, is named and left out: it
    must not keep the others out.

    Raises:
        ComputerError: no part can be made of a change that is about to be written.
    """
    chains: dict[SettingRef, list[Entry]] = {}
    for entry in entries:
        chains.setdefault(entry.ref, []).append(entry)
    parts, contents = [], []
    for chain in sorted(chains.values(), key=lambda c: -c[-1].id):
        first, last = chain[0], chain[-1]
        numbers = ", ".join(str(e.number) for e in chain)
        title = plain(f"{last.title} ({last.ref})")
        about = f"{title}: {first.restore.word} before, {last.word} since (change {numbers})"
        try:
            parts.append(kit.part(last.ref, title, _ways(chain)))
        except ComputerError as error:
            if last.stage == "intent":  # it is not written yet, and without its part it will not be
                raise
            about = f"NOT in here: {about}; {error.message}"
        contents.append(plain(about, 400))
    return kit.script(
        tag, computer=plain(computer), contents=contents, parts=parts, made=_made(ever)
    )


def _ways(chain: Sequence[Entry]) -> list[Way]:
    """Back to before each change of a setting, the oldest first, from wherever it or a newer one
    left it.
    """
    last = chain[-1]
    unfinished = (last.before, last.restore) if last.stage in UNFINISHED else ()
    found = []
    for place, entry in enumerate(chain):
        # It goes straight to what it was; a newer change that was put back left it at this one's.
        left = [state for e in reversed(chain[place:]) for state in e.known]
        ways = Way(number=entry.number, restore=entry.restore, accepted=(*left, *unfinished))
        found.append(ways)
    return found


def by_number(journal: Journal, computer: Computer) -> str:
    """What to type on the computer, with a change's number after it, to put that change back
    without Lumtak; empty where nothing stands for it.
    """
    kit = computer.settings.undo_kit()
    return "" if kit is None else kit.by_number(journal.script_tag(computer.identity))


def _made(entries: Sequence[Entry]) -> int:
    """How many folders were made for the first script."""
    return max((e.script_made for e in entries), default=0)
