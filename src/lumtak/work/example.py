"""A whole job without a screen, on a simulated computer.

Baseline, audit, plan, apply, restart, proof, put back.
"""

import tempfile
from collections.abc import Callable
from pathlib import Path

from lumtak.computers.simulated.heads import FIRST, head_of
from lumtak.core.compare import Comparison
from lumtak.core.settings import Settings, Shop
from lumtak.core.units import counted, percent, ram, signed
from lumtak.errors import ConflictError
from lumtak.work.audit import choose_all_eased, make_audit
from lumtak.work.data_folder import DataFolder
from lumtak.work.handover import write_report
from lumtak.work.intake import begin_job
from lumtak.work.open_job import OpenJob
from lumtak.work.owner import note_owner
from lumtak.work.plan import carry_out, plan_of, put_changes_back, restart
from lumtak.work.proof import proof_of, read_after
from lumtak.work.reading import read_baseline

SHOP = Shop(
    name="Slipway Repairs",
    address="Boathouse 3, 4 Caulker's Lane, Oakhaven",
    phone="0100 555 014",
)
"""Made up, like all that the example is about."""


def run_example(
    out: Path, seed: int, say: Callable[[str], None], scenario: str = FIRST, language: str = ""
) -> tuple[Comparison, ...]:
    """Do the job and write what is handed over to `out`.

    Everything else is kept in a folder that is gone afterwards.

    Args:
        out: for sheet, report, charts and data. The same seed gives the same bytes.
        seed: of the simulated computer.
        say: takes each line of the story.
        scenario: the simulated computer.
        language: of sheet and report, as in LANG; empty is the environment's.

    Raises:
        UnknownNameError: there is no such scenario; ConflictError: a change could not be applied or
            put back.
    """
    head = head_of(scenario)
    with tempfile.TemporaryDirectory(prefix="lumtak-example-") as home:
        data_folder = DataFolder(Path(home))
        data_folder.keep_settings(Settings(shop=SHOP, language=language))
        open_job = begin_job(
            data_folder,
            data_folder.computer(f"sim:{scenario}", seed=seed),
            data_folder.profile(head.profile),
            complaint=head.complaint,
            told=head.told,
        )
        note_owner(open_job, name=f"Workshop of the {head.title.lower()}", contact="extension 12")
        try:
            return _job(open_job, out, say)
        finally:
            data_folder.close()


def _job(open_job: OpenJob, out: Path, say: Callable[[str], None]) -> tuple[Comparison, ...]:
    computer = open_job.computer
    say(
        f"Intake    {computer.name}, used for {open_job.job.profile.title.lower()}; restarted, so"
        " that both readings begin alike"
    )
    restart(open_job)
    before = read_baseline(open_job)
    say(
        f"Baseline  CPU {percent(before.mean('cpu_pct'))}, RAM {ram(before.mean('ram_used_bytes'))}"
        f" of {ram(before.ram_total_bytes)}"
    )
    found = make_audit(open_job)
    say(f"Audit     {found.headline}")
    choose_all_eased(open_job)
    if not open_job.job.chosen:
        say("Plan      nothing is changed")
        return _handed_over(open_job, out, say)
    plan = plan_of(open_job)
    saved, doubt = plan.saves_cpu
    say(
        f"Plan      {counted(len(plan.steps), 'change')}, projected {signed(-saved)} ± {doubt:.1f}"
        f" points of CPU, {ram(-plan.saves_ram_bytes)}; {len(plan.unprojected)} not projected"
    )
    outcomes = carry_out(open_job)
    done = sum(o.result == "done" for o in outcomes)
    say(
        f"Apply     {done} of {len(outcomes)} written and read back;"
        f" {open_job.owed().in_words() or 'nothing more is needed'}"
    )
    restart(open_job)
    say(f"Restart   {open_job.owed().in_words() or 'nothing more is needed'}")
    after = read_after(open_job)
    proof = proof_of(open_job)
    say(f"Proof     CPU {percent(after.mean('cpu_pct'))}, RAM {ram(after.mean('ram_used_bytes'))}")
    say(f"          {proof.headline}")
    for said in proof.claims:
        say(f"          {said}")
    _handed_over(open_job, out, say)
    back = put_changes_back(open_job)
    restored = sum(o.result == "done" for o in back)
    say(f"Put back  {restored} of {len(back)} as they were before the job")
    if done != len(outcomes) or restored != len(back):
        raise ConflictError(
            "Not every change of the example could be applied and put back.", "See the lines above."
        )
    return proof.comparisons


def _handed_over(
    open_job: OpenJob, out: Path, say: Callable[[str], None]
) -> tuple[Comparison, ...]:
    files = write_report(open_job, out)
    say(f"Handover  wrote {', '.join(f.name for f in files)} to {out}")
    return ()
