"""Surveys as files: a folder for each computer, a file for each look through its disk."""

import contextlib
import hashlib
import re
from pathlib import Path

import msgspec

from lumtak.core.clutter import Survey
from lumtak.core.record import json_document
from lumtak.errors import BadFileError
from lumtak.formats.readings import decode_file
from lumtak.storage import make_folder, read_handed_in, write_whole

FORMAT = 1
_LARGEST = 16 << 20
_KEPT = 24
"""A weekly look for half a year, of each volume."""


def keep(folder: Path, survey: Survey) -> Path:
    """The survey stands in a file of its own, whole or not at all; the oldest beyond two dozen
    go.
    """
    here = folder / survey.identity
    make_folder(folder)
    make_folder(here)
    other = "" if survey.top == "/" else f"-{hashlib.sha256(survey.top.encode()).hexdigest()[:8]}"
    path = here / f"{re.sub(r'[^0-9T]', '', survey.at)[:15]}{other}.json"
    write_whole(path, json_document(survey), private=True)
    mine = (p for p in here.glob("*.json") if p.stem.partition("-")[2] == other[1:])
    for old in sorted(mine)[:-_KEPT]:
        old.unlink(missing_ok=True)
    return path


def kept(folder: Path, identity: str, most: int = 2, top: str = "/") -> list[Survey]:
    """The newest surveys of a volume of a computer, the newest first; a file that is none is passed
    over.
    """
    here, found = folder / identity, []
    for path in sorted(here.glob("*.json"), reverse=True) if here.is_dir() else ():
        with contextlib.suppress(BadFileError):
            survey = load_survey(path)
            found += [survey] if survey.top == top else []
        if len(found) >= most:
            break
    return found


def load_survey(path: Path) -> Survey:
    """The survey in a file.

    Raises:
        BadFileError: it is none, or of a newer Lumtak.
    """
    data = read_handed_in(path, _LARGEST, "survey")
    again = "Look through the disk again: lumtak storage COMPUTER."
    return decode_file(data, path, Survey, "survey", FORMAT, again)


def without_names(survey: Survey) -> Survey:
    """The same without names of the owner's files and folders: for what is handed on."""
    return msgspec.structs.replace(survey, largest=(), folders=(), hollow=(), unread_named=())
