"""The command line, run as a person runs it.

Exit codes, one sentence for whatever is wrong, nothing half-written.
"""

import json
import os
import pty
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

import click
import helpfiles
import msgspec
import pytest

from helpers import ENTRY, LUMTAK, bench, lumtak, lumtak_process, put, reading, snapshot_of
from lumtak.cli import cli
from lumtak.core.reading import to_json

NAME = "sim:drawing-bench"


@pytest.fixture
def ready(home):
    """A home in which the bench is switched on already."""
    bench(home / "simulated").close()
    return home


def fine(*arguments, run=lumtak, **options):
    result = run(*arguments, **options)
    assert result.returncode == 0, result.stderr
    assert "Traceback" not in result.stderr
    return result.stdout


def refused(code, *arguments, says=(), **options):
    result = lumtak(*arguments, **options)
    assert result.returncode == code, (result.returncode, result.stdout, result.stderr)
    assert "Traceback" not in result.stderr + result.stdout
    (line,) = [x for x in result.stderr.splitlines() if x.startswith("lumtak: ")]
    for word in says:
        assert word in line, line
    return result


def test_version_and_help():
    assert fine("--version").startswith("lumtak 0.")
    assert "Exit codes: 0 done, 1 failed, 2 usage, 3 conflict" in fine("--help")
    for command in ("apply", "audit", "read", "compare", "undo", "job"):
        assert "lumtak " in fine(command, "--help"), "examples"


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (
            ("facts", "sim:drawing-bensh"),
            ("no computer called sim:drawing-bensh", "Did you mean sim:drawing-bench"),
        ),
        (("facts", "elsewhere"), ("no computer called elsewhere",)),
        (
            ("audit", "sim:drawing-bench", "--profile", "hul-drafting"),
            ("no profile", "Did you mean hull-drafting"),
        ),
        (
            ("apply", "sim:drawing-bench", "services:tide-fed=off"),
            ("Did you mean services:tide-feed",),
        ),
        (
            ("apply", "sim:drawing-bench", "services:tide-feed=gone"),
            ("it can be auto, manual, off",),
        ),
        (("apply", "sim:drawing-bench", "services:display-keeper=off"), ("guarded",)),
        (("apply", "sim:drawing-bench", "nonsense"), ("AREA:KEY=VALUE",)),
        (("undo", "sim:drawing-bench"), ("--all",)),
        (("undo", "sim:drawing-bench", "7"), ("no change on this computer called 7",)),
        (("report", "nowhere-1", "--out", "x"), ("no job called nowhere-1",)),
        (("read", "sim:drawing-bench", "--out", "x.txt"), (".json nor .csv",)),
        (("read", "sim:drawing-bench", "--out", "nowhere/x.csv"), ("no folder",)),
        (("read", "sim:drawing-bench"), ("--out",)),
        (("read", "sim:drawing-bench", "--seconds", "0", "--out", "x.csv"), ("not possible",)),
        (("facts", "sim:drawing-bench", "--user", "carpenter"), ("no user carpenter",)),
        (("adit", "local"), ("adit",)),
        (("audit", "local"), ("--profile",)),
        (("job", "start", "sim:drawing-bench", "--profile", "/nowhere.toml"), ("no such file",)),
    ],
)
def test_what_makes_no_sense_is_one_sentence(ready, tmp_path, arguments, says):
    refused(2, *arguments, home=ready, cwd=tmp_path, says=says)
    assert {p.name for p in tmp_path.iterdir()} == {"home"}, "nothing half-written"


def test_a_profile_with_a_wrong_key_names_file_line_and_nearest(ready, tmp_path):
    path = tmp_path / "p.toml"
    path.write_text('format = 1\nname = "p"\ntitle = "P"\n[ceilings]\ncpu_pct = 5\nram_pc = 40\n')
    for command in (("profile", "check", path), ("audit", "sim:drawing-bench", "--profile", path)):
        refused(2, *command, home=ready, says=(f"{path}, line 6", "“ram_pc”", "“ram_pct”"))


