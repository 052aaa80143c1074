"""Everything known about one item."""

from lumtak.core.catalogue import Catalogue, Role
from lumtak.core.extensions import in_words
from lumtak.core.facts import Facts, Fixed, Item
from lumtak.core.needs import Graphs
from lumtak.core.record import Record
from lumtak.core.units import counted, took

_ORIGINS = {
    "system": "part of the system",
    "package": "from a package of the distribution",
    "vendor": "from somebody else's package",
    "user": "added by the user",
    "unknown": "not known",
}


class Explanation(Record):
    """One item, with everything that depends on it."""

    address: str
    title: str
    rows: tuple[tuple[str, str], ...]
    """(name, sentence) for a person, in order."""
    stops_with: tuple[str, ...]
    """Addresses of all that stops with it, nearest first."""
    works_through: tuple[str, ...]
    """Addresses of all it cannot work without."""
    missing: tuple[str, ...]
    """Needs that nothing here fills."""
    chain: tuple[str, ...]
    """Addresses along what started it, itself first."""
    functions_lost: tuple[str, ...]
    processes: tuple[int, ...]


def explain(item: Item, facts: Facts, catalogue: Catalogue) -> Explanation:
    """What it is for, what starts it, what stops with it, what is lost, whether and how it can be
    changed.
    """
    graphs, consumer = Graphs(facts.items), item.consumer
    stopped, needs = graphs.stops_with(consumer), graphs.works_through(consumer)
    missing = graphs.missing(consumer)
    lost = _lost((consumer, *stopped), graphs, catalogue)
    processes = tuple(p.pid for p in facts.processes if p.consumer == consumer)
    rows = [
        *_what_it_is(item, catalogue.find(item.role), len(processes)),
        *_what_starts_it(item, graphs),
        *([("loads", loaded)] if (loaded := in_words(item.extensions)) else []),
        ("cannot work without", _titles(needs, graphs) or "nothing else"),
        ("stops with it", _titles(stopped, graphs) or "nothing else"),
        ("functions lost", "; ".join(lost) or "none that is known"),
        ("how to change it", _change(item)),
    ]
    if missing:
        names = ", ".join(m.partition(":")[2] for m in missing)
        rows.append(("missing", f"it needs {names}, which is not here"))
    return Explanation(
        address=consumer,
        title=item.title,
        rows=tuple(rows),
        stops_with=stopped,
        works_through=needs,
        missing=missing,
        chain=tuple(who for who, _ in graphs.chain(consumer)) or (consumer,),
        functions_lost=lost,
        processes=processes,
    )


def _what_it_is(item: Item, role: Role | None, processes: int) -> list[tuple[str, str]]:
    aliases = f", also known as {', '.join(item.aliases)}" if item.aliases else ""
    package = f", package {item.package}" if item.package else ""
    does, filled = item.note or "its purpose is unknown", "not known"
    if role:
        does = role.does
        filled = f"{role.title} (guarded: never touched)" if role.guarded else role.title
    runs = f"yes, as {counted(processes, 'process', 'processes')}" if item.running else "no"
    return [
        ("what", item.title),
        ("address", item.consumer + aliases),
        ("does", does),
        ("role", filled),
        ("origin", _ORIGINS[item.origin] + package),
        ("set to", "unset" if item.value is None else item.value),
        ("runs", runs),
    ]


def _what_starts_it(item: Item, graphs: Graphs) -> list[tuple[str, str]]:
    chain = graphs.chain_in_words(item.consumer)
    again = "; ".join(map(graphs.trigger_in_words, graphs.comes_back_by(item.consumer)))
    return [
        ("started", chain or item.started_by or "by what is not known"),
        ("took to start", "not known" if item.start_s is None else took(item.start_s)),
        ("started also", again or "by nothing else that is known"),
    ]


def _lost(consumers: tuple[str, ...], graphs: Graphs, catalogue: Catalogue) -> tuple[str, ...]:
    """What no longer works, unless another running item fills the same role."""
    stopped = set(consumers)
    others = {i.role for c, i in graphs.items.items() if c not in stopped and i.running and i.role}
    roles = [graphs.items[c].role for c in consumers if c in graphs.items]
    found = [
        role.stops
        for name in dict.fromkeys(roles)
        if name not in others and (role := catalogue.find(name))
    ]
    return tuple(dict.fromkeys(found))


def _titles(consumers: tuple[str, ...], graphs: Graphs, most: int = 12) -> str:
    names = [graphs.title(c) for c in consumers[:most]]
    more = f" and {len(consumers) - most} more" if len(consumers) > most else ""
    return ", ".join(names) + more


def _change(item: Item) -> str:
    if isinstance(item.setting, Fixed):
        return item.setting.needed
    if item.setting.values:
        return f"{item.consumer}={'|'.join(item.setting.values)}"
    return f"{item.consumer}=NUMBER, {item.setting.bounds.lstrip(', ')}"
