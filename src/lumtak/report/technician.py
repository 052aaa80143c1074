"""The report for technicians: conditions, every figure with its interval, every change, the
method.

What the program itself said (verdict, findings, notes of the journal) stands as it said it.
"""

from collections.abc import Iterable, Sequence
from typing import Any

from lumtak.core.reading import Reading
from lumtak.core.record import NotMeasured
from lumtak.core.text import capital, plain
from lumtak.core.trial.effects import ASSUMES as ASSUMES_TOGETHER
from lumtak.core.trial.inference import ASSUMES
from lumtak.core.trial.record import Screening, Trial
from lumtak.core.trial.words import EXPECTED
from lumtak.core.trial.words import in_words as in_words_of
from lumtak.core.units import ram, span
from lumtak.core.upkeep.tasks import TASKS
from lumtak.report.charts import Plot
from lumtak.report.content import ChangeLine, Content
from lumtak.report.document import FRAME_PADDING, Doc, Styles, paragraphs, table
from lumtak.report.figures import in_words, rows_of
from lumtak.report.sheet.measured import kind_of
from lumtak.report.sheet.says import cause
from lumtak.report.sheet.words import TITLES
from lumtak.report.terms import ENDED, EVERY, STAGES, VALUES
from lumtak.report.tongue import Tongue

_NAMED, _KEPT = 8, 12
_STILL = {"off", "manual", "demand"}
"""Values of what does not run by itself, so that keeping it is no choice."""
_CHART, _ROOM = 400.0, 90.0
"""Points: the width of a chart, and what a part needs at the foot of a page to begin there."""


def report_pdf(content: Content, plots: Sequence[Plot], tongue: Tongue) -> bytes:
    """The report's bytes; fonts are embedded, and the same content gives the same bytes.

    Args:
        content: what is handed over.
        plots: its charts, in order.
        tongue: its language and paper.
    """
    title = tongue.say("{computer}: technician's report", computer=capital(plain(content.computer)))
    document = Doc(title, tongue)
    width = document.width - 2 * FRAME_PADDING
    return document.built(_Report(content, tongue, paragraphs(width), width).story(title, plots))


