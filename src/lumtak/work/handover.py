"""The handover: sheet, report, charts and data of a job, written as files."""

import contextlib
from pathlib import Path
from typing import TYPE_CHECKING

from lumtak.core.audit import audit
from lumtak.core.clutter import Grown
from lumtak.core.conditions import mismatches
from lumtak.core.notice import notice_of
from lumtak.core.planner.disruption import level_of
from lumtak.core.proof import Proof
from lumtak.core.reading import Reading
from lumtak.core.record import json_document, known
from lumtak.core.strip import Strip, strips
from lumtak.core.verdict import headline
from lumtak.errors import UsageError
from lumtak.journal import by_number
from lumtak.report.charts import ChartFormat, ChartKind
from lumtak.report.content import ChangeLine, Content
from lumtak.report.tongue import Tongue, tongue_of
from lumtak.storage import in_sentences, write_whole
from lumtak.work.due import due_of
from lumtak.work.open_job import OpenJob
from lumtak.work.plan import undo_scripts_of
from lumtak.work.proof import bridges_of, limits_of, pace_of, proof_of, why_provisional
from lumtak.work.storage import disk_told, due_on
from lumtak.work.trials_kept import kept_trials
from lumtak.work.upkeep import all_results

if TYPE_CHECKING:  # loads libraries for calendars and pictures
    from lumtak.report.charts import Drawn, Plot
    from lumtak.report.reminders import Reminder


def content_of(open_job: OpenJob) -> Content:
    """What the report of this job says now."""
    job, before, after = open_job.job, open_job.baseline, open_job.after
    proof = proof_of(open_job) if before and after else Proof(headline=headline((), ""))
    return Content(
        job=job.id,
        visit=job.visit,
        computer=job.computer_name,
        address=job.address,
        user=job.user,
        begun_at=job.begun_at,
        written_at=open_job.computer.clock.wall().isoformat(timespec="seconds"),
        profile=job.profile,
        facts=job.facts,
        audit=job.audit,
        plan=job.plan,
        before=before,
        after=after,
        after_provisional=why_provisional(open_job),
        shop=open_job.data_folder.settings.shop,
        owner=job.owner,
        complaint=job.complaint,
        told=job.told,
        claims=tuple(proof.claims),
        felt=proof.felt,
        comparisons=proof.comparisons,
        attribution=proof.attribution,
        standings=proof.standings,
        brake=proof.brake,
        mismatches=(
            mismatches(before, after, (str(e.ref) for e in open_job.entries()))
            if before and after
            else ()
        ),
        pace=pace_of(open_job),
        verdict=proof.headline,
        changes=_changes(open_job),
        trials=tuple(kept_trials(open_job.data_folder.home, job.identity)),
        actions=job.actions,
        upkeep=tuple(all_results(open_job.data_folder, job.identity).values()),
        due=tuple(due_of(open_job.data_folder, job)),
        undo_scripts=tuple(undo_scripts_of(open_job)),
        owed=open_job.owed().in_words(),
        limits=tuple(limits_of(job, *(r for r in (before, after) if r is not None))),
        empty_on=next(iter(_days_to_empty(open_job)), ""),
        by_number=by_number(open_job.data_folder.journal, open_job.computer),
    )


def _changes(open_job: OpenJob) -> tuple[ChangeLine, ...]:
    """What was changed in this job, each with what it means for the owner."""
    catalogue, found = open_job.data_folder.catalogue, open_job.job.audit
    lines = []
    for e in open_job.entries():
        finding = found.find(e.ref) if found else None
        role = catalogue.find(finding.role) if finding else None
        notice = finding.notice if finding else ""
        known_for = finding is None or bool(finding.role) or bool(notice)
        line = ChangeLine(
            id=e.id,
            number=e.number,
            address=str(e.ref),
            title=e.title,
            notice=notice_of(e.ref.area, e.ref.key, e.value, notice, known=known_for),
            missed=level_of(finding, role) if finding else "nothing",
            bytes=known(finding.weight.disk_bytes) if finding and e.value == "aside" else 0.0,
            before=e.before.word,
            value=e.word,
            stage=e.stage,
            stands=e.is_open,
            shows=e.shows,
            begun_at=e.begun_at,
            stage_at=e.stage_at,
            note=e.note,
        )
        lines.append(line)
    return tuple(lines)


def _days_to_empty(open_job: OpenJob) -> list[str]:
    """The days from which on something that was set aside may be emptied, the first one first."""
    days = {
        due_on(e.stage_at, open_job.job.profile)
        for e in open_job.entries()
        if e.is_open and e.ref.area == "storage"
    }
    return sorted(filter(None, days))


