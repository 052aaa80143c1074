"""The handover: the report of a job, written as files."""

from pathlib import Path

from lumtak.core.audit import audit
from lumtak.core.conditions import mismatches
from lumtak.core.record import json_document
from lumtak.core.setting import State
from lumtak.core.strip import Strip, strips
from lumtak.errors import UsageError
from lumtak.report.charts import Format, Kind
from lumtak.report.content import ChangeLine, Content, headline
from lumtak.storage import in_sentences, write_whole
from lumtak.work.visit import Visit


def content_of(visit: Visit) -> Content:
    """What the report of this job says now."""
    job, before, after = visit.job, visit.baseline, visit.after
    comparisons = visit.comparisons() if before and after else ()
    why_not = visit.provisional()
    return Content(
        job=job.id,
        visit=job.visit,
        computer=job.computer_name,
        address=job.address,
        user=job.user,
        begun_at=job.begun_at,
        written_at=visit.computer.clock.wall().isoformat(timespec="seconds"),
        profile=job.profile,
        facts=job.facts,
        audit=job.audit,
        plan=job.plan,
        before=before,
        after=after,
        after_provisional=why_not,
        comparisons=comparisons,
        mismatches=(
            mismatches(before, after, (str(e.ref) for e in visit.entries()))
            if before and after
            else ()
        ),
        pace=visit.pace(),
        verdict=headline(comparisons, why_not, visit.pace()),
        changes=tuple(
            ChangeLine(
                number=e.id,
                address=str(e.ref),
                title=e.title,
                before=e.before.word,
                value=State(value=e.value).word,
                stage=e.stage,
                shows=e.shows,
                begun_at=e.begun_at,
                stage_at=e.stage_at,
                note=e.note,
            )
            for e in visit.entries()
        ),
        actions=job.actions,
        undo_scripts=tuple(visit.undo_scripts()),
        owed=visit.owed().in_words(),
    )


def write_report(visit: Visit, folder: Path) -> list[Path]:
    """Write report.pdf, job.json and, once there is a reading, load.svg; gives their paths.

    Raises:
        StorageError: the folder cannot be written; no file is left half-written.
    """
    from lumtak.report.charts import load_svg
    from lumtak.report.pdf import report_pdf

    content = content_of(visit)
    svg = None
    if content.before is not None:
        svg = load_svg(
            content.before, content.after, _strips(visit, content), content.profile.ceilings.cpu_pct
        )
    documents = {"report.pdf": report_pdf(content, svg)}
    if svg is not None:
        documents["load.svg"] = svg.encode("utf-8")
    documents["job.json"] = json_document(content)
    if not folder.is_dir():
        with in_sentences(folder):
            folder.mkdir()
    for name, data in documents.items():
        write_whole(folder / name, data)
    return [folder / name for name in documents]


def draw_chart(visit: Visit, kind: Kind, form: Format) -> bytes:
    """One chart of a job as a file's bytes.

    Raises:
        UsageError: the job has not come that far.
    """
    from lumtak.report.charts import Drawn, chart

    content = content_of(visit)
    if content.before is None:
        raise UsageError("This job has no baseline yet.", "Take it first: lumtak job baseline JOB.")
    bridges = visit.bridges() if kind == "bridge" else ()
    if kind == "bridge" and not bridges:
        raise UsageError(
            "A bridge needs changes and an after reading.",
            "Apply the plan, then: lumtak job after JOB.",
        )
    drawn = Drawn(
        before=content.before,
        after=content.after,
        strips=_both_strips(visit, content),
        ceiling_cpu_pct=content.profile.ceilings.cpu_pct,
        bridges=bridges,
    )
    return chart(kind, drawn, form)


def _strips(visit: Visit, content: Content) -> dict[str, Strip]:
    """RAM before and after, cut by the stances that the audit took."""
    return {name: pair[0] for name, pair in _both_strips(visit, content).items()}


def _both_strips(visit: Visit, content: Content) -> dict[str, tuple[Strip, Strip]]:
    """RAM and CPU before and after, cut by the stances that the audit took."""
    job, found = visit.job, content.audit
    if found is None and content.facts is not None:
        found = audit(content.facts, job.profile, visit.workshop.catalogue, content.before)
    readings = {"before": content.before, "after": content.after}
    ceilings = job.profile.ceilings
    return {
        name: strips(r, found, ceilings=ceilings) for name, r in readings.items() if r is not None
    }
