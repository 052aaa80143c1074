"""The owner's own files: the largest, and those of which there are several. Shown, never chosen."""

import posixpath
from collections.abc import Iterable
from typing import Literal, get_args

from lumtak.core.clutter import BigFile
from lumtak.core.record import Record
from lumtak.core.units import counted

Kind = Literal[
    "film", "picture", "music", "document", "archive", "disk image", "program", "mail", "other"
]
KINDS: tuple[Kind, ...] = get_args(Kind)
_ENDINGS: dict[Kind, str] = {
    "film": "mkv mp4 avi mov webm m4v mpg mpeg wmv ogv ts",
    "picture": "jpg jpeg png gif tif tiff webp bmp heic raw nef cr2 dng svg xcf psd",
    "music": "mp3 flac ogg opus wav m4a aac wma aif aiff mid",
    "document": "pdf odt ods odp doc docx xls xlsx ppt pptx txt md rtf epub tex csv",
    "archive": "zip tar gz xz bz2 zst 7z rar tgz deb rpm",
    "disk image": "iso img vdi vmdk qcow2 vhd vhdx ova dmg",
    "program": "exe msi appimage run bin jar apk",
    "mail": "mbox pst eml msf",
}
_KIND_OF: dict[str, Kind] = {
    ending: kind for kind, endings in _ENDINGS.items() for ending in endings.split()
}


def kind_of(path: str) -> Kind:
    """What a file is, by the ending of its name."""
    return _KIND_OF.get(posixpath.splitext(path)[1].lstrip(".").lower(), "other")


class Wanted(Record):
    """Which files are shown."""

    least_bytes: float = 0.0
    older_days: float = 0.0
    """Last changed longer ago."""
    kind: Kind | None = None
    folder: str = ""
    """Only below it; empty for anywhere."""

    def lets(self, path: str, size: float, age_days: float) -> bool:
        """Whether such a file is shown."""
        below = not self.folder or path.startswith(self.folder.rstrip("/") + "/")
        large = size >= self.least_bytes and age_days >= self.older_days
        return below and large and self.kind in {None, kind_of(path)}


def largest(files: Iterable[BigFile], wanted: Wanted, now: float) -> list[BigFile]:
    """Those that are wanted, the largest first.

    Args:
        files: of a survey.
        wanted: which.
        now: seconds since 1970.
    """
    day = 86_400
    return [f for f in files if wanted.lets(f.path, f.bytes, (now - f.changed_at) / day)]


class Chosen(Record):
    """What a person chose to set aside."""

    paths: tuple[str, ...] = ()
    copies: tuple[tuple[str, tuple[str, ...]], ...] = ()
    """(a file that goes, where the same content stays): it goes only if one of those holds the same
    bytes just before."""
    marks: tuple[tuple[str, str], ...] = ()
    """(a path, by what it was told from another of its name when it was decided about): it goes
    only as it was then."""


def title_of_chosen(files: int) -> str:
    """Of several things that were set aside at once."""
    return f"Chosen with the owner ({counted(files, 'file')})"


class CopyGroup(Record):
    """Files of the same content, compared byte for byte."""

    bytes: float
    """Of one of them."""
    copies: tuple[tuple[str, ...], ...]
    """For each the names that it has: more than one are hard links, which are no copies."""
    count: int
    """Of copies."""
    frees: float | None = None
    """Bytes of the disk that would be free at least if one of them stayed: what is allocated, and
    shared with no other file; nothing where an older Lumtak searched."""
    sure: bool = True
    """Whether the file system told what is shared; else it is so much at most."""

    @property
    def frees_bytes(self) -> float:
        """That would be free if one of them stayed."""
        return (self.count - 1) * self.bytes if self.frees is None else self.frees


class CopiesFound(Record):
    """A search for files of which there are several."""

    format: int = 1
    top: str
    groups: tuple[CopyGroup, ...]
    """Those first that would free most."""
    frees_bytes: float
    files: int
    """That were looked at."""
    unread: int = 0
    """That could not be read."""
    changed: int = 0
    """That changed while they were compared, and so are in no group."""
    left: int = 0
    """That may be copies, and were too many to compare."""
    more_groups: int = 0
    """That are not listed."""


class Comparing(Record):
    """How far a search is."""

    what: str
    files: int
    bytes: float
    whole_bytes: float
