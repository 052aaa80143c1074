"""The owner's sheet: one page that says only what is known, in their words and their language."""

import csv
import io
import shutil
import subprocess
import xml.etree.ElementTree as ET
from importlib.resources import files

import msgspec
import pytest
from messages import messages, untranslated
from pypdf import PdfReader

from helpers import lumtak, put
from lumtak.core.facts import Sign
from lumtak.core.notice import notice_of
from lumtak.core.owner import Owner
from lumtak.core.settings import Settings, Shop
from lumtak.core.units import GIB
from lumtak.errors import StorageError
from lumtak.report.content import ChangeLine
from lumtak.report.figures import changes_csv, figures_csv, samples_csv
from lumtak.report.lettering import not_in_font, shaped
from lumtak.report.sheet import sheet_of
from lumtak.report.sheet.measured import kind_of
from lumtak.report.sheet.money import money
from lumtak.report.sheet.page import sheet_pdf
from lumtak.report.sheet.preview import preview
from lumtak.report.technician import report_pdf
from lumtak.report.tongue import Tongue, languages
from lumtak.work import sheet as work_sheet
from lumtak.work.audit import choose_all_eased, make_audit
from lumtak.work.data_folder import DataFolder
from lumtak.work.example import run_example
from lumtak.work.handover import content_of, plots_of
from lumtak.work.intake import begin_job
from lumtak.work.knowledge import shipped_catalogue
from lumtak.work.owner import note_owner
from lumtak.work.plan import carry_out, put_changes_back, restart
from lumtak.work.proof import read_after
from lumtak.work.reading import read_baseline
from lumtak.work.sheet import lacking

ENGLISH = Tongue("en_US")


def begun(home, name="sail-loft", profile="sail-making"):
    data_folder = DataFolder(home)
    data_folder.keep_settings(Settings(shop=Shop(name="Quay", phone="0100 1")))
    computer = data_folder.computer(f"sim:{name}")
    return begin_job(
        data_folder, computer, data_folder.profile(profile), complaint="many-open", told="It hangs."
    )


@pytest.fixture(scope="module")
def done(tmp_path_factory):
    """A job whose memory stays too small, gone through to the after reading."""
    open_job = begun(tmp_path_factory.mktemp("sheet"))
    restart(open_job)
    read_baseline(open_job, seconds=120)
    make_audit(open_job)
    choose_all_eased(open_job)
    carry_out(open_job)
    changed = content_of(open_job)
    restart(open_job)
    read_after(open_job, seconds=120)
    yield open_job, changed, content_of(open_job)
    open_job.close()
    open_job.data_folder.close()


def page(content, tongue=ENGLISH):
    """(the text of its only page, the document), once what any PDF needs is there."""
    data = sheet_pdf(lambda most: sheet_of(content, tongue, most), tongue.paper)
    document = PdfReader(io.BytesIO(data), strict=True)
    (only,) = document.pages
    for font in only["/Resources"]["/Font"].values():
        assert "/FontFile2" in font.get_object()["/FontDescriptor"].get_object()
    assert document.trailer["/Root"]["/Lang"] == tongue.tag
    assert document.metadata.title
    return " ".join(only.extract_text().split()), document


def test_an_owner_finds_on_it_what_was_wrong_what_came_of_it_and_whom_to_call(done):
    _, _, content = done
    assert kind_of(content) == "partly", "memory is too small before and after"
    text, _ = page(content)
    asked = (
        "Your computer is better, but its main trouble stays.", "“It hangs.”", "The memory is full",
        "Opening a small program took", "How we know: it was measured on this computer",
        "Panels are no longer see-through. (“Glass panels”)", "“Sail desk”", "More memory: 4 GiB",
        "By April", "Call 0100 1 and say the number", "Date, owner",
    )  # fmt: skip
    places = [text.find(words) for words in asked]
    assert -1 not in places, dict(zip(asked, places, strict=True))
    assert places == sorted(places), "in reading order"
    assert not [w for w in ("demand", "unset", "MSER", "services:") if w in text]


