"""Which findings a few words let through.

For the search on the audit's screen and on the command line.

Words are separated by spaces, and all have to hold:

- an area: `services`, `apps`, `effects`, `power`, `memory`, ...; two areas let both through
- a stance: `ease`, `set`, `ask`, `keep`, `guarded`; two stances let both through
- an origin: `from:system`, `from:package`, `from:vendor`, `from:user`, `from:unknown`
- a cost: `cpu>1` (percent of the whole computer), `ram>100` (MiB; `ram>1.5g` is GiB), `disk>1g`,
  `<` likewise
- `chosen`, `changed`
- anything else is text that stands in the title, the key, the role, what it does, what starts it,
or the reason - `-` before a word turns it round
"""

import re
from collections.abc import Callable, Container, Sequence
from typing import get_args

from lumtak.core.audit import Audit, Finding
from lumtak.core.facts import Origin
from lumtak.core.record import known
from lumtak.core.setting import AREAS, SettingRef
from lumtak.core.stance import Stance
from lumtak.core.units import GIB, MIB
from lumtak.errors import UsageError

_Test = Callable[[Finding], bool]
_COST = re.compile(r"(cpu|ram|disk)([<>])([0-9]*\.?[0-9]+)([mg]?)")
_HALF_COST = re.compile(r"(cpu|ram|disk)[<>].*")
_STANCES = frozenset(get_args(Stance))


def sift(
    found: Audit,
    words: str,
    *,
    chosen: Container[SettingRef] = (),
    changed: Container[SettingRef] = (),
) -> list[Finding]:
    """The findings that these words let through, in the order of the audit.

    Raises:
        UsageError: a cost or an origin cannot be understood.
    """
    given = words.lower().split()
    areas, stances = set(AREAS).intersection(given), _STANCES.intersection(given)
    left: Sequence[Finding] = found.findings
    # Areas and stances first: they are cheap, and leave few for the search in texts.
    if areas:
        left = [f for f in left if f.area in areas]
    if stances:
        left = [f for f in left if f.stance in stances]
    for word in given:
        if word not in areas and word not in stances:
            left = _by_word(left, word, found, chosen, changed)
    return list(left)


def _by_word(
    findings: Sequence[Finding],
    word: str,
    found: Audit,
    chosen: Container[SettingRef],
    changed: Container[SettingRef],
) -> list[Finding]:
    """What a word lets through, turned round where there is a minus before it."""
    turned = len(word) > 1 and word[0] == "-"
    bare = word[1:] if turned else word
    test = _test(bare, chosen, changed)
    if test is not None:
        return [f for f in findings if test(f) != turned]
    if findings is found.findings:
        both = zip(findings, found.texts, strict=True)
        return [f for f, text in both if (bare in text) != turned]
    texts = found.text_of
    return [f for f in findings if (bare in texts[id(f)]) != turned]


def _test(word: str, chosen: Container[SettingRef], changed: Container[SettingRef]) -> _Test | None:
    """What the word asks of a finding; None where it is plain text."""
    if word in AREAS:
        return lambda f: f.area == word
    if word in _STANCES:
        return lambda f: f.stance == word
    if word in {"chosen", "changed"}:
        marked = chosen if word == "chosen" else changed
        return lambda f: f.ref in marked
    if word.startswith("from:"):
        origin = word[5:]
        if origin not in get_args(Origin):
            raise UsageError(f"After from: comes one of {', '.join(get_args(Origin))}.")
        return lambda f: f.origin == origin
    if cost := _COST.fullmatch(word):
        what, sign, number, unit = cost.groups()
        limit = float(number) * ((GIB if unit == "g" else MIB) if what != "cpu" else 1.0)
        return _by_cost(what, sign, limit)
    if _HALF_COST.fullmatch(word):
        raise UsageError(
            "After cpu> comes a percentage (cpu>1), after ram> and disk> a number of MiB (ram>100)"
            " or GiB (disk>1.5g)."
        )
    return None


def _by_cost(what: str, sign: str, limit: float) -> _Test:
    def cost(finding: Finding) -> float:
        weight = finding.weight
        figures = {"cpu": weight.cpu_pct, "ram": weight.ram_bytes, "disk": weight.disk_bytes}
        return known(figures[what])

    return (lambda f: cost(f) > limit) if sign == ">" else (lambda f: cost(f) < limit)
