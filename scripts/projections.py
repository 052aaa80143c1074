"""How often the interval of a plan's projection holds what is measured afterwards.

Plans of every simulated computer are carried out on many seeds: `make projections`.
"""

import argparse
import tempfile
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

from lumtak.computers.simulated.heads import fleet
from lumtak.computers.simulated.spec import load_spec
from lumtak.core.planner import planned
from lumtak.work.audit import make_audit
from lumtak.work.data_folder import DataFolder
from lumtak.work.intake import begin_job
from lumtak.work.plan import carry_out, restart
from lumtak.work.planner import choose_places, problem_for
from lumtak.work.proof import read_after
from lumtak.work.reading import read_baseline

SEEDS = 50


def carried_out(name, seed):
    """[(quantity, projected change, half of its interval, measured change)].

    Nothing where there is nothing to change.
    """
    with tempfile.TemporaryDirectory() as folder:
        data_folder = DataFolder(Path(folder))
        computer = data_folder.computer(f"sim:{name}", seed=seed)
        open_job = begin_job(data_folder, computer, data_folder.profile(load_spec(name).profile))
        try:
            restart(open_job)
            before = read_baseline(open_job)
            make_audit(open_job)
            problem = problem_for(open_job)
            plan = planned(problem)
            if not plan.changes:
                return []
            choose_places(open_job, problem, plan.chosen)
            carry_out(open_job)
            restart(open_job)
            after = read_after(open_job)
        finally:
            data_folder.close()
    columns = {"cpu": "cpu_pct", "ram": "ram_used_bytes"}
    return [
        (
            reach.quantity,
            reach.planned - reach.now,
            reach.half,
            after.mean(columns[reach.quantity]) - before.mean(columns[reach.quantity]),
        )
        for reach in plan.reaches
    ]


def main():
    """One computer a row."""
    parser = argparse.ArgumentParser(description=main.__doc__)
    parser.add_argument("seeds", nargs="?", type=int, default=SEEDS, help="how many (%(default)s)")
    parser.add_argument("computers", nargs="*", metavar="COMPUTER", choices=[[], *fleet()])
    asked = parser.parse_args()
    seeds = range(1, asked.seeds + 1)
    print(f"| computer | plans | CPU held | RAM held | mean error CPU, RAM |\n|{'---|' * 5}")
    held = {"cpu": [], "ram": []}
    with ProcessPoolExecutor() as pool:
        for name in asked.computers or fleet():
            found = [run for run in pool.map(partial(carried_out, name), seeds) if run]
            cells = [name, str(len(found))]
            errors = []
            for number, quantity in enumerate(("cpu", "ram")):
                mine = [run[number] for run in found]
                inside = [abs(got - told) <= half for _, told, half, got in mine]
                held[quantity] += inside
                cells.append(f"{100 * sum(inside) / len(inside):.0f} %" if inside else "no plan")
                errors += [sum(got - told for _, told, _, got in mine) / max(1, len(mine))]
            cells.append(f"{errors[0]:+.2f} points, {errors[1] / 2**20:+.0f} MiB")
            print("| " + " | ".join(cells) + " |", flush=True)
    whole = [f"{q.upper()} {100 * sum(h) / len(h):.1f} %" for q, h in held.items()]
    print(f"All: {', '.join(whole)}; chart-room has nothing to change.")


if __name__ == "__main__":
    main()