def test_what_is_not_known_is_not_claimed(done):
    _, changed, content = done
    text, _ = page(changed)
    assert kind_of(changed) == "open"
    assert "restarted first" in text
    assert "took" not in text
    gone = tuple(msgspec.structs.replace(c, stands=False, stage="undone") for c in content.changes)
    back = msgspec.structs.replace(content, changes=gone)
    text, _ = page(back)
    assert "everything was put back" in text
    assert "Call us: 0100 1" in text
    nothing = msgspec.structs.replace(content, changes=(), after=None, felt=(), comparisons=())
    assert "changed nothing" in page(nothing)[0]
    calm = msgspec.structs.replace(content.audit, first="", lines=("Nothing to gain.",))
    assert kind_of(msgspec.structs.replace(nothing, audit=calm)) == "nothing to gain"
    same = tuple(msgspec.structs.replace(c, finding="not known") for c in content.felt)
    load = tuple(msgspec.structs.replace(c, finding="no effect") for c in content.comparisons)
    flat = msgspec.structs.replace(content, felt=same, comparisons=load)
    assert "it is not better than before" in page(flat)[0]
    worse = tuple(msgspec.structs.replace(c, finding="higher") for c in content.felt)
    assert "it is worse" in page(msgspec.structs.replace(flat, felt=worse))[0]
    bare = msgspec.structs.replace(
        nothing, before=None, audit=None, limits=(), facts=None, told="", complaint="", due=()
    )
    assert "we cannot say what is wrong" in page(bare)[0]


def many(count):
    return tuple(
        ChangeLine(
            id=n, number=n, address=f"services:s{n}", title=f"Service {n} " + "w" * (n % 60),
            notice=f"Number {n} is noticed by whoever looks for it.", missed="function",
            before="auto", value="off", stage="verified", stands=True, shows="now",
            begun_at="2026-03-02T07:00:00", stage_at="2026-03-02T07:00:00", note="",
        )
        for n in range(1, count + 1)
    )  # fmt: skip


@pytest.mark.parametrize("name", ["en_US", "de_DE"])
def test_it_stays_one_page_whatever_it_has_to_say(done, name):
    _, _, content = done
    tongue = Tongue(name)
    shop = Shop(name="N" * 200, address=", ".join(["Lane and lane again"] * 10), phone="1" * 200)
    full = msgspec.structs.replace(
        content, changes=many(200), shop=shop, told="so slow " * 50, computer="c" * 300,
        owner=Owner(name="\u05d3\u05d5\u05d3 " * 60, contact="\u0645\u062d", agreed="w" * 200),
        by_number="sh ~/.local/share/lumtak-undo/put-back",
    )  # fmt: skip
    text, document = page(full, tongue)
    box = document.pages[0].mediabox
    assert (round(box.width), round(box.height)) == ((612, 792) if name == "en_US" else (595, 842))
    assert "put-back 1" in text
    assert ("more, in the report" if name == "en_US" else "weitere, im Bericht") in text
    assert sheet_of(full, tongue).numbers == tuple(range(1, 201))
    report = PdfReader(io.BytesIO(report_pdf(full, [], tongue)))
    assert len(report.pages) > 5
    assert report.trailer["/Root"]["/Lang"] == tongue.tag


def test_markup_and_control_characters_stay_text_everywhere(done):
    _, _, content = done
    nasty = "<b>&amp;\x1b[31m</para><img src=x>{title}"
    odd = msgspec.structs.replace(
        content, told=nasty, computer=nasty, shop=Shop(name=nasty, phone=nasty),
        owner=Owner(name=nasty, notes=nasty),
        changes=tuple(msgspec.structs.replace(c, title=nasty, note=nasty) for c in content.changes),
    )  # fmt: skip
    assert "<b>&amp;" in page(odd)[0]
    assert PdfReader(io.BytesIO(report_pdf(odd, [], ENGLISH))).pages
    assert not [line for line in preview(sheet_of(odd, ENGLISH), 80) if "\x1b" in line.words]


def test_what_runs_from_right_to_left_stands_so_and_missing_letters_are_named(done):
    _, _, content = done
    hebrew = "\u05e9\u05dc\u05d5\u05dd"
    text, _ = page(msgspec.structs.replace(content, told=hebrew))
    assert hebrew in text, "as it is read"
    assert shaped(f"a {hebrew} 1") == f"a 1 {hebrew[::-1]}", "as it stands on paper"
    assert not_in_font(f"Ada {hebrew} \u0645\u062d\u0645\u062f") == ""
    assert not_in_font("\u8239 hull") == "\u8239"


def test_letters_are_embedded_even_without_the_plotting_library(done, monkeypatch):
    from reportlab.pdfbase import pdfmetrics

    from lumtak.report import lettering

    monkeypatch.setattr(pdfmetrics, "_fonts", {})
    files_of = {k: ("gone.ttf", v[1]) for k, v in lettering._FILES.items()}
    monkeypatch.setattr(lettering, "_FILES", files_of)
    assert "main trouble stays" in page(done[2])[0]


# -- languages -------------------------------------------------------------------------------------


