"""Trials in the audit: what was proven on this computer counts before what is expected anywhere."""

from collections.abc import Iterable, Sequence
from typing import Any

import msgspec

from lumtak.core.audit.records import Finding, Grade
from lumtak.core.facts import System
from lumtak.core.record import known, known_word
from lumtak.core.stance import PROPOSED
from lumtak.core.trial.effects import Effect
from lumtak.core.trial.inference import Shown
from lumtak.core.trial.record import Experiment, Made, Screening, Trial
from lumtak.core.trial.words import in_words, told_of

_HALF = 1.96
"""Standard errors in half a 95 % interval."""


def that_hold(trials: Iterable[Experiment], finding: Finding, system: System) -> list[Trial]:
    """The switchbacks of what is proposed that came to their end under the conditions of now: the
    newest of each measure.
    """
    newest: dict[str, Trial] = {}
    for trial in trials:
        if not isinstance(trial, Trial) or not trial.ended_under(*_conditions(system)):
            continue
        if (trial.ref, trial.on, trial.off) == (finding.ref, finding.proposal, _value(finding)):
            newest[trial.measure] = trial
    return list(newest.values())


def _conditions(system: System) -> tuple[str, str, str]:
    """Those under which a trial counts: power source, power plan, kernel."""
    return system.power_source, known_word(system.power_plan), system.kernel


def _value(finding: Finding) -> str | None:
    return None if finding.value == "unset" else finding.value


def with_trials(
    findings: Sequence[Finding], trials: Sequence[Experiment], system: System
) -> list[Finding]:
    """The findings, each as its trials have shown it.

    What a switchback showed takes the place of what was guessed: its figure is the weight, its
    grade is *proven here*. Something that was shown to do nothing, and of which nothing else
    weighs, is not proposed any more. What a screening showed is *expected*, until a switchback of
    that change alone says more.
    """
    if not trials:
        return list(findings)
    return [_with(f, trials, system) for f in findings]


def _with(finding: Finding, trials: Sequence[Experiment], system: System) -> Finding:
    alone = that_hold(trials, finding, system)
    decided = [t for t in alone if t.shown is not None and t.shown.finding != "not known"]
    if decided:
        return _shown(finding, decided)
    return _screened(finding, trials, system)


def _screened(finding: Finding, trials: Sequence[Experiment], system: System) -> Finding:
    """As the newest screening of it showed it, where that showed something."""
    for made in reversed(trials):
        if not isinstance(made, Screening):
            continue
        of_now = made.ended_under(*_conditions(system))
        for place, tried in enumerate(made.tried):
            what = (tried.ref, tried.on, tried.off)
            if not of_now or what != (finding.ref, finding.proposal, _value(finding)):
                continue
            effect = made.seen.effects[place] if made.seen else None
            if effect is None or effect.finding != "lower":
                return finding
            said = told_of(made, place)
            given = _of_load(made, effect, "screening")
            if _weighs_otherwise(finding):  # a share of its own was measured, which is surer
                given = {}
            weight = msgspec.structs.replace(finding.weight, **given)
            return msgspec.structs.replace(finding, grade="expected", weight=weight, tried=said)
    return finding


def _shown(finding: Finding, decided: Sequence[Trial]) -> Finding:
    tried = " ".join(map(in_words, decided))
    said = {t.shown.finding for t in decided if t.shown is not None}
    if said & {"lower", "higher"} == {"lower"}:
        return _proven(finding, decided, tried)
    if "higher" in said:
        why = f"a trial here showed that it takes more with it: {tried}"
        return _taken_out(finding, "harmful", why, tried)
    if finding.stance in PROPOSED and not _weighs_otherwise(finding):
        return _taken_out(finding, "no effect", f"it does nothing here. {tried}", tried)
    return msgspec.structs.replace(finding, tried=tried)


def _proven(finding: Finding, trials: Sequence[Trial], tried: str) -> Finding:
    """What it weighs is what the trials measured, where they measured a load."""
    weight = finding.weight
    for trial in trials:
        weight = msgspec.structs.replace(weight, **_weighed(trial))
    return msgspec.structs.replace(finding, grade="proven here", weight=weight, tried=tried)


def _taken_out(finding: Finding, grade: Grade, reason: str, tried: str) -> Finding:
    fields: dict[str, Any] = {"grade": grade, "reason": reason, "tried": tried, "proposal": None}
    if finding.stance in PROPOSED:
        fields["stance"] = "keep"
    return msgspec.structs.replace(finding, **fields)


def _weighs_otherwise(finding: Finding) -> bool:
    """Whether a reading found something of its own that it costs."""
    weight = finding.weight
    return max(known(weight.cpu_pct), known(weight.ram_bytes)) > 0 or finding.pile is not None


def _weighed(trial: Trial) -> dict[str, Any]:
    """What the trial measured, as a weight; nothing for what is no load of its own."""
    found = trial.shown
    if found is None or found.ci95 is None or found.finding != "lower":
        return {}
    return _of_load(trial, found, "trial")


def _of_load(made: Made, found: Shown | Effect, kind: str) -> dict[str, Any]:
    """Fields of a weight that a figure of CPU or memory gives."""
    source = f"{kind} of {made.begun_at[:10]}"
    if made.measure == "cpu" and found.ci95 is not None:
        error = (found.ci95[1] - found.ci95[0]) / 2 / _HALF
        return {"cpu_pct": -found.difference, "cpu_se_pct": error, "source": source}
    if made.measure == "ram":
        return {"ram_bytes": -found.difference, "source": source}
    return {}
