"""Small mistakes put into the heart, one at a time, and whether a test notices: `make mutants`.

A seeded choice of mutations of the modules below, each in a process of its own where only the
changed module is compiled differently: no file is touched. First the tests run on the code as it
is, so that a test that always fails cannot pass for one that notices. What nobody notices is
printed with its place; what cannot make a difference is in EQUAL with the reason.
"""

import argparse
import ast
import contextlib
import copy
import hashlib
import importlib
import importlib.abc
import importlib.util
import os
import signal
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from types import ModuleType
from typing import NamedTuple

ROOT = Path(__file__).resolve().parents[1]
TESTS = {
    "journal/migrate": "migrate losses",
    "journal": "through_journal journal losses",
    "computers/linux/clock_plan": "linux_settings contract",
    "computers/linux/profile_plan": "linux_settings contract",
    "computers/linux/swap": "linux_settings through_journal",
    "computers/linux/memory_settings": "linux_settings through_journal",
    "computers/linux/clocks": "linux_settings contract",
    "computers/linux/effect_files": "linux_settings through_journal",
    "computers/linux/effect_channels": "linux_settings migrate",
    "computers/linux/desktop": "desktops through_journal linux_settings",
    "computers/linux/in_force": "desktops",
    "computers/linux/services": "through_journal linux_reading linux_settings",
    "computers/linux/units": "through_journal linux_reading linux_settings",
    "computers/linux/user_units": "linux_apps through_journal",
    "computers/linux/sandboxes": "linux_apps through_journal",
    "computers/linux/effects": "through_journal hostile",
    "computers/linux/autostart": "linux_files linux_apps through_journal",
    "computers/linux/folder": "linux_files hostile",
    "computers/linux": "through_journal hostile linux_settings",
    "computers/hands/sent/root": "root_reach undo_script through_journal linux_settings",
    "computers/hands/sent/units": "root_reach linux_reading through_journal linux_settings",
    "computers/hands/sent/states": "states setting root_reach linux_settings hostile migrate",
    "computers/hands/sent/clutter": "clutter clutter_journal owned root_reach",
    "computers/hands/sent/files": "hands clutter clutter_journal root_reach passing hostile",
    "computers/hands/sent/storing": "root_reach clutter clutter_journal owned",
    "computers/hands/sent/removing": "upkeep_acts root_reach owned",
    "computers/hands/sent/system": "upkeep upkeep_acts root_reach linux_reading",
    "computers/hands/sent/checking": "upkeep passing",
    "computers/hands/sent/desktop": "desktops linux_settings",
    "computers/hands/sent/running": "felt hands linux_settings",
    "computers/hands/sent/script": "undo_script clutter_journal watch",
    "computers/hands/sent/lookout": "watch",
    "computers/hands": "hands root_reach linux_files linux_settings through_journal",
    "core/setting": "setting audit_plan through_journal",
    "core/compare": "compare",
    "core/wander": "compare",
    "core/attribution": "charts",
    "core/means": "compare load",
    "core/plan": "audit_plan knowledge",
    "core/audit": "audit_plan sift knowledge",
}
"""Which tests look after which modules, by the beginning of the module's path; fast ones first."""
_TREE = ROOT / "src/lumtak"
_NO_MISTAKE_COUNTS = {"__init__", "guards_data", "clutter_data", "desktop_data", "operations_asked"}
HANDS = tuple(
    str(file.relative_to(_TREE).with_suffix(""))
    for file in sorted((_TREE / "computers/hands").rglob("*.py"))
    if file.stem not in _NO_MISTAKE_COUNTS
)
"""All that acts on a real computer, but for what is made from other files."""
MODULES = (
    "journal/apply", "journal/putback", "journal/recover", "journal/drift", "journal/owed",
    "journal/migrate",
    "computers/linux/services", "computers/linux/swap", "computers/linux/units",
    "computers/linux/user_units",
    "computers/linux/effects", "computers/linux/effect_files", "computers/linux/effect_channels",
    "computers/linux/desktop", "computers/linux/in_force", "computers/linux/autostart",
    "computers/linux/folder",
    "computers/linux/memory_settings", "computers/linux/profile_plan", "computers/linux/clock_plan",
    "computers/linux/clocks", "computers/linux/sandboxes", "computers/linux/settings",
    "computers/linux/adapter",
    *HANDS, "core/setting", "core/compare", "core/wander",
    "core/attribution",
    "core/means", "core/plan", "core/audit",
)  # fmt: skip
EQUAL: dict[tuple[str, str], str] = {
    (
        "computers/linux/profile_plan",
        "4.0  ->  5.0",
    ): "how long a service may take to answer; no test waits so long",
    ("computers/linux/sandboxes", "8.0  ->  9.0"): "the same",
    ("core/plan", "2  ->  3"): "of three ranks the highest stays the highest",
    (
        "core/audit",
        "reading is None or found is None  ->  reading is None and found is None",
    ): "without a reading there is no bottleneck",
    (
        "core/compare",
        (
            "min(spread_a.effective, spread_b.effective) < BATCHES  ->  min(spread_a.effective,"
            " spread_b.effective) <= BATCHES"
        ),
    ): "worth six samples to the last digit is not what comes out of such figures",
    (
        "journal/apply",
        "0.2  ->  1.2",
    ): "how long a pause waits between two looks; no test asserts a time",
    ("journal/apply", "0  ->  1"): "numbers of records that the journal gives itself",
}
"""(module, mutation as printed without its line number) -> why no test can notice."""
SEED, COUNT = 20, 240
LIMIT_S = 90
_COMPARED = {
    ast.Eq: ast.NotEq, ast.NotEq: ast.Eq, ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE,
    ast.GtE: ast.Gt,
    ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is,
}  # fmt: skip
_RECKONED = {
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Div, ast.Div: ast.Mult, ast.BitOr: ast.BitAnd,
    ast.BitAnd: ast.BitOr,
    ast.FloorDiv: ast.Mult, ast.Mod: ast.Mult,
}  # fmt: skip


