"""Taking readings at a steady pace, and reading files in and out."""

import re
import threading
from datetime import timedelta

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import bench, linux, reading
from lumtak.core.means import half_width
from lumtak.core.reading import ENDED_WORDS, to_json
from lumtak.core.record import NotMeasured
from lumtak.errors import BadFileError, ComputerError, LumtakError, UsageError
from lumtak.formats.openmetrics import to_openmetrics
from lumtak.formats.readings import load_column, load_reading, to_csv
from lumtak.work.quick import look_in_words, quick_look
from lumtak.work.sampling import Precision, take_reading


class Slow:
    """A computer whose samples can be held up, or fail."""

    def __init__(self, inner, held=(), fails_at=None):
        self._inner, self._held, self._fails_at, self._calls = inner, dict(held), fails_at, 0
        self.load = self

    def __getattr__(self, name):
        return getattr(self._inner, name)

    def watch(self, **given):
        return self._inner.load.watch(**given)

    def sample(self, *, memory=False):
        self._calls += 1
        if self._calls == self._fails_at:
            raise ComputerError("gone.")
        self._inner.clock.wait(self._held.get(self._calls, 0.0))
        return self._inner.load.sample(memory=memory)


def test_a_steady_reading(sim):
    got = take_reading(sim, seconds=30, interval_s=0.5)
    assert len(got.samples) == 60
    assert (got.late, got.ended) == (0, "complete")
    assert all(s.length_s == pytest.approx(0.5) for s in got.samples)
    for s in got.samples:
        assert sum(s.consumers.values()) == pytest.approx(s.cpu_pct, abs=1e-6), (
            "parts sum to the whole"
        )
    memory = sum(c.ram_bytes for c in got.consumers if not isinstance(c.ram_bytes, NotMeasured))
    assert memory < got.mean("ram_used_bytes") + got.mean("swap_used_bytes")
    assert got.conditions.power_plan == "balanced"


def test_late_and_missed_samples_are_recorded_and_never_invented(sim):
    got = take_reading(Slow(sim, held={3: 0.7, 6: 2.2}), seconds=20)
    assert (got.late, got.missed) == (2, 2)
    assert len(got.samples) == 18
    assert got.samples[1].length_s == pytest.approx(1.7)
    assert got.samples[-1].t_s == pytest.approx(20.0)


def test_a_reading_is_cut_where_the_computer_slept(sim):
    class Sleeps(Slow):
        """Its clock on the wall goes on by an hour before the tenth sample, the other does not."""

        @property
        def clock(self):
            return self

        def wall(self):
            return self._inner.clock.wall() + timedelta(hours=1 if self._calls >= 10 else 0)

        def now_s(self):
            return self._inner.clock.now_s()

        def wait(self, seconds, stop=None):
            self._inner.clock.wait(seconds, stop)

    got = take_reading(Sleeps(sim), seconds=60)
    assert (got.ended, len(got.samples)) == ("slept", 9), "nothing of what came after"
    assert ENDED_WORDS[got.ended] == "cut by sleep"
    assert take_reading(Slow(sim), seconds=5).ended == "complete"


def test_a_reading_ends_by_itself_when_its_means_are_sure(sim):
    loose = take_reading(sim, precision=Precision(cpu_pct=30.0, ram_pct=5.0))
    assert (loose.ended, len(loose.samples)) == ("precise", 140)
    tight = take_reading(sim, precision=Precision(cpu_pct=0.01, most_s=150.0))
    assert (tight.ended, len(tight.samples)) == ("complete", 150)
    sure = take_reading(sim, precision=Precision(cpu_pct=4.0))
    assert half_width([s.cpu_pct for s in sure.kept]) <= 4.0 or len(sure.samples) == 300


def test_memory_is_looked_at_sparsely_and_at_both_ends(sim):
    asked = []

    class Counting(Slow):
        def sample(self, *, memory=False):
            asked.append(memory)
            return super().sample(memory=memory)

    take_reading(Counting(sim), seconds=150)
    assert [i for i, memory in enumerate(asked) if memory] == [0, 60, 120, 150]


def test_parts_and_the_unattributed_sum_to_the_whole(sim):
    got = take_reading(sim, seconds=40)
    cpu, memory = got.unattributed()
    assert cpu + sum(c.cpu_pct for c in got.consumers) == pytest.approx(got.mean("cpu_pct"))
    held = sum(c.ram_bytes for c in got.consumers if not isinstance(c.ram_bytes, NotMeasured))
    assert memory + held == pytest.approx(got.mean("ram_used_bytes"))


