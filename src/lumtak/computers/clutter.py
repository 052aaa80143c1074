"""The classes of clutter that ship with Lumtak, and what adapters and simulated computers make of
them.
"""

from collections.abc import Mapping
from functools import cache
from importlib.resources import files

from lumtak.core.clutter import Clutter, Pile, load_clutter
from lumtak.core.facts import Fixed, Item, Setting

KEPT, ASIDE, PARTLY = "kept", "aside", "partly aside"


@cache
def shipped() -> Mapping[str, Clutter]:
    """By name."""
    file = files("lumtak") / "data" / "clutter.toml"
    return {c.name: c for c in load_clutter(file.read_text(encoding="utf-8"), file.name)}


def pile_of(clutter: Clutter) -> Pile:
    """A class of which nothing is counted yet."""
    return Pile(
        clutter=clutter.name,
        disposal=clutter.stance,
        sorts=clutter.sorts,
        made_by=clutter.made_by,
        without=clutter.without,
        age_days=clutter.age_days,
        command=next(iter(clutter.commands.values()), ""),
    )


def item_of(key: str, pile: Pile, title: str, value: str) -> Item:
    """A class of clutter, or what was set aside of one, as an item."""
    setting: Setting | Fixed = Setting(values=(KEPT, ASIDE))
    if pile.command:
        setting = Fixed(needed=f"its own command empties it: {pile.command}")
    return Item(
        area="storage",
        key=key,
        title=title,
        origin="system",
        value=value,
        setting=setting,
        note=f"Made by {pile.made_by}." if pile.made_by else "",
        pile=pile,
    )


def next_key(name: str, held: frozenset[str] | set[str]) -> str:
    """What the next part of a class is called that is set aside, others being held already."""
    number = 1
    while (key := name if number == 1 else f"{name}.{number}") in held:
        number += 1
    return key
