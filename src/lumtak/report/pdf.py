"""The report as a PDF: for the computer's owner first, for the next technician after that."""

import io
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

from lumtak.core.proof import complaint_in_words
from lumtak.core.record import NotMeasured
from lumtak.core.text import capital, plain
from lumtak.core.units import percent, ram, span
from lumtak.core.upkeep.tasks import TASKS
from lumtak.report.charts import Plot
from lumtak.report.content import Content, waits_of
from lumtak.report.plotting import plotting

_INK, _SOFT, _RULE = "#22282e", "#5a646d", "#c3cad0"
FRAME_PADDING = 6
_NAMED = 8
_STAGES = {
    "verified": "done, read back",
    "undone": "put back",
    "emptied": "emptied",
    "failed": "refused, as before",
    "not done": "not done",
    "conflict": "needs a look",
    "intent": "interrupted",
    "written": "interrupted",
    "undoing": "interrupted",
}


def report_pdf(content: Content, chart: Plot | None) -> bytes:
    """The report's bytes; fonts are embedded, and the same content gives the same bytes."""
    document = Doc(f"{plain(content.computer)}: what was done")
    return document.built(_story(content, chart, document.width - 2 * FRAME_PADDING))


class Doc:
    """A document of ours: A4, our fonts, its title and the page at the foot of each.

    Args:
        title: of it.
    """

    def __init__(self, title: str) -> None:
        from reportlab.lib.pagesizes import A4
        from reportlab.lib.units import mm
        from reportlab.platypus import SimpleDocTemplate

        _fonts()
        self._out = io.BytesIO()
        self._document = SimpleDocTemplate(
            self._out,
            pagesize=A4,
            leftMargin=20 * mm,
            rightMargin=20 * mm,
            topMargin=18 * mm,
            bottomMargin=18 * mm,
            title=title,
            author="Lumtak",
            invariant=1,
            initialFontName="Lumtak",
        )
        self.width: float = self._document.width

    def built(self, story: list[Any]) -> bytes:
        """Its bytes."""
        self._document.build(story, onFirstPage=_footer, onLaterPages=_footer)
        return self._out.getvalue()


def _fonts() -> None:
    mpl = plotting()
    from reportlab.graphics import shapes
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFont

    folder = Path(mpl.get_data_path()) / "fonts" / "ttf"
    for name, file in (("Lumtak", "DejaVuSans.ttf"), ("Lumtak-Bold", "DejaVuSans-Bold.ttf")):
        if name not in pdfmetrics.getRegisteredFontNames():
            pdfmetrics.registerFont(TTFont(name, folder / file))
    shapes.STATE_DEFAULTS["fontName"] = (
        "Lumtak"  # a drawing names its first font even where it writes nothing in it
    )


def _footer(canvas: Any, document: Any) -> None:  # noqa: ANN401 - reportlab has no types
    canvas.setFont("Lumtak", 7)
    canvas.setFillColor(_SOFT)
    canvas.drawString(document.leftMargin, 24, document.title)
    canvas.drawRightString(document.pagesize[0] - document.rightMargin, 24, f"page {document.page}")


def _escape(text: str) -> str:
    return plain(text, 600).replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")


def _story(content: Content, chart: Plot | None, width: float) -> list[Any]:
    """The report from top to bottom: for the owner first, the method last."""
    styles = paragraphs()
    story = [*_verdict(content, styles)]
    if chart:
        from reportlab.platypus import Spacer

        story += [Spacer(1, 8), chart.drawing(width)]
    story += [
        styles.head("Before and after"),
        _figures(content, width, styles),
        styles.head("Changes"),
        *_changes(content, width, styles),
    ]
    if content.actions:
        story.append(styles.head("Done once, and not to be put back"))
        for act in content.actions:
            story.append(styles.soft(f"• {act.at[:16].replace('T', ' ')}: {act.in_words()}"))
            story += [styles.soft(f"To have it again: {line}") for line in act.again]
    if content.audit and content.audit.gaps:
        story.append(styles.head("What could not be looked at"))
        for gap in content.audit.gaps:
            needed = f" (needed: {gap.needed})" if gap.needed else ""
            story.append(styles.soft(f"• {gap.reason}{needed}"))
    story += [*_upkeep(content, styles), *_again(content, width, styles)]
    back = (
        "Every change can be put back: open this job in Lumtak at Handover, or run “lumtak undo"
        f" {content.address} --all”."
    )
    scripts = [f"Without Lumtak: {s.command} (SHA-256 {s.sha256})" for s in content.undo_scripts]
    return [
        *story,
        styles.head("How to put it back"),
        *(styles.body(line) for line in (back, *scripts)),
        styles.head("How this was measured"),
        styles.soft(_method(content)),
    ]


