"""Services where systemd runs: what is loaded, how it starts, what it needs."""

import re

import msgspec

from lumtak.computers.linux.transport import Transport, text
from lumtak.core.catalogue import Catalogue
from lumtak.core.facts import Fixed, Gap, Item, Origin, Trigger, TriggerKind
from lumtak.core.text import plain

_PROPERTIES = (
    "Id,Names,Description,LoadState,ActiveState,UnitFileState,FragmentPath,Requires,BindsTo,Requisite,WantedBy,RequiredBy,"
    "TriggeredBy,BusName"
)
_SHOW = ("systemctl", "show", "--no-pager", f"--property={_PROPERTIES}", "--", "*.service")
_MOST_PATHS = 400
_SYSTEM_PACKAGES = {"systemd", "udev", "dbus", "util-linux", "init-system-helpers", "procps", "kmod", "login"}
_MODES = {
    "enabled": ("auto", "starts with the system"),
    "enabled-runtime": ("auto", "starts with the system until the next restart"),
    "disabled": ("manual", "starts by hand, or when another unit wants it"),
    "static": ("demand", "starts when another unit wants it"),
    "indirect": ("demand", "starts through another unit"),
    "generated": ("auto", "made from another configuration at each start"),
    "masked": ("off", "is masked"),
    "masked-runtime": ("off", "is masked until the next restart"),
}
NEEDED = "this version changes no services on a real computer; it takes root and `systemctl`"


def read_services(transport: Transport, catalogue: Catalogue) -> tuple[list[Item], list[Gap]]:
    """(items, what could not be read)."""
    try:
        transport.names("/run/systemd/system")
    except OSError:
        return [], [
            Gap(
                area="services",
                reason="systemd does not run here, so there are no services to read",
                needed="a computer booted with systemd",
            )
        ]
    try:
        shown = transport.run(_SHOW)
    except OSError as error:
        return [], [
            Gap(area="services", reason=f"the services could not be asked for: {plain(str(error))}", needed="systemctl")
        ]
    items, paths = parse_units(text(shown), catalogue)
    return _with_packages(transport, items, paths), []


def parse_units(shown: str, catalogue: Catalogue) -> tuple[list[Item], dict[str, str]]:
    """(items, unit file of each by key) from the blocks that `systemctl show` prints; systemctl(1).

    Blocks without a name or a loaded unit are passed over.
    """
    items, paths = [], {}
    for block in re.split(r"\n\s*\n", shown):
        fields = dict(line.split("=", 1) for line in block.splitlines() if "=" in line)
        unit = fields.get("Id", "")
        if not unit.endswith(".service") or fields.get("LoadState") not in {"loaded", "masked"}:
            continue
        key = unit.removesuffix(".service")
        value, started_by = _MODES.get(fields.get("UnitFileState", ""), (None, "was started by hand or by a program"))
        wants = " ".join(fields.get(name, "") for name in ("Requires", "BindsTo", "Requisite")).split()
        aliases = [n.removesuffix(".service") for n in fields.get("Names", "").split() if n.endswith(".service")]
        paths[key] = fields.get("FragmentPath", "")
        items.append(
            Item(
                area="services",
                key=key,
                title=plain(fields.get("Description", "") or key),
                origin=_origin(paths[key]),
                role=catalogue.role_of(key, key.split("@", 1)[0], *aliases),
                value=value,
                running=fields.get("ActiveState") in {"active", "activating", "reloading"},
                started_by=started_by,
                needs=tuple(dict.fromkeys(w.removesuffix(".service") for w in wants if w.endswith(".service"))),
                aliases=tuple(a for a in aliases if a != key),
                triggers=_triggers(fields, value),
                setting=Fixed(needed=NEEDED),
                note=plain(fields.get("Description", "")),
            )
        )
    return items, paths


def _origin(path: str) -> Origin:
    """Where the unit file stands; systemd.unit(5). What a package brought is told apart later."""
    if path.startswith(("/etc/", "/usr/local/")):
        return "user"
    return "system" if path.startswith("/run/") else "unknown"


def _triggers(fields: dict[str, str], value: str | None) -> tuple[Trigger, ...]:
    """What starts the unit: targets count as the system."""
    wanted = f"{fields.get('WantedBy', '')} {fields.get('RequiredBy', '')}".split()
    found = []
    if value == "auto" or any(w.endswith(".target") for w in wanted):
        found.append(Trigger(kind="system"))
    found += [
        Trigger(kind="wants", by=w.removesuffix(".service")) for w in dict.fromkeys(wanted) if w.endswith(".service")
    ]
    kinds: dict[str, TriggerKind] = {"timer": "timer", "socket": "socket", "path": "path"}
    for name in fields.get("TriggeredBy", "").split():
        ending = name.rpartition(".")[2]
        if ending in kinds:
            found.append(Trigger(kind=kinds[ending], by=plain(name)))
    if fields.get("BusName"):
        found.append(Trigger(kind="bus", by=plain(fields["BusName"])))
    return tuple(found)


def _with_packages(transport: Transport, items: list[Item], paths: dict[str, str]) -> list[Item]:
    """The items with the package that brought their unit file, and what the package says of itself; dpkg-query(1).

    Where there is no such package manager they stay as they are.
    """
    files = sorted({p for p in paths.values() if p.startswith(("/usr/lib/", "/lib/"))})[:_MOST_PATHS]
    if not files:
        return items
    owners: dict[str, str] = {}
    for file in [f for path in files for f in (path, path.removeprefix("/usr"))]:
        owners.setdefault(file, "")
    try:
        found = text(transport.run_partly(("dpkg-query", "--search", "--", *owners)))
    except OSError:
        return items
    for line in found.splitlines():
        package, _, path = line.partition(": ")
        owners[path] = package.split(",")[0].split(":")[0]
    names = sorted({n for n in owners.values() if n})
    summaries: dict[str, str] = {}
    if names:
        shown = text(
            transport.run_partly(
                ("dpkg-query", "--show", "--showformat=${Package}\\t${binary:Summary}\\n", "--", *names)
            )
        )
        summaries = dict(line.split("\t", 1) for line in shown.splitlines() if "\t" in line)
    return [_packaged(item, paths.get(item.key, ""), owners, summaries) for item in items]


def _packaged(item: Item, path: str, owners: dict[str, str], summaries: dict[str, str]) -> Item:
    package = owners.get(path) or owners.get(path.removeprefix("/usr"), "")
    if not package:
        return item
    summary = plain(summaries.get(package, ""))
    note = f"{item.note} (package {plain(package)}: {summary})" if summary else item.note
    origin: Origin = "system" if package in _SYSTEM_PACKAGES else "package"
    return msgspec.structs.replace(item, package=plain(package), note=note, origin=origin)
