"""Records read by several threads at once, in a process that has read none before."""

import subprocess
import sys

import pytest

_ALL = """
import importlib, pkgutil, sys, threading
import lumtak
for module in pkgutil.walk_packages(lumtak.__path__, "lumtak."):
    if not module.name.endswith("__main__"):
        importlib.import_module(module.name)
sys.setswitchinterval(1e-6)
"""
_READ = (
    _ALL
    + """
import msgspec
from lumtak.core.record import PREPARED
def below(kind):
    return {kind, *(k for sub in kind.__subclasses__() for k in below(sub))}
ours = {k for k in below(msgspec.Struct) if k.__module__.startswith("lumtak.")}
assert ours == set(PREPARED), ours ^ set(PREPARED)
start = threading.Barrier(4)
def read():
    for kind in PREPARED:
        start.wait()
        for way in (msgspec.json.decode, lambda _, type: msgspec.convert({}, type)):
            try:
                way(b"{}", type=kind)
            except msgspec.ValidationError:
                pass
threads = [threading.Thread(target=read) for _ in range(4)]
[t.start() for t in threads], [t.join() for t in threads]
print(len(PREPARED))
"""
)
_SPECS = """
import sys, threading
from lumtak.computers.simulated.heads import fleet
from lumtak.computers.simulated.spec import load_spec
sys.setswitchinterval(1e-6)
start = threading.Barrier(4)
def load():
    start.wait()
    load_spec.__wrapped__("drawing-bench")
threads = [threading.Thread(target=load) for _ in range(4)]
[t.start() for t in threads], [t.join() for t in threads]
"""


@pytest.mark.parametrize(("program", "times"), [(_READ, 3), (_SPECS, 8)])
def test_no_record_kills_a_process_that_reads_it_in_four_threads(program, times):
    started = [
        subprocess.Popen([sys.executable, "-c", program], stderr=subprocess.PIPE)
        for _ in range(times)
    ]
    ended = [(p.communicate(timeout=100)[1], p.returncode) for p in started]
    assert {code for _, code in ended} == {0}, ended
