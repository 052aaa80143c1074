"""What a trial showed, for a person."""

import math

from lumtak.core.compare import Conclusion
from lumtak.core.setting import UNSET_WORD
from lumtak.core.text import plain
from lumtak.core.trial.effects import Effect
from lumtak.core.trial.inference import Shown, allowing, could_show_by, interval
from lumtak.core.trial.record import Experiment, Made, Screening, Trial, title_of, told
from lumtak.core.units import counted, ram, signed, took


def figure(value: float, trial: Made) -> str:
    """A difference of its measure, with the unit."""
    amount = told(value, trial.measure)
    match trial.measure:
        case "ram":
            return ram(amount) if amount <= 0 else f"+{ram(amount)}"
        case "cpu" | "pressure":
            return f"{signed(amount, 2)} points"
        case "work":
            return f"{signed(amount, 3)} core-seconds/s"
    return f"{signed(amount)} %"


SAID: dict[Conclusion, str] = {
    "lower": "less with it",
    "higher": "more with it",
    "no effect": "no effect that would matter",
    "not known": "not known",
}


def between(ci95: tuple[float, float] | None, trial: Made) -> str:
    """An interval, "low to high"; empty before the first look and where it has no bounds."""
    if ci95 is None or not all(map(math.isfinite, ci95)):
        return ""
    return " to ".join(figure(x, trial) for x in ci95)


def level(value: float, trial: Made) -> str:
    """What a block measured, with the unit."""
    match trial.measure:
        case "ram":
            return ram(value)
        case "cpu" | "pressure":
            return f"{value:.2f} %"
        case "work":
            return f"{value:.3f}"
    return took(math.exp(value))


def so_far(trial: Trial) -> tuple[float, float] | None:
    """The interval as it would be if the trial ended here; None where so few pairs have none."""
    found = trial.shown
    if trial.state != "under way" and found is not None:
        return found.ci95
    differences = trial.differences
    looks = [look for look in trial.design.looks if look.pairs >= len(differences)]
    if not looks:
        return None
    low, high = allowing(*interval(differences, looks[0].spends))
    return (low, high) if math.isfinite(low) else None


def could_now(trial: Experiment) -> float | None:
    """The smallest effect that is to be expected to show: by the blocks that were made, before
    them by the look; None where nobody knows.
    """
    if isinstance(trial, Screening):
        if trial.seen is None:
            return trial.could_show
        low, high = trial.seen.effects[0].ci95
        return (high - low) / 2 * math.sqrt(trial.seen.rounds / trial.layout.rounds)
    by_pairs = could_show_by(trial.differences, trial.design)
    return trial.could_show if by_pairs is None else by_pairs


def size(value: float, trial: Made) -> str:
    """How large a difference is, whichever way."""
    return figure(abs(value), trial).lstrip("+")


def in_words(trial: Experiment) -> str:
    """The day, what was judged, the difference and how sure it is, as a sentence; of a screening
    all changes, the largest first.
    """
    kind = "screening" if isinstance(trial, Screening) else "trial"
    found = trial.seen if isinstance(trial, Screening) else trial.shown
    if trial.state != "done" or found is None:
        why = f": {trial.note}" if trial.note else ""
        title = _measure(trial)
        return f"A {kind} of {trial.begun_at[:10]} of {title} came to nothing ({trial.state}{why})."
    if isinstance(trial, Screening):
        rows = screened_rows(trial)
        titles = [plain(trial.tried[place].title, 60) for place in ranked(trial)]
        parts = [
            f"{title} {said}, {word} ({sure})"
            for title, (_, _, said, sure, word) in zip(titles, rows, strict=True)
        ]
        return f"{_screened(trial)}, 95 % sure together: {'; '.join(parts)}."
    if trial.shown is None:
        return ""
    pairs = counted(trial.shown.pairs, "pair")
    about = f"A trial of {trial.begun_at[:10]} of {pairs}: {_measure(trial)}"
    return _judged(about, trial.shown, trial)


def told_of(trial: Screening, place: int) -> str:
    """What a screening says of one of its changes, as a sentence."""
    if trial.seen is None:
        return ""
    return _judged(_screened(trial), trial.seen.effects[place], trial)


def _screened(trial: Screening) -> str:
    blocks = counted(trial.seen.rounds * trial.layout.round_blocks if trial.seen else 0, "block")
    changes = counted(len(trial.tried), "change")
    return f"A screening of {trial.begun_at[:10]} of {changes} in {blocks}: {_measure(trial)}"


def _judged(about: str, found: Shown | Effect, trial: Made) -> str:
    sure = between(found.ci95, trial)
    said = f"{about}, {SAID[found.finding]}, {figure(found.difference, trial)}"
    return f"{said} (95 % sure: {sure})." if sure else f"{said}."


def _measure(trial: Made) -> str:
    return title_of(trial.measure).partition(",")[0]


def ranked(trial: Screening) -> list[int]:
    """The changes of a screening by what they did, the largest first; all as named before the first
    look.
    """
    effects = trial.seen.effects if trial.seen else ()
    return sorted(
        range(len(trial.tried)), key=lambda i: -abs(effects[i].difference) if effects else i
    )


EXPECTED = "What a screening finds is expected; to prove it here, try that change alone."


def screened_rows(trial: Screening) -> list[tuple[str, str, str, str, str]]:
    """(setting, value that was tried, difference, interval, what was found) of each change, the
    largest first; the last three empty before the first look.
    """
    rows = []
    for place in ranked(trial):
        tried = trial.tried[place]
        what = plain(str(tried.ref), 60), plain(UNSET_WORD if tried.on is None else tried.on, 40)
        if trial.seen is None:
            rows.append((*what, "", "", ""))
            continue
        effect = trial.seen.effects[place]
        said = figure(effect.difference, trial), between(effect.ci95, trial)
        rows.append((*what, *said, SAID[effect.finding]))
    return rows


def apart_words(trial: Screening) -> str:
    """How close two figures may be and yet stand the other way round, as a sentence."""
    if trial.seen is None:
        return ""
    apart = size(trial.seen.apart, trial)
    return f"Figures closer to each other than {apart} may as well stand the other way round."


def counting(trial: Experiment) -> int:
    """Of how many blocks the measure counts."""
    return sum(trial.measure in block.values for block in trial.blocks)