def test_every_language_has_words_for_everything():
    assert languages() == ("en", "de")
    assert len(messages()) > 300
    for language in languages()[1:]:
        assert untranslated(language) == []


def test_every_role_says_what_its_owner_would_notice():
    """Those are named that say nothing, so that it is on purpose."""
    silent = {r.name for r in shipped_catalogue().role if not r.guarded and not r.notice}
    assert silent == {
        "launch-prefetch", "crash-reports", "telemetry", "measuring-post", "shared-computing",
    }  # fmt: skip
    for role in shipped_catalogue().role:
        assert role.notice == "" or (role.notice[0].isupper() and role.notice.endswith("."))


def test_dates_numbers_and_paper_are_those_of_the_country(monkeypatch):
    german, english = Tongue("de_AT"), Tongue("en_US")
    assert (german.number(1234.5, 1), english.number(1234.5, 1)) == ("1.234,5", "1,234.5")
    assert german.date("2026-03-02T10:00:00") == "2. M\u00e4rz 2026"
    assert (german.paper, english.paper, Tongue("de_DE", "letter").paper) == (
        "a4",
        "letter",
        "letter",
    )
    for name, value in (("LC_ALL", ""), ("LC_MESSAGES", "de_DE.UTF-8"), ("LANG", "en_US.UTF-8")):
        monkeypatch.setenv(name, value)
    assert Tongue().tag == "de-DE"
    monkeypatch.setenv("LC_MESSAGES", "C")
    assert Tongue().tag == "en"
    assert Tongue("xx_YY").language == "en"
    assert (german.seconds(0.0004), german.seconds(75.0)) == (
        "0,40 Tausendstelsekunden", "1,2 Minuten",
    )  # fmt: skip


def test_a_third_language_is_one_file(tmp_path, monkeypatch):
    from lumtak.report import tongue

    package = tmp_path / "lumtak"
    shutil.copytree(str(files("lumtak") / "data" / "languages"), package / "data" / "languages")
    words = 'msgid ""\nmsgstr "Content-Type: text/plain; charset=utf-8\\n"\n\n'
    put(
        package,
        "data/languages/nl.po",
        words + 'msgid "When to come back"\nmsgstr "Wanneer terug"\n',
    )
    monkeypatch.setattr(tongue, "files", lambda _: package)
    assert tongue.languages() == ("en", "de", "nl")
    dutch = Tongue("nl_NL")
    assert (dutch.say("When to come back"), dutch.say("now")) == ("Wanneer terug", "now")
    assert dutch.number(0.5, 1) == "0,5"


@pytest.mark.parametrize(
    ("area", "value", "notice", "known", "says"),
    [
        ("services", "off", "Gone.", True, "Gone."),
        ("apps", "manual", "", False, "No longer starts by itself"),
        ("apps", "off", "", True, ""),
        ("services", "demand", "Gone.", True, "Starts when it is first used"),
        ("services", "auto", "Gone.", True, ""),
        ("effects", "off", "", False, "plainer"),
        ("effects", "on", "", False, ""),
        ("power", "balanced", "", False, "answers quicker"),
        ("memory", "60", "", False, ""),
    ],
)
def test_what_an_owner_would_notice_of_a_change(area, value, notice, known, says):
    found = notice_of(area, "x", value, notice, known=known)
    assert says in found
    assert bool(says) is bool(found)


# -- saved, printed --------------------------------------------------------------------------------


def test_what_leaves_the_house_keeps_its_number(home, tmp_path):
    open_job = begun(home, "drawing-bench", "hull-drafting")
    computer, numbers = open_job.computer.address, open_job.data_folder.journal.numbers
    assert lumtak("apply", computer, "apps:chat-horn=off", home=home).returncode == 0
    work_sheet.sheet_now(open_job, ENGLISH)
    assert numbers.on_sheets(open_job.job.identity) == set(), "what is only shown is not handed out"
    content = content_of(open_job)
    assert content.changes == (), "it is of no visit"
    open_job.close()
    open_job.data_folder.close()
    assert lumtak("job", "choose", "drawing-bench-1", "apps:tool-tray", home=home).returncode == 0
    assert lumtak("job", "apply", "drawing-bench-1", home=home).returncode == 0
    assert (
        lumtak("sheet", "drawing-bench-1", "--out", tmp_path / "s.pdf", home=home).returncode == 0
    )
    assert lumtak("undo", computer, "1", "2", home=home).returncode == 0
    again = lumtak("apply", computer, "apps:music-crate=off", "apps:tool-tray=off", home=home)
    assert [line.split()[0] for line in again.stdout.splitlines()[:2]] == ["1", "3"]


