"""The report as a PDF: for the computer's owner first, for the next technician after that."""

import io
from pathlib import Path
from typing import Any

from lumtak.core.record import NotMeasured
from lumtak.core.text import plain
from lumtak.core.units import percent, ram, span
from lumtak.report.content import Content, claims
from lumtak.report.plotting import plotting

_INK, _SOFT, _RULE = "#22282e", "#5a646d", "#c3cad0"
_FRAME_PADDING = 6
_STAGES = {
    "verified": "done, read back",
    "undone": "put back",
    "failed": "refused, as before",
    "not done": "not done",
    "conflict": "needs a look",
    "intent": "interrupted",
    "written": "interrupted",
    "undoing": "interrupted",
}


def report_pdf(content: Content, chart_svg: str | None) -> bytes:
    """The report's bytes; fonts are embedded, and the same content gives the same bytes."""
    from reportlab.lib.pagesizes import A4
    from reportlab.lib.units import mm
    from reportlab.platypus import SimpleDocTemplate

    _fonts()
    out = io.BytesIO()
    document = SimpleDocTemplate(
        out,
        pagesize=A4,
        leftMargin=20 * mm,
        rightMargin=20 * mm,
        topMargin=18 * mm,
        bottomMargin=18 * mm,
        title=f"{plain(content.computer)}: what was done",
        author="Lumtak",
        invariant=1,
        initialFontName="Lumtak",
    )
    story = _story(content, chart_svg, document.width - 2 * _FRAME_PADDING)
    document.build(story, onFirstPage=_footer, onLaterPages=_footer)
    return out.getvalue()


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


def _story(content: Content, chart_svg: str | None, width: float) -> list[Any]:
    from reportlab.lib.styles import ParagraphStyle
    from reportlab.platypus import Paragraph, Spacer

    body = ParagraphStyle("body", fontName="Lumtak", fontSize=9, leading=13, textColor=_INK)
    soft = ParagraphStyle("soft", parent=body, fontSize=8, leading=11, textColor=_SOFT)
    head = ParagraphStyle(
        "head",
        parent=body,
        fontName="Lumtak-Bold",
        fontSize=11,
        leading=15,
        spaceBefore=12,
        spaceAfter=4,
    )
    title = ParagraphStyle("title", parent=head, fontSize=17, leading=22, spaceBefore=0)
    big = ParagraphStyle("big", parent=body, fontSize=12, leading=17, spaceBefore=6, spaceAfter=6)

    story: list[Any] = [
        Paragraph(
            _escape(f"{content.computer[:1].upper()}{content.computer[1:]}: what was done"), title
        ),
        Paragraph(
            _escape(
                f"Visit {content.visit}, begun {content.begun_at[:10]}. Used for"
                f" {content.profile.title.lower()} by {content.user}."
            ),
            soft,
        ),
        Paragraph(_escape(content.verdict), big),
    ]
    story += [Paragraph("• " + _escape(said), body) for said in claims(content)]
    story += [Paragraph("• " + _escape(m), body) for m in content.mismatches]
    if content.owed:
        story.append(Paragraph("• " + _escape(f"Still to do: {content.owed}."), body))
    if chart_svg:
        story += [Spacer(1, 8), _drawing(chart_svg, width)]
    story += [Paragraph("Before and after", head), _figures(content, width, body, soft)]
    story += [Paragraph("Changes", head), *_changes(content, width, soft)]
    if content.actions:
        story.append(Paragraph("Done once, and not to be put back", head))
        story += [
            Paragraph("• " + _escape(f"{a.at[:16].replace('T', ' ')}: {a.in_words()}"), soft)
            for a in content.actions
        ]
    if content.audit and content.audit.gaps:
        story.append(Paragraph("What could not be looked at", head))
        story += [
            Paragraph(
                "• " + _escape(g.reason + (f" (needed: {g.needed})" if g.needed else "")), soft
            )
            for g in content.audit.gaps
        ]
    story += [
        Paragraph("How to put it back", head),
        Paragraph(
            _escape(
                "Every change can be put back: open this job in Lumtak at Handover, or run “lumtak"
                f" undo {content.address} --all”."
            ),
            body,
        ),
        *(
            Paragraph(_escape(f"Without Lumtak: {s.command} (SHA-256 {s.sha256})"), body)
            for s in content.undo_scripts
        ),
        Paragraph("How this was measured", head),
        Paragraph(_escape(_method(content)), soft),
    ]
    return story


def _drawing(svg: str, width: float) -> Any:  # noqa: ANN401
    from svglib.fonts import register_font
    from svglib.svglib import svg2rlg

    register_font("DejaVu Sans", rlgFontName="Lumtak")
    drawing: Any = svg2rlg(io.BytesIO(svg.encode("utf-8")))
    scale = width / drawing.width
    drawing.width, drawing.height = drawing.width * scale, drawing.height * scale
    drawing.scale(scale, scale)
    return drawing


def _table(rows: list[list[Any]], widths: list[float]) -> Any:  # noqa: ANN401
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


def _figures(content: Content, width: float, body: Any, soft: Any) -> Any:  # noqa: ANN401
    from reportlab.platypus import Paragraph

    before, after = content.before, content.after
    if before is None:
        return Paragraph("No reading was taken.", body)

    def cell(column: str, show: Any) -> list[str]:  # noqa: ANN401
        return [show(before.mean(column)), show(after.mean(column)) if after else "not read yet"]

    ceilings = content.profile.ceilings
    rows: list[list[Any]] = [
        ["", "before", "after", "ceiling"],
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
            else Paragraph(_escape(p.not_measured), soft)
        )
        for r in readings
    ]
    rows.append(["Power plan", *plans, ""])
    rows = [row + [""] * (4 - len(row)) for row in rows]
    return _table(rows, [width * 0.40, width * 0.22, width * 0.22, width * 0.16])


def _changes(content: Content, width: float, soft: Any) -> list[Any]:  # noqa: ANN401
    from reportlab.platypus import Paragraph

    if not content.changes:
        return [Paragraph("Nothing was changed.", soft)]
    rows: list[list[Any]] = [["no.", "what", "before", "now", "state"]]
    for line in content.changes:
        what = Paragraph(
            f"{_escape(line.title)}<br/><font size=7"
            f" color='{_SOFT}'>{_escape(line.address)}</font>",
            soft,
        )
        now = line.before if line.stage in {"undone", "failed", "not done"} else line.value
        state = _STAGES.get(line.stage, line.stage) + (f": {line.note}" if line.note else "")
        rows.append(
            [
                str(line.number),
                what,
                _escape(line.before),
                _escape(now),
                Paragraph(_escape(state), soft),
            ]
        )
    return [_table(rows, [width * 0.07, width * 0.42, width * 0.13, width * 0.13, width * 0.25])]


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
            "Intervals are 95 %, the wider of six batch means and a first-order autoregression,"
            " because samples depend on each other."
        )
    return " ".join(parts)
