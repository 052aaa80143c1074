"""Runs a whole job with every sentence in Lumtak's sources replaced by another, and prints what
does not depend on words.

`python reworded.py plain FOLDER` runs the sources as they are, `python reworded.py other FOLDER`
with other sentences: the same letters, shuffled anew at each place, so that two sentences that were
alike are not alike any more. What both print has to be equal.
"""

import ast
import asyncio
import importlib.abc
import importlib.machinery
import json
import random
import re
import sys
import threading
from pathlib import Path

SOURCES = Path(__file__).parents[1] / "src" / "lumtak"
_NO_SENTENCE = re.compile(
    r"(?s).*\b(?:SELECT|INSERT|UPDATE|DELETE|CREATE|PRAGMA|CONFLICT|VALUES|ORDER BY)\b|\s*[<#\[]"
)
_NO_WORDS = {"owned.py", "session.py", "undo_kit.py", "shell.py", "swap.py", "states.py"}
"""Modules whose texts are for other programs: unit files, shell, parts of exact states."""


def members() -> set[str]:
    """Every member of a Literal type: those are words of the program, not of a sentence."""
    found = set()
    for path in SOURCES.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Subscript) and getattr(node.value, "id", "") == "Literal":
                found |= {n.value for n in ast.walk(node.slice) if isinstance(n, ast.Constant)}
    return found


class Reword(ast.NodeTransformer):
    """Other words in every text that has more than one."""

    def __init__(self, name: str, kept: set[str]) -> None:
        self.name, self.kept = name, kept

    def visit_Call(self, node):
        name = node.func
        return (
            node
            if isinstance(name, ast.Attribute) and getattr(name.value, "id", "") == "re"
            else self.generic_visit(node)
        )

    def visit_JoinedStr(self, node):
        whole = "".join(v.value for v in node.values if isinstance(v, ast.Constant))
        if " " in whole.strip() and not _NO_SENTENCE.match(whole):
            node.values = [
                self.other(v) if isinstance(v, ast.Constant) else self.generic_visit(v)
                for v in node.values
            ]
        return node

    def visit_Expr(self, node):
        return (
            node if isinstance(node.value, ast.Constant) else self.generic_visit(node)
        )  # a docstring

    def visit_Constant(self, node):
        return (
            self.other(node)
            if isinstance(node.value, str) and re.search(r"[a-z] [a-z(]", node.value)
            else node
        )

    def other(self, node):
        if node.value in self.kept or _NO_SENTENCE.match(node.value):
            return node
        dice = random.Random(f"{self.name}:{node.lineno}:{node.col_offset}")
        words = re.sub(
            r"(?<![{\w-])[A-Za-z]{2,}(?![\w}])",
            lambda m: "".join(dice.sample(m[0], len(m[0]))),
            node.value,
        )
        return ast.copy_location(ast.Constant(words), node)


class Loader(importlib.machinery.SourceFileLoader):
    kept: set[str]

    def get_code(self, fullname):
        tree = ast.parse(Path(self.path).read_text(encoding="utf-8"))
        if Path(self.path).name not in _NO_WORDS:
            tree = ast.fix_missing_locations(Reword(fullname, self.kept).visit(tree))
        return compile(tree, self.path, "exec")


class Finder(importlib.abc.MetaPathFinder):
    def find_spec(self, fullname, path, target=None):
        if fullname.partition(".")[0] != "lumtak":
            return None
        spec = importlib.machinery.PathFinder.find_spec(fullname, path)
        if spec is not None and spec.origin and spec.origin.endswith(".py"):
            spec.loader = Loader(fullname, spec.origin)
        return spec


def bones(value):
    """The value with a sign in the place of every text of several words."""
    if isinstance(value, dict):
        return {key if " " not in key else "words": bones(inner) for key, inner in value.items()}
    if isinstance(value, list):
        return [bones(inner) for inner in value]
    return "words" if isinstance(value, str) and re.search(r"\s|^$", value) else value


