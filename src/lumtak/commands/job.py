"""Every station of a job without a screen: `lumtak job`."""

from pathlib import Path
from typing import get_args

import click
import msgspec

from lumtak.commands.change import judge, say_outcome
from lumtak.commands.common import (
    ask_first,
    columns,
    json_option,
    progress,
    say_json,
    user_option,
    with_data_folder,
)
from lumtak.commands.look import count, say_audit
from lumtak.commands.owner import job_owner
from lumtak.core.felt import COMPLAINTS, Complaint
from lumtak.core.planner import Goal
from lumtak.core.proof import complaint_in_words
from lumtak.core.setting import parse_ref
from lumtak.core.text import plain
from lumtak.core.units import counted, percent, ram, signed, span
from lumtak.formats.plans import load_plan
from lumtak.work.audit import choose_all_eased, make_audit, toggle
from lumtak.work.data_folder import DataFolder
from lumtak.work.intake import begin_job, choose_program, note_complaint, reopen_job
from lumtak.work.open_job import OpenJob
from lumtak.work.plan import carry_out, plan_of
from lumtak.work.planner import choose_from_file, choose_planned, plan_job
from lumtak.work.proof import note_verdict, proof_of, read_after, same_point_s
from lumtak.work.reading import baselines_of, choose_baseline, read_baseline

_COMPLAINT = click.Choice(list(COMPLAINTS))


@click.group("job")
def job_group() -> None:
    """A job station by station, without a screen.

    \b
    lumtak job start sim:drawing-bench --profile hull-drafting --complaint programs
    lumtak job baseline drawing-bench-1
    lumtak job audit drawing-bench-1
    lumtak job choose drawing-bench-1 --eased
    lumtak job apply drawing-bench-1
    lumtak restart sim:drawing-bench
    lumtak job after drawing-bench-1
    lumtak report drawing-bench-1 --out report
    """


def _reopen(data_folder: DataFolder, job: str) -> OpenJob:
    return reopen_job(data_folder, data_folder.casebook.job(job))


@job_group.command("start")
@click.argument("address", metavar="COMPUTER")
@click.option("--profile", "profile_name", required=True, metavar="NAME|FILE")
@click.option("--complaint", type=_COMPLAINT, help="What its owner came with.")
@click.option("--said", default="", metavar="TEXT", help="The same in the owner's words.")
@user_option
@with_data_folder
def job_start(
    data_folder: DataFolder,
    address: str,
    profile_name: str,
    complaint: Complaint | None,
    said: str,
    user: str | None,
) -> None:
    """Intake: identify COMPUTER and begin a job; prints its name.

    \b
    lumtak job start sim:tool-crib --profile tool-lending --complaint programs
    lumtak job start local --profile writing-and-web --complaint start --said "minutes, each day"
    """
    profile = data_folder.profile(profile_name)
    computer = data_folder.computer(address, user=user)
    open_job = begin_job(data_folder, computer, profile, complaint=complaint or "", told=said)
    open_job.close()
    click.echo(open_job.job.id)


@job_group.command("complaint")
@click.argument("job")
@click.argument("kind", type=_COMPLAINT, required=False)
@click.option("--said", metavar="TEXT", help="The same in the owner's words.")
@with_data_folder
def job_complaint(
    data_folder: DataFolder, job: str, kind: Complaint | None, said: str | None
) -> None:
    """What the owner of JOB's computer came with: it leads proof and report. Without KIND it is
    shown.

    \b
    lumtak job complaint tool-crib-1 programs --said "half a minute to open anything"
    lumtak job complaint tool-crib-1
    """
    open_job = _reopen(data_folder, job)
    if kind is not None or said is not None:
        note_complaint(open_job, open_job.job.complaint if kind is None else kind, said)
    words = complaint_in_words(open_job.job.complaint, open_job.job.told)
    open_job.close()
    click.echo(words or "Nobody asked yet; name one of: " + ", ".join(COMPLAINTS))


job_group.add_command(job_owner)


