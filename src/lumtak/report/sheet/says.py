"""What stands on the sheet: every sentence from a figure or a field, none from another sentence."""

from lumtak.core.felt import COMPLAINTS
from lumtak.core.record import known
from lumtak.core.text import plain
from lumtak.report.content import Content
from lumtak.report.sheet.changed import TITLE_MOST, different, kept
from lumtak.report.sheet.measured import bars, kind_of, measured
from lumtak.report.sheet.money import money
from lumtak.report.sheet.record import Line, Part, Sheet, lines_of
from lumtak.report.sheet.words import CAME, TITLES
from lumtak.report.tongue import Tongue

_NAME, _TOLD, _WEIGHS_PCT = 60, 260, 0.5


def sheet_of(content: Content, tongue: Tongue, most: int = 12) -> Sheet:
    """The sheet of a job.

    Args:
        content: what is handed over.
        tongue: the language.
        most: changes that have a line of their own; the others are counted.
    """
    kind = kind_of(content)
    parts = (
        _came(content, tongue),
        _found(content, tongue),
        measured(content, kind, tongue),
        different(content, tongue, most),
        kept(content, tongue),
        Part(head=tongue.say("What still needs money"), lines=lines_of(money(content, tongue))),
        _again(content, tongue),
        _missing(content, tongue),
    )
    # A number is not parted at the end of a line.
    phone = content.shop.phone.replace(" ", "\u00a0")
    shop = [content.shop.name, *content.shop.address.split(","), phone]
    return Sheet(
        kind=kind,
        language=tongue.tag,
        title=tongue.say(TITLES[kind]),
        shop=tuple(plain(line.strip(), _NAME) for line in shop if line.strip()),
        about=_about(content, tongue),
        parts=tuple(part for part in parts if part.lines),
        bars=bars(content, tongue) if kind in {"better", "partly", "not better", "worse"} else (),
        bars_head=(tongue.say("before"), tongue.say("now")),
        signs=(tongue.say("Date, for the workshop"), tongue.say("Date, owner")),
        foot=tongue.say(
            "Measured and written with Lumtak on {date}; the technician's report has every figure.",
            date=tongue.date(content.written_at),
        ),
        numbers=tuple(sorted(line.number for line in content.changes if line.stands)),
    )


def _about(content: Content, tongue: Tongue) -> tuple[str, ...]:
    owner = content.owner
    what = tongue.say(
        "Computer: {computer}, visit {visit}, {date}",
        computer=plain(content.computer, _NAME),
        visit=content.visit,
        date=tongue.date(content.begun_at),
    )
    who = ", ".join(plain(text, _NAME) for text in (owner.name, owner.contact) if text)
    agreed = tongue.say("Agreed: {what}", what=plain(owner.agreed, 100)) if owner.agreed else ""
    return tuple(filter(None, (who, what, agreed)))


# -- why they came, what was found -----------------------------------------------------------------


def _came(content: Content, tongue: Tongue) -> Part:
    kind = tongue.say(CAME[content.complaint]) if content.complaint in COMPLAINTS else ""
    told = tongue.quoted(plain(content.told, _TOLD)) if content.told else kind
    return Part(head=tongue.say("You told us"), lines=lines_of([told]))


def _found(content: Content, tongue: Tongue) -> Part:
    return Part(head=tongue.say("What we found"), lines=lines_of(cause(content, tongue)))