def work(folder: Path) -> list[object]:
    """A job on the drawing bench, changes taken over, a process that does not end, a quick look,
    and a folder that looks like Linux.
    """
    import msgspec

    from helpers import bench, linux, linux_tree, profile
    from lumtak.core.facts import Space
    from lumtak.core.setting import parse_change, parse_ref
    from lumtak.journal import apply_changes, drift, owed_now, put_back
    from lumtak.work.actions import heavy_processes
    from lumtak.work.audit import choose_all_eased, make_audit
    from lumtak.work.data_folder import DataFolder
    from lumtak.work.handover import content_of
    from lumtak.work.intake import begin_job
    from lumtak.work.plan import carry_out, put_changes_back, restart
    from lumtak.work.proof import after_is_due, read_after, why_provisional
    from lumtak.work.quick import look_in_words, quick_look
    from lumtak.work.reading import read_baseline
    from lumtak.work.sampling import take_reading

    seen: list[object] = []
    shop = DataFolder(folder)
    open_job = begin_job(shop, bench(folder / "simulated"), profile())
    read_baseline(open_job, seconds=20)
    make_audit(open_job)
    choose_all_eased(open_job)
    seen.append(carry_out(open_job))
    seen += [
        open_job.owed(),
        after_is_due(open_job),
        read_after(open_job, seconds=20, at_once=True),
        why_provisional(open_job),
    ]
    restart(open_job)
    seen += [
        open_job.owed(),
        after_is_due(open_job),
        read_after(open_job, seconds=20, at_once=True),
        why_provisional(open_job),
        content_of(open_job),
    ]
    again = [parse_change("memory:swappiness=30")]
    seen.append(
        apply_changes(shop.journal, open_job.computer, open_job.computer.about.facts(), again)
    )
    older = next(e.id for e in open_job.entries() if e.ref == again[0].ref)
    seen += [
        put_back(shop.journal, open_job.computer, [older]),
        open_job.owed(),
        why_provisional(open_job),
        drift(shop.journal, open_job.computer),
    ]
    seen += [
        put_changes_back(open_job),
        open_job.owed(),
        why_provisional(open_job),
        content_of(open_job),
    ]
    for one in heavy_processes(open_job.computer, shop.catalogue)[:12]:
        seen += [one, open_job.end_process(one, "asked", wait_s=0.1) if not one.why_not else ""]
    seen.append(
        [
            row.is_head
            for row in look_in_words(
                quick_look(
                    open_job.computer.about.facts(), take_reading(open_job.computer, seconds=5)
                )
            )
        ]
    )
    box = linux(linux_tree(folder / "tree"))
    off = [parse_change("apps:tide-feed=off"), parse_change("apps:sail-sync=off")]
    here = msgspec.structs.replace(box.about.facts(), space=Space())  # of this machine
    seen += [
        here,
        apply_changes(shop.journal, box, box.about.facts(), off),
        owed_now(shop.journal, box),
    ]
    seen += [
        quick_look(box.about.facts(), take_reading(box, seconds=3)),
        put_back(shop.journal, box),
        box.settings.read(parse_ref("apps:tide-feed")),
    ]
    shop.close()
    return seen


async def screens(folder: Path) -> list[object]:
    """Which buttons can be pressed while the plan is applied and while readings are taken, and what
    a key does meanwhile.
    """
    from textual.widgets import Button

    from helpers import bench, profile
    from lumtak.casebook import STATIONS
    from lumtak.tui.app import LumtakApp
    from lumtak.tui.job_screen import JobScreen
    from lumtak.tui.stations import applying, baseline, proof
    from lumtak.work.data_folder import DataFolder
    from lumtak.work.intake import begin_job

    shop = DataFolder(folder)
    open_job = begin_job(shop, bench(folder / "simulated"), profile())
    seen: list[object] = []
    app = LumtakApp(shop, pace=0.0)
    async with app.run_test(size=(142, 44)) as pilot:
        await app.push_screen(JobScreen(open_job))
        desk = app.screen

        def buttons():
            seen.append(
                [
                    desk.doing,
                    sorted(
                        b.id for b in desk.query(Button) if b.display and b.id and b.region.area
                    ),
                ]
            )

        async def idle():
            while desk.busy:
                await pilot.pause(0.01)
            await pilot.pause()
            buttons()

        async def in_the_middle(station, name, *, press, keys=()):
            """Hold the work back while the screen is looked at, and a key is tried on it."""
            go, work = threading.Event(), getattr(station, name)
            setattr(station, name, lambda *a, **options: go.wait(60) and work(*a, **options))
            next(
                b for b in desk.query(press).results(Button) if b.display and b.region.area
            ).press()
            await pilot.pause()
            await pilot.press(*keys) if keys else None
            await pilot.pause()
            buttons()
            back = STATIONS.index(desk.job.station) + 1
            await pilot.press("3", "a", str(back))
            seen.append(len(open_job.job.chosen))
            go.set()
            await idle()

        await in_the_middle(baseline, "read_baseline", press="#take")
        for key in ("3", "enter", "a", "4"):
            await pilot.press(key)
            await idle()
        await in_the_middle(applying, "carry_out", press="#apply", keys=("right", "enter"))
        await pilot.press("5")
        await idle()
        await in_the_middle(proof, "read_after", press="#take")
        seen += [len(desk.entries), bool(desk.after), desk.provisional, desk.due]
    shop.close()
    return seen


if __name__ == "__main__":
    if sys.argv[1] == "other":
        Loader.kept = members()
        sys.meta_path.insert(0, Finder())
    import msgspec

    place = Path(sys.argv[2])
    found = work(place / "job")
    found += asyncio.run(screens(place / "screens"))
    print(json.dumps(bones(json.loads(msgspec.json.encode(found))), indent=1))
