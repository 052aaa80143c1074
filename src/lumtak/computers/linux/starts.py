"""The starts of a real computer that its journal still tells of: how long until the login screen,
how long from the login until it could be used, and what was waited for.

Sources: systemd.journal-fields(7), journalctl(1), and the message catalogue of systemd
(sd-messages(3)): SD_MESSAGE_STARTUP_FINISHED, SD_MESSAGE_SESSION_START, SD_MESSAGE_UNIT_STARTING,
SD_MESSAGE_UNIT_STARTED.
"""

import re
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import NamedTuple

import msgspec

from lumtak.computers.hands.reach import Reach, reason_of, runs_systemd, text_at
from lumtak.computers.hands.whose import User
from lumtak.core.felt import Start, Waited
from lumtak.core.record import UNREADABLE, Figure, NotMeasured
from lumtak.core.text import number, plain

_STARTED_UP = "b07a249cd024414a82dd00cd181378ff"
_SESSION = "8d45620c1a4348dbb17410da57c60c66"
_STARTING = "7d4958e842da4a758f6c1cdc7b36dcc5"
_STARTED = "39f53479d3a045ac8e11786248231fbf"
_FIELDS = "MESSAGE,MESSAGE_ID,_BOOT_ID,USER_ID,SESSION_ID,UNIT,USER_UNIT,_UID"
_MOST_STARTS, _MOST_LINES = 12, 4000
_ASKED_S = 30.0
QUIET_S = 10.0
"""When nothing more has begun for so long, a login has settled."""
_LONGEST_LOGIN_S = 600.0
_WORTH_TELLING_S, _TOLD = 0.5, 3
_GREETERS = {"gdm", "Debian-gdm", "lightdm", "sddm", "greeter", "greetd", "xdm", "lxdm"}
"""Users whose session is the login screen."""
_SCREENS = (
    "display-manager.service", "gdm.service", "gdm3.service", "lightdm.service", "sddm.service",
    "greetd.service", "xdm.service", "lxdm.service", "getty@tty1.service", "getty.target",
    "multi-user.target",
)  # fmt: skip
"""What puts a login screen up, where no greeter's session is told of; the first that is counts."""
_WAITERS = re.compile(r"plymouth-.*|user@\d+\.service|user-runtime-dir@.*|.*\.target")
"""Units that wait for others by design, or only gather them."""
_OTHERS = re.compile(r"session-.*\.scope|user@\d+\.service|user-runtime-dir@.*|user-\d+\.slice")
"""Units of a login itself, this one or another."""
_LENGTHS = {"h": 3600.0, "min": 60.0, "s": 1.0, "ms": 1e-3, "us": 1e-6}


class Line(NamedTuple):
    """What a line of the journal says, as far as it is about a start."""

    kind: str
    boot: str
    at_us: int
    """On the clock on the wall."""
    since_us: int
    """Since the kernel began."""
    said: dict[str, str]


def starts_of(hand: Reach, user: User) -> tuple[Start, ...] | NotMeasured:
    """The last dozen, oldest first, the one that is under way among them; or why none is known."""
    if not hand.live:
        return NotMeasured(not_measured="a folder does not start")
    if not runs_systemd(hand):
        return NotMeasured(not_measured="no system journal tells of starts here")
    try:
        heads = _lines(hand, (), (_STARTED_UP, _SESSION))
        boots = list(dict.fromkeys(line.boot for line in heads))[-_MOST_STARTS:]
        found = [
            start_in(
                [line for line in heads if line.boot == boot] + _units_of(hand, boot, heads, user),
                user.name,
                _now_s(hand) if boot == _this_boot(hand) else None,
            )
            for boot in boots
        ]
    except OSError as error:
        return NotMeasured(not_measured=f"the journal cannot be read: {reason_of(error)}")
    if not found:
        return NotMeasured(
            not_measured="the journal of the system may not be read by this user: members of the"
            " group adm or systemd-journal may"
        )
    return tuple(found)


def _this_boot(hand: Reach) -> str:
    return text_at(hand, "/proc/sys/kernel/random/boot_id").replace("-", "")


def _now_s(hand: Reach) -> float:
    return float(number(text_at(hand, "/proc/uptime").partition(".")[0]) or 0)


def _units_of(hand: Reach, boot: str, heads: Sequence[Line], user: User) -> list[Line]:
    """Units that began in a start and in its first login."""
    mine = [line for line in heads if line.boot == boot]
    login = _first_login(mine, user.name)
    last_us = max((login or mine[-1]).at_us, mine[0].at_us) + int(_LONGEST_LOGIN_S * 1e6)
    bounds = (f"--until=@{last_us // 1_000_000}", f"_BOOT_ID={boot}")
    return _lines(hand, bounds, (_STARTING, _STARTED))


def _lines(hand: Reach, bounds: Sequence[str], kinds: Sequence[str]) -> list[Line]:
    """What the journal tells, oldest first."""
    asked = (
        "journalctl", "--no-pager", "--quiet", "--output=json", f"--output-fields={_FIELDS}",
        f"--lines={_MOST_LINES}", *bounds, *(f"MESSAGE_ID={kind}" for kind in kinds),
    )  # fmt: skip
    found = (_line(raw) for raw in hand.run(asked, _ASKED_S).splitlines())
    return [line for line in found if line is not None]


