"""What was measured, before and after: sentences, and the bars of the small picture."""

from lumtak.core.answer import FeltChange
from lumtak.core.compare import Comparison
from lumtak.core.felt import leads
from lumtak.core.record import NotMeasured
from lumtak.core.text import plain
from lumtak.core.trial.record import Trial, told
from lumtak.report.content import Content
from lumtak.report.sheet.record import Bar, Kind, Part, lines_of
from lumtak.report.sheet.words import FELT
from lumtak.report.tongue import Tongue

_FELT, _MANY_TRIES = 3, 2


def kind_of(content: Content) -> Kind:
    """Which sheet it is."""
    if not content.changes:
        gain = content.audit is None or not content.audit.nothing_to_gain
        return "unchanged" if gain else "nothing to gain"
    if not any(line.stands for line in content.changes):
        return "put back"
    if content.after is None or content.after_provisional:
        return "open"
    return _judged(content)


def _judged(content: Content) -> Kind:
    """What the readings say."""
    leading, loads = _leading(content), _loads(content)
    findings = {c.finding for c in leading} | {c.finding for c in loads}
    # What the owner complained of must not have got worse, whatever else got better.
    if leading and leading[0].finding == "higher":
        return "worse"
    if "lower" in findings:
        return "partly" if _stays(content) else "better"
    return "worse" if "higher" in findings else "not better"


def _leading(content: Content) -> list[FeltChange]:
    """What the owner waits for and has words for, what the complaint is about first."""
    by_felt = {change.felt: change for change in content.felt}
    return [by_felt[f] for f in leads(content.complaint) if f in by_felt and f in FELT]


def _loads(content: Content) -> list[Comparison]:
    """Processor and memory; the work of the processor where its percentage is no measure."""
    wanted = ("work" if content.pace else "cpu_pct", "ram_used_bytes")
    return [c for name in wanted for c in content.comparisons if c.column == name]


def _stays(content: Content) -> bool:
    """Whether memory or disk hold the computer back as they did before: no setting mends that."""
    if len(content.limits) < len(("before", "after")):
        return False
    before, after = content.limits
    return after.kind in {"memory", "disk"} and after.kind == before.kind and not after.by_ceiling


def _told(content: Content) -> list[FeltChange]:
    """Those that are told: what is clear, else what the complaint is about most."""
    felt = _leading(content)
    return ([c for c in felt if c.finding in {"lower", "higher"}] or felt[:1])[:_FELT]


def measured(content: Content, kind: Kind, tongue: Tongue) -> Part:
    """What the readings say, and how that is known."""
    if kind in {"nothing to gain", "unchanged", "put back", "open"}:
        return Part(
            head=tongue.say("What we measured"), lines=lines_of([_why(content, kind, tongue)])
        )
    felt = _leading(content)
    lines = [_felt_line(c, tongue) for c in _told(content)]
    # What fell stands in the picture, with its figures.
    lines += [_load_line(c, content, tongue) for c in _loads(content) if c.finding != "lower"]
    lines += _tried(content, tongue)
    first = next((c for c in felt if c.count_before > _MANY_TRIES), None)
    how = tongue.say("How we know: it was measured on this computer, in the same way.")
    if first is not None:
        how = tongue.say(
            "How we know: it was measured on this computer {before} times before and {after} times"
            " after, in the same way. What may be chance does not count;"
            " ranges hold with 95 % certainty.",
            before=first.count_before,
            after=first.count_after,
        )
    head = tongue.say("What we measured")
    if kind in {"better", "partly"}:
        head = tongue.say("What is better, measured")
    return Part(head=head, lines=lines_of([*lines, how]), pictured=True)


def _tried(content: Content, tongue: Tongue) -> list[str]:
    """What was proven of a change that stands by switching it on and off, in the owner's words."""
    standing = {line.address for line in content.changes if line.stands}
    newest = {
        (str(t.ref), t.measure): t
        for t in content.trials
        if isinstance(t, Trial) and t.state == "done"
    }
    lines = []
    for trial in newest.values():
        found = trial.shown
        if found is None or found.finding != "lower" or str(trial.ref) not in standing:
            continue
        what = _takes_off(found.difference, trial, tongue)
        if what:
            lines.append(
                tongue.say(
                    "“{title}” was switched {count} times in an order drawn by lot: {what}",
                    title=plain(trial.title, 44),
                    count=2 * found.pairs,
                    what=what,
                )
            )
    return lines[:_FELT]


