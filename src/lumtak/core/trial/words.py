"""What a trial showed, for a person."""

from lumtak.core.trial.record import Trial, title_of, told
from lumtak.core.units import counted, ram, signed


def figure(value: float, trial: Trial) -> str:
    """A difference of its measure, with the unit."""
    amount = told(value, trial.measure)
    match trial.measure:
        case "ram":
            return ram(amount)
        case "cpu" | "pressure":
            return f"{signed(amount, 2)} points"
        case "work":
            return f"{signed(amount, 3)} core-seconds/s"
    return f"{signed(amount)} %"


def in_words(trial: Trial) -> str:
    """One sentence: the day, what was judged, the difference and how sure it is."""
    found = trial.shown
    title = title_of(trial.measure).partition(",")[0]
    if trial.state != "done" or found is None or found.ci95 is None:
        why = f": {trial.note}" if trial.note else ""
        return f"A trial of {trial.begun_at[:10]} of {title} came to nothing ({trial.state}{why})."
    low, high = (figure(x, trial) for x in found.ci95)
    said = {
        "lower": "less with it",
        "higher": "more with it",
        "no effect": "no effect that would matter",
        "not known": "not known",
    }[found.finding]
    return (
        f"A trial of {trial.begun_at[:10]} of {counted(found.pairs, 'pair')}: {title}, {said},"
        f" {figure(found.difference, trial)} (95 % sure: {low} to {high})."
    )
