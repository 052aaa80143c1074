"""What a change means for the owner, in words to them; catalogues of languages translate it."""

from lumtak.core.needs import STANDS_STILL
from lumtak.core.setting import Area

LATER = "Starts when it is first used, a moment later than before: {title}."
UNKNOWN = "No longer starts by itself; open it when you need it: {title}."
_PLAINER = "The desktop looks a little plainer."
_EFFECTS = {
    "animations": "Windows and menus open without movement.",
    "shadows": "Windows have no shadow.",
    "glass-panels": "Panels are no longer see-through.",
    "transparency": "Panels are no longer see-through.",
    "living-backdrop": "The background picture stands still.",
    "thumbnails": "Folders show symbols instead of small pictures.",
    "smooth-fonts": "Letters look less smooth.",
    "cursor-blinking": "The text cursor does not blink.",
    "event-sounds": "The desktop makes no sounds.",
    "moving-windows": "A window shows as a frame while it is moved.",
    "resizing-windows": "A window shows as a frame while its size is changed.",
    "hot-corners": "Nothing happens when the mouse goes into a corner.",
}
_UPKEEP = {
    ("automatic_updates", "off"): "Updates no longer come by themselves.",
    ("automatic_updates", "on"): "Security updates come by themselves from now on.",
}
_POWER = {
    "saving": "The battery lasts longer, and the computer is slower.",
    "balanced": "The computer answers quicker; on battery it lasts a little shorter.",
    "full": "The computer answers quicker; it needs more power and its fan may be heard.",
}


def notice_of(area: Area, key: str, value: str | None, notice: str, *, known: bool) -> str:
    """A sentence to the owner, with {title} where the thing is to be named; empty where they would
    notice nothing.

    Args:
        area: of the setting.
        key: of the setting.
        value: what it was set to.
        notice: what its role says that they would notice without it.
        known: whether anybody knows what it is for.
    """
    match area:
        case "services" | "apps":
            if value == "demand":
                return LATER if notice else ""
            return (notice if known else UNKNOWN) if value in STANDS_STILL else ""
        case "effects":
            return _EFFECTS.get(key, _PLAINER) if value == "off" else ""
        case "power":
            return _POWER.get(value or "", "")
        case "upkeep":
            return _UPKEEP.get((key, value or ""), "")
    return ""


def every() -> set[str]:
    """All sentences of here, for whoever translates them."""
    tables = (_EFFECTS.values(), _UPKEEP.values(), _POWER.values())
    return {LATER, UNKNOWN, _PLAINER, *(words for table in tables for words in table)}
