"""Services where systemd runs: what is loaded, how it starts, what it needs."""

import re

from lumtak.computers.linux.transport import Transport, text
from lumtak.core.catalogue import Catalogue
from lumtak.core.facts import Fixed, Gap, Item
from lumtak.core.text import plain

_SHOW = (
    "systemctl",
    "show",
    "--no-pager",
    "--property=Id,Description,LoadState,ActiveState,UnitFileState,Requires,BindsTo,Requisite",
    "--",
    "*.service",
)
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
    return parse_units(text(shown), catalogue), []


def parse_units(shown: str, catalogue: Catalogue) -> list[Item]:
    """Items from the blocks that `systemctl show` prints; blocks without a name or a loaded unit are passed over."""
    items = []
    for block in re.split(r"\n\s*\n", shown):
        fields = dict(line.split("=", 1) for line in block.splitlines() if "=" in line)
        unit = fields.get("Id", "")
        if not unit.endswith(".service") or fields.get("LoadState") not in {"loaded", "masked"}:
            continue
        key = unit.removesuffix(".service")
        value, started_by = _MODES.get(fields.get("UnitFileState", ""), (None, "was started by hand or by a program"))
        wants = " ".join(fields.get(name, "") for name in ("Requires", "BindsTo", "Requisite")).split()
        items.append(
            Item(
                area="services",
                key=key,
                title=plain(fields.get("Description", "") or key),
                role=catalogue.role_of(key, key.split("@", 1)[0]),
                value=value,
                running=fields.get("ActiveState") in {"active", "activating", "reloading"},
                started_by=started_by,
                needs=tuple(dict.fromkeys(w.removesuffix(".service") for w in wants if w.endswith(".service"))),
                setting=Fixed(needed=NEEDED),
                note=plain(fields.get("Description", "")),
            )
        )
    return items