class _Report:
    """The parts of a report.

    Args:
        content: what is handed over.
        tongue: its language.
        styles: of its paragraphs.
        width: of its lines, in points.
    """

    def __init__(self, content: Content, tongue: Tongue, styles: Styles, width: float) -> None:
        self._content, self._tongue, self._styles = content, tongue, styles
        self._say, self._width = tongue.say, width

    def story(self, title: str, plots: Sequence[Plot]) -> list[Any]:
        """All of it, in order."""
        say = self._say
        return [
            *self._head(title),
            *self._part(say("What was found"), self._found()),
            *self._part(say("What came of it"), self._came()),
            *self._part(say("Figures"), self._figures()),
            *self._charts(plots),
            *self._part(say("Conditions of the readings"), self._conditions()),
            *self._part(say("Changes"), self._changes()),
            *self._part(say("Set aside"), self._aside()),
            *self._part(say("Trials"), self._trials()),
            *self._part(say("Done once, and not to be put back"), self._actions()),
            *self._part(say("Kept on purpose"), self._kept()),
            *self._part(say("Upkeep"), self._upkeep()),
            *self._part(say("When to look again"), self._again()),
            *self._part(say("What could not be looked at"), self._gaps()),
            *self._part(say("How to put it back"), self._back()),
            *self._part(say("How this was measured"), self._method()),
        ]

    def _part(self, head: str, rows: list[Any]) -> list[Any]:
        from reportlab.platypus import CondPageBreak

        return [CondPageBreak(_ROOM), self._styles.head(head), *rows] if rows else []

    def _soft(self, lines: Iterable[str]) -> list[Any]:
        return [self._styles.soft(f"• {line}") for line in lines]

    def _table(self, rows: list[list[Any]], shares: Sequence[float]) -> Any:  # noqa: ANN401
        return table(rows, [self._width * share for share in shares])

    # -- whose, and what came of it ----------------------------------------------------------------

    def _head(self, title: str) -> list[Any]:
        content, say = self._content, self._say
        shop = content.shop
        owner, kind = content.owner, kind_of(content)
        used = say(
            "Job {job}, visit {visit}, begun {date}. Used for {profile} by {user}.",
            job=content.job,
            visit=content.visit,
            date=self._tongue.date(content.begun_at),
            profile=content.profile.title,
            user=content.user,
        )
        rows = [
            (say("Owner"), ", ".join(filter(None, (owner.name, owner.contact)))),
            (say("Complaint"), self._tongue.quoted(content.told) if content.told else ""),
            (say("Agreed"), owner.agreed),
            (say("Notes"), owner.notes),
        ]
        who = ", ".join(filter(None, (shop.name, shop.address, shop.phone)))
        return [
            *([self._styles.soft(who)] if who else []),
            self._styles.title(title),
            self._styles.soft(used),
            *(self._styles.body(f"{name}: {words}") for name, words in rows if words),
            self._styles.big(say(TITLES[kind])),
            *([self._styles.body(content.verdict)] if kind != "nothing to gain" else []),
        ]

    def _found(self) -> list[Any]:
        """The diagnosis: in words, with the program's own figures."""
        content = self._content
        told = content.audit.told if content.audit else ()
        return [
            *(self._styles.body(words) for words in cause(content, self._tongue) if words),
            *self._soft(told),
        ]

    def _came(self) -> list[Any]:
        content, say = self._content, self._say
        points = [*content.claims, *content.mismatches]
        points += [say("Still to do: {what}.", what=content.owed)] if content.owed else []
        return self._soft(dict.fromkeys(points))

    # -- figures -----------------------------------------------------------------------------------

    def _figures(self) -> list[Any]:
        content, say = self._content, self._say
        if content.before is None:
            return [self._styles.body(say("No reading was taken."))]
        head = [
            "",
            say("before"),
            say("after"),
            say("difference"),
            say("95 % interval"),
            say("finding"),
            say("samples"),
        ]
        rows: list[list[Any]] = [head]
        for row in rows_of(content):
            title, *cells = in_words(row, self._tongue)
            counts = f"{row.count_before} / {row.count_after}" if row.count_before else ""
            rows.append([self._styles.soft(title), *cells, counts])
        shares = (0.26, 0.10, 0.10, 0.14, 0.19, 0.11, 0.10)
        return [self._table(rows, shares), *self._soft(self._not_measured())]

    def _not_measured(self) -> list[str]:
        """What has no figure, in a line instead of an empty row."""
        content = self._content
        why: dict[str, str] = {}
        for reading in (content.before, content.after):
            if reading is not None:
                why |= {n: v.not_measured for n, v in reading.not_felt.items()}
        lines = [
            self._say("Not measured, {what}: {why}", what=name.replace("_", " "), why=words)
            for name, words in why.items()
        ]
        return [*lines, *([content.pace] if content.pace else [])]

    def _charts(self, plots: Sequence[Plot]) -> list[Any]:
        from reportlab.platypus import Spacer

        found: list[Any] = []
        for plot in plots:
            found += [Spacer(1, 10), plot.drawing(min(self._width, _CHART))]
            found += [self._styles.soft(plot.note)] if plot.note else []
        return found

    def _conditions(self) -> list[Any]:
        content, say = self._content, self._say
        readings = [(n, r) for n, r in (("before", content.before), ("after", content.after)) if r]
        if not readings:
            return []
        rows: list[list[Any]] = [["", *(say(name) for name, _ in readings)]]
        for title, show in (
            (say("begun"), lambda r: r.taken_at[:19].replace("T", " ")),
            (say("measured over"), lambda r: span(sum(s.length_s for s in r.kept))),
            (say("left out while it settled"), _left_out),
            (say("samples late, missed"), lambda r: f"{r.late}, {r.missed}"),
            (say("settled"), lambda r: say("yes") if r.settled else say("no, so doubtful")),
            (say("ended"), lambda r: say(ENDED.get(r.ended, r.ended))),
            (say("time since the start"), lambda r: span(r.conditions.uptime_s)),
            (say("time since the login"), lambda r: _figure(r.conditions.since_login_s, span)),
            (say("power"), lambda r: say(VALUES.get(r.conditions.power_source, "unknown"))),
            (say("power plan"), lambda r: _figure(r.conditions.power_plan, self._value)),
            (say("logged in"), lambda r: _figure(r.conditions.users, ", ".join)),
            (say("temperature"), lambda r: _figure(r.conditions.temperature_c, "{:.0f} °C".format)),
            (say("memory"), lambda r: ram(r.ram_total_bytes)),
        ):
            cells = [self._styles.soft(show(reading)) for _, reading in readings]
            rows.append([title, *cells])
        share = 0.66 / len(readings)
        return [self._table(rows, (0.34, *[share] * len(readings)))]

    def _value(self, word: str) -> str:
        """A value of a setting, for people."""
        return self._say(VALUES.get(word, word))

    # -- what was done -----------------------------------------------------------------------------

    def _changes(self) -> list[Any]:
        content, say = self._content, self._say
        if not content.changes:
            return [self._styles.soft(say("Nothing was changed."))]
        head = [say("no."), say("what"), say("before"), say("now"), say("state"), say("journal")]
        rows: list[list[Any]] = [head]
        for line in content.changes:
            now = line.value if line.stands else line.before
            state = say(STAGES.get(line.stage, line.stage)) + (
                f": {line.note}" if line.note else ""
            )
            rows.append(
                [
                    str(line.number),
                    self._styles.two(f"{line.title}. {self._without(line)}".strip(), line.address),
                    self._styles.soft(self._value(line.before)),
                    self._styles.soft(self._value(now)),
                    self._styles.two(state, f"{line.stage_at[:16].replace('T', ' ')}"),
                    str(line.id),
                ]
            )
        return [self._table(rows, (0.06, 0.41, 0.13, 0.13, 0.19, 0.08))]

    def _without(self, line: ChangeLine) -> str:
        if not line.notice:
            return ""
        return (
            self._say(line.notice, title=line.title)
            if "{title}" in line.notice
            else self._say(line.notice)
        )

    def _aside(self) -> list[Any]:
        lines = [c for c in self._content.changes if c.bytes and c.stands]
        if not lines:
            return []
        when = self._tongue.date(self._content.empty_on) if self._content.empty_on else "…"
        whole = self._say(
            "{size} in all; may be emptied from {date} on.",
            size=ram(sum(c.bytes for c in lines)),
            date=when,
        )
        return self._soft([*(f"{c.number}  {c.title}: {ram(c.bytes)}" for c in lines), whole])

    def _actions(self) -> list[Any]:
        found = []
        for act in self._content.actions:
            found.append(f"{act.at[:16].replace('T', ' ')}: {act.in_words()}")
            found += [self._say("To have it again: {line}", line=line) for line in act.again]
        return self._soft(found)

    def _trials(self) -> list[Any]:
        """What was switched on and off here, and what that showed."""
        made = self._content.trials
        alone = [t for t in made if isinstance(t, Trial)]
        together = [t for t in made if isinstance(t, Screening)]
        lines = [f"{t.title} ({t.ref}={t.on}): {in_words_of(t)}" for t in alone]
        lines += [ASSUMES] if alone else []
        for screened in together:
            lines.append(in_words_of(screened))
            if screened.seen is not None:
                lines.append(screened.layout.confounded(screened.seen.rounds))
        lines += [ASSUMES_TOGETHER, EXPECTED] if together else []
        return self._soft(lines)

    def _kept(self) -> list[Any]:
        audit = self._content.audit
        kept = [f for f in audit.findings if f.stance == "keep" and f.weight.heft] if audit else []
        kept = [f for f in kept if f.value not in _STILL]
        kept.sort(key=lambda f: -f.weight.heft)
        return self._soft(f"{f.title} ({f.ref}): {f.reason}" for f in kept[:_KEPT])

    # -- what comes next ---------------------------------------------------------------------------

    def _upkeep(self) -> list[Any]:
        story: list[Any] = []
        for result in self._content.upkeep:
            title = self._say(TASKS[result.task].title)
            story.append(self._styles.body(f"• {title}, {result.at[:10]}: {result.says}"))
            seen = [f"{f.what}: {f.why}" for f in result.found if f.counts]
            more = len(seen) - _NAMED
            rest = [self._say("and {count} more", count=more)] if more > 0 else []
            story += [self._styles.soft(w) for w in (*seen[:_NAMED], *rest, *result.mend)]
        return story

    def _again(self) -> list[Any]:
        say, content = self._say, self._content
        if not content.due:
            return []
        rows: list[list[Any]] = [[say("day"), say("what"), say("how often"), say("last")]]
        rows += [
            [
                d.day,
                self._styles.soft(say(d.title)),
                say(EVERY.get(d.every, d.every)),
                d.last or say("never"),
            ]
            for d in content.due
        ]
        return [self._table(rows, (0.16, 0.50, 0.17, 0.17))]

    def _gaps(self) -> list[Any]:
        gaps = self._content.audit.gaps if self._content.audit else ()
        return self._soft(
            gap.reason + (self._say(" (needed: {what})", what=gap.needed) if gap.needed else "")
            for gap in gaps
        )

    def _back(self) -> list[Any]:
        content, say = self._content, self._say
        if not any(line.stands for line in content.changes):
            return [self._styles.soft(say("Nothing of this job stands changed."))]
        lines = [
            say(
                "With Lumtak: open this job at Handover, or type: lumtak undo {address} --all (or a"
                " number in place of --all).",
                address=content.address,
            )
        ]
        if content.by_number:
            lines.append(
                say(
                    "Without Lumtak, by number: {command} NUMBER (list says which there are)",
                    command=content.by_number,
                )
            )
        lines += [
            say("Everything without Lumtak: {command}", command=script.command)
            for script in content.undo_scripts
        ]
        sums = [f"SHA-256 {script.sha256}: {script.command}" for script in content.undo_scripts]
        return [*(self._styles.body(line) for line in lines), *self._soft(sums)]

    def _method(self) -> list[Any]:
        content, say = self._content, self._say
        if content.before is None:
            return [self._styles.soft(say("Nothing was measured."))]
        lines = [
            say(
                "CPU and memory were sampled every {seconds} s at idle. What came before the load"
                " had settled is left out: the cut is where the rest is known best (rule MSER-5).",
                seconds=f"{content.before.interval_s:g}",
            ),
            say(
                "Memory in use is the whole less what is available, so cache does not count."
                " Lumtak's own load is left out."
            ),
        ]
        if content.comparisons:
            lines.append(
                say(
                    "Intervals hold with 95 %: the widest of several that allow for samples that"
                    " depend on each other. What is waited for is compared by its logarithm. A"
                    " difference is called so only where its whole interval is beyond what would"
                    " be felt."
                )
            )
        return self._soft(lines)


def _left_out(reading: Reading) -> str:
    return span(reading.samples[reading.settled_from - 1].t_s if reading.settled_from else 0.0)


def _figure(value: Any, show: Any) -> str:  # noqa: ANN401 - a figure of any kind, and how it is shown
    return value.not_measured if isinstance(value, NotMeasured) else str(show(value))