def test_a_printer_that_refuses_says_why_and_nothing_is_there_without_one(
    home, tmp_path, monkeypatch
):
    open_job = begun(home)
    bin_folder = tmp_path / "bin"
    monkeypatch.setenv("PATH", str(bin_folder))
    with pytest.raises(Exception, match="no command that prints"):
        work_sheet.print_sheet(open_job, ENGLISH)
    with pytest.raises(Exception, match="Open it yourself"):
        work_sheet.open_file(tmp_path / "x.pdf")
    got = tmp_path / "got"
    put(bin_folder, "lp", f"#!/bin/sh\n/bin/cat > {got}\necho request id is quay-7\n").chmod(0o755)
    assert work_sheet.print_sheet(open_job, ENGLISH) == "request id is quay-7"
    assert got.read_bytes().startswith(b"%PDF-")
    refuses = "#!/bin/sh\n/bin/cat >/dev/null\necho out of paper >&2\nexit 1\n"
    put(bin_folder, "lp", refuses).chmod(0o755)
    with pytest.raises(Exception, match="did not print: out of paper"):
        work_sheet.print_sheet(open_job, ENGLISH)
    open_job.close()
    open_job.data_folder.close()


def test_a_folder_that_cannot_be_written_leaves_no_sheet(home, tmp_path):
    open_job = begun(home)
    put(tmp_path, "in-the-way", "x")
    with pytest.raises(StorageError, match="in-the-way"):
        work_sheet.save_sheet(open_job, tmp_path / "in-the-way" / "s.pdf", ENGLISH)
    assert open_job.job.written == ()
    open_job.close()
    open_job.data_folder.close()


def test_from_the_command_line(home, tmp_path, done):
    open_job = begun(home)
    open_job.close()
    open_job.data_folder.close()
    shown = lumtak("sheet", "sail-loft-1", "--text", "--language", "de", home=home)
    assert "Sie sagten uns" in shown.stdout
    assert "Ihr Computer" not in lumtak("sheet", "sail-loft-1", "--text", home=home).stdout
    saved = lumtak("sheet", "sail-loft-1", "--out", tmp_path / "a/s.pdf", home=home)
    assert (tmp_path / "a/s.pdf").read_bytes().startswith(b"%PDF")
    assert str(tmp_path / "a/s.pdf") in saved.stdout
    assert lumtak("sheet", "sail-loft-1", "--language", "xx", home=home).returncode == 2
    assert lumtak("sheet", "sail-loft-1", "--print", home=home).returncode == 2
    told = lumtak("forget", "sail-loft-1", "--yes", home=home).stdout
    assert str(tmp_path / "a/s.pdf") in told
    plots = plots_of(done[0], done[2], Tongue("de"))
    assert {"load", "spread", "bridge", "strips"} <= set(plots)
    assert "nachher: Mittel" in plots["load"].file("svg").decode()
    assert "Keine eigene Zahl" in plots["bridge"].note


def test_another_program_finds_nothing_wrong_with_it(done, tmp_path):
    (tmp_path / "s.pdf").write_bytes(sheet_pdf(lambda most: sheet_of(done[2], ENGLISH, most), "a4"))
    subprocess.run(["qpdf", "--check", tmp_path / "s.pdf"], check=True, capture_output=True)


def test_what_a_sheet_lacks_stands_above_it(home):
    open_job = begun(home)
    open_job.keep(told="", complaint="")
    note_owner(open_job, name="\u8239\u5927\u5de5")
    lacks = dict(lacking(open_job))
    assert "shop.phone" not in lacks.get("telephone", "")
    assert "Nobody noted" in lacks["complaint"]
    assert "\u8239" in lacks["letters"]
    assert "after reading" not in lacks, "nothing stands that would need one"
    read_baseline(open_job, seconds=30)
    make_audit(open_job)
    choose_all_eased(open_job)
    assert "chosen and not made" in dict(lacking(open_job))["plan"]
    carry_out(open_job)
    lacks = dict(lacking(open_job))
    assert "claims nothing" in lacks["after reading"]
    assert "login" in lacks["restart"]
    open_job.data_folder.keep_settings(Settings())
    assert "shop.phone" in dict(lacking(open_job))["telephone"]
    open_job.close()
    open_job.data_folder.close()


