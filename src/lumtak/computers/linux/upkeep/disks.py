"""Disks and file systems: failing, damaged, told what is free, checked.

Sources: UDisks2 reference; kernel, ABI/testing/sysfs-fs-ext4 (errors_count, first_error_time),
ABI/testing/sysfs-fs-btrfs (error_stats), admin-guide/md (mismatch_cnt, degraded), ext4/super
(s_state, s_lastcheck, s_error_count); fstrim(8), fstrim.timer; btrfs-scrub(8).
"""

import re
import struct
from collections.abc import Mapping
from datetime import UTC, datetime

from lumtak.computers.hands.reach import names_at, text, text_at
from lumtak.computers.linux.disk_health import disk_health
from lumtak.computers.linux.upkeep.given import Given
from lumtak.computers.linux.upkeep.volumes import Volume, volumes
from lumtak.core.text import number, plain
from lumtak.core.units import counted
from lumtak.core.upkeep.system import disks_result
from lumtak.core.upkeep.tasks import Found, Result, not_possible

_KERNEL = ("journalctl", "--no-pager", "--quiet", "--output=json", "--output-fields=MESSAGE",
           "--lines=2000")  # fmt: skip
_TROUBLE = re.compile(
    r"EXT4-fs error|EXT4-fs \(\S+\): (?:error count|initial error)|BTRFS (?:critical|error)|"
    r"XFS \(\S+\): (?:Corruption|Metadata corruption|metadata I/O error)|I/O error, dev (?!loop)|"
    r"critical (?:medium|target) error|ata\d[\d.]*: failed command|Unrecovered read error|"
    r"nvme nvme\d+: (?:I/O .* timeout|controller is down)"
)
_ERRORS, _TRIMS_DAYS = 0x2, 45
_EXT = ("ext2", "ext3", "ext4")


def disks(given: Given) -> Result:
    """What the disks, the kernel and the file systems say, and when trim was last done."""
    mounted = volumes(given.hands.own)
    health = [s for s in disk_health(given.hands.own) if s.name == "disk health"]
    if not mounted and not health:
        why = "no volume of a disk is mounted here that could be looked at"
        return not_possible("disks", given.at, why)
    found = [_of_health(s.says) for s in health]
    kernel, kernel_note = _of_kernel(given)
    trims, trim_note = trimmed(given, mounted)
    of_volumes = [f for volume in mounted for f in _of_file_system(given, volume)]
    found += [*kernel, *of_volumes, *_of_raids(given), *trims]
    found.sort(key=lambda f: f.kind not in {"failing", "damaged"})
    notes = tuple(filter(None, (kernel_note, trim_note)))
    asked = f", {counted(len(health), 'disk')} asked for its health" if health else ""
    return disks_result(
        given.at, f"{counted(len(mounted), 'volume')} looked at{asked}.", found, notes
    )


def _of_health(says: str) -> Found:
    bad = "is failing" in says or "bad sector" in says or "beyond what" in says
    kind = "failing" if "is failing by" in says else ("look" if bad else "setting")
    return Found(kind=kind, what="a disk", why=plain(says, 300))


def _of_kernel(given: Given) -> tuple[list[Found], str]:
    """What the kernel noted since the start about disks; or why it is not known."""
    boot = given.read("/proc/sys/kernel/random/boot_id").strip().replace("-", "")
    try:
        asked = (
            *_KERNEL,
            f"_BOOT_ID={boot}",
            "_TRANSPORT=kernel",
            *(f"PRIORITY={n}" for n in range(5)),
        )
        said = text(given.hands.own.run(asked, 30.0))
    except OSError:
        return [], "What the kernel noted of disks could not be read."
    lines = [
        m
        for m in re.findall(r'"MESSAGE"\s*:\s*"((?:[^"\\]|\\.){1,2000})"', said)
        if _TROUBLE.search(m)
    ]
    if not lines:
        return [], ""
    why = f"the kernel noted {counted(len(lines), 'error')} since the start, the last:"
    why += f" {plain(lines[-1], 200)}"
    damaged = any(re.search("EXT4-fs|BTRFS|XFS", m) for m in lines)
    kind = "damaged" if damaged else "failing"
    return [Found(kind=kind, what="file system" if damaged else "disk", why=why)], ""


def _of_file_system(given: Given, volume: Volume) -> list[Found]:
    """What a file system knows of its own errors, and when it was last checked."""
    if volume.kind in _EXT:
        return _of_ext(given, volume)
    if volume.kind == "btrfs":
        return _of_btrfs(given, volume)
    return []