def write_report(open_job: OpenJob, folder: Path, tongue: Tongue | None = None) -> list[Path]:
    """Write all that is handed over: the report, the sheet, every chart as SVG and PDF, the data as
    JSON and CSV, and where something is to be done again a calendar; gives their paths.

    Args:
        open_job: the job.
        folder: made where it is not there.
        tongue: the language; None is as the shop has set.

    Raises:
        StorageError: the folder cannot be written; no file is left half-written.
    """
    from lumtak.report.figures import changes_csv, figures_csv, samples_csv
    from lumtak.report.technician import report_pdf

    tongue = tongue or tongue_of(open_job.data_folder.settings)
    content = content_of(open_job)
    plots: dict[str, Plot] = dict(plots_of(open_job, content, tongue).items())
    plots |= trial_plots(content, tongue)
    sheet = sheet_bytes(open_job, content, tongue)
    documents = {
        "report.pdf": report_pdf(content, list(plots.values()), tongue),
        "sheet.pdf": sheet,
    }
    for kind, plot in plots.items():
        documents |= {f"{kind}.svg": plot.file("svg"), f"{kind}.pdf": plot.file("pdf")}
    documents |= {
        "job.json": json_document(content),
        "figures.csv": figures_csv(content),
        "samples.csv": samples_csv(content),
        "changes.csv": changes_csv(content),
    }
    if due := reminders_of(open_job):
        from lumtak.report.reminders import calendar

        documents["reminders.ics"] = calendar(due, content.written_at)
    if not folder.is_dir():
        with in_sentences(folder):
            folder.mkdir()
    for name, data in documents.items():
        write_whole(folder / name, data)
    paths = [folder / name for name in documents]
    note_written(open_job, folder / "report.pdf", folder / "sheet.pdf", folder / "job.json")
    return paths


def sheet_bytes(open_job: OpenJob, content: Content, tongue: Tongue) -> bytes:
    """The sheet as a PDF that is about to leave the house: its numbers are handed out first.

    Raises:
        StorageError: what was handed out cannot be kept; then there is no sheet either.
    """
    from lumtak.report.sheet import sheet_of
    from lumtak.report.sheet.page import sheet_pdf

    journal, identity = open_job.data_folder.journal, open_job.job.identity
    numbers = {c.number for c in content.changes if c.stands}
    if not numbers <= journal.numbers.on_sheets(identity):
        with journal.writing(identity):
            journal.numbers.hand_out(identity, numbers)
    return sheet_pdf(lambda most: sheet_of(content, tongue, most), tongue.paper)


def note_written(open_job: OpenJob, *paths: Path) -> None:
    """These files hold what is said of the owner."""
    known = dict.fromkeys((*open_job.job.written, *(str(p.absolute()) for p in paths)))
    if not open_job.data_folder.only_looks:
        open_job.keep(written=tuple(known))


def reminders_of(open_job: OpenJob) -> "list[Reminder]":
    """What is set aside is to be emptied, and upkeep comes again."""
    from lumtak.report.reminders import Reminder, of_due

    job = open_job.job
    words = f"{job.computer_name}: empty what was set aside (lumtak empty-aside {job.address})"
    found = [
        Reminder(day=day, name=f"{job.id}-empty-{day}", words=words)
        for day in _days_to_empty(open_job)
    ]
    return found + of_due(due_of(open_job.data_folder, job))


def draw_chart(open_job: OpenJob, kind: ChartKind, form: ChartFormat) -> bytes:
    """One chart of a job as a file's bytes.

    Raises:
        UsageError: the job has not come that far.
    """
    from lumtak.report.charts import chart

    content = content_of(open_job)
    if content.before is None:
        raise UsageError("This job has no baseline yet.", "Take it first: lumtak job baseline JOB.")
    if kind == "disk":
        disk_told(open_job)
    drawn = _drawn(open_job, content, content.before, tongue_of(open_job.data_folder.settings))
    if kind == "bridge" and not drawn.bridges:
        raise UsageError(
            "A bridge needs changes and an after reading.",
            "Apply the plan, then: lumtak job after JOB.",
        )
    return chart(kind, drawn, form)


def trial_plots(content: Content, tongue: Tongue) -> "dict[str, Plot]":
    """A chart of each trial that came to its end, by the name of its file."""
    from lumtak.report.trial_chart import chart_of_trial

    ended = {f"trial-{t.id}": t for t in content.trials if t.state == "done"}
    plots = {name: chart_of_trial(t, tongue) for name, t in ended.items()}
    return {name: plot for name, plot in plots.items() if plot is not None}


def plots_of(open_job: OpenJob, content: Content, tongue: Tongue) -> "dict[ChartKind, Plot]":
    """Every chart for which there is something to draw, by its kind."""
    from lumtak.report.charts import plot

    if content.before is None:
        return {}
    drawn = _drawn(open_job, content, content.before, tongue)
    return {kind: plot(kind, drawn) for kind in drawn.kinds}


def _drawn(open_job: OpenJob, content: Content, before: Reading, tongue: Tongue) -> "Drawn":
    from lumtak.report.charts import Drawn

    disk: dict[str, Strip] = {}
    disk_bytes, grew = 0.0, list[Grown]()
    with contextlib.suppress(UsageError):  # nobody looked through it
        disk, disk_bytes, grew = disk_told(open_job)
    return Drawn(
        before,
        content.after,
        strips=_both_strips(open_job, content),
        ceiling_cpu_pct=content.profile.ceilings.cpu_pct,
        tongue=tongue,
        bridges=bridges_of(open_job) if content.after is not None else (),
        disk=disk,
        disk_bytes=disk_bytes,
        grew=tuple(grew),
    )


def _both_strips(open_job: OpenJob, content: Content) -> dict[str, tuple[Strip, Strip]]:
    """RAM and CPU before and after, cut by the stances that the audit took."""
    job, found = open_job.job, content.audit
    if found is None and content.facts is not None:
        catalogue = open_job.data_folder.catalogue
        found = audit(content.facts, job.profile, catalogue, content.before)
    readings = {"before": content.before, "after": content.after}
    ceilings = job.profile.ceilings
    return {
        name: strips(r, found, ceilings=ceilings) for name, r in readings.items() if r is not None
    }