def test_the_preview_says_what_the_page_says(done):
    _, _, content = done
    sheet = sheet_of(content, ENGLISH)
    for width in (60, 80, 140):
        shown = preview(sheet, width)
        assert max(len(line.words) for line in shown) <= width
        heads = " ".join(line.head for line in shown).split()
        words = " ".join(" ".join(line.words for line in shown).split())
        assert set(" ".join(part.head for part in sheet.parts).split()) <= set(heads)
        for part in sheet.parts:
            for line in part.lines:
                assert line.words.split()[0] in words
    assert [line.words for line in shown if line.strong] == [sheet.title]


def test_what_needs_money_has_the_figure_that_says_so(done):
    _, _, content = done
    assert money(content, ENGLISH)[0].startswith("More memory: 4 GiB instead of 2\u00a0GiB.")
    worn = Sign(name="battery", says="holds little", worn_pct=41.0)
    grave = Sign(name="file system", says="errors", grave=True)
    facts = msgspec.structs.replace(content.facts, signs=(worn, grave))
    said = money(msgspec.structs.replace(content, facts=facts), ENGLISH)
    assert said[0].startswith("A new disk, before anything else")
    assert said[-1].startswith("A new battery: this one holds only 41\u00a0% of what it held")
    conditions = msgspec.structs.replace(content.after.conditions, temperature_c=97.0)
    hot = msgspec.structs.replace(content.after, conditions=conditions)
    assert "97 \u00b0C" in money(msgspec.structs.replace(content, after=hot), ENGLISH)[-1]
    assert money(msgspec.structs.replace(content, facts=None), ENGLISH) == []


def test_figures_and_tables_for_other_programs_hold_the_same_numbers(done):
    _, _, content = done
    found = {row["name"]: row for row in csv.DictReader(io.StringIO(figures_csv(content).decode()))}
    load = next(c for c in content.comparisons if c.column == "ram_used_bytes")
    assert float(found["ram_used_bytes"]["difference"]) == pytest.approx(load.difference / GIB)
    start = next(c for c in content.felt if c.felt == "program_start")
    assert found["program_start"]["unit"] == "ms"
    assert float(found["program_start"]["after"]) == pytest.approx(1000 * start.after)
    assert (found["program_start"]["finding"], found["swap_used_bytes"]["finding"]) == ("lower", "")
    samples = list(csv.DictReader(io.StringIO(samples_csv(content).decode())))
    counted = [s for s in samples if s["reading"] == "before" and s["counts"] == "1"]
    assert len(counted) == len(content.before.kept)
    evil = msgspec.structs.replace(content.changes[0], title="=1+1", note='a"b,\nc')
    rows = changes_csv(msgspec.structs.replace(content, changes=(evil,))).decode()
    (row,) = csv.DictReader(io.StringIO(rows, newline=""))
    assert (row["title"], row["note"]) == ("'=1+1", 'a"b,\nc')


def test_put_back_then_the_sheet_says_so(home):
    open_job = begun(home)
    read_baseline(open_job, seconds=30)
    make_audit(open_job)
    choose_all_eased(open_job)
    carry_out(open_job)
    put_changes_back(open_job)
    assert kind_of(content_of(open_job)) == "put back"
    open_job.close()
    open_job.data_folder.close()


@pytest.mark.parametrize(
    ("scenario", "language", "says"),
    [
        ("chart-room", "en", ("Your computer is in order", "We changed nothing", "Call us")),
        (
            "tool-crib",
            "de",
            ("\u00dcbel bleibt", "liegen beiseite", "Eine SSD statt"),
        ),
        ("steam-box", "en", ("Your computer is better", "\u201cPost of measurements\u201d: 47")),
        ("tide-logger", "de", ("aufs Stromsparen eingestellt", "Ein neuer Akku")),
    ],
)
def test_the_examples_hand_over_what_fits_them(tmp_path, scenario, language, says):
    run_example(tmp_path, 7, lambda _: None, scenario, language)
    sheet = PdfReader(tmp_path / "sheet.pdf")
    text = " ".join(sheet.pages[0].extract_text().split())
    assert [words for words in says if words not in text] == []
    report = PdfReader(tmp_path / "report.pdf")
    told = " ".join(" ".join(p.extract_text() for p in report.pages).split())
    heads = {
        "en": ("What was found", "Figures", "Conditions of the readings", "How this was measured"),
        "de": ("Was gefunden wurde", "Zahlen", "Bedingungen der Messungen", "Wie gemessen wurde"),
    }[language]
    assert [words for words in heads if words not in told] == []
    assert "unset" not in told
    for path in tmp_path.glob("*.svg"):
        ET.parse(path)
    assert (tmp_path / "bridge.svg").exists() is (scenario != "chart-room")
