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
from lumtak.core.settings import Settings, Shop, load_settings, settings_toml
from lumtak.core.verdict import compare_readings, headline, sentence
from lumtak.errors import StorageError, UnknownNameError, UsageError
from lumtak.work.audit import choose_all_eased, make_audit, toggle
from lumtak.work.data_folder import DataFolder
from lumtak.work.example import run_example
from lumtak.work.handover import content_of, write_report
from lumtak.work.intake import begin_job, choose_profile, reopen_job
from lumtak.work.plan import carry_out, plan_of, put_changes_back, restart
from lumtak.work.proof import (
    attribution_of,
    comparisons_of,
    read_after,
    sides_of,
    why_provisional,
)
from lumtak.work.reading import choose_baseline, read_baseline
from lumtak.work.sampling import take_reading


@pytest.fixture
def open_job(data_folder, sim):
    return begin_job(data_folder, sim, data_folder.profile("hull-drafting"))


def reopened(open_job):
    """The same job after quitting and starting again."""
    open_job.close()
    open_job.data_folder.close()
    data_folder = DataFolder(open_job.data_folder.home)
    again = reopen_job(data_folder, data_folder.casebook.job(open_job.job.id))
    assert again.job == open_job.job
    return again


def test_a_job_survives_quitting_at_every_station(open_job):
    before = dict(open_job.computer.machine.state.settings)
    open_job = reopened(open_job)
    assert open_job.job.station == "baseline"
    first = read_baseline(open_job, seconds=60)
    open_job.go("audit")
    open_job = reopened(open_job)
    assert open_job.baseline == first
    found = make_audit(open_job)
    open_job.select("services:chart-cache")
    assert toggle(open_job, parse_ref("services:chart-cache"))
    assert toggle(open_job, parse_ref("apps:chat-horn"))
    assert not toggle(open_job, parse_ref("apps:chat-horn"))
    open_job = reopened(open_job)
    assert (open_job.job.audit, open_job.job.cursor) == (found, "services:chart-cache")
    choose_all_eased(open_job)
    plan = plan_of(open_job)
    assert plan.saves_cpu[0] > 5
    open_job = reopened(open_job)
    assert all(o.result == "done" for o in carry_out(open_job))
    assert open_job.job.chosen == ()
    assert open_job.owed().restart
    open_job.go("proof")
    open_job = reopened(open_job)
    assert read_after(open_job)
    assert why_provisional(open_job) == "restart"
    restart(open_job)
    open_job = reopened(open_job)
    assert not open_job.owed().anything
    read_after(open_job)
    assert why_provisional(open_job) == ""
    verdicts = {c.column: c.verdict for c in comparisons_of(open_job)}
    assert verdicts == {"cpu_pct": "lower", "ram_used_bytes": "lower", "work": "lower"}
    assert open_job.applied()
    open_job = reopened(open_job)
    assert all(o.result == "done" for o in put_changes_back(open_job))
    assert why_provisional(open_job) == "put back"
    open_job = reopened(open_job)
    assert open_job.applied() == set()
    assert open_job.computer.machine.state.settings == before


def test_several_readings_of_one_state_are_held_together(open_job):
    taken = [read_baseline(open_job, seconds=120) for _ in range(3)]
    make_audit(open_job)
    toggle(open_job, parse_ref("services:chart-cache"))
    plan_of(open_job)
    carry_out(open_job)
    restart(open_job)
    read_baseline(open_job, seconds=120)  # by mistake, after the changes
    choose_baseline(open_job, 2)
    first = read_after(open_job, seconds=120)
    assert sides_of(open_job) == (taken[::-1], [first])
    second = read_after(open_job, seconds=120)
    assert sides_of(open_job)[1] == [second], "two cannot tell how much starts differ"
    third = read_after(open_job, seconds=120)
    assert sides_of(open_job) == (taken[::-1], [third, second, first])
    compared = comparisons_of(open_job)
    assert {(c.readings_before, c.readings_after) for c in compared} == {(3, 3)}
    shares = attribution_of(open_job, compared)
    assert shares.changed.points + shares.changed.half < 0
    assert shares.changed.half < shares.whole.half


def test_what_cannot_be_chosen_says_why(open_job):
    with pytest.raises(UsageError, match="no audit"):
        toggle(open_job, parse_ref("services:chart-cache"))
    read_baseline(open_job, seconds=30)
    make_audit(open_job)
    for address, why in (
        ("services:display-keeper", "guarded"),
        ("services:plot-queue", "needs it for plotting"),
        ("power:mains", "as the profile wants"),
    ):
        with pytest.raises(UsageError, match=why):
            toggle(open_job, parse_ref(address))


