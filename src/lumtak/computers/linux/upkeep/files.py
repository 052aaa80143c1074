"""Tasks over many files: the system's against what was recorded, the user's shown to a scanner,
the user's in pieces.
"""

import shlex
from datetime import datetime
from functools import partial
from typing import Any

import msgspec

from lumtak.computers.hands.sent.files.words import escaped
from lumtak.computers.hands.sent.system.packages import STATUS
from lumtak.computers.linux.upkeep.given import Given
from lumtak.computers.linux.upkeep.streaming import streamed
from lumtak.core.text import plain
from lumtak.core.upkeep.files import (
    fragments_result,
    integrity_result,
    scanned_result,
    signatures,
)
from lumtak.core.upkeep.tasks import Found, Partial, Result, not_possible

_MOST = 2000
_RPM = "/usr/bin/rpm"


def integrity(given: Given) -> Result:
    """The system's files held against what the package database recorded."""
    by_rpm = not given.hands.own.exists(STATUS)
    if by_rpm and not (given.hands.own.live and given.hands.own.exists(_RPM)):
        why = "no package database here records what files should hold, of those that are read"
        return not_possible("integrity", given.at, why, "This check knows dpkg's and rpm's.")
    parts = given.hands.beside(as_user=False).integrity(given.after)
    done, ended = streamed(parts, given.begun, given.tell, "The system's files cannot be checked")
    without = ended.get("without")
    names = [escaped(str(n))[:200] for n in without[:_MOST]] if isinstance(without, list) else []
    broken = escaped(str(ended.get("broken", "")))[:400]
    again = "dnf reinstall" if by_rpm else "apt-get install --reinstall"
    return integrity_result(done, given.at, without=tuple(names), broken=broken, again=again)


# -- shown to a scanner ----------------------------------------------------------------------------


def unwanted(given: Given) -> Result:
    """The user's files shown to the scanner that runs here."""
    hand = given.hands.beside(as_user=True)
    try:
        scanner = hand.scanner()
    except OSError as error:
        scanner = {"why": f"the scanner cannot be asked: {error}"}
    if not scanner.get("place"):
        instead = (
            "Install one that speaks the protocol of clamd (Debian and Ubuntu: clamav-daemon),"
            " let it fetch its signatures, and start this again."
        )
        return not_possible("unwanted", given.at, scanner.get("why", "no scanner runs"), instead)
    top = given.begun.top or given.user.home
    parts = hand.scan(top, given.after, scanner["place"])
    done, ended = streamed(
        parts, given.begun, given.tell, "The files cannot be shown to the scanner"
    )
    return _scanned(given, done, scanner.get("version", ""), ended)


def _scanned(given: Given, done: Partial, version: str, ended: dict[str, Any]) -> Result:
    name, _, more = version.partition("/")
    known = signatures(name, _days_old(more, datetime.fromisoformat(given.at)))
    folders = ended.get("folders")
    count = folders if isinstance(folders, int) else 0
    return scanned_result(done, given.at, known, partial(_advised, given), count)


def _days_old(said: str, now: datetime) -> int | None:
    """Days since signatures were made, by what a scanner says behind its name: their number, a
    slash, when they were made; clamd(8), VERSION. None where it says nothing.
    """
    try:
        day = f"{said.partition('/')[2].strip()} +0000"
        made = datetime.strptime(day, "%a %b %d %H:%M:%S %Y %z")
    except ValueError:
        return None
    return (now - made).days


def _advised(given: Given, found: Found) -> Found:
    """A finding with what can be done about it: what belongs to a package is installed again,
    anything else is set aside on the owner's word.
    """
    package = given.owner(found.what)
    advice = (
        f"It belongs to {package}: install that again (apt-get install --reinstall {package})."
        if package
        else "Nothing is deleted. Ask the owner, then set it aside: lumtak set-aside"
        f" {given.address} {shlex.quote(plain(found.what, 400))}"
    )
    return Found(kind=found.kind, what=found.what, why=found.why, of=package, advice=advice)


# -- in pieces -------------------------------------------------------------------------------------


def fragments(given: Given) -> Result:
    """In how many pieces the user's large files lie."""
    top = given.begun.top or given.user.home
    hand = given.hands.beside(as_user=True)
    parts = hand.fragments(top, given.after)
    done, ended = streamed(parts, given.begun, given.tell, "Fragmentation cannot be measured")
    try:
        worst = [w for w in _worst(ended.get("worst")) if w[0] > 1]
    except msgspec.ValidationError:
        worst = []
    return fragments_result(done, given.at, worst, given.disk_kind)


def _worst(said: object) -> list[tuple[int, int, str]]:
    return [
        (number, size, escaped(path)[:_MOST])
        for number, size, path in msgspec.convert(said, list[tuple[int, int, str]])[:40]
    ]