def test_a_home_that_cannot_be_written(tmp_path):
    put(tmp_path, "file", "x")
    for command in (
        ("apply", "sim:drawing-bench", "effects:shadows=off"),
        ("jobs",),
        ("job", "start", "local", "--profile", "writing-and-web"),
    ):
        result = lumtak(*command, home=tmp_path / "file/home")
        assert result.returncode in {1, 2}
        assert "Traceback" not in result.stderr
        assert result.stderr.startswith("lumtak: ")


def test_a_full_disk(tmp_path):
    refused(1, "example", "--out", "/dev/full/x", says=("cannot be written",))


def test_where_home_is_said_does_not_matter(ready):
    first = fine("journal", "sim:drawing-bench", home=ready)
    second = lumtak("journal", "sim:drawing-bench", "--home", ready)
    assert second.stdout == first


def test_profiles_are_listed_by_name():
    lines = fine("profile", "list").splitlines()
    names = [line.split()[0] for line in lines]
    assert {"hull-drafting", "tide-logging", "writing-and-web", "point-of-sale"} <= set(names)
    assert len(names) == 12
    assert [p["name"] for p in json.loads(fine("profile", "list", "--json"))] == names


def test_audit_in_json_and_in_words(ready):
    found = json.loads(
        fine("audit", "sim:drawing-bench", "--profile", "hull-drafting", "--json", home=ready)
    )
    assert all({"area", "key", "stance", "reason", "grade"} <= f.keys() for f in found["findings"])
    stances = {f"{f['area']}:{f['key']}": f["stance"] for f in found["findings"]}
    assert stances["services:chart-cache"] == "ease"
    assert stances["services:moulding-link"] == "ask"
    text = fine(
        "audit", "sim:drawing-bench", "--profile", "hull-drafting", "--seconds", "0", home=ready
    )
    assert "services:chart-cache" in text
    assert "Nothing is measured yet" in text


def test_forth_and_back_through_the_journal(ready):
    before = json.loads((ready / "simulated/drawing-bench.json").read_text())["settings"]
    out = fine(
        "apply",
        "sim:drawing-bench",
        "apps:chat-horn=off",
        "effects:shadows=off",
        "services:crash-courier=off",
        home=ready,
    )
    assert out.count("read back") == 3
    assert "restart needed for 1, new login for 1" in out
    journal = json.loads(fine("journal", "sim:drawing-bench", "--json", home=ready))
    assert {c["setting"]: (c["before"], c["value"], c["state"]) for c in journal["changes"]} == {
        "effects:shadows": (None, "off", "verified"),
        "apps:chat-horn": ("on", "off", "verified"),
        "services:crash-courier": ("auto", "off", "verified"),
    }
    assert "nothing more is needed" in fine("restart", "sim:drawing-bench", home=ready)
    assert "unset" in fine("undo", "sim:drawing-bench", "1", home=ready)
    fine("undo", "sim:drawing-bench", "--all", home=ready)
    assert "nothing to put back" in fine("undo", "sim:drawing-bench", "--all", home=ready)
    assert json.loads((ready / "simulated/drawing-bench.json").read_text())["settings"] == before


def test_a_conflict_is_exit_3_and_can_be_overwritten(ready):
    fine("apply", "sim:drawing-bench", "apps:chat-horn=off", "memory:swappiness=60", home=ready)
    path = ready / "simulated/drawing-bench.json"
    state = json.loads(path.read_text())
    state["settings"]["memory:swappiness"] = "33"
    path.write_text(json.dumps(state))
    result = refused(3, "undo", "sim:drawing-bench", "--all", home=ready)
    assert "now it is 33" in result.stdout
    assert "100" in fine("undo", "sim:drawing-bench", "--all", "--overwrite", home=ready)