def test_another_profile_judges_anew(open_job):
    read_baseline(open_job, seconds=30)
    make_audit(open_job)
    choose_all_eased(open_job)
    choose_profile(open_job, open_job.data_folder.profile("writing-and-web"))
    assert (open_job.job.audit, open_job.job.chosen) == (None, ())
    assert make_audit(open_job).find(parse_ref("apps:chat-horn")).stance == "keep"


def test_nothing_chosen_nothing_applied(open_job):
    make_audit(open_job)
    with pytest.raises(UsageError, match="Nothing is chosen"):
        carry_out(open_job)
    with pytest.raises(UsageError, match="needs a baseline and an after"):
        comparisons_of(open_job)


def test_a_job_of_another_computer_is_not_opened(data_folder, open_job):
    job = msgspec.structs.replace(open_job.job, identity="sim-other")
    with pytest.raises(UsageError, match="another computer"):
        reopen_job(data_folder, job)


def test_no_change_is_rarely_taken_for_one(tmp_path):
    alarms = 0
    for seed in range(1, 13):
        computer = bench(tmp_path / str(seed), seed)
        readings = []
        for _ in range(2):
            computer.clock.restart()
            readings.append(take_reading(computer))
        alarms += sum(c.verdict != "none" for c in compare_readings(*([r] for r in readings))[:2])
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

    results = compare_readings(
        [carrying(0, 0)], [carrying(cpu, ram)], Threshold(cpu_pct=0, ram_pct=0)
    )
    assert words.lower() in headline(results, "").lower()
    assert headline(results, "restart").startswith(
        "Provisional, since a restart was still needed when it was taken: "
    )
    assert all(sentence(r).endswith(".") for r in results)


# -- profiles of the data folder -------------------------------------------------------------------


def test_profiles_by_name_by_file_and_ones_own(data_folder, tmp_path):
    assert data_folder.profile("hull-drafting") == profile()
    with pytest.raises(UnknownNameError, match="Did you mean hull-drafting"):
        data_folder.profile("hul-drafting")
    own = data_folder.home / "profiles"
    own.mkdir(parents=True)
    text = 'format = 1\nname = "mine"\ntitle = "Mine"\n[ceilings]\ncpu_pct = 5\nram_pct = 40\n'
    (own / "mine.toml").write_text(text)
    (own / "broken.toml").write_text("format = ")
    assert {"hull-drafting", "writing-and-web", "mine"} < set(data_folder.profiles())
    assert "broken" not in data_folder.profiles()
    assert data_folder.profile(str(own / "mine.toml")).name == "mine"
    with pytest.raises(UsageError, match="not valid TOML"):
        data_folder.profile("broken")
    (own / "latin.toml").write_bytes(b"# ok\n# caf\xe9\n")
    with pytest.raises(UsageError, match=r"line 2: this is not UTF-8"):
        data_folder.profile(str(own / "latin.toml"))
    with pytest.raises(UsageError, match="no such file"):
        data_folder.profile(str(tmp_path / "nowhere.toml"))


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


def test_a_report_half_way_says_what_is_missing(open_job, tmp_path):
    def charts():
        return [p.name for p in write_report(open_job, tmp_path / "r") if p.suffix == ".svg"]

    assert charts() == []
    read_baseline(open_job, seconds=30)
    assert charts() == ["load.svg", "spread.svg", "strips.svg", "disk.svg"]
    assert "no reading before and after" in content_of(open_job).verdict


def test_hostile_names_reach_no_document_as_markup(data_folder, tmp_path):
    from helpers import put
    from lumtak.report.technician import report_pdf
    from lumtak.report.tongue import Tongue

    computer = bench(data_folder.home / "simulated")
    open_job = begin_job(data_folder, computer, data_folder.profile("hull-drafting"))
    content = msgspec.structs.replace(
        content_of(open_job),
        computer="<b>\x1b[31m & </para>",
        verdict="<font size=99>",
        mismatches=("<a href='x'>",),
    )
    text = PdfReader(io.BytesIO(report_pdf(content, [], Tongue("en")))).pages[0].extract_text()
    assert "<font size=99>" in text
    assert "</para>" in text
    put(tmp_path, "in-the-way", "x")
    with pytest.raises(StorageError, match="cannot be written"):
        write_report(open_job, tmp_path / "in-the-way" / "r")


@pytest.mark.parametrize("name", ["profile", "reading", "job", "settings"])
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
    shop = Settings(shop=Shop(name='Quay "2"'), theme="light", keys={"least": "x"})
    settings = tomllib.loads(settings_toml(shop))
    assert load_settings(settings_toml(shop), "settings.toml") == shop
    document = {"job": job, "reading": job["before"], "profile": toml, "settings": settings}[name]
    validator = Draft202012Validator(schema)
    validator.validate(document)
    assert not validator.is_valid({**document, "shoe_size": 44})
