"""Whole jobs without a screen: every station, reopened at each, and the report."""

import io
import json
import re
import xml.etree.ElementTree as ET
from pathlib import Path

import msgspec
import pytest
from pypdf import PdfReader

from helpers import bench, profile, reading
from lumtak.core.conditions import mismatches, mover_in_words, movers
from lumtak.core.profile import Threshold
from lumtak.core.setting import parse_ref
from lumtak.errors import StorageError, UnknownNameError, UsageError
from lumtak.report.content import headline, sentence
from lumtak.work.example import run_example
from lumtak.work.handover import content_of, write_report
from lumtak.work.reading import take_reading
from lumtak.work.visit import Visit, compare_readings
from lumtak.work.workshop import Workshop


@pytest.fixture
def visit(workshop, sim):
    return Visit.start(workshop, sim, workshop.profile("hull-drafting"))


def reopened(visit):
    """The same job after quitting and starting again."""
    visit.close()
    visit.workshop.close()
    workshop = Workshop(visit.workshop.home)
    again = Visit.reopen(workshop, workshop.casebook.job(visit.job.id))
    assert again.job == visit.job
    return again


def test_a_job_survives_quitting_at_every_station(visit):
    before = dict(visit.computer.machine.state.settings)
    visit = reopened(visit)
    assert visit.job.station == "baseline"
    first = visit.read_baseline(seconds=60)
    visit.go("audit")
    visit = reopened(visit)
    assert visit.baseline == first
    found = visit.make_audit()
    visit.select("services:chart-cache")
    assert visit.toggle(parse_ref("services:chart-cache"))
    assert visit.toggle(parse_ref("apps:chat-horn"))
    assert not visit.toggle(parse_ref("apps:chat-horn"))
    visit = reopened(visit)
    assert (visit.job.audit, visit.job.cursor) == (found, "services:chart-cache")
    visit.choose_all_eased()
    plan = visit.make_plan()
    assert plan.saves_cpu[0] > 5
    visit = reopened(visit)
    assert all(o.result == "done" for o in visit.apply())
    assert visit.job.chosen == ()
    assert visit.owed().restart
    visit.go("proof")
    visit = reopened(visit)
    assert visit.read_after()
    assert visit.provisional() == "restart"
    visit.restart()
    visit = reopened(visit)
    assert not visit.owed().anything
    visit.read_after()
    assert visit.provisional() == ""
    verdicts = {c.column: c.verdict for c in visit.comparisons()}
    assert verdicts == {"cpu_pct": "lower", "ram_used_bytes": "lower", "work": "lower"}
    assert visit.applied()
    visit = reopened(visit)
    assert all(o.result == "done" for o in visit.put_back())
    assert visit.provisional() == "put back"
    visit = reopened(visit)
    assert visit.applied() == set()
    assert visit.computer.machine.state.settings == before


def test_what_cannot_be_chosen_says_why(visit):
    with pytest.raises(UsageError, match="no audit"):
        visit.toggle(parse_ref("services:chart-cache"))
    visit.read_baseline(seconds=30)
    visit.make_audit()
    for address, why in (
        ("services:display-keeper", "guarded"),
        ("services:plot-queue", "needs it for plotting"),
        ("power:mains", "as the profile wants"),
    ):
        with pytest.raises(UsageError, match=why):
            visit.toggle(parse_ref(address))


def test_another_profile_judges_anew(visit):
    visit.read_baseline(seconds=30)
    visit.make_audit()
    visit.choose_all_eased()
    visit.choose_profile(visit.workshop.profile("writing-and-web"))
    assert (visit.job.audit, visit.job.chosen) == (None, ())
    assert visit.make_audit().find(parse_ref("apps:chat-horn")).stance == "keep"


def test_nothing_chosen_nothing_applied(visit):
    visit.make_audit()
    with pytest.raises(UsageError, match="Nothing is chosen"):
        visit.apply()
    with pytest.raises(UsageError, match="needs a baseline and an after"):
        visit.comparisons()


def test_a_job_of_another_computer_is_not_opened(workshop, visit):
    job = msgspec.structs.replace(visit.job, identity="sim-other")
    with pytest.raises(UsageError, match="another computer"):
        Visit.reopen(workshop, job)


def test_no_change_is_rarely_taken_for_one(tmp_path):
    alarms = 0
    for seed in range(1, 13):
        computer = bench(tmp_path / str(seed), seed)
        readings = []
        for _ in range(2):
            computer.clock.restart()
            readings.append(take_reading(computer))
        alarms += sum(c.verdict != "none" for c in compare_readings(*readings)[:2])
    assert alarms <= 1