def test_drift_is_exit_3_with_when_it_was_last_right(ready):
    assert (
        lumtak(
            "apply", NAME, "effects:shadows=off", "services:fax-bridge=off", home=ready
        ).returncode
        == 0
    )
    calm = lumtak("drift", NAME, home=ready)
    assert calm.returncode == 0
    assert calm.stdout.count("as left") == 2
    path = ready / "simulated/drawing-bench.json"
    path.write_text(
        path.read_text().replace('"services:fax-bridge":"off"', '"services:fax-bridge":"manual"', 1)
    )
    found = lumtak("drift", NAME, "--json", home=ready)
    assert found.returncode == 3
    rows = {s["setting"]: s for s in json.loads(found.stdout)["settings"]}
    gone = rows["services:fax-bridge"]
    assert (gone["standing"], gone["before"], gone["left_as"], gone["now"]) == (
        "drifted",
        "auto",
        "off",
        "manual",
    )
    assert gone["last_seen_right"]


def test_a_failure_keeps_or_puts_back_what_was_done(ready):
    name = f"{NAME}?fault=refuse:services:fax-bridge"
    changes = ("effects:shadows=off", "services:fax-bridge=off", "apps:chat-horn=off")
    kept = lumtak("apply", name, *changes, home=ready)
    assert kept.returncode == 3
    assert "apps:chat-horn: on → on, not tried" in kept.stdout
    assert f"`lumtak undo {name} 1` puts it back" in kept.stdout
    assert lumtak("undo", name, "1", home=ready).returncode == 0
    back = json.loads(
        lumtak("apply", name, *changes, "--on-failure", "put-back", "--json", home=ready).stdout
    )
    assert [o["result"] for o in back["put_back"]] == ["done"]
    left = json.loads(lumtak("journal", NAME, "--json", home=ready).stdout)["changes"]
    assert not any(c["open"] for c in left)


def test_faults_that_do_not_exist_name_the_nearest(ready):
    wrong = lumtak("facts", f"{NAME}?fault=refus", home=ready)
    assert wrong.returncode == 2
    assert "Did you mean refuse?" in wrong.stderr
    assert "sim:NAME?fault=KIND" in lumtak("facts", f"{NAME}?speed=2", home=ready).stderr


def test_read_and_compare(ready, tmp_path):
    for name in ("a.json", "b.csv"):
        fine("read", "sim:drawing-bench", "--seconds", "60", "--out", tmp_path / name, home=ready)
    result = json.loads(fine("compare", tmp_path / "a.json", tmp_path / "b.csv", "--json"))
    assert {"difference", "ci95", "verdict", "n_before", "n_after"} <= result.keys()
    assert result["ci95"][0] <= result["difference"] <= result["ci95"][1]
    low = reading([10.0 + i % 3 for i in range(60)])
    (tmp_path / "low.json").write_bytes(to_json(low))
    assert "lower" in fine("compare", tmp_path / "a.json", tmp_path / "low.json")
    assert "ram_pct" in fine(
        "compare", tmp_path / "a.json", tmp_path / "low.json", "--column", "ram_pct"
    )
    (tmp_path / "cut.json").write_bytes(to_json(low)[:500])
    refused(2, "compare", tmp_path / "a.json", tmp_path / "cut.json", says=("cut short",))
    (tmp_path / "one.json").write_bytes(
        to_json(msgspec.structs.replace(low, samples=low.samples[:1]))
    )
    refused(2, "compare", tmp_path / "a.json", tmp_path / "one.json", says=("at least 2",))


def test_several_readings_a_threshold_and_mismatches(ready, tmp_path):
    for name in "abcd":
        fine(
            "read",
            "sim:drawing-bench",
            "--seconds",
            "30",
            "--out",
            tmp_path / f"{name}.json",
            home=ready,
        )
    paths = [tmp_path / f"{name}.json" for name in "abcd"]
    arguments = (
        "compare",
        paths[0],
        paths[2],
        "--also-before",
        paths[1],
        "--also-after",
        paths[3],
        "--threshold",
        "50",
        "--json",
    )
    result = json.loads(fine(*arguments))
    assert (result["readings_before"], result["readings_after"], result["finding"]) == (
        2,
        2,
        "no effect",
    )
    (tmp_path / "other.json").write_bytes(to_json(reading()))
    assert "two different computers" in fine("compare", paths[0], tmp_path / "other.json")


