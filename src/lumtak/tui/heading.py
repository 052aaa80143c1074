"""The head of a job: whose computer, what its owner complains of, what goes on."""

from rich.text import Text

from lumtak.casebook.job import Job
from lumtak.core.proof import complaint_in_words
from lumtak.core.text import plain
from lumtak.tui.theme import Palette

_APART = " · "
_LEAST = 24
"""Cells in which a complaint still says something."""


def head_line(job: Job, right: Text, width: int, palette: Palette) -> Text:
    """One line of so many cells; what the complaint needs is taken from what is known anyway.

    Args:
        job: whose it is.
        right: stands at the right end.
        width: of the line.
        palette: colours.
    """
    computer = plain(job.computer_name, 40)
    known = [f"visit {job.visit}", plain(job.profile.title.lower(), 40), plain(job.user, 20)]
    came = plain(complaint_in_words(job.complaint, job.told), 400)
    wanted = min(Text(came).cell_len, _LEAST) + len(_APART) if came else 0
    head = _begun(computer, known, palette)
    while known and width - head.cell_len - right.cell_len - 2 < wanted:
        known.pop()
        head = _begun(computer, known, palette)
    if came:
        said = Text(came, style=palette.ink)
        said.truncate(width - head.cell_len - right.cell_len - len(_APART) - 2, overflow="ellipsis")
        head.append(_APART, style=palette.soft)
        head.append_text(said)
    if (room := width - head.cell_len - right.cell_len) > 1:
        head.append(" " * room)
        head.append_text(right)
    return head


def _begun(computer: str, known: list[str], palette: Palette) -> Text:
    head = Text(no_wrap=True)
    head.append("Lumtak", style=f"bold {palette.accent}")
    head.append(f"  {computer}", style="bold")
    head.append("".join(_APART + words for words in known), style=palette.soft)
    return head
