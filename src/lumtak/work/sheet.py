"""The owner's sheet: shown, saved, printed. What stands on one keeps its number for good."""

import shutil
import subprocess
import threading
from pathlib import Path

from lumtak.core.asking import questions
from lumtak.core.text import capital, plain
from lumtak.core.units import counted
from lumtak.errors import LumtakError
from lumtak.report.lettering import not_in_font
from lumtak.report.sheet import Sheet, sheet_of
from lumtak.report.tongue import Tongue
from lumtak.storage import in_sentences, make_folder, write_whole
from lumtak.work.handover import content_of, note_written, sheet_bytes
from lumtak.work.open_job import OpenJob
from lumtak.work.places import results_folder

_PRINTERS = ("lp", "lpr")
"""The system's own commands that print what they are given; POSIX.1-2017, lp."""
_PRINTS_IN_S = 60.0
_ASKED = 3
"""Questions that are told; the others are counted."""


def sheet_now(open_job: OpenJob, tongue: Tongue) -> Sheet:
    """What the sheet says now."""
    return sheet_of(content_of(open_job), tongue)


def sheet_path(open_job: OpenJob) -> Path:
    """Where it is saved unless the person says otherwise."""
    folder = results_folder(open_job.data_folder.settings.report_folder)
    return folder / f"lumtak-sheet-{open_job.job.id}.pdf"


def save_sheet(open_job: OpenJob, path: Path, tongue: Tongue) -> Path:
    """The sheet as a file; gives its path.

    Raises:
        StorageError: it cannot be written; no file is left half-written.
    """
    with in_sentences(path.parent):
        make_folder(path.parent)
    write_whole(path, sheet_bytes(open_job, content_of(open_job), tongue))
    note_written(open_job, path)
    return path


def printer() -> str:
    """The system's own command that prints; empty where there is none."""
    return next((found for name in _PRINTERS if (found := shutil.which(name))), "")


def print_sheet(open_job: OpenJob, tongue: Tongue) -> str:
    """The sheet goes to the printer that the system uses; gives what the system said.

    Raises:
        LumtakError: there is no such command, or it refused, with what it said.
    """
    command = printer()
    if not command:
        raise LumtakError(
            "This system has no command that prints (lp or lpr).",
            "Save the sheet, and print it from a program that shows PDF files.",
        )
    data = sheet_bytes(open_job, content_of(open_job), tongue)
    try:
        done = subprocess.run(  # noqa: S603 - a command of the system, and no argument
            [command], input=data, capture_output=True, timeout=_PRINTS_IN_S, check=False
        )
    except (OSError, subprocess.TimeoutExpired) as error:
        raise LumtakError(
            f"{command} did not print: {plain(str(error), 200)}.",
            "See to the printer, or save the sheet.",
        ) from error
    said = plain(" ".join(done.stderr.decode("utf-8", "replace").split()), 300)
    if done.returncode:
        raise LumtakError(
            f"{command} did not print: {said or f'it ended with {done.returncode}'}.",
            "See to the printer, or save the sheet.",
        )
    return plain(" ".join(done.stdout.decode("utf-8", "replace").split()), 300) or "Sent to print."


def open_file(path: Path) -> None:
    """Show a file with the program that the desktop has for it.

    Raises:
        LumtakError: nothing is there that opens it.
    """
    opener = shutil.which("xdg-open") or shutil.which("open")
    if not opener:
        raise LumtakError(
            "Nothing here opens a file with its program (xdg-open).", f"Open it yourself: {path}."
        )
    opened = subprocess.Popen(  # noqa: S603 - a command of the system, and a path of ours
        [opener, str(path)],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
    )
    # It may last as long as the program that shows the file: nobody waits, and no body is left.
    threading.Thread(target=opened.wait, daemon=True).start()


def lacking(open_job: OpenJob) -> list[tuple[str, str]]:
    """(what, a sentence) of all that a sheet still lacks, what matters most first."""
    job = open_job.job
    owed = open_job.owed().in_words()
    nobody = "" if job.complaint or job.told else "Nobody noted what the owner came with."
    phone = open_job.data_folder.settings.shop.phone
    bad = [e.title for e in open_job.entries() if e.stage in {"failed", "conflict"}]
    chosen = f"{counted(len(job.chosen), 'change')} chosen and not made." if job.chosen else ""
    rows = (
        ("restart", f"{capital(owed)}; then the reading counts." if owed else ""),
        ("after reading", _reading(open_job)),
        _asked(open_job),
        ("complaint", nobody),
        ("telephone", "" if phone else "The settings name no number to call (shop.phone)."),
        ("letters", _letters(open_job)),
        ("did not go through", ", ".join(bad)),
        ("plan", chosen),
    )
    return [row for row in rows if row[1]]


def _asked(open_job: OpenJob) -> tuple[str, str]:
    """Questions that only the owner can answer, and that nobody asked yet."""
    audit = open_job.job.audit
    found = questions(audit)[0] if audit else ()
    asked = [q.words for q in found if not q.answer]
    return f"to ask ({len(asked)})", " ".join(asked[:_ASKED])


def _letters(open_job: OpenJob) -> str:
    """What the font cannot print of what people typed."""
    owner, shop = open_job.job.owner, open_job.data_folder.settings.shop
    typed = f"{owner.name} {owner.contact} {open_job.job.told} {shop.name} {shop.address}"
    letters = plain(not_in_font(typed), 40)
    return f"The font has no picture of {letters}; write that in by hand." if letters else ""


def _reading(open_job: OpenJob) -> str:
    from lumtak.work.proof import why_provisional

    if not any(e.is_open for e in open_job.entries()):
        return ""
    if open_job.after is None:
        return "There is none yet, so the sheet claims nothing."
    return "It does not count any more; take another." if why_provisional(open_job) else ""