def test_a_quick_look_and_openmetrics(ready):
    text = fine("look", "sim:drawing-bench", home=ready)
    assert "Chart cache" in text
    assert "What this cannot say" in text
    found = json.loads(fine("look", "sim:drawing-bench", "--json", home=ready))
    assert found["services"][0]["key"] == "services:chart-cache"
    assert fine(
        "read", "sim:drawing-bench", "--seconds", "30", "--openmetrics", home=ready
    ).endswith("# EOF\n")


def test_a_whole_job_without_a_screen(ready, tmp_path):
    job = fine(
        "job", "start", "sim:drawing-bench", "--profile", "hull-drafting", home=ready
    ).strip()
    assert job == "drawing-bench-1"
    fine("job", "baseline", job, "--seconds", "60", home=ready)
    assert "chart-cache" in fine("job", "audit", job, home=ready)
    assert "projected" in fine("job", "choose", job, "--eased", home=ready)
    fine("job", "apply", job, home=ready)
    fine("restart", "sim:drawing-bench", home=ready)
    assert "less load" in fine("job", "after", job, home=ready)
    assert (tmp_path / "r/report.pdf").exists() is False
    fine("report", job, "--out", tmp_path / "r", home=ready)
    charts = {
        f"{kind}.{form}"
        for kind in ("load", "spread", "bridge", "strips", "disk")
        for form in ("svg", "pdf")
    }
    data = {"job.json", "figures.csv", "samples.csv", "changes.csv", "reminders.ics"}
    assert {p.name for p in (tmp_path / "r").iterdir()} == {
        "report.pdf", "sheet.pdf", *charts, *data,
    }  # fmt: skip
    figures = (tmp_path / "r/figures.csv").read_text().splitlines()
    assert figures[0].startswith("name,title,unit,before,after,difference")
    assert any(line.startswith("ram_used_bytes,") and ",lower," in line for line in figures)
    assert f"{job}  sim:drawing-bench  proof" in fine("jobs", home=ready)
    fine("job", "archive", job, home=ready)
    assert job not in fine("jobs", home=ready)
    assert job in fine("jobs", "--archived", home=ready)
    fine("job", "archive", job, "--take-out", home=ready)
    fine("settings", "set", "report_folder", str(ready / "reports"), home=ready)
    (ready / "reports").mkdir()
    assert str(ready / "reports" / f"lumtak-report-{job}") in fine("report", job, home=ready)


# -- this computer, in a temporary home ------------------------------------------------------------


@pytest.fixture
def person(tmp_path):
    """A user's home with an autostart entry of the test's own."""
    folder = tmp_path / "person"
    put(folder, ".config/autostart/lumtak-test-tide.desktop", ENTRY)
    put(
        folder,
        ".config/autostart/lumtak-[b]\x1b[2J.desktop",
        ENTRY.replace("Tide feed", "\x1b[2J[bold]"),
    )
    return folder


@pytest.fixture
def there(person, tmp_path):
    env = {
        "HOME": str(person),
        "XDG_CONFIG_HOME": "",
        "XDG_CONFIG_DIRS": str(tmp_path / "xdg"),
        "SUDO_USER": "",
        "XDG_DATA_HOME": "",
    }
    put(tmp_path, "xdg/autostart/lumtak-test-system.desktop", ENTRY)
    return {"home": tmp_path / "data", "env": env}


def test_facts_agree_with_the_kernel(there):
    facts = json.loads(fine("facts", "local", "--json", run=lumtak_process, **there))
    total = Path("/proc/meminfo").read_text().split()[1]
    assert facts["hardware"]["ram_bytes"] == int(total) * 1024
    seen = {p["pid"] for p in facts["processes"]}
    assert os.getpid() in seen
    assert 1 in seen
    assert "processors" in fine("facts", "local", **there)


def test_an_entry_that_nobody_knows_is_a_question(there):
    found = json.loads(
        fine("audit", "local", "--profile", "writing-and-web", "--seconds", "1", "--json", **there)
    )
    mine = {f["key"]: f for f in found["findings"]}
    assert mine["lumtak-test-tide"]["stance"] == "ask"
    told = {g["area"] for g in found["gaps"]} | {f["area"] for f in found["findings"]}
    assert told >= {"effects", "power", "services"}, "of what cannot be read here it is said why"
    text = fine("audit", "local", "--profile", "writing-and-web", "--seconds", "0", **there)
    assert "\x1b" not in text
    assert "[2J" in text