@job_group.command("program")
@click.argument("job")
@click.argument("path", required=False)
@click.option("--none", "no_more", is_flag=True, help="Start none from now on.")
@click.option("--yes", is_flag=True, help="Agree without being asked.")
@with_data_folder
def job_program(
    data_folder: DataFolder, job: str, path: str | None, *, no_more: bool, yes: bool
) -> None:
    """A large program whose start is timed in the readings of JOB. Without PATH those that can be
    named are listed.

    It has to come from a package, and only root may be able to change it. It is started with
    --version, by the user, twice a minute at most, and nothing else is asked of it.

    \b
    lumtak job program tool-crib-1
    lumtak job program tool-crib-1 /usr/bin/lending-desk
    lumtak job program tool-crib-1 --none
    """
    open_job = _reopen(data_folder, job)
    if no_more:
        choose_program(open_job, "")
    elif path is not None:
        question = f"Start {path} --version twice a minute while readings are taken?"
        if yes or click.confirm(question, default=False):
            choose_program(open_job, path)
    else:
        listed = open_job.computer.about.programs()
        chosen = open_job.job.program
        columns([("◆" if p.path == chosen else "", p.title, p.path) for p in listed])
        if not listed:
            click.echo("No program is known here that could be named.")
    said = open_job.job.program
    open_job.close()
    if no_more or path is not None:
        click.echo(f"Readings time the start of {said}." if said else "Readings start no program.")


@job_group.command("baseline")
@click.argument("job")
@click.option(
    "--seconds",
    type=float,
    help="Length of the window. Default: until the mean is sure, 5 minutes at most.",
)
@click.option(
    "--list", "listing", is_flag=True, help="List the baselines that were taken; nothing is read."
)
@click.option(
    "--use",
    type=int,
    metavar="NUMBER",
    help="Judge and compare by this one of them; nothing is read.",
)
@with_data_folder
def job_baseline(
    data_folder: DataFolder, job: str, seconds: float | None, use: int | None, *, listing: bool
) -> None:
    """Read the load before anything is changed. All baselines are kept; the newest counts, or the
    one that is chosen.

    \b
    lumtak job baseline drawing-bench-1
    lumtak job baseline drawing-bench-1 --list
    lumtak job baseline drawing-bench-1 --use 3
    """
    open_job = _reopen(data_folder, job)
    if use is not None:
        choose_baseline(open_job, use)
    if listing or use is not None:
        rows = [
            (
                "◆" if number == open_job.job.baseline else "",
                str(number),
                reading.taken_at[:16].replace("T", " "),
                f"CPU {percent(reading.mean('cpu_pct'))}",
                f"RAM {ram(reading.mean('ram_used_bytes'))}",
                f"{counted(len(reading.kept), 'sample')}",
            )
            for number, reading in baselines_of(open_job)
        ]
        open_job.close()
        columns(rows)
        return
    reading = read_baseline(open_job, seconds=seconds, on_sample=count)
    progress("")
    open_job.go("audit")
    open_job.close()
    click.echo(f"CPU {percent(reading.mean('cpu_pct'))}, RAM {ram(reading.mean('ram_used_bytes'))}")


@job_group.command("audit")
@click.argument("job")
@with_data_folder
def job_audit(data_folder: DataFolder, job: str) -> None:
    """Weigh and judge every item."""
    open_job = _reopen(data_folder, job)
    say_audit(make_audit(open_job))
    open_job.close()