class Mutant(NamedTuple):
    """One small mistake.

    The number of a node in the order of ast.walk, and what it is changed into.
    """

    module: str
    node: int
    way: int
    line: int
    words: str


def ways(node: ast.AST) -> Iterator[ast.AST]:
    """What a node can be changed into."""
    fresh = copy.deepcopy(node)
    match fresh:
        case ast.Expr(value=ast.Call()) | ast.Raise() | ast.Continue() | ast.AugAssign():
            yield ast.copy_location(ast.Pass(), fresh)
        case ast.Constant():
            yield from _other_constants(fresh)
        case ast.Set() if len(fresh.elts) > 1:
            for n in range(len(fresh.elts)):
                yield ast.copy_location(ast.Set(fresh.elts[:n] + fresh.elts[n + 1 :]), fresh)
        case ast.UnaryOp(op=ast.Not()):
            yield fresh.operand
        case ast.IfExp():
            fresh.body, fresh.orelse = fresh.orelse, fresh.body
            yield fresh
        case _:
            yield from _other_operators(fresh)


def _other_constants(node: ast.Constant) -> Iterator[ast.AST]:
    if isinstance(node.value, bool):
        yield ast.copy_location(ast.Constant(not node.value), node)
    elif isinstance(node.value, int | float):
        yield ast.copy_location(ast.Constant(node.value + 1), node)


def _other_operators(fresh: ast.AST) -> Iterator[ast.AST]:
    match fresh:
        case ast.Compare(ops=[one]) if type(one) in _COMPARED:
            fresh.ops = [_COMPARED[type(one)]()]
            yield fresh
        case ast.BoolOp():
            fresh.op = ast.Or() if isinstance(fresh.op, ast.And) else ast.And()
            yield fresh
        case ast.BinOp() if type(fresh.op) in _RECKONED and not _is_text(fresh):
            fresh.op = _RECKONED[type(fresh.op)]()
            yield fresh