def _upkeep(content: Content, styles: "_Styles") -> list[Any]:
    """What the tasks of upkeep found, what puts it right."""
    if not content.upkeep:
        return []
    story = [styles.head("Upkeep")]
    for result in content.upkeep:
        title = TASKS[result.task].title
        story.append(styles.body(f"• {title}, {result.at[:10]}: {result.says}"))
        seen = [f"{f.what}: {f.why}" for f in result.found if f.counts][:_NAMED]
        more = len([f for f in result.found if f.counts]) - len(seen)
        seen += [f"and {more:,} more"] if more > 0 else []
        story += [styles.soft(words) for words in (*seen, *result.mend)]
    return story


def _again(content: Content, width: float, styles: "_Styles") -> list[Any]:
    """When to look again."""
    if not content.due:
        return []
    rows: list[list[Any]] = [["day", "what", "how often", "last"]]
    rows += [[d.day, styles.soft(d.title), d.every, d.last or "never"] for d in content.due]
    widths = [width * share for share in (0.16, 0.50, 0.17, 0.17)]
    return [styles.head("When to look again"), table(rows, widths)]


def _verdict(content: Content, styles: "_Styles") -> list[Any]:
    """Whose computer, and what came of it."""
    name = capital(content.computer)
    used = f"Used for {content.profile.title.lower()} by {content.user}."
    came = complaint_in_words(content.complaint, content.told)
    points = [*content.claims, *content.mismatches]
    if content.owed:
        points.append(f"Still to do: {content.owed}.")
    shop = ", ".join(filter(None, (content.shop.name, content.shop.address)))
    return [
        *([styles.soft(shop)] if shop else []),
        styles.title(f"{name}: what was done"),
        styles.soft(f"Visit {content.visit}, begun {content.begun_at[:10]}. {used}"),
        *([styles.soft(f"The complaint was: {came}")] if came else []),
        styles.big(content.verdict),
        *(styles.body(f"• {point}") for point in points),
    ]


class _Styles(NamedTuple):
    """Paragraphs of the report by their kind; each takes plain text."""

    title: Callable[[str], Any]
    head: Callable[[str], Any]
    big: Callable[[str], Any]
    body: Callable[[str], Any]
    soft: Callable[[str], Any]
    soft_style: Any
    """For what has marks of its own."""


def paragraphs() -> _Styles:
    """Of every document."""
    from reportlab.lib.styles import ParagraphStyle
    from reportlab.platypus import Paragraph

    def of(style: Any) -> Callable[[str], Any]:  # noqa: ANN401
        return lambda text: Paragraph(_escape(text), style)

    body = ParagraphStyle("body", fontName="Lumtak", fontSize=9, leading=13, textColor=_INK)
    soft = ParagraphStyle("soft", parent=body, fontSize=8, leading=11, textColor=_SOFT)
    air = {"spaceBefore": 12, "spaceAfter": 4}
    head = ParagraphStyle(
        "head", parent=body, fontName="Lumtak-Bold", fontSize=11, leading=15, **air
    )
    title = ParagraphStyle("title", parent=head, fontSize=17, leading=22, spaceBefore=0)
    big = ParagraphStyle("big", parent=body, fontSize=12, leading=17, spaceBefore=6, spaceAfter=6)
    return _Styles(of(title), of(head), of(big), of(body), of(soft), soft)