def _takes_off(difference: float, trial: Trial, tongue: Tongue) -> str:
    """What a change alone was shown to make less, as a clause; empty for what no owner knows."""
    felt = FELT.get(trial.measure)
    if felt is not None:
        share = tongue.percent(-told(difference, trial.measure))
        what = tongue.say(felt.title)
        return tongue.say("it alone takes {share} off “{what}”.", share=share, what=what)
    match trial.measure:
        case "cpu":
            share = tongue.percent(-difference, 1)
            return tongue.say(
                "with it the processor is busy {share} less of the time.",
                share=share,
            )
        case "ram":
            return tongue.say(
                "with it {size} less of the memory is in use.", size=tongue.size(-difference)
            )
    return ""


def _why(content: Content, kind: Kind, tongue: Tongue) -> str:
    """Why there is nothing before and after."""
    match kind:
        case "nothing to gain":
            return tongue.say(
                "We weighed everything that runs. Nothing that you do not need weighs anything, so"
                " no setting would make it quicker. We changed nothing."
            )
        case "unchanged":
            return tongue.say("We looked, and changed nothing.")
        case "put back":
            return tongue.say("Everything that we changed was put back; it is as it came.")
    if content.owed:
        return tongue.say("It has to be restarted first; only then can it be measured again.")
    return tongue.say("It has not been measured again since the changes, so we claim nothing.")


def _felt_line(change: FeltChange, tongue: Tongue) -> str:
    words = FELT[change.felt]
    degrees = change.felt == "temperature"
    was, now = (
        tongue.number(v) + "\u00a0°C" if degrees else tongue.seconds(v)
        for v in (change.before, change.after)
    )
    said = tongue.say(words.says, before=was, after=now)
    if change.finding == "lower":
        return said if degrees else f"{said} {_sure(change, tongue)}"
    return _judged_so(said, change.finding, tongue)


def _judged_so(said: str, finding: str, tongue: Tongue) -> str:
    """What was measured, and what to make of it; nothing more where it fell."""
    match finding:
        case "lower":
            return said
        case "higher":
            return f"{said} {tongue.say('That is worse.')}"
        case "no effect":
            return f"{said} {tongue.say('That is the same.')}"
    return f"{said} {tongue.say('That may be chance; we do not count it.')}"


def _sure(change: FeltChange, tongue: Tongue) -> str:
    if isinstance(change.ci95, NotMeasured):
        return ""
    near, far = sorted(abs(x) for x in change.ci95)
    return tongue.say(
        "That is {share} less waiting ({near} to {far}).",
        share=tongue.percent(abs(change.difference)),
        near=tongue.percent(near),
        far=tongue.percent(far),
    )


def _load_line(change: Comparison, content: Content, tongue: Tongue) -> str:
    match change.column:
        case "ram_used_bytes":
            said = tongue.say(
                "Memory in use while nobody works: {before} before, {after} now.",
                before=_of_memory(change.before, content, tongue),
                after=_of_memory(change.after, content, tongue),
            )
        case "work":
            share = 100 * (change.after - change.before) / change.before if change.before else 0.0
            said = tongue.say(
                "Work that the processor does while nobody works: {share} of what it was.",
                share=tongue.percent(100 + share),
            )
        case _:
            said = tongue.say(
                "The processor is busy while nobody works: {before} of the time before, {after}"
                " now.",
                before=tongue.percent(change.before),
                after=tongue.percent(change.after),
            )
    return _judged_so(said, change.finding, tongue)


def bars(content: Content, tongue: Tongue) -> tuple[Bar, ...]:
    """The first wait, processor, memory."""
    found = []
    for change in [c for c in _told(content) if c.felt != "temperature"][:1]:
        was, now = tongue.seconds(change.before), tongue.seconds(change.after)
        title = tongue.say(FELT[change.felt].title)
        found.append(_bar(title, change.before, change.after, was, now))
    for load in _loads(content):
        if load.column == "ram_used_bytes":
            words = (
                _of_memory(load.before, content, tongue),
                _of_memory(load.after, content, tongue),
            )
            title = tongue.say("Memory in use")
        elif load.column == "cpu_pct":
            words = (tongue.percent(load.before), tongue.percent(load.after))
            title = tongue.say("Processor busy")
        else:
            share = 100 * load.after / load.before if load.before else 100.0
            words = (tongue.percent(100), tongue.percent(share))
            title = tongue.say("Processor's work")
        found.append(_bar(title, load.before, load.after, *words))
    return tuple(found)


def _of_memory(size_bytes: float, content: Content, tongue: Tongue) -> str:
    """As a share of the whole, which says more to an owner than a size does."""
    total = content.before.ram_total_bytes if content.before is not None else 0
    return tongue.percent(100 * size_bytes / total) if total else tongue.size(size_bytes)


def _bar(title: str, before: float, after: float, was: str, now: str) -> Bar:
    return Bar(title=title, before=before, after=after, before_words=was, after_words=now)
