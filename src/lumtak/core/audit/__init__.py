"""The audit: every item weighed (what it costs) and judged (does the profile need it?).

`records` are what it holds, `weighing` what an item costs, `judging` the stance taken and why,
`headline` the lines above them.
"""

from collections.abc import Mapping, Sequence
from types import MappingProxyType

import msgspec

from lumtak.core.audit.headline import Headline, headline
from lumtak.core.audit.judging import Judge, with_starters
from lumtak.core.audit.records import Answer, Audit, Finding, Grade, Weight
from lumtak.core.audit.tried import with_trials
from lumtak.core.audit.weighing import eased_sum
from lumtak.core.bottleneck import find_bottleneck
from lumtak.core.catalogue import Catalogue
from lumtak.core.facts import Facts
from lumtak.core.floor import room_of
from lumtak.core.profile import Profile
from lumtak.core.reading import Reading
from lumtak.core.setting import AREAS
from lumtak.core.trial.record import Experiment

__all__ = [
    "Answer",
    "Audit",
    "Finding",
    "Grade",
    "Headline",
    "Weight",
    "audit",
    "eased_sum",
    "headline",
]

_NO_ANSWERS: Mapping[str, Answer] = MappingProxyType({})


def audit(
    facts: Facts,
    profile: Profile,
    catalogue: Catalogue,
    reading: Reading | None,
    answers: Mapping[str, Answer] = _NO_ANSWERS,
    trials: Sequence[Experiment] = (),
) -> Audit:
    """Every item of the computer, weighed by the reading and judged against the profile.

    Args:
        facts: of the computer.
        profile: what it is used for.
        catalogue: what is known of roles.
        reading: the baseline; None weighs nothing.
        answers: what the owner said, by consumer. A guard or a need of the profile counts more.
        trials: that were made on this computer; those count whose conditions are those of now.
    """
    facts = _with_roles(facts, catalogue)
    judge = Judge(facts, profile, catalogue, reading, answers)
    findings = with_starters([judge.finding(item) for item in facts.items], judge.timed)
    findings = with_trials(findings, trials, facts.system)
    order: dict[str, int] = {area: place for place, area in enumerate(AREAS)}
    findings.sort(key=lambda f: (order[f.area], -f.weight.heft, f.key))
    found = (
        None if reading is None else find_bottleneck(facts, profile, reading, eased_sum(findings))
    )
    told = headline(
        findings,
        profile,
        reading,
        found,
        room=room_of(facts, profile),
        signs=facts.signs,
    )
    beyond = (found.not_by_settings,) if found and found.not_by_settings else ()
    return Audit(
        profile=profile.name,
        findings=tuple(findings),
        gaps=facts.gaps,
        headline=" ".join((*told.lines, *beyond)),
        lines=told.lines,
        first=told.first,
        bottleneck=found,
        room=room_of(facts, profile),
        drawing=judge.drawn,
        marks=facts.marks,
    )


def _with_roles(facts: Facts, catalogue: Catalogue) -> Facts:
    """What a shop was taught since the computer was looked at counts too.

    Of a capture, or of a simulated computer, which brings its own roles, only what has none.
    """
    items = [
        msgspec.structs.replace(i, role=role)
        if not i.role and (role := catalogue.listed(i.area, i.key, i.package))
        else i
        for i in facts.items
    ]
    return msgspec.structs.replace(facts, items=tuple(items))