def test_a_real_change_by_the_standard_and_back_to_the_byte(person, there):
    before = snapshot_of(person)
    fine(
        "apply",
        "local",
        "apps:lumtak-test-tide=off",
        "apps:lumtak-test-system.desktop=off",
        **there,
    )
    for name in ("tide", "system"):
        assert (
            "Hidden=true" in (person / f".config/autostart/lumtak-test-{name}.desktop").read_text()
        )
    assert "login needed for 2" in fine("journal", "local", **there)
    fine("undo", "local", "--all", **there)
    assert snapshot_of(person) == before


def test_only_a_restart_by_hand_for_this_computer(there):
    refused(1, "restart", "local", says=("yourself",), **there)


def test_a_reading_of_this_computer_stopped_by_hand_is_kept(there, tmp_path):
    command = [
        *LUMTAK,
        "--home",
        there["home"],
        "read",
        "local",
        "--seconds",
        "600",
        "--interval",
        "0.2",
        "--out",
        tmp_path / "r.json",
    ]
    seen, shown = pty.openpty()  # how far it is, is told on a terminal only
    environment = {**os.environ, **there["env"]}
    with subprocess.Popen(
        command, env=environment, stdout=subprocess.PIPE, stderr=shown, text=True
    ) as process:
        os.close(shown)
        said = b""
        while b"reading" not in said:
            said += os.read(seen, 1024)
        process.send_signal(signal.SIGINT)
        out, _ = process.communicate()
    os.close(seen)
    assert process.returncode == 0
    assert "(stopped after " in out
    kept = json.loads((tmp_path / "r.json").read_text())
    assert kept["ended"] == "stopped"
    assert kept["samples"]


LOAD = """
import time
held = bytearray(300 << 20)
for i in range(0, len(held), 4096):
    held[i] = 1
print("ready", flush=True)
while True:
    end = time.thread_time() + 0.02
    while time.thread_time() < end:
        pass
    time.sleep(0.08)
"""


@pytest.mark.long
@pytest.mark.timeout(300)  # two readings beside whatever else this machine does
def test_a_real_load_is_found_measured_and_named(there, tmp_path):
    """Judged by what is attributed to it, so that whatever else runs on this machine does not
    matter.
    """
    fine(
        "read",
        "local",
        "--seconds",
        "8",
        "--interval",
        "0.2",
        "--out",
        tmp_path / "a.json",
        run=lumtak_process,
        **there,
    )
    program = tmp_path / "tide-burner"  # a name that nothing else has
    program.symlink_to(Path(sys.executable).resolve())
    with subprocess.Popen([program, "-S", "-c", LOAD], stdout=subprocess.PIPE, text=True) as load:
        assert load.stdout.readline() == "ready\n"
        used, began = cpu_s(load.pid), time.monotonic()
        fine(
            "read",
            "local",
            "--seconds",
            "16",
            "--interval",
            "0.2",
            "--out",
            tmp_path / "b.json",
            run=lumtak_process,
            **there,
        )
        true_pct = (
            100 * (cpu_s(load.pid) - used) / (time.monotonic() - began) / (os.cpu_count() or 1)
        )
        load.kill()
    compared = json.loads(fine("compare", tmp_path / "a.json", tmp_path / "b.json", "--json"))
    mover = next(m for m in compared["movers"] if m["key"] == "apps:process/tide-burner")
    assert mover["cpu_pct"] == pytest.approx(true_pct, rel=0.3)
    assert mover["ram_bytes"] == pytest.approx(300 << 20, rel=0.1)


def cpu_s(pid):
    """Core-seconds of a process since it started."""
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