def test_stopping_keeps_what_was_read(sim):
    stop = threading.Event()
    got = take_reading(
        sim, seconds=60, stop=stop, on_sample=lambda _, done, __: done == 10 and stop.set()
    )
    assert (len(got.samples), got.ended) == (10, "stopped")
    assert any(not isinstance(c.ram_bytes, NotMeasured) for c in got.consumers)


def test_a_computer_that_goes_away_leaves_what_was_read(sim):
    got = take_reading(Slow(sim, fails_at=7), seconds=60)
    assert (len(got.samples), got.ended) == (5, "lost")
    with pytest.raises(ComputerError):
        take_reading(Slow(sim, fails_at=2), seconds=60)


@pytest.mark.parametrize(
    ("seconds", "interval"),
    [(10, 0.1), (10, 61), (0.5, 1), (1e9, 1), (float("nan"), 1), (10, float("nan"))],
)
def test_windows_that_make_no_sense(sim, seconds, interval):
    with pytest.raises(UsageError, match="not possible"):
        take_reading(sim, seconds=seconds, interval_s=interval)


def test_stopped_before_it_began(sim):
    stop = threading.Event()
    stop.set()
    with pytest.raises(UsageError, match="before its first sample"):
        take_reading(sim, stop=stop)


def test_a_folder_can_be_read_too(tree):
    got = take_reading(linux(tree), seconds=5)
    assert got.mean("cpu_pct") == 0.0
    assert isinstance(got.samples[0].work, NotMeasured)


# -- files -----------------------------------------------------------------------------------------


@pytest.fixture
def kept(tmp_path):
    return take_reading(bench(tmp_path / "sim"), seconds=40)


def test_json_comes_back_the_same(tmp_path, kept):
    path = tmp_path / "r.json"
    path.write_bytes(to_json(kept))
    assert load_reading(path) == kept
    assert load_column(path, "cpu_pct") == [s.cpu_pct for s in kept.kept]


def test_csv_holds_the_same_settled_values(tmp_path, kept):
    path = tmp_path / "r.csv"
    path.write_text(to_csv(kept))
    assert load_column(path, "cpu_pct") == pytest.approx([s.cpu_pct for s in kept.kept], rel=1e-5)
    assert load_column(path, "ram_used_bytes") == pytest.approx(
        [s.ram_used_bytes for s in kept.kept]
    )


def test_any_csv_with_the_column(tmp_path):
    path = tmp_path / "x.csv"
    path.write_bytes(b"\xef\xbb\xbftime, cpu_pct \r\n1,2.5\r\n\r\n2,3e1\r\n")
    assert load_column(path, "cpu_pct") == [2.5, 30.0]


def bad(path, column, *words):
    with pytest.raises(BadFileError) as caught:
        load_column(path, column)
    assert str(path) in str(caught.value)
    for word in words:
        assert word in str(caught.value)
    assert caught.value.exit_code == 2


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("a,cpu_pct\n1,2\n1,much\n", ("line 3", "“much”", "no number")),
        ("a,cpu_pct\n1,2\n1\n", ("line 3", "no cell", "cut short")),
        ("a,cpu_pct\n1,nan\n", ("line 2", "measured")),
        ("a,cpu_pct\n1,inf\n", ("line 2", "measured")),
        ("a,b\n1,2\n", ("no column cpu_pct", "a, b")),
        ("", ("no column", "none at all")),
        ("a,cpu_pct\n1,\x1b[31m\n", ("␛[31m",)),
    ],
)
def test_bad_cells_name_the_line(tmp_path, text, words):
    path = tmp_path / "x.csv"
    path.write_text(text)
    bad(path, "cpu_pct", *words)


def test_bad_files(tmp_path, kept):
    path = tmp_path / "r.json"
    bad(path, "cpu_pct", "cannot be opened", "no such file")
    path.write_bytes(to_json(kept)[:-200])
    bad(path, "cpu_pct", "damaged or cut short")
    path.write_bytes(b'{"format": 1}')
    bad(path, "cpu_pct", "no reading")
    path.write_bytes(to_json(msgspec.structs.replace(kept, format=9)))
    bad(path, "cpu_pct", "newer Lumtak")
    path.write_bytes(b'{"a":' * 100000)
    bad(path, "cpu_pct", "cut short")
    path.write_bytes(to_json(kept))
    bad(path, "shoe_size", "no column shoe_size")
    (tmp_path / "b.csv").write_bytes(b"\xff\xfe\x00")
    bad(tmp_path / "b.csv", "cpu_pct", "UTF-8")
    bad(tmp_path, "cpu_pct", "this is a folder")


