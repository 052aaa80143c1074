"""A whole job without a screen, on a simulated computer.

Baseline, audit, plan, apply, restart, proof, put back.
"""

import tempfile
from collections.abc import Callable
from pathlib import Path

from lumtak.core.compare import Comparison
from lumtak.core.units import counted, percent, ram, signed
from lumtak.errors import ConflictError
from lumtak.report.content import headline, sentences
from lumtak.work.handover import write_report
from lumtak.work.visit import Visit
from lumtak.work.workshop import Workshop

COMPUTER, PROFILE = "sim:drawing-bench", "hull-drafting"


def run_example(out: Path, seed: int, say: Callable[[str], None]) -> tuple[Comparison, ...]:
    """Do the job and write its report to `out`.

    Everything else is kept in a folder that is gone afterwards.

    Args:
        out: for report.pdf, load.svg and job.json. The same seed gives the same bytes.
        seed: of the simulated computer.
        say: takes each line of the story.

    Raises:
        ConflictError: a change could not be applied or put back.
    """
    with tempfile.TemporaryDirectory(prefix="lumtak-example-") as home:
        workshop = Workshop(Path(home))
        visit = Visit.start(
            workshop, workshop.computer(COMPUTER, seed=seed), workshop.profile(PROFILE)
        )
        try:
            return _job(visit, out, say)
        finally:
            workshop.close()


def _job(visit: Visit, out: Path, say: Callable[[str], None]) -> tuple[Comparison, ...]:
    computer = visit.computer
    say(
        f"Intake    {computer.name}, used for {visit.job.profile.title.lower()}; restarted, so that"
        " both readings begin alike"
    )
    visit.restart()
    before = visit.read_baseline()
    say(
        f"Baseline  CPU {percent(before.mean('cpu_pct'))}, RAM {ram(before.mean('ram_used_bytes'))}"
        f" of {ram(before.ram_total_bytes)}"
    )
    found = visit.make_audit()
    say(f"Audit     {found.headline}")
    visit.choose_all_eased()
    plan = visit.make_plan()
    saved, doubt = plan.saves_cpu
    say(
        f"Plan      {counted(len(plan.steps), 'change')}, projected {signed(-saved)} ± {doubt:.1f}"
        f" points of CPU, {ram(-plan.saves_ram_bytes)}; {len(plan.unprojected)} not projected"
    )
    outcomes = visit.apply()
    done = sum(o.result == "done" for o in outcomes)
    say(
        f"Apply     {done} of {len(outcomes)} written and read back;"
        f" {visit.owed().in_words() or 'nothing owed'}"
    )
    visit.restart()
    say(f"Restart   {visit.owed().in_words() or 'nothing owed any more'}")
    after = visit.read_after()
    results = visit.comparisons()
    say(f"Proof     CPU {percent(after.mean('cpu_pct'))}, RAM {ram(after.mean('ram_used_bytes'))}")
    say(f"          {headline(results, visit.provisional(), visit.pace())}")
    for said in sentences(results[:2], visit.pace()):
        say(f"          {said}")
    files = write_report(visit, out)
    say(f"Handover  wrote {', '.join(str(f) for f in files)}")
    back = visit.put_back()
    restored = sum(o.result == "done" for o in back)
    say(f"Put back  {restored} of {len(back)} as they were before the job")
    if done != len(outcomes) or restored != len(back):
        raise ConflictError(
            "Not every change of the example could be applied and put back.", "See the lines above."
        )
    return results