def test_mismatches_are_named():
    before, after = reading(), reading()
    assert mismatches(before, after) == ()
    other = msgspec.structs.replace(
        after.conditions,
        power_source="battery",
        power_plan="saving",
        user="v",
        uptime_s=20.0,
        users=("v", "w"),
        temperature_c=80.0,
    )
    said = " ".join(
        mismatches(
            before,
            msgspec.structs.replace(after, conditions=other, settled=False, identity="sim-other"),
        )
    )
    for word in (
        "battery",
        "saving",
        "v's",
        "five minutes",
        "after never settled",
        "v, w",
        "40 °C warmer",
        "two different computers",
    ):
        assert word in said


def test_a_recorder_that_ran_in_one_reading_only_is_named():
    before = reading(
        costs=[("apps:process/recorder", 5.0, 90), ("apps:eased", 9.0, 90), ("apps:small", 1.0, 90)]
    )
    (said,) = mismatches(before, reading(costs=[]), changed=["apps:eased"])
    assert said == "recorder took 5.0 % of the CPU before, and did not run after."
    (said,) = mismatches(reading(costs=[]), reading(costs=[("apps:process/\x1b[2J", 5.0, 90)]))
    assert "\x1b" not in said
    assert "after, and did not run before" in said


def test_what_changed_most_is_named():
    before = reading(costs=[("services:a", 5.0, 800), ("apps:b", 1.0, 10), ("apps:same", 9.0, 90)])
    after = reading(costs=[("apps:b", 4.0, 10), ("apps:same", 9.1, 91)])
    said = [
        mover_in_words(m, {"services:a": "Chart cache"}.get(m.key, ""))
        for m in movers(before, after)
    ]
    assert said == [
        "Chart cache \u22125.0 points of CPU, \u2212800 MiB",
        "b +3.0 points of CPU, 0 MiB",
    ]
    assert movers(before, before) == ()


@pytest.mark.parametrize(
    ("cpu", "ram", "words"),
    [
        (10, 0, "less CPU load"),
        (0, 10, "less memory load"),
        (10, 10, "both CPU and memory"),
        (-10, 0, "more load"),
        (-10, 10, "one load is lower"),
        (0, 0, "no clear"),
    ],
)
def test_the_headline_follows_the_verdicts(cpu, ram, words):
    def carrying(cpu, ram):
        made = reading([20.0 - cpu + i % 5 for i in range(60)])
        used = [s.ram_used_bytes * (1 - ram / 100) + i % 5 for i, s in enumerate(made.samples)]
        samples = tuple(
            msgspec.structs.replace(s, ram_used_bytes=u)
            for s, u in zip(made.samples, used, strict=True)
        )
        return msgspec.structs.replace(made, samples=samples)

    results = compare_readings(carrying(0, 0), carrying(cpu, ram), Threshold(cpu_pct=0, ram_pct=0))
    assert words.lower() in headline(results, "").lower()
    assert headline(results, "restart").startswith(
        "Provisional, since a restart was owed when it was taken: "
    )
    assert all(sentence(r).endswith(".") for r in results)


# -- profiles of the workshop ----------------------------------------------------------------------


def test_profiles_by_name_by_file_and_ones_own(workshop, tmp_path):
    assert workshop.profile("hull-drafting") == profile()
    with pytest.raises(UnknownNameError, match="Did you mean hull-drafting"):
        workshop.profile("hul-drafting")
    own = workshop.home / "profiles"
    own.mkdir(parents=True)
    text = 'format = 1\nname = "mine"\ntitle = "Mine"\n[ceilings]\ncpu_pct = 5\nram_pct = 40\n'
    (own / "mine.toml").write_text(text)
    (own / "broken.toml").write_text("format = ")
    assert {"hull-drafting", "writing-and-web", "mine"} < set(workshop.profiles())
    assert "broken" not in workshop.profiles()
    assert workshop.profile(str(own / "mine.toml")).name == "mine"
    with pytest.raises(UsageError, match="not valid TOML"):
        workshop.profile("broken")
    (own / "latin.toml").write_bytes(b"# ok\n# caf\xe9\n")
    with pytest.raises(UsageError, match=r"line 2: this is not UTF-8"):
        workshop.profile(str(own / "latin.toml"))
    with pytest.raises(UsageError, match="no such file"):
        workshop.profile(str(tmp_path / "nowhere.toml"))


# -- the report ------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def example(tmp_path_factory):
    folder = tmp_path_factory.mktemp("example")
    lines: list[str] = []
    results = run_example(folder / "a", 7, lines.append)
    run_example(folder / "b", 7, lambda _: None)
    run_example(folder / "c", 8, lambda _: None)
    return folder, lines, results


