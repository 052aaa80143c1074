"""What becomes of clutter: by its class, by how short space is, and by what the owner said."""

from lumtak.core.clutter import Pile
from lumtak.core.facts import Facts, Item
from lumtak.core.floor import is_short, way_of
from lumtak.core.profile import Profile
from lumtak.core.record import NotMeasured
from lumtak.core.ruling import Ruling
from lumtak.core.units import counted, ram


def by_clutter(item: Item, facts: Facts, profile: Profile) -> Ruling:
    """The ruling on a class of clutter, or on what was set aside of one."""
    pile = item.pile
    if pile is None:
        why = "what it deletes cannot be put back, so it is set only when somebody asks for it."
        return Ruling("keep", why)
    if pile.held_at:
        return Ruling("keep", "it is set aside, and takes as much space until it is emptied.")
    if isinstance(pile.bytes, NotMeasured):
        return Ruling("keep", f"{pile.bytes.not_measured}.")
    short = is_short(facts, profile)
    match way_of(pile, short=short):
        case "ask":
            return Ruling("ask", "only its owner knows what in it is still wanted.", "aside")
        case "tool":
            return Ruling("ease", "what is in it can be fetched again.")
        case "aside" if pile.disposal == "short":
            return Ruling("ease", "space is short, and it refills when it is needed.", "aside")
        case "aside":
            return Ruling("ease", f"{_what(pile)}; nobody needs them.", "aside")
    return Ruling("keep", _why_kept(pile))


def _what(pile: Pile) -> str:
    days = f" that nobody changed for {counted(pile.age_days, 'day')}" if pile.age_days else ""
    return f"{pile.files:,} {'file' if pile.files == 1 else 'files'}{days}"


def _why_kept(pile: Pile) -> str:
    match pile.disposal:
        case "asked":
            return "it gains no space; it is set aside only when somebody asks for it."
        case "short":
            return "it refills, and there is space enough."
        case "keep":
            return "it is part of how the system works; its own command is there for it."
    held = "nothing" if isinstance(pile.bytes, NotMeasured) or not pile.bytes else ram(pile.bytes)
    return f"{held} of it may go: too little to matter."
