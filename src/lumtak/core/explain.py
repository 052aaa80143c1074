"""Everything known about one item."""

from lumtak.core.catalogue import Catalogue
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
    graphs = Graphs(facts.items)
    consumer = item.consumer
    role = catalogue.find(item.role)
    stopped, needs, missing = (
        graphs.stops_with(consumer),
        graphs.works_through(consumer),
        graphs.missing(consumer),
    )
    lost = _lost((consumer, *stopped), graphs, catalogue)
    again = graphs.comes_back_by(consumer)
    processes = tuple(p.pid for p in facts.processes if p.consumer == consumer)
    rows = [
        ("what", item.title),
        (
            "address",
            consumer + (f", also known as {', '.join(item.aliases)}" if item.aliases else ""),
        ),
        ("does", role.does if role else item.note or "nobody here knows"),
        (
            "role",
            (
                f"{role.title}{' (guarded: never touched)' if role.guarded else ''}"
                if role
                else "not known"
            ),
        ),
        ("origin", _ORIGINS[item.origin] + (f", package {item.package}" if item.package else "")),
        ("set to", "unset" if item.value is None else item.value),
        (
            "runs",
            f"yes, as {counted(len(processes), 'process', 'processes')}" if item.running else "no",
        ),
        ("started", graphs.chain_in_words(consumer) or item.started_by or "by what is not known"),
        ("took to start", "not known" if item.start_s is None else took(item.start_s)),
        (
            "started also",
            "; ".join(graphs.trigger_in_words(t) for t in again) or "by nothing else that is known",
        ),
        ("cannot work without", _titles(needs, graphs) or "nothing else"),
        ("stops with it", _titles(stopped, graphs) or "nothing else"),
        ("functions lost", "; ".join(lost) or "none that is known"),
        ("how to change it", _change(item)),
    ]
    if missing:
        rows.append(
            (
                "missing",
                f"it needs {', '.join(m.partition(':')[2] for m in missing)}, which is not here",
            )
        )
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