def test_the_same_seed_gives_the_same_bytes_and_another_the_same_story(example):
    folder, lines, results = example
    for name in ("report.pdf", "load.svg", "job.json"):
        assert (folder / "a" / name).read_bytes() == (folder / "b" / name).read_bytes()
        assert (folder / "a" / name).read_bytes() != (folder / "c" / name).read_bytes()
    assert [r.verdict for r in results[:2]] == ["lower", "lower"]
    other = json.loads((folder / "c/job.json").read_text())
    assert [c["verdict"] for c in other["comparisons"][:2]] == ["lower", "lower"]
    assert [line.split()[0] for line in lines if not line.startswith(" ")] == [
        "Intake", "Baseline", "Audit", "Plan", "Apply", "Restart", "Proof", "Handover", "Put",
    ]  # fmt: skip


def test_the_verdict_follows_from_the_readings_in_the_same_file(example):
    folder, _, _ = example
    job = json.loads((folder / "a/job.json").read_text())
    for result in job["comparisons"]:
        means = [
            sum(s[result["column"]] for s in r["samples"][r["settled_from"] :])
            / len(r["samples"][r["settled_from"] :])
            for r in (job["before"], job["after"])
        ]
        assert result["difference"] == pytest.approx(means[1] - means[0])
        assert result["ci95"][1] < 0
    assert job["mismatches"] == []
    assert "less load" in job["verdict"]


def test_the_pdf_says_it_and_embeds_its_fonts(example):
    folder, _, _ = example
    pdf = PdfReader(io.BytesIO((folder / "a/report.pdf").read_bytes()))
    text = " ".join(page.extract_text() for page in pdf.pages)
    job = json.loads((folder / "a/job.json").read_text())
    assert job["verdict"] in re.sub(r"\s+", " ", text)
    assert "Chart cache" in text
    assert "lumtak undo sim:drawing-bench --all" in re.sub(r"\s+", " ", text)
    for page in pdf.pages:
        for font in page["/Resources"]["/Font"].values():
            assert "/FontFile2" in font.get_object()["/FontDescriptor"]


def test_the_chart_is_svg_whose_text_stays_text(example):
    folder, _, _ = example
    root = ET.fromstring((folder / "a/load.svg").read_text())
    texts = " ".join(e.text or "" for e in root.iter("{http://www.w3.org/2000/svg}text"))
    assert "CPU load, %" in texts
    assert "ceiling 10 %" in texts


def test_a_report_half_way_says_what_is_missing(visit, tmp_path):
    assert [p.name for p in write_report(visit, tmp_path / "r")] == ["report.pdf", "job.json"]
    visit.read_baseline(seconds=30)
    assert [p.name for p in write_report(visit, tmp_path / "r")] == [
        "report.pdf",
        "load.svg",
        "job.json",
    ]
    assert "no reading before and after" in content_of(visit).verdict


def test_hostile_names_reach_no_document_as_markup(workshop, tmp_path):
    from helpers import put
    from lumtak.report.pdf import report_pdf

    computer = bench(workshop.home / "simulated")
    visit = Visit.start(workshop, computer, workshop.profile("hull-drafting"))
    content = msgspec.structs.replace(
        content_of(visit),
        computer="<b>\x1b[31m & </para>",
        verdict="<font size=99>",
        mismatches=("<a href='x'>",),
    )
    text = PdfReader(io.BytesIO(report_pdf(content, None))).pages[0].extract_text()
    assert "<font size=99>" in text
    assert "</para>" in text
    put(tmp_path, "in-the-way", "x")
    with pytest.raises(StorageError, match="cannot be written"):
        write_report(visit, tmp_path / "in-the-way" / "r")


@pytest.mark.parametrize("name", ["profile", "reading", "job"])
def test_files_fit_the_schemas_that_are_published(example, name):
    import tomllib
    from importlib.resources import files

    from jsonschema import Draft202012Validator

    folder, _, _ = example
    job = json.loads((folder / "a/job.json").read_text())
    toml = tomllib.loads((files("lumtak") / "data/profiles/hull-drafting.toml").read_text())
    schema = json.loads(
        (Path(__file__).parents[1] / f"docs/schemas/{name}.schema.json").read_text()
    )
    document = {"job": job, "reading": job["before"], "profile": toml}[name]
    validator = Draft202012Validator(schema)
    validator.validate(document)
    assert not validator.is_valid({**document, "shoe_size": 44})