def _is_text(node: ast.BinOp) -> bool:
    return any(isinstance(side, ast.JoinedStr | ast.Constant) and not isinstance(getattr(side,
    "value", 0), int | float)
               for side in (node.left, node.right))  # fmt: skip


def _looked_at(tree: ast.Module) -> set[int]:
    """Numbers of the nodes whose change counts: no annotations, messages, or words for people."""
    passed: set[int] = set()
    for node in ast.walk(tree):
        parts: list[ast.AST | None] = []
        match node:
            case ast.AnnAssign() | ast.arg():
                parts = [node.annotation]
            case ast.FunctionDef():
                parts = [node.returns, *node.decorator_list]
            case ast.Raise():
                parts = [node.exc]
            case ast.Assign(targets=[ast.Name(id=name)]) if "MOST" in name or "LONGEST" in name:
                parts = [node.value]  # a budget: no test makes so much
            case ast.keyword(arg="strict"):
                parts = [node.value]  # both are as long, always
            case ast.JoinedStr():
                parts = [node]
            case ast.Call(func=ast.Attribute(attr="Pattern") | ast.Name(id="plain")):
                parts = [a for a in node.args if isinstance(a, ast.Constant)]
            case ast.keyword(arg="note" | "needed" | "reason" | "title" | "started_by"):
                parts = [node.value]
        passed |= {id(n) for part in parts if part is not None for n in ast.walk(part)}
    return {n for n, node in enumerate(ast.walk(tree)) if id(node) not in passed}


def mutants_of(module: str) -> list[Mutant]:
    """Every mutation of one module."""
    tree = ast.parse((ROOT / f"src/lumtak/{module}.py").read_text())
    counted = _looked_at(tree)
    found = []
    for number, node in enumerate(ast.walk(tree)):
        if number in counted:
            for way, fresh in enumerate(ways(node)):
                words = f"{ast.unparse(node)}  ->  {ast.unparse(fresh)}".replace("\n", " ")
                found.append(Mutant(module, number, way, getattr(node, "lineno", 0), words[:200]))
    return found


def compiled(mutant: Mutant) -> ast.Module:
    """The module with the mistake in it."""
    tree = ast.parse((ROOT / f"src/lumtak/{mutant.module}.py").read_text())
    old = list(ast.walk(tree))[mutant.node]
    new = ast.copy_location(list(ways(old))[mutant.way], old)

    class Exchange(ast.NodeTransformer):
        def visit(self, node: ast.AST) -> ast.AST:
            return new if node is old else self.generic_visit(node)

    return ast.fix_missing_locations(Exchange().visit(tree))


class Finder(importlib.abc.MetaPathFinder, importlib.abc.Loader):
    """Imports the changed module in place of the one on the disk."""

    def __init__(self, mutant: Mutant) -> None:
        self._mutant = mutant
        self._name = f"lumtak.{mutant.module.replace('/', '.')}"
        self._path = str(ROOT / f"src/lumtak/{mutant.module}.py")

    def find_spec(self, name: str, *_: object) -> object:
        """Only that one."""
        return (
            importlib.util.spec_from_file_location(name, self._path, loader=self)
            if name == self._name
            else None
        )

    def exec_module(self, module: ModuleType) -> None:
        """With the mistake."""
        exec(compile(compiled(self._mutant), self._path, "exec"), module.__dict__)  # noqa: S102 - that is what it is for


def _lot(seed: int, mutant: Mutant) -> bytes:
    """What decides whether it is chosen.

    The same for the same mistake, whatever changes elsewhere.
    """
    return hashlib.sha256(f"{seed} {mutant.module} {mutant.way} {mutant.words}".encode()).digest()


def tests_of(module: str) -> list[str]:
    """The files of tests that look after a module."""
    return next(names for start, names in TESTS.items() if module.startswith(start)).split()


