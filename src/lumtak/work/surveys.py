"""The volumes of a computer looked through, and what was found kept."""

import threading
from collections.abc import Callable, Iterable

import msgspec

from lumtak.computers.protocol import Computer
from lumtak.core.clutter import Looked, Survey, volumes_of
from lumtak.formats.surveys import kept
from lumtak.work.data_folder import DataFolder


def look_through(
    data_folder: DataFolder,
    computer: Computer,
    on_progress: Callable[[Looked], None] = lambda _: None,
    stop: threading.Event | None = None,
    volume: str = "/",
) -> tuple[Survey, Survey | None]:
    """(where a volume went, the look at it before that); kept as a file.

    Raises:
        StoppedError: it was told to stop; ComputerError: it cannot be looked through.
    """
    before = kept(data_folder.surveys, computer.identity, 1, volume)
    found = computer.about.survey(on_progress, stop or threading.Event(), volume)
    data_folder.keep_survey(found)
    return found, before[0] if before else None


def look_through_all(
    data_folder: DataFolder,
    computer: Computer,
    on_progress: Callable[[Looked], None] = lambda _: None,
    stop: threading.Event | None = None,
) -> tuple[Survey, Survey | None, list[tuple[Survey, Survey | None]]]:
    """The system's volume, with the look before that, and so each other volume that holds something
    of the owner's.

    Raises:
        StoppedError: it was told to stop; ComputerError: one cannot be looked through.
    """
    survey, before = look_through(data_folder, computer, on_progress, stop)
    home = computer.about.folders()["home"]
    others = [
        look_through(data_folder, computer, on_progress, stop, top)
        for top in volumes_of(survey, home)
    ]
    return survey, before, others


def surveys_of(data_folder: DataFolder, computer: Computer) -> Survey | None:
    """The last look through the disk, with the files and folders of the owner's on all volumes;
    None where nobody looked.
    """
    found = kept(data_folder.surveys, computer.identity, 1)
    if not found:
        return None
    tops = volumes_of(found[0], computer.about.folders()["home"])
    others = (s for top in tops for s in kept(data_folder.surveys, computer.identity, 1, top))
    return with_others(found[0], others)


def with_others(survey: Survey, others: Iterable[Survey]) -> Survey:
    """The look through a volume with files and folders of other volumes."""
    found = [survey, *others]
    return msgspec.structs.replace(
        survey,
        largest=tuple(sorted((f for s in found for f in s.largest), key=lambda f: -f.bytes)),
        folders=tuple(sorted((f for s in found for f in s.folders), key=lambda f: -f.bytes)),
        hollow=tuple(f for s in found for f in s.hollow),
    )