@job_group.command("choose")
@click.argument("job")
@click.argument("items", nargs=-1, metavar="[AREA:KEY...]")
@click.option("--eased", is_flag=True, help="Everything that the profile does not need.")
@click.option("--planned", "least", is_flag=True, help="The least plan; see `lumtak plan`.")
@click.option(
    "--reach",
    type=click.Choice(get_args(Goal)),
    default="both",
    show_default=True,
    help="Which ceilings the least plan is to reach.",
)
@click.option(
    "--from",
    "plan_path",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE.json",
    help="What of a saved plan may be changed here.",
)
@with_data_folder
def job_choose(
    data_folder: DataFolder,
    job: str,
    items: tuple[str, ...],
    reach: Goal,
    plan_path: Path | None,
    *,
    eased: bool,
    least: bool,
) -> None:
    """Choose items, or take them back; then show the plan.

    \b
    lumtak job choose drawing-bench-1 --planned --reach ram
    lumtak job choose drawing-bench-1 services:fax-bridge
    lumtak job choose drawing-bench-2 --from plan.json
    """
    open_job = _reopen(data_folder, job)
    if open_job.job.audit is None:
        make_audit(open_job)
    if eased:
        choose_all_eased(open_job)
    if least:
        found = plan_job(open_job, reach)
        choose_planned(open_job, found.changes)
        click.echo(found.headline)
    if plan_path is not None:
        for one in choose_from_file(open_job, load_plan(plan_path)):
            if one.why_not:
                click.echo(f"{one.address} is left out: {plain(one.why_not, 400)}")
    for item in items:
        toggle(open_job, parse_ref(item))
    plan = plan_of(open_job)
    open_job.go("plan")
    open_job.close()
    columns(
        [(str(s.change.ref), f"{s.before} → {s.change.value}", s.projected) for s in plan.steps]
    )
    saved, doubt = plan.saves_cpu
    aside = f", {ram(plan.aside_bytes)} of the disk set aside" if plan.aside_bytes else ""
    click.echo(
        f"{len(plan.steps)} chosen, projected {signed(-saved)} ± {doubt:.1f} points of CPU,"
        f" {ram(-plan.saves_ram_bytes)}{aside}"
    )


@job_group.command("apply")
@click.argument("job")
@with_data_folder
def job_apply(data_folder: DataFolder, job: str) -> None:
    """Carry the plan out: before value to the journal, write, read back."""
    open_job = _reopen(data_folder, job)
    ask_first(open_job.computer, (c.ref for c in open_job.job.chosen))
    outcomes = carry_out(open_job, on_step=say_outcome)
    owed = open_job.owed().in_words()
    open_job.go("proof")
    open_job.close()
    if owed:
        click.echo(owed)
    judge(outcomes, "changed")


@job_group.command("after")
@click.argument("job")
@click.option(
    "--seconds",
    type=float,
    help="Length of the window. Default: until the mean is sure, 5 minutes at most.",
)
@click.option(
    "--now",
    is_flag=True,
    help="Do not wait until the computer has been up as long as for the baseline.",
)
@with_data_folder
def job_after(data_folder: DataFolder, job: str, seconds: float | None, *, now: bool) -> None:
    """Read the load again, as long after the restart as the baseline; say whether it changed."""
    open_job = _reopen(data_folder, job)
    if not now and (wait_s := same_point_s(open_job)):
        progress(
            f"waiting {span(wait_s)}, until it has been up as long as for the baseline (--now does"
            " not wait)"
        )
    read_after(open_job, seconds=seconds, on_sample=count, at_once=now)
    progress("")
    open_job.go("proof")
    _say_proof(open_job)
    open_job.close()


@job_group.command("proof")
@click.argument("job")
@json_option
@with_data_folder
def job_proof(data_folder: DataFolder, job: str, *, as_json: bool) -> None:
    """What the readings of JOB say: the complaint first, then load, ceilings, what holds it back.

    \b
    lumtak job proof tool-crib-1
    lumtak job proof tool-crib-1 --json
    """
    open_job = _reopen(data_folder, job)
    if as_json:
        say_json(proof_of(open_job))
    else:
        _say_proof(open_job)
    open_job.close()


def _say_proof(open_job: OpenJob) -> None:
    proof = proof_of(open_job)
    note_verdict(open_job, proof)
    click.echo(proof.headline)
    if words := complaint_in_words(proof.complaint, proof.told):
        click.echo(f"The complaint was: {words}")
    for said in proof.claims:
        click.echo(said)


@job_group.command("archive")
@click.argument("job")
@click.option("--take-out", is_flag=True, help="Out of the archive again.")
@with_data_folder
def job_archive(data_folder: DataFolder, job: str, *, take_out: bool) -> None:
    """Put JOB away: `lumtak jobs` and the bench do not list it then; nothing of it is lost.

    \b
    lumtak job archive drawing-bench-1
    lumtak job archive drawing-bench-1 --take-out
    """
    found = data_folder.casebook.job(job)
    data_folder.casebook.save(msgspec.structs.replace(found, archived=not take_out))
    click.echo(f"{job} is {'out of' if take_out else 'in'} the archive.")