def _test(names: list[str], mutant: Mutant | None) -> int:
    """In a process of its own: what pytest ends with on these files of tests."""
    quiet = os.open(os.devnull, os.O_RDWR)
    for stream in (0, 1, 2):
        os.dup2(quiet, stream)
    os.setsid()
    import pytest

    if mutant is not None:
        sys.meta_path.insert(0, Finder(mutant))
    with tempfile.TemporaryDirectory() as folder:
        os.environ["HYPOTHESIS_STORAGE_DIRECTORY"] = folder
        ended = 0
        options = ["-x", "-W", "ignore", "-p", "no:cacheprovider", "-m", "not terminal and not lab"]
        # One file after the other: most mistakes are noticed by the first, and the others need not
        # be read.
        for name in names:
            file = str(ROOT / f"tests/test_{name}.py")
            ended = ended or int(pytest.main([*options, f"--basetemp={folder}/t", file]))
        return ended


class Running(NamedTuple):
    """One process that tests one mutant."""

    mutant: Mutant | None
    names: list[str]
    began: float


def _begin(names: list[str], mutant: Mutant | None) -> tuple[int, Running]:
    child = os.fork()
    if not child:
        ended = 70  # no pytest result: the mistake was noticed before anything could be tested
        with contextlib.suppress(BaseException):
            ended = _test(names, mutant)
        os._exit(ended)
    return child, Running(mutant, names, time.monotonic())


def run(wanted: list[tuple[list[str], Mutant | None]]) -> Iterator[tuple[Running, bool]]:
    """(what was tested, whether all tests passed) of each, as many at once as processors."""
    todo, running = list(reversed(wanted)), dict[int, Running]()
    while todo or running:
        while todo and len(running) < (os.cpu_count() or 1):
            child, about = _begin(*todo.pop())
            running[child] = about
        ended, status = os.waitpid(-1, os.WNOHANG)
        if ended:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(ended, signal.SIGKILL)  # whatever it left running
            yield running.pop(ended), os.waitstatus_to_exitcode(status) == 0
            continue
        for child, about in running.items():
            if time.monotonic() - about.began > LIMIT_S:
                os.kill(child, signal.SIGKILL)
        time.sleep(0.05)


def main() -> int:
    """Try them; 1 when one was not noticed, 2 when the tests fail on the code as it is."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--seed", type=int, default=SEED, help=f"of the choice ({SEED})")
    parser.add_argument(
        "--count", type=int, default=COUNT, help=f"how many ({COUNT}); 0 for all there are"
    )
    parser.add_argument(
        "--only", action="append", default=[], metavar="MODULE", help="such as journal/recover"
    )
    asked = parser.parse_args()
    began = time.monotonic()
    modules = asked.only or list(MODULES)
    for name in (
        "click",
        "hypothesis",
        "hypothesis.strategies",
        "msgspec",
        "numpy",
        "pytest",
        "scipy.special",
    ):
        importlib.import_module(name)  # once, for all processes

    found = [m for name in modules for m in mutants_of(name) if (name, m.words) not in EQUAL]
    chosen = sorted(found, key=lambda m: _lot(asked.seed, m))[: asked.count or len(found)]
    every = list(dict.fromkeys(test for name in modules for test in tests_of(name)))
    wrong = [
        about.names[0] for about, passed in run([([test], None) for test in every]) if not passed
    ]
    if wrong:
        print(
            f"The tests {', '.join(wrong)} fail on the code as it is, so they can tell nothing:"
            " mend those first."
        )
        return 2
    print(
        f"{len(chosen)} of {len(found)} mutations of {len(modules)} modules, seed {asked.seed}",
        flush=True,
    )
    survivors = 0
    for number, (about, passed) in enumerate(
        run([(tests_of(m.module), m) for m in sorted(chosen)]), 1
    ):
        if passed and about.mutant:
            survivors += 1
            print(
                f"not noticed: {about.mutant.module}.py:{about.mutant.line}: {about.mutant.words}",
                flush=True,
            )
        elif number % 50 == 0:
            print(f"{number} tried", flush=True)
    print(
        f"{len(chosen)} tried, {survivors or 'none'} not noticed, {time.monotonic() - began:.0f} s"
    )
    return 1 if survivors else 0


if __name__ == "__main__":
    sys.exit(main())