def _line(raw: bytes) -> Line | None:
    """None where it is none; what is no text is left out."""
    try:
        said = msgspec.json.decode(raw)
    except UNREADABLE:
        return None
    if not isinstance(said, dict):
        return None
    texts = {k: v for k, v in said.items() if isinstance(k, str) and isinstance(v, str)}
    at, since = (number(texts.get(f"__{name}_TIMESTAMP")) for name in ("REALTIME", "MONOTONIC"))
    boot, kind = texts.get("_BOOT_ID", ""), texts.get("MESSAGE_ID", "")
    if at is None or since is None or not re.fullmatch(r"[0-9a-f]{32}", boot):
        return None
    if _is_forged(kind, texts):
        return None
    return Line(kind, boot, at, since, texts)


def _is_forged(kind: str, said: dict[str, str]) -> bool:
    """Whether a line of the system was written by somebody else: anybody can write one, and nobody
    can forge who wrote it; systemd.journal-fields(7), trusted fields.
    """
    of_the_system = kind in {_STARTED_UP, _SESSION} or "UNIT" in said
    return of_the_system and said.get("_UID") != "0"


def start_in(lines: Sequence[Line], user: str, now_s: float | None) -> Start:
    """What the lines of one start tell of it.

    Args:
        lines: at least one; of one boot.
        user: whose login counts.
        now_s: seconds since the kernel began, where it is the start that is under way.
    """
    ordered = sorted(lines, key=lambda line: line.since_us)
    before_s = sum(
        _told_s(line.said.get("MESSAGE", "")) for line in ordered if line.kind == _STARTED_UP
    )
    screen = _login_screen(ordered)
    login = _first_login(ordered, user)
    settled = None if login is None else _settled(ordered, login)
    end_us = settled or (screen or ordered[-1]).since_us
    one = ordered[0]
    began = datetime.fromtimestamp((one.at_us - one.since_us) / 1e6 - before_s, UTC)
    return Start(
        boot_id=one.boot,
        at=began.isoformat(timespec="seconds"),
        login_screen_s=(
            NotMeasured(not_measured="the journal does not tell when it came")
            if screen is None
            else before_s + screen.since_us / 1e6
        ),
        usable_s=_usable(user, login, settled, now_s),
        waited_for=_waited(ordered, end_us),
    )


def _usable(user: str, login: Line | None, settled_us: int | None, now_s: float | None) -> Figure:
    if login is None:
        return NotMeasured(not_measured=f"{plain(user, 40)} did not log in, as far as is told")
    if settled_us is None:
        return NotMeasured(not_measured="the journal tells of nothing that the login began")
    if now_s is not None and now_s - settled_us / 1e6 < QUIET_S:
        return NotMeasured(not_measured="what the login began is still starting")
    return (settled_us - login.since_us) / 1e6


def _told_s(message: str) -> float:
    """Seconds of firmware and boot loader, before the kernel began, as the manager words them."""
    found = re.findall(r"((?:\d[\d.]*(?:h|min|s|ms|us) ?)+) ?\((?:firmware|loader)\)", message)
    return sum(seconds_in(told) or 0.0 for told in found)


def seconds_in(words: str) -> float | None:
    """A length of time as systemd words it, in seconds; None where it is none; systemd.time(7)."""
    parts = re.findall(r"(\d{1,6}(?:\.\d{1,6})?)(h|min|ms|us|s)", words)
    return sum(float(amount) * _LENGTHS[unit] for amount, unit in parts) if parts else None


def _login_screen(lines: Sequence[Line]) -> Line | None:
    for line in lines:
        if line.kind == _SESSION and line.said.get("USER_ID") in _GREETERS:
            return line
    begun = {line.said.get("UNIT", ""): line for line in reversed(lines) if line.kind == _STARTED}
    return next((begun[unit] for unit in _SCREENS if unit in begun), None)


def _first_login(lines: Sequence[Line], user: str) -> Line | None:
    return next((x for x in lines if x.kind == _SESSION and x.said.get("USER_ID") == user), None)


def _unit_of(line: Line) -> str:
    return line.said.get("UNIT") or line.said.get("USER_UNIT", "")


def _settled(lines: Sequence[Line], login: Line) -> int | None:
    """When the last unit had started that began after a login, each within ten seconds of the one
    before; None where none did.

    Only the first start of each counts: what a timer starts again and again is no part of a login,
    and neither is another login.
    """
    last = None
    begun: dict[str, int] = {}
    ended: set[str] = set()
    for line in lines:
        unit = _unit_of(line)
        if line.kind not in {_STARTING, _STARTED} or _OTHERS.fullmatch(unit) or unit in ended:
            continue
        if line.kind == _STARTED:
            ended.add(unit)
        if begun.setdefault(unit, line.since_us) < login.since_us:
            continue
        if line.since_us - (last or login.since_us) > QUIET_S * 1e6:
            break
        last = line.since_us
    return last


def _waited(lines: Sequence[Line], until_us: int) -> tuple[Waited, ...]:
    """The units that took longest from starting to started."""
    began: dict[str, int] = {}
    found: dict[str, float] = {}
    for line in lines:
        unit = _unit_of(line)
        if not unit or line.since_us > until_us or _WAITERS.fullmatch(unit):
            continue
        if line.kind == _STARTING:
            began.setdefault(unit, line.since_us)
        elif line.kind == _STARTED and unit in began:
            found.setdefault(unit, (line.since_us - began[unit]) / 1e6)
    longest = sorted(found.items(), key=lambda one: (-one[1], one[0]))[:_TOLD]
    return tuple(
        Waited(name=plain(unit, 80), took_s=took)
        for unit, took in longest
        if took >= _WORTH_TELLING_S
    )