def table(rows: list[list[Any]], widths: list[float]) -> Any:  # noqa: ANN401
    """Rows under their head, which each page repeats."""
    from reportlab.platypus import Table, TableStyle

    return Table(
        rows,
        colWidths=widths,
        repeatRows=1,
        style=TableStyle(
            [
                ("FONT", (0, 0), (-1, 0), "Lumtak-Bold", 8),
                ("FONT", (0, 1), (-1, -1), "Lumtak", 8),
                ("TEXTCOLOR", (0, 0), (-1, -1), _INK),
                ("LINEBELOW", (0, 0), (-1, -1), 0.4, _RULE),
                ("VALIGN", (0, 0), (-1, -1), "TOP"),
                ("LEFTPADDING", (0, 0), (-1, -1), 0),
                ("TOPPADDING", (0, 0), (-1, -1), 2.5),
                ("BOTTOMPADDING", (0, 0), (-1, -1), 2.5),
            ]
        ),
    )


def _figures(content: Content, width: float, styles: _Styles) -> Any:  # noqa: ANN401
    before, after = content.before, content.after
    if before is None:
        return styles.body("No reading was taken.")

    def cell(column: str, show: Any) -> list[str]:  # noqa: ANN401
        return [show(before.mean(column)), show(after.mean(column)) if after else "not read yet"]

    ceilings = content.profile.ceilings
    waits = [[capital(title), *values] for title, *values in waits_of(content)]
    rows: list[list[Any]] = [
        ["", "before", "after", "ceiling"],
        *waits,
        ["CPU load at idle", *cell("cpu_pct", percent), percent(ceilings.cpu_pct)],
        [
            "Memory in use at idle",
            *cell("ram_used_bytes", ram),
            ram(before.ram_total_bytes * ceilings.ram_pct / 100),
        ],
        ["Cache (no load; given back when needed)", *cell("cache_bytes", ram), ""],
        ["Swap in use", *cell("swap_used_bytes", ram), ""],
    ]
    readings = [r for r in (before, after) if r]
    rows.append(["Measured over", *[span(sum(s.length_s for s in r.kept)) for r in readings], ""])
    rows.append(["Time since start", *[span(r.conditions.uptime_s) for r in readings], ""])
    plans = [
        (
            p
            if not isinstance((p := r.conditions.power_plan), NotMeasured)
            else styles.soft(p.not_measured)
        )
        for r in readings
    ]
    rows.append(["Power plan", *plans, ""])
    rows = [row + [""] * (4 - len(row)) for row in rows]
    return table(rows, [width * 0.40, width * 0.22, width * 0.22, width * 0.16])


def _changes(content: Content, width: float, styles: _Styles) -> list[Any]:
    from reportlab.platypus import Paragraph

    if not content.changes:
        return [styles.soft("Nothing was changed.")]
    rows: list[list[Any]] = [["no.", "what", "before", "now", "state"]]
    for line in content.changes:
        address = f"<font size=7 color='{_SOFT}'>{_escape(line.address)}</font>"
        what = Paragraph(f"{_escape(line.title)}<br/>{address}", styles.soft_style)
        now = line.before if line.stage in {"undone", "failed", "not done"} else line.value
        state = _STAGES.get(line.stage, line.stage) + (f": {line.note}" if line.note else "")
        rows.append(
            [
                str(line.number),
                what,
                _escape(line.before),
                _escape(now),
                styles.soft(state),
            ]
        )
    return [table(rows, [width * 0.07, width * 0.42, width * 0.13, width * 0.13, width * 0.25])]


def _method(content: Content) -> str:
    before, after = content.before, content.after
    if before is None:
        return "Nothing was measured."
    parts = [
        f"CPU and memory were sampled every {before.interval_s:g} s at idle; the first "
        f"{before.samples[before.settled_from - 1].t_s if before.settled_from else 0:.0f} s before"
        + (
            f" and {after.samples[after.settled_from - 1].t_s if after.settled_from else 0:.0f} s"
            " after"
            if after
            else ""
        )
        + " were left out while the load settled (MSER-5).",
        (
            "Memory in use is total minus available, so cache does not count. Lumtak's own load is"
            " left out."
        ),
    ]
    if content.comparisons:
        parts.append(
            "Intervals are 95 %, the widest of several that allow for samples that depend on each"
            " other; what is waited for is compared by its logarithm."
        )
    return " ".join(parts)
