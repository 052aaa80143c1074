"""The command that plans: the least disruption that reaches the ceilings, and what steps buy."""

import time
from pathlib import Path
from typing import get_args

import click

from lumtak.commands.common import columns, json_option, progress, say_json, with_data_folder
from lumtak.commands.look import count
from lumtak.core.audit import Audit
from lumtak.core.facts import Facts
from lumtak.core.planner import Goal, Planned, Point, Problem, frontier, planned
from lumtak.core.profile import Profile
from lumtak.core.suggest import suggest
from lumtak.core.text import plain
from lumtak.core.units import counted, ram, signed
from lumtak.errors import UsageError
from lumtak.formats.plans import load_plan, plan_file, to_json
from lumtak.storage import write_whole
from lumtak.work.data_folder import DataFolder
from lumtak.work.intake import reopen_job
from lumtak.work.planner import Judged, judge_file, look_and_plan, problem_for

_SECONDS = 300.0
_GOALS = click.Choice(get_args(Goal))


@click.command("plan")
@click.argument("target", metavar="COMPUTER|JOB")
@click.option("--profile", "profile_name", metavar="NAME|FILE", help="Default: the one that fits.")
@click.option("--reach", type=_GOALS, default="both", show_default=True, help="Which ceilings.")
@click.option(
    "--confidence",
    type=click.FloatRange(0.5, 0.9999),
    help="With which each ceiling is to be kept. Default: as the settings have it.",
)
@click.option("--frontier", "shows_frontier", is_flag=True, help="What each further step buys.")
@click.option(
    "--seconds",
    type=click.FloatRange(5, 3600),
    default=_SECONDS,
    show_default=True,
    help="How long COMPUTER is read; a job has its reading.",
)
@click.option("--save", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE.json")
@click.option(
    "--check",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE.json",
    help="Hold a saved plan against COMPUTER or JOB: nothing is planned.",
)
@json_option
@with_data_folder
def plan_command(
    data_folder: DataFolder,
    target: str,
    profile_name: str | None,
    reach: Goal,
    confidence: float | None,
    seconds: float,
    save: Path | None,
    check: Path | None,
    *,
    shows_frontier: bool,
    as_json: bool,
) -> None:
    """The least that has to be changed to bring COMPUTER, or that of JOB, under its ceilings; what
    cannot be reached, and what would close the gap. Nothing is touched.

    \b
    lumtak plan sim:drawing-bench --reach ram
    lumtak plan drawing-bench-1 --frontier
    lumtak plan sim:drawing-bench --save plan.json
    lumtak plan sim:tool-crib --check plan.json
    lumtak job choose drawing-bench-1 --planned
    """
    looked = _Looked(data_folder, target, profile_name, seconds)
    sure = data_folder.settings.confidence if confidence is None else confidence
    if check is not None:
        judged = judge_file(load_plan(check), looked.facts, looked.audit)
        _say_judged(judged, as_json=as_json)
        return
    if shows_frontier:
        points = frontier(looked.problem, clock=time.perf_counter)
        _say_frontier(looked, points, as_json=as_json)
        return
    found = planned(
        looked.problem,
        reach,
        confidence=sure,
        bottleneck=looked.audit.bottleneck,
        clock=time.perf_counter,
    )
    document = plan_file(
        found,
        computer=looked.facts.address,
        identity=looked.facts.identity,
        profile=looked.profile.name,
    )
    if save is not None:
        write_whole(save, to_json(document))
    if as_json:
        say_json(document)
        return
    click.echo(f"By the profile {looked.profile.name}, sure to {100 * sure:g} %:")
    _say_plan(found)
    if save is not None:
        click.echo(f"Written: {save}")


class _Looked:
    """What is planned for: a job as it stands, or a computer that is read now."""

    def __init__(
        self, data_folder: DataFolder, target: str, profile_name: str | None, seconds: float
    ) -> None:
        if any(job.id == target for job in data_folder.casebook.jobs()):
            self._of_a_job(data_folder, target, profile_name)
            return
        facts, reading = data_folder.look(target, seconds=seconds, on_sample=count)
        progress("")
        if reading is None:
            raise UsageError(
                f"{target} holds no reading, so nothing is weighed.", "Take it with one."
            )
        self.facts: Facts = facts
        self.profile: Profile = (
            data_folder.profile(profile_name) if profile_name else _fitting(data_folder, facts)
        )
        self.audit: Audit
        self.problem: Problem
        self.audit, self.problem = look_and_plan(data_folder, facts, self.profile, reading)

    def _of_a_job(self, data_folder: DataFolder, target: str, profile_name: str | None) -> None:
        if profile_name:
            raise UsageError("A job has its profile.", "Leave --profile out.")
        open_job = reopen_job(data_folder, data_folder.casebook.job(target))
        try:
            self.problem = problem_for(open_job)
        finally:
            open_job.close()
        job = open_job.job
        if job.facts is None or job.audit is None:
            raise UsageError("A plan needs an audit.", "Make it first: lumtak job audit JOB.")
        self.facts, self.audit, self.profile = job.facts, job.audit, job.profile


def _fitting(data_folder: DataFolder, facts: Facts) -> Profile:
    """The profile that fits what a computer runs."""
    profiles = data_folder.profiles()
    best = suggest(facts, profiles.values(), data_folder.catalogue)[0]
    return profiles[best.profile]


def _say_plan(found: Planned) -> None:
    click.echo(found.headline)
    columns(
        [
            (
                c.address,
                c.change,
                f"{c.words} ({c.disruption})",
                c.saves,
            )
            for c in found.changes
        ]
    )
    if found.owed != "now":
        click.echo(f"Afterwards a {'new login' if found.owed == 'login' else 'restart'} is needed.")
    for reach in found.reaches:
        click.echo(reach.words)
    if found.answers:
        end = "would reach it" if found.closes else "would come nearer"
        click.echo(f"If the owner does not need {', '.join(found.answers)}, that {end}.")
    if found.unprojected:
        click.echo(f"May help too, by how much nothing tells: {', '.join(found.unprojected)}.")
    if found.lasting:
        click.echo(found.lasting)


def _say_frontier(looked: _Looked, points: tuple[Point, ...], *, as_json: bool) -> None:
    choices = looked.problem.choices
    if as_json:
        say_json(
            {
                "format": 1,
                "computer": looked.facts.address,
                "profile": looked.profile.name,
                "points": [
                    {
                        "disruption": p.disruption,
                        "changes": [choices[i].address for i in p.chosen],
                        "gone": [choices[i].address for i in p.gone],
                        "cpu_pct": p.cpu_pct,
                        "ram_bytes": p.ram_bytes,
                        "shortfall": p.shortfall,
                        "proven": p.proven,
                    }
                    for p in points
                ],
            }
        )
        return
    rows = [("disruption", "changes", "CPU", "RAM", "over by", "new", "without")]
    before: set[int] = set()
    for point in points:
        new = ", ".join(choices[i].title for i in point.chosen if i not in before)
        gone = ", ".join(choices[i].title for i in point.gone)
        over = f"{signed(100 * point.shortfall, 0, plus=False)} %" if point.shortfall else "kept"
        rows.append(
            (
                str(point.disruption),
                str(len(point.chosen)),
                f"{point.cpu_pct:.1f} %",
                ram(point.ram_bytes),
                over,
                plain(new or "nothing", 100),
                plain(gone, 60),
            )
        )
        before = set(point.chosen)
    columns(rows)


def _say_judged(judged: tuple[Judged, ...], *, as_json: bool) -> None:
    if as_json:
        say_json({"format": 1, "changes": judged})
        return
    for one in judged:
        said = one.why_not or f"can be chosen{f' ({one.note})' if one.note else ''}"
        click.echo(f"{one.address}={one.to or 'unset'}: {plain(said, 400)}")
    may = sum(not one.why_not for one in judged)
    click.echo(f"{may} of {counted(len(judged), 'change')} can be chosen here.")