def cause(content: Content, tongue: Tongue) -> list[str]:
    """What held the computer back when it came, with its figure."""
    reading = content.before
    if reading is None or not content.limits:
        return [tongue.say("Nothing was measured, so we cannot say what is wrong.")]
    say, ceilings = tongue.say, content.profile.ceilings
    cpu, ram_pct = reading.mean("cpu_pct"), reading.mean("ram_pct")
    limit = content.limits[0]
    match limit.kind:
        case "memory" if not limit.by_ceiling:
            words = say(
                "The memory is full: {share} of its {total} are in use while nobody works, so the"
                " computer keeps moving things to the disk and back.",
                share=tongue.percent(ram_pct),
                total=tongue.size(reading.ram_total_bytes),
            )
        case "memory":
            words = say(
                "Programs in the background take {share} of the memory while nobody works; for what"
                " you do, {ceiling} would be right.",
                share=tongue.percent(ram_pct),
                ceiling=tongue.percent(ceilings.ram_pct),
            )
        case "disk":
            words = _slow_disk(content, tongue)
        case "clock":
            saves = reading.conditions.power_plan == "saving"
            share = tongue.percent(100 * known(reading.figure("clock_ratio")))
            words = say("The processor ran at {share} of its speed.", share=share)
            if saves:
                words = say(
                    "The computer was set to save power: its processor ran at {share} of its"
                    " speed.",
                    share=share,
                )
        case "processor":
            words = say(
                "Programs in the background keep the processor busy: {share} of the time while"
                " nobody works; for what you do, {ceiling} would be right.",
                share=tongue.percent(cpu),
                ceiling=tongue.percent(ceilings.cpu_pct),
            )
        case _:
            return [
                say(
                    "Nothing holds it back: while nobody works, the processor is busy {cpu} of the"
                    " time and {ram} of the memory is in use. Both are as they should be.",
                    cpu=tongue.percent(cpu),
                    ram=tongue.percent(ram_pct),
                )
            ]
    return [words, _heaviest(content, tongue)]


def _slow_disk(content: Content, tongue: Tongue) -> str:
    facts, reading = content.facts, content.before
    waits = tongue.percent(reading.mean("iowait_pct")) if reading is not None else ""
    if facts is not None and facts.hardware.disk == "spinning":
        return tongue.say(
            "Everything waits for the disk. It is one that spins, which is slow when many small"
            " pieces are read: the processor waits for it {share} of the time.",
            share=waits,
        )
    return tongue.say(
        "Everything waits for the disk: the processor waits for it {share} of the time.",
        share=waits,
    )


def _heaviest(content: Content, tongue: Tongue) -> str:
    """The program that weighs most of what is not needed; empty where none does."""
    audit = content.audit
    if audit is None:
        return ""
    first = audit.by_consumer.get(audit.first)
    if first is None or first.stance != "ease" or content.before is None:
        return ""
    # What it starts and what goes with it counts as its own.
    together = [g for ref in audit.with_brought([first.ref]) if (g := audit.find(ref))]
    size, cpu = audit.sums(together)
    share = 100 * size / content.before.ram_total_bytes
    if first.area not in {"services", "apps"} or max(cpu, share) < _WEIGHS_PCT:
        return ""
    return tongue.say(
        "The heaviest that you do not need is “{title}”: {cpu} of the processor and {ram} of the"
        " memory.",
        title=plain(first.title, TITLE_MOST),
        cpu=tongue.percent(cpu, 1),
        ram=tongue.percent(share, 1),
    )


# -- what comes next -------------------------------------------------------------------------------


def _again(content: Content, tongue: Tongue) -> Part:
    later = sorted(d.day for d in content.due if d.every != "weekly")
    lines = []
    if later:
        lines.append(
            tongue.say(
                "By {date}, for a look at whether all is as we left it.",
                date=tongue.date(later[0]),
            )
        )
    if content.owed:
        lines.append(tongue.say("Restart it once, as soon as you can; some changes need that."))
    return Part(head=tongue.say("When to come back"), lines=lines_of(lines))


def _missing(content: Content, tongue: Tongue) -> Part:
    standing = [line.number for line in content.changes if line.stands]
    phone = content.shop.phone or content.shop.name
    head = tongue.say("If something is missing")
    if not standing:
        call = tongue.say("Call us: {phone}.", phone=plain(phone, _NAME)) if phone else ""
        return Part(head=head, lines=lines_of([call]))
    who = plain(phone, _NAME) if phone else tongue.say("your technician")
    lines = [
        tongue.say(
            "Call {who} and say the number printed before the line. Each change can be taken back"
            " by its number; nothing is lost.",
            who=who,
        )
    ]
    if content.by_number:
        words = tongue.say("Or open a terminal and type, for number {number}:", number=standing[0])
        typed = Line(words=words, command=f"{content.by_number} {standing[0]}")
        return Part(head=head, lines=(*lines_of(lines), typed))
    return Part(head=head, lines=lines_of(lines))
