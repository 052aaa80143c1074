"""Charts as files, and the bridge they are drawn from."""

import io
import xml.etree.ElementTree as ET

import pytest
from pypdf import PdfReader

from helpers import lumtak, reading
from lumtak.core.attribution import attribution
from lumtak.core.bridge import bridge
from lumtak.core.plan import Plan, Step
from lumtak.core.setting import parse_change
from lumtak.core.units import MIB
from lumtak.core.verdict import compare_readings
from lumtak.report.charts import CHART_KINDS
from lumtak.work.data_folder import DataFolder
from lumtak.work.handover import draw_chart
from lumtak.work.intake import reopen_job

NAME = "drawing-bench-1"


def step(change, cpu, ram_mib, **fields):
    return Step(
        change=parse_change(change), title=change, before="on", shows="now", saves_cpu_pct=cpu,
        saves_cpu_se_pct=0.1,
        saves_ram_bytes=ram_mib * MIB, projected="x", stops=(), **fields,
    )  # fmt: skip


def test_the_bridge_sums_to_the_whole_and_keeps_what_was_projected():
    plan = Plan(
        steps=(
            step("apps:a=off", 5.0, 100, brings=("apps:process/b",)),
            step("effects:shadows=off", 0.0, 0),
            step("services:c=off", 2.0, 50),
        )
    )
    before = reading(
        [30.0] * 60,
        costs=[("apps:a", 4.0, 100), ("apps:process/b", 2.0, 10), ("services:c", 3.0, 60)],
    )
    after = reading([20.0] * 60, costs=[("services:c", 1.0, 20)])
    found = bridge(plan, before, after, "cpu_pct")
    assert [(s.title, s.projected, s.measured) for s in found.steps] == [
        ("apps:a=off", -5.0, -6.0), ("services:c=off", -2.0, -2.0), ("effects:shadows=off", None,
        None),
    ]  # fmt: skip
    assert found.rest == pytest.approx(-2.0)
    assert found.baseline + sum(s.measured or 0 for s in found.steps) + found.rest == pytest.approx(
        found.after
    )
    memory = bridge(plan, before, after, "ram_used_bytes")
    assert memory.steps[0].measured == -110 * MIB
    # Of four consumers, an error of 0.1 each: sure, though the whole wanders.
    wild = reading([20.0 + 9 * (i % 30 > 14) for i in range(60)], costs=[("services:c", 1.0, 20)])
    told_of = compare_readings([before], [wild])
    told = attribution(plan, [before], [wild], told_of)
    assert (told.changed.points, told.changed.half) == (-8.0, pytest.approx(2.571 * 0.2))
    assert told.changed.points + told.rest.points == pytest.approx(told.whole.points)
    assert told.rest.half > told.whole.half > 10 * told.changed.half
    assert told.words.startswith("Of the CPU, what was changed: −8.0 ± 0.5 points; everything")
    nothing = attribution(Plan(steps=()), [before], [wild], told_of)
    assert nothing is None, "none of it has a share of its own"
    twice = attribution(plan, [before, before], [wild], told_of)
    assert twice.changed.points == told.changed.points
    assert twice.changed.half < told.changed.half


@pytest.fixture(scope="module")
def job(tmp_path_factory):
    home = tmp_path_factory.mktemp("job")
    for command in (
        ("start", "sim:drawing-bench", "--profile", "hull-drafting"), ("baseline", NAME,
        "--seconds", "60"), ("choose", NAME, "--eased"),
    ):  # fmt: skip
        assert lumtak("job", *command, home=home).returncode == 0
    early = lumtak("chart", NAME, "--kind", "bridge", "--out", home / "x.svg", home=home)
    assert early.returncode == 2
    assert "after reading" in early.stderr
    assert lumtak("job", "apply", NAME, home=home).returncode == 0
    assert lumtak("restart", "sim:drawing-bench", home=home).returncode == 0
    assert lumtak("job", "after", NAME, home=home).returncode == 0
    return home


@pytest.mark.parametrize("kind", CHART_KINDS)
def test_every_chart_as_svg_with_text_and_as_pdf_with_its_fonts(job, tmp_path, kind):
    data_folder = DataFolder(job)
    open_job = reopen_job(data_folder, data_folder.casebook.job(NAME))
    drawn = {form: draw_chart(open_job, kind, form) for form in ("svg", "pdf")}
    assert drawn == {form: draw_chart(open_job, kind, form) for form in drawn}, "the same each time"
    data_folder.close()
    if kind == "bridge":
        assert (
            lumtak("chart", NAME, "--kind", kind, "--out", tmp_path / "b.svg", home=job).returncode
            == 0
        )
        assert (tmp_path / "b.svg").read_bytes() == drawn["svg"]
    root = ET.fromstring(drawn["svg"].decode())
    words = " ".join(t for e in root.iter() if e.tag.endswith("text") for t in e.itertext())
    about = "disk, GiB" if kind == "disk" else "CPU"
    assert about in words
    page = PdfReader(io.BytesIO(drawn["pdf"])).pages[0]
    assert about in page.extract_text()
    fonts = page["/Resources"]["/Font"]
    for font in fonts.values():
        inner = font.get_object()
        descriptor = (
            inner.get("/FontDescriptor")
            or inner["/DescendantFonts"][0].get_object()["/FontDescriptor"]
        )
        assert "/FontFile2" in descriptor.get_object()


def test_a_chart_needs_an_ending_and_a_job(job, tmp_path):
    assert (
        "neither .svg nor .pdf"
        in lumtak("chart", NAME, "--out", tmp_path / "x.png", home=job).stderr
    )
    assert lumtak("chart", "nowhere-1", "--out", tmp_path / "x.svg", home=job).returncode == 2