@pytest.mark.parametrize("moment", range(6))
def test_killed_at_any_moment_everything_comes_back(person, there, moment):
    before = snapshot_of(person)
    refs = ["apps:lumtak-test-tide=off", "apps:lumtak-test-system=off"]
    process = subprocess.Popen(
        [*LUMTAK, "--home", there["home"], "apply", "local", *refs],
        env={**os.environ, **there["env"]},
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    journal = there["home"] / "journal.db-wal"
    deadline = time.monotonic() + 20
    while process.poll() is None and time.monotonic() < deadline:
        size = journal.stat().st_size if journal.exists() else 0
        if size > 20_000 + moment * 4_200:
            break
    process.kill()
    process.wait()
    fine("undo", "local", "--all", **there)
    assert snapshot_of(person) == before
    assert not any(
        c["open"] for c in json.loads(fine("journal", "local", "--json", **there))["changes"]
    )


def test_what_is_made_from_the_help_is_as_the_help_is_now():
    for path, text in helpfiles.files():
        assert path.read_text(encoding="utf-8") == text, "run: make helpfiles"
    whole = click.Context(cli, **cli.context_settings)
    for name in cli.list_commands(whole):
        assert cli.get_command(whole, name) is not None, name


@pytest.mark.parametrize(
    ("words", "offers"),
    [
        ("lumtak a", {"advice", "answer", "apply", "audit"}),
        ("lumtak job c", {"choose", "complaint"}),
        ("lumtak chart --kind ", {"load", "spread", "bridge", "strips", "disk"}),
        ("lumtak completion ", {"bash", "zsh", "fish"}),
    ],
)
def test_completion_offers_what_there_is_and_imports_none_of_it(words, offers):
    given = words.split(" ")
    env = {
        **os.environ,
        "_LUMTAK_COMPLETE": "bash_complete",
        "COMP_WORDS": words,
        "COMP_CWORD": str(len(given) - 1),
    }
    done = subprocess.run(
        [sys.executable, "-X", "importtime", "-m", "lumtak"],
        capture_output=True, text=True, check=False, timeout=60, env=env,
    )  # fmt: skip
    assert {line.partition(",")[2] for line in done.stdout.splitlines()} == offers
    assert "lumtak.work" not in done.stderr
    assert "msgspec" not in done.stderr


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_each_shell_gets_its_completion_and_the_version_says_where_data_stand(shell, tmp_path):
    assert "_LUMTAK_COMPLETE" in fine("completion", shell, home=tmp_path)
    told = fine("--version", home=tmp_path / "none")
    for name in ("data", "settings", "knowledge", "profiles"):
        assert re.search(rf"(?m)^{name} +{tmp_path}/none", told), told
    assert "nothing there yet" in told
    assert not (tmp_path / "none").exists(), "asking makes nothing"


def test_settings_are_set_unset_and_refused(tmp_path):
    home = tmp_path / "data"
    fine("settings", "set", "shop.name", 'The "quay", workshop \u2014 2', home=home)
    fine("settings", "set", "keys.search", "y", home=home)
    fine("settings", "set", "confidence", "0.95", home=home)
    found = json.loads(fine("settings", "list", "--json", home=home))
    assert found["settings"]["shop"]["name"] == 'The "quay", workshop \u2014 2'
    assert found["settings"]["confidence"] == 0.95
    assert found["keys"]["search"] == "y"
    for words, why in (
        (("keys.search", "a"), "is the key of both"),
        (("keys.search", "escape"), "means the same everywhere"),
        (("keys.nothing", "a"), "no command"),
        (("theme", "pink"), "dark or light"),
        (("confidence", "2"), "0.5 to 0.999"),
        (("nothing", "2"), "no setting"),
        (("shop.name", "a\x07b"), "cannot be printed"),
    ):
        refused(2, "settings", "set", *words, says=(why,), home=home)
    assert json.loads(fine("settings", "list", "--json", home=home)) == found
    for name in ("shop.name", "keys.search", "confidence"):
        fine("settings", "unset", name, home=home)
    assert (home / "settings.toml").read_text() == "format = 1\n"
    (home / "settings.toml").write_text("format = 1\ncolour = 3\n")
    refused(2, "settings", "set", "theme", "light", says=("colour",), home=home)
    assert "colour" in (home / "settings.toml").read_text(), "what cannot be read is not lost"