def _of_ext(given: Given, volume: Volume) -> list[Found]:
    errors = number(text_at(given.hands.own, f"/sys/fs/{volume.kind}/{volume.device}/errors_count"))
    checked = ""
    try:
        block = given.hands.own.superblock(volume.place)
        (last,) = struct.unpack_from("<I", block, 0x40)
        (state,) = struct.unpack_from("<H", block, 0x3A)
        checked = _day(last) if last else ""
        errors = max(errors or 0, 1 if state & _ERRORS else 0)
    except (OSError, struct.error):
        pass  # it takes root; what the kernel tells counts
    if errors:
        why = f"its file system noted {counted(errors, 'error')}"
        return [Found(kind="damaged", what=volume.place, why=why, of=volume.kind)]
    words = f"was last checked on {checked}, no errors" if checked else "knows of no errors"
    return [Found(kind="setting", what=volume.place, why=words, of=volume.kind)]


def _of_btrfs(given: Given, volume: Volume) -> list[Found]:
    hand, found = given.hands.own, []
    for uuid in names_at(hand, "/sys/fs/btrfs"):
        if volume.device not in names_at(hand, f"/sys/fs/btrfs/{uuid}/devices"):
            continue
        errors = 0
        for one in names_at(hand, f"/sys/fs/btrfs/{uuid}/devinfo"):
            said = text_at(hand, f"/sys/fs/btrfs/{uuid}/devinfo/{one}/error_stats")
            errors += sum(int(n[:15]) for n in re.findall(r"_errs (\d+)", said))
        scrub = given.read(f"/var/lib/btrfs/scrub.status.{uuid}")
        began = re.findall(r"t_start:(\d{1,12})", scrub)
        words = f"last scrubbed on {_day(int(began[-1]))}" if began else "was never scrubbed"
        words += " (btrfs scrub start -r reads all of it, and repairs nothing)"
        kind = "damaged" if errors else "setting"
        why = f"{counted(errors, 'error')} noted; {words}" if errors else words
        found.append(Found(kind=kind, what=volume.place, why=why, of="btrfs"))
    return found


def _of_raids(given: Given) -> list[Found]:
    hand, found = given.hands.own, []
    for name in names_at(hand, "/sys/block"):
        if not re.fullmatch(r"md[0-9]+", name):
            continue
        gone = number(text_at(hand, f"/sys/block/{name}/md/degraded")) or 0
        odd = number(text_at(hand, f"/sys/block/{name}/md/mismatch_cnt")) or 0
        if gone:
            why = f"{counted(gone, 'disk')} of the array is missing"
            found.append(Found(kind="failing", what=name, why=why, of="array"))
        if odd:
            why = f"its disks differ in {counted(odd, 'block')}, by its last check"
            found.append(Found(kind="look", what=name, why=why, of="array"))
    return found


def trimmed(given: Given, mounted: list[Volume]) -> tuple[list[Found], str]:
    """Whether solid-state disks are told what is free, and when that was last done."""
    takes = [v for v in mounted if v.spinning is False and v.discards]
    if not takes:
        return [], "No solid-state disk here takes word of what is free: nothing to trim."
    if all("discard" in v.options for v in takes):
        return (
            [],
            "Solid-state disks are told at each deletion what is free (mount option discard).",
        )
    try:
        timer = show_timer(given)
    except OSError:
        timer = {}
    return by_timer(timer, given.now_s, ", ".join(v.place for v in takes))


def by_timer(timer: Mapping[str, str], now_s: float, places: str) -> tuple[list[Found], str]:
    """The same, by what the service manager says of the timer that does it."""
    on = timer.get("UnitFileState") == "enabled" or timer.get("ActiveState") == "active"
    last = _last_trim(timer)
    recent = last is None or (now_s - last) / 86_400 < _TRIMS_DAYS
    when = f"last on {_day(int(last or 0))}" if last else "never as far as is known"
    if on and recent:
        return [], f"Solid-state disks are told weekly what is free (fstrim.timer), {when}."
    why = "does it by its timer" if on else "nothing tells it by itself"
    return [
        Found(
            kind="look",
            what=places,
            why=f"a solid-state disk should be told now and then what is free: {why}, {when}",
            of="trim",
            advice="`lumtak trim COMPUTER` does it now; fstrim.timer does it weekly.",
        )
    ], ""


def show_timer(given: Given) -> dict[str, str]:
    """What the service manager says of the timer that trims."""
    said = text(
        given.hands.own.run(
            (
                "systemctl",
                "show",
                "--no-pager",
                "--property=Id,UnitFileState,ActiveState,LastTriggerUSec",
                "--",
                "fstrim.timer",
            ),
            partly=True,
        )
    )
    return dict(line.partition("=")[::2] for line in said.splitlines() if "=" in line)


def _last_trim(timer: Mapping[str, str]) -> float | None:
    said = re.search(
        r"(\d{4})-(\d\d)-(\d\d) (\d\d):(\d\d):(\d\d)", timer.get("LastTriggerUSec", "")
    )
    if not said:
        return None
    try:
        return datetime.fromisoformat("{}-{}-{}T{}:{}:{}+00:00".format(*said.groups())).timestamp()
    except ValueError:
        return None


def _day(at_s: int) -> str:
    try:
        return datetime.fromtimestamp(at_s, UTC).date().isoformat()
    except (OverflowError, OSError, ValueError):
        return "a day that is none"
