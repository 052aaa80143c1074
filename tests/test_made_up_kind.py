"""The kind of setting that decision 9 shows.

One module and one line of the registry are all that it takes.
"""

import re
import sys
from pathlib import Path
from types import ModuleType

import msgspec
import pytest

from faulting import run_script
from helpers import linux, linux_tree, snapshot_of
from lumtak.computers.hands.sent.states.states import STATE_KINDS, Unknown, state_of
from lumtak.computers.linux import computer as assembled
from lumtak.computers.recorded import recorded_state
from lumtak.core.setting import State, parse_change, parse_ref
from lumtak.errors import ComputerError
from lumtak.journal import Journal, apply_changes, drift, put_back, recorded

NOTE = Path(__file__).parents[1] / "docs/decisions/0009-states-have-a-type.md"
REF = parse_ref("apps:kites")


@pytest.fixture
def kites(monkeypatch):
    """The module as the note has it, and its line in the registry."""
    (text,) = re.findall(r"(?s)```python\n(.*?)```", NOTE.read_text(encoding="utf-8"))
    module = ModuleType("kites")
    monkeypatch.setitem(sys.modules, "kites", module)
    exec(compile(text, "kites.py", "exec"), module.__dict__)
    monkeypatch.setattr(assembled, "ADAPTERS", (module.Kites, *assembled.ADAPTERS))
    yield module
    del STATE_KINDS["kites"]


def test_it_goes_through_journal_drift_script_and_back(kites, home, tmp_path):
    tree = linux_tree(tmp_path / "root")
    (tree / "home/u/.config/kites").write_text("yes")
    before, box, journal = snapshot_of(tree), linux(tree), Journal(home)
    (outcome,) = apply_changes(journal, box, box.about.facts(), [parse_change("apps:kites=off")])
    assert (outcome.result, outcome.title) == ("done", "Kites")
    assert (tree / "home/u/.config/kites").read_text() == "no"
    journal.close()
    journal = Journal(home)
    assert [d.standing for d in drift(journal, box)] == ["as left"]
    assert "  flying: yes" in recorded(journal.entries()[0])
    (script,) = tree.glob("home/u/.local/share/lumtak-undo/undo-*.sh")
    assert "put back: Kites" in run_script(script, tree).stdout
    assert snapshot_of(tree) == before
    box.settings.write(REF, State(value="off"))
    assert [o.result for o in put_back(journal, box)] == ["done"]
    assert snapshot_of(tree) == before
    journal.close()


def test_what_kites_cannot_have_been_is_refused_and_without_the_module_so_is_all_of_it(
    kites, home, tmp_path
):
    tree = linux_tree(tmp_path / "root")
    box = linux(tree)
    state = box.settings.read(REF)
    with pytest.raises(ComputerError, match="kites do not fly so"):
        box.settings.write(
            REF, State(value="on", exact=kites.KiteLine(state.exact.folder, "sideways"))
        )
    said = msgspec.to_builtins(state.exact)
    assert state_of(said) == state.exact
    kept = STATE_KINDS.pop("kites")
    assert type(recorded_state(said)) is Unknown
    STATE_KINDS["kites"] = kept
