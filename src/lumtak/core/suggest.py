"""Which workload profile fits a computer, by what it runs."""

from collections.abc import Iterable

from lumtak.core.catalogue import Catalogue
from lumtak.core.facts import Facts, Item
from lumtak.core.profile import Profile
from lumtak.core.record import Record

_MISSING = 0.5
_INSTALLED = 0.2
_ADDED = 0.6
"""What a vendor or somebody added says less about the work than what came with the system's
packages."""


class Suggestion(Record):
    """A profile and why."""

    profile: str
    title: str
    score: float
    """Sum over the needed roles that something here fills, a rare role counting more; missing ones
    count against it."""
    reasons: tuple[str, ...]
    missing: tuple[str, ...]
    """Titles of needed roles that nothing here fills."""


def suggest(
    facts: Facts,
    profiles: Iterable[Profile],
    catalogue: Catalogue,
    otherwise: str = "writing-and-web",
) -> tuple[Suggestion, ...]:
    """All profiles, the best fitting first; ties by name.

    A role weighs 1 / (number of profiles that need it), so that printing, which all need, says
    little; one that nothing but an installed program on demand fills counts for a fifth. Where
    nothing fits, `otherwise` stands first.
    """
    candidates = list(profiles)
    wanted_by = {
        role: sum(role in p.needs.roles for p in candidates)
        for p in candidates
        for role in p.needs.roles
    }
    filled: dict[str, Item] = {}
    for item in sorted(facts.items, key=lambda i: not i.running):
        if item.role and (item.running or item.value in {"auto", "on", "demand"}):
            filled.setdefault(item.role, item)
    found = [_fit(p, wanted_by, filled, catalogue) for p in candidates]
    found.sort(key=lambda s: (-s.score, s.profile))
    if found and found[0].score <= 0:  # nothing tells what it is used for
        found.sort(key=lambda s: (s.profile != otherwise, -s.score, s.profile))
    return tuple(found)


def _share(item: Item | None) -> float:
    """How much an item says for its role."""
    if item is None:
        return 0.0
    if not item.running and item.value not in {"auto", "on"}:
        return _INSTALLED
    return 1.0 if item.origin in {"system", "package"} else _ADDED


def _fit(
    profile: Profile, wanted_by: dict[str, int], filled: dict[str, Item], catalogue: Catalogue
) -> Suggestion:
    here = [role for role in profile.needs.roles if role in filled]
    missing = [role for role in profile.needs.roles if role not in filled]
    score = 0.0
    for role in profile.needs.roles:
        share = _share(filled.get(role))
        score += (share - _MISSING * (1 - share)) / wanted_by[role]

    def title(role: str) -> str:
        known = catalogue.find(role)
        return known.title if known else role

    return Suggestion(
        profile=profile.name,
        title=profile.title,
        score=round(score, 3),
        reasons=tuple(
            f"{title(r)}: {filled[r].title} {'runs' if filled[r].running else 'is installed'}"
            for r in here
        ),
        missing=tuple(title(r) for r in missing),
    )