def test_a_column_that_was_not_measured_says_why(tmp_path):
    unknown = NotMeasured(not_measured="no clock here")
    samples = tuple(msgspec.structs.replace(s, work=unknown) for s in reading().samples)
    path = tmp_path / "r.json"
    path.write_bytes(to_json(msgspec.structs.replace(reading(), samples=samples)))
    bad(path, "work", "no clock here")


@given(st.binary(max_size=200))
def test_any_bytes_are_one_sentence(tmp_path_factory, data):
    folder = tmp_path_factory.mktemp("f")
    for name in ("x.json", "x.csv"):
        (folder / name).write_bytes(data)
        try:
            load_column(folder / name, "cpu_pct")
        except LumtakError as error:
            assert "\x1b" not in str(error)


def test_a_long_file_is_read_quickly_and_just_as_carefully(tmp_path):
    path = tmp_path / "long.csv"
    rows = [f"{i},{i % 7}.25,{int(i > 9)}" for i in range(120_000)]
    path.write_text("t,cpu_pct,settled\n" + "\n".join(rows) + "\n")
    got = load_column(path, "cpu_pct")
    assert len(got) == 119_990
    assert float(got[0]) == 3.25
    path.write_text("t,cpu_pct,settled\n" + "\n".join([*rows, "9,much,1"]) + "\n")
    bad(path, "cpu_pct", "line 120002", "“much”")
    path.write_text("t,cpu_pct,settled\n" + "\n".join([*rows, "9,inf,1"]) + "\n")
    bad(path, "cpu_pct", "line 120002", "measured")


# -- a quick look, and OpenMetrics -----------------------------------------------------------------


def test_a_look_says_what_weighs_and_what_it_cannot_say(sim):
    sim.clock.restart()
    found = quick_look(sim.about.facts(), take_reading(sim, seconds=30))
    assert found.services[0].key == "services:chart-cache"
    assert "apps:chat-horn" in [c.key for c in found.apps]
    text = "\n".join(r.words for r in look_in_words(found))
    for words in (
        "Chart cache",
        "cache  ",
        "no load",
        "Unattributed",
        "workload profile",
        "it was started",
    ):
        assert words in text


def test_a_look_at_a_folder_says_what_could_not_be_read(tree):
    box = linux(tree)
    text = "\n".join(
        r.words for r in look_in_words(quick_look(box.about.facts(), take_reading(box, seconds=5)))
    )
    for words in (
        "none seen",
        "Anything about services",
        "one's own processes only",
        "had not settled",
    ):
        assert words in text


def test_openmetrics_is_well_formed_and_escapes_names():
    unknown = NotMeasured(not_measured="no clock")
    made = reading(costs=[('apps:process/a"b\\c\nd', 2.0, 10)])
    made = msgspec.structs.replace(
        made, samples=tuple(msgspec.structs.replace(s, work=unknown) for s in made.samples)
    )
    text = to_openmetrics(made)
    lines = text.splitlines()
    assert lines[-1] == "# EOF"
    assert 'lumtak_cpu_ratio{computer="sim:test"} 0.2' in lines
    assert "work_cores" not in text, "what was not measured is left out"
    assert 'consumer="apps:process/a\\"b\\\\c␊d"} 0.02' in text
    for line in lines[:-1]:
        assert line.startswith("# ") or re.fullmatch(r"lumtak_\w+\{[^{}]*\} -?[\d.e+-]+", line), (
            line
        )


def test_a_table_of_millions_of_lines_that_are_no_numbers_is_refused_at_once(tmp_path):
    path = tmp_path / "long.csv"
    path.write_text("cpu_pct\n1\n2\n" + "\n" * 1_000_000 + "odd\n")
    with pytest.raises(BadFileError, match="1,000,004 lines, and not all of them are plain"):
        load_column(path, "cpu_pct")
    path.write_text("cpu_pct\n" + "1.5\n" * 1_000_001)
    assert len(load_column(path, "cpu_pct")) == 1_000_001
