"""Clutter through the journal: set aside, put back, emptied, and what an owner who lies makes of
it.
"""

import json
import os
import subprocess
import time
from types import SimpleNamespace

import msgspec
import pytest

from helpers import CATALOGUE, lumtak
from lumtak.computers.clutter import ASIDE
from lumtak.computers.hands.sent.clutter import aside, clutter
from lumtak.computers.hands.sent.clutter.aside_list import numbered
from lumtak.computers.hands.sent.files import deleting, kernel
from lumtak.computers.hands.sent.files.words import escaped
from lumtak.computers.hands.sent.root.settling import RootHand
from lumtak.computers.hands.whose import Hands, User
from lumtak.computers.linux.computer import LinuxComputer
from lumtak.computers.linux.disk_health import disk_health
from lumtak.core.clutter import BigFile, BigFolder, Sums, Survey, grown, volumes_of
from lumtak.core.setting import Change, SettingRef
from lumtak.errors import ComputerError, UnknownNameError
from lumtak.formats.surveys import keep, kept, load_survey
from lumtak.journal import apply_changes, drift, put_back, review
from lumtak.work.owned import things_of, to_choose
from lumtak.work.storage import (
    classes_to_set_aside,
    empty,
    held_on,
    known_facts,
    profile_for,
    with_survey,
)
from test_clutter import OLD, Home, varied

REF = SettingRef(area="storage", key="thumbnails")


@pytest.fixture
def mia(tmp_path):
    return Home(tmp_path / "mia")


@pytest.fixture
def computer(mia, tmp_path):
    user = User(
        name="mia", uid=os.getuid(), gid=os.getgid(), home=mia.path, cache_home=mia.cache,
        config_home=f"{mia.path}/.config", data_home=mia.data, config_dirs=("/etc/xdg",),
    )  # fmt: skip
    hand = RootHand(homes=[mia.data], own=mia.homes)
    made = LinuxComputer(Hands(RootHand(), hand, None, "there is none here"), user, CATALOGUE)
    yield made
    made.close()


def apply(journal, computer, *changes):
    return apply_changes(journal, computer, computer.about.facts(), changes)


def test_a_class_goes_and_comes_back_through_the_journal_and_by_the_script(
    computer, mia, data_folder
):
    varied(mia)
    before, journal = mia.tree(), data_folder.journal
    (outcome,) = apply(journal, computer, Change(ref=REF, value=ASIDE))
    assert outcome.result == "done", outcome
    assert [d.standing for d in drift(journal, computer)] == ["as left"]
    held = computer.about.facts().find(REF)
    assert (held.value, held.pile.files) == (ASIDE, 13)
    # What came since is a part of its own.
    assert computer.about.facts().find(SettingRef(area="storage", key="thumbnails.2")).value == (
        "kept"
    )
    script = next(p for p in os.listdir(f"{mia.data}/lumtak-undo") if p.startswith("undo-"))
    ran = subprocess.run(
        ["dash", f"{mia.data}/lumtak-undo/{script}"], capture_output=True, text=True, check=False
    )
    assert (ran.returncode, ran.stderr) == (0, ""), ran
    assert "1 as before, 0 left alone, 0 failed" in ran.stdout
    assert mia.tree() == before
    assert [o.result for o in put_back(journal, computer)] == ["done"]
    assert mia.tree() == before


def test_what_was_interrupted_is_known_and_goes_back(computer, mia, data_folder, monkeypatch):
    varied(mia)
    before, journal, left = mia.tree(), data_folder.journal, [4]
    real = aside.move_new

    class Cut(BaseException):
        pass

    def cut(*given):
        left[0] -= 1
        if left[0] < 0:
            raise Cut
        real(*given)

    monkeypatch.setattr(aside, "move_new", cut)
    with pytest.raises(Cut):
        apply(journal, computer, Change(ref=REF, value=ASIDE))
    monkeypatch.undo()
    assert computer.settings.read(REF).value == "partly aside"
    (line,) = [x for x in review(journal, computer).lines if x.number]
    assert line.found == "not done", line
    assert [o.result for o in put_back(journal, computer)] in (["done"], [])
    assert mia.tree() == before


def test_what_is_emptied_is_free_and_nothing_can_put_it_back(computer, mia, data_folder):
    varied(mia)
    journal = data_folder.journal
    apply(journal, computer, Change(ref=REF, value=ASIDE))
    profile = profile_for(data_folder, computer.identity, None)
    now = computer.clock.wall()
    (held,) = held_on(computer.about.facts(), profile, now)
    assert held.files == 13
    assert 13 < (held.due - now).days + 1 < 16
    action = empty(data_folder, computer, held)
    assert (action.files, action.ended) == (13, True)
    assert journal.entries(computer.identity)[0].stage == "emptied"
    assert put_back(journal, computer) == []
    assert not os.path.exists(mia.notes)
    with pytest.raises(ComputerError, match="Nothing of thumbnails is set aside"):
        empty(data_folder, computer, held)


def test_what_is_emptied_in_part_is_told_so_and_goes_back(computer, mia, data_folder, monkeypatch):
    monkeypatch.setattr("lumtak.core.deciding._LOOSE_TOPS", ())  # where tests have their homes
    held = [os.urandom(9000) for _ in "ab"]  # nowhere else on this volume, whoever tested before
    films = [mia.file(f"films/{n}", data) for n, data in zip("ab", held, strict=True)]
    other = mia.file("more/a", held[0])
    journal = data_folder.journal
    made = to_choose(data_folder, computer, known_facts(data_folder, computer), films, [films])
    (outcome,) = apply_changes(journal, computer, made.facts, made.changes)
    assert outcome.result == "done", outcome
    os.unlink(other)
    profile = profile_for(data_folder, computer.identity, None)
    (held,) = held_on(computer.about.facts(), profile, computer.clock.wall())
    doubts = computer.settings.doubts(held.ref)
    assert (doubts.files, doubts.last) == (2, ((1, films[0]),))
    action = empty(data_folder, computer, held)
    assert (action.files, action.ended) == (1, False)
    assert "no other copy of it is there any more" in action.in_words()
    (entry,) = journal.entries(computer.identity)
    assert (entry.stage, entry.note[:16]) == ("verified", "emptied in part ")
    assert computer.settings.read(held.ref).value == "partly aside"
    assert [o.result for o in put_back(journal, computer)] == ["done"]
    assert [os.path.exists(f) for f in films] == [True, False]
    assert not os.path.exists(mia.notes)


def test_a_killed_emptying_is_known_as_begun_and_can_be_emptied_further(
    computer, mia, data_folder, monkeypatch
):
    varied(mia)
    journal = data_folder.journal
    apply(journal, computer, Change(ref=REF, value=ASIDE))
    profile = profile_for(data_folder, computer.identity, None)
    (held,) = held_on(computer.about.facts(), profile, computer.clock.wall())
    left, real = [4], deleting.os.unlink

    class Cut(BaseException):
        pass

    def cut(*given, **named):
        left[0] -= 1
        if left[0] < 0:
            raise Cut
        real(*given, **named)

    monkeypatch.setattr(deleting.os, "unlink", cut)
    with pytest.raises(Cut):
        empty(data_folder, computer, held)
    monkeypatch.undo()
    assert journal.entries(computer.identity)[0].note.startswith("emptying was begun on ")
    review(journal, computer)
    (held,) = held_on(computer.about.facts(), profile, computer.clock.wall())
    assert empty(data_folder, computer, held).ended
    assert journal.entries(computer.identity)[0].stage == "emptied"
    assert not os.path.exists(mia.notes)


def test_a_liar_s_notes_and_lists_make_nothing_go(computer, mia, data_folder):
    varied(mia)
    victim = mia.file("documents/will.txt", b"keep")
    journal = data_folder.journal
    apply(journal, computer, Change(ref=REF, value=ASIDE))
    (note,) = [n for n in os.listdir(mia.notes) if n.endswith(".json")]
    with open(f"{mia.notes}/{note}") as file:
        said = json.load(file)
    # A list of one's own: its checksum is not the one in the journal.
    with open(f"{mia.notes}/aside/{said['sha256'][:16]}/list", "a") as file:
        file.write("f 1 1 1.000000000 1.000000000 1 1 /etc/passwd\n")
    (outcome,) = put_back(journal, computer)
    assert outcome.result == "failed"
    assert "not the one that was recorded" in outcome.note
    # A note of one's own, for a list of one's own: another checksum, so a conflict.
    os.unlink(f"{mia.notes}/{note}")
    forged = {**said, "sha256": "f" * 64, "key": "thumbnails"}
    for name, text in (
        ("aside-" + "f" * 16 + ".json", json.dumps(forged)),
        ("aside-" + "e" * 16 + ".json", json.dumps({**forged, "sha256": "e" * 64, "key": "x\n"})),
        ("aside-" + "d" * 16 + ".json", "{" * 9000),
        ("aside-" + "c" * 16 + ".json", json.dumps({**said, "key": "old-logs", "at": 1 << 70})),
    ):
        with open(f"{mia.notes}/{name}", "w") as file:
            file.write(text)
    (outcome,) = put_back(journal, computer)
    assert outcome.result == "conflict", outcome
    assert os.path.exists(victim)
    facts = computer.about.facts()
    assert len({i.ref for i in facts.items}) == len(facts.items)


def test_what_is_named_by_its_path_is_the_user_s_own(computer, mia, data_folder):
    film = mia.file("films/a=b:c\n.mkv", b"x" * 9000)
    facts = known_facts(data_folder, computer)
    made = to_choose(data_folder, computer, facts, [escaped(film)])
    (outcome,) = apply_changes(data_folder.journal, computer, made.facts, made.changes)
    assert outcome.result == "done", outcome
    assert not os.path.exists(film)
    assert [o.result for o in put_back(data_folder.journal, computer)] == ["done"]
    assert os.path.exists(film)
    with pytest.raises(UnknownNameError, match="class of clutter"):
        classes_to_set_aside(facts, ["thumbnaills"])
    outside = mia.file("../outside", b"theirs")
    for path in (outside, mia.path, "/proc/1/status"):
        made = to_choose(data_folder, computer, facts, [escaped(path)])
        (outcome,) = apply_changes(data_folder.journal, computer, made.facts, made.changes)
        assert outcome.result == "failed", (path, outcome)


def test_nothing_to_set_aside_is_said(computer, mia, data_folder):
    mia.file(".cache/thumbnails/new.png", age=time.time())
    (outcome,) = apply(data_folder.journal, computer, Change(ref=REF, value=ASIDE))
    assert outcome.result == "failed"
    assert "1 file too young" in outcome.note


def test_a_survey_weighs_classes_is_kept_and_tells_what_grew(computer, mia, data_folder):
    varied(mia)
    mia.hand.searching = None
    hands = computer.about._hands
    whole = hands.own.survey
    hands.own.survey = lambda _path, own: whole(mia.path, own)
    stop = SimpleNamespace(is_set=lambda: False)
    found = computer.about.survey(lambda _: None, stop)
    keep(data_folder.surveys, found)
    assert kept(data_folder.surveys, computer.identity) == [found]
    path = next((data_folder.surveys / computer.identity).glob("*.json"))
    assert load_survey(path) == found
    item = with_survey(computer.about.facts(), found).find(REF)
    sums = next(s for s in found.piles if s.clutter == "thumbnails")
    assert (item.pile.bytes, item.pile.files) == (sums.bytes, sums.files) == (sums.bytes, 13)
    assert with_survey(computer.about.facts(), found).survey.largest == ()
    for bad in (b"", b"{", b'{"format": 99}', msgspec.json.encode({"format": 1})):
        path.write_bytes(bad)
        with pytest.raises(Exception, match=str(path)):
            load_survey(path)


def survey(**folders):
    return Survey(
        identity="x", at="2026-01-01T00:00:00", total_bytes=1e12, free_bytes=1e11, seen_bytes=1,
        inodes=1, parts={}, piles=(Sums(clutter="x", bytes=1, files=1, all_bytes=1),),
        folders=tuple(BigFolder(path=p, bytes=b, files=1) for p, b in folders.items()),
    )  # fmt: skip


def test_what_grew_names_the_folder_and_not_all_above_it():
    before = survey(**{"/": 1000, "/home": 600, "/home/mia": 500, "/var": 90})
    now = survey(**{"/": 1300, "/home": 900, "/home/mia": 800, "/new": 95, "/var": 90})
    told = {g.path: (g.bytes, g.at_least) for g in grown(before, now)}
    assert told == {"/home/mia": (300, False), "/new": (5, True)}
    assert grown(now, now) == []


def test_the_largest_files_of_a_home_on_a_volume_of_its_own_are_offered(computer, mia, data_folder):
    film = mia.file("films/large", b"f" * 9000)
    above = os.path.dirname(mia.path)
    system = msgspec.structs.replace(
        survey(), identity=computer.identity, elsewhere=(above, f"{mia.path}/stick", "/srv")
    )
    own = msgspec.structs.replace(
        system, top=above, largest=(BigFile(path=film, bytes=9.0, changed_at=OLD),)
    )
    assert volumes_of(system, mia.path) == [above, f"{mia.path}/stick"]
    for one in (own, system):  # both of the same second
        keep(data_folder.surveys, one)
    assert [(t.path, t.bytes) for t in things_of(data_folder, computer)] == [(film, 12288.0)]


# -- the command line ------------------------------------------------------------------------------


def test_storage_of_the_tool_crib_from_the_command_line(home):
    def said(*words, code=0):
        ran = lumtak(*words, "--json", home=home)
        assert ran.returncode == code, ran.stderr
        return json.loads(ran.stdout)

    found = said("storage", "sim:tool-crib")
    assert found["free_bytes"] == pytest.approx(17 << 30, rel=0.01)
    assert found["floor_bytes"] == 50 << 30
    classes = {c["name"]: c for c in found["classes"]}
    assert {"name", "bytes", "files", "stance"} <= classes["temp-own"].keys()
    assert {n: c["stance"] for n, c in classes.items() if c["stance"] != "ease"} == {
        "trash": "ask", "journals": "keep",
    }  # fmt: skip
    assert classes["package-cache"]["command"] == "sudo apt-get clean"
    assert lumtak("set-aside", "sim:tool-crib", "package-cache", home=home).returncode == 2
    done = said("set-aside", "sim:tool-crib", "temp-own", "crash-dumps")
    assert [o["result"] for o in done["outcomes"]] == ["done", "done"]
    held = said("storage", "sim:tool-crib")
    assert held["free_bytes"] <= found["free_bytes"], "moving frees nothing"
    assert {h["address"] for h in held["held"]} == {"storage:temp-own", "storage:crash-dumps"}
    assert said("empty-aside", "sim:tool-crib", "--yes")["emptied"] == [], "the owner has its days"
    assert lumtak("empty-aside", "sim:tool-crib", "--early", home=home).returncode == 2
    (gone,) = said("empty-aside", "sim:tool-crib", "crash-dumps", "--early", "--yes")["emptied"]
    assert gone["files"] == 19
    back = said("undo", "sim:tool-crib", "--all")
    assert [o["change"]["ref"]["key"] for o in back["outcomes"]] == ["temp-own"]
    now = said("storage", "sim:tool-crib")
    assert now["held"] == []
    assert now["free_bytes"] - found["free_bytes"] == pytest.approx(gone["bytes"], rel=0.01)


def test_the_owner_s_files_are_shown_and_never_chosen(home):
    copies = json.loads(
        lumtak("storage", "sim:tool-crib", "duplicates", "--json", home=home).stdout
    )
    assert [(g["count"], len(g["copies"])) for g in copies["groups"]] == [(2, 2), (2, 2), (3, 3)]
    ran = lumtak("storage", "sim:tool-crib", "largest", "--kind", "film", "--json", home=home)
    assert {f["kind"] for f in json.loads(ran.stdout)["files"]} == {"film"}
    for options in (("--least", "30000"), ("--folder", "/home/crib/films"), ("--older", "2000")):
        shown = lumtak("storage", "sim:tool-crib", "largest", *options, home=home)
        assert shown.returncode == 0
        assert 0 < shown.stdout.count("/home/") < 10, options


# -- what disks say of themselves ------------------------------------------------------------------


FAILING = (
    "A is failing by its own account: save what is on it before anything else, 2.0 years in use"
)


def disks(**drives):
    found = {}
    for name, properties in drives.items():
        kind = "NVMe.Controller" if name.startswith("nvme") else "Drive.Ata"
        wrapped = {k: {"type": "x", "data": v} for k, v in properties.items()}
        found[f"/d/{name}"] = {
            "org.freedesktop.UDisks2.Drive": {"Model": {"type": "s", "data": name.upper()}},
            f"org.freedesktop.UDisks2.{kind}": wrapped,
        }
    return json.dumps({"type": "a{oa{sa{sv}}}", "data": [found]}).encode()


@pytest.mark.parametrize(
    ("said", "words"),
    [
        (disks(a={"SmartEnabled": True, "SmartUpdated": 9, "SmartFailing": True,
                  "SmartPowerOnSeconds": 63_115_200}),
         [FAILING]),
        (disks(a={"SmartEnabled": True, "SmartUpdated": 9, "SmartNumBadSectors": 3}),
         ["A is not failing, and has 3 bad sectors"]),
        (disks(nvme={"SmartUpdated": 9, "SmartPowerOnHours": 8766}, b={"SmartEnabled": False}),
         ["NVME says that it is well, 1.0 years in use"]),
        (disks(a={"SmartEnabled": True, "SmartUpdated": "x", "SmartNumBadSectors": "x"}), []),
        (b"{", []), (b'{"data": []}', []), (b'{"data": [{"/d": 5}]}', []), (b"[]", []),
    ],
)  # fmt: skip
def test_what_a_disk_says_of_itself(said, words):
    hand = SimpleNamespace(exists=lambda _: True, run=lambda _: said)
    assert [sign.says for sign in disk_health(hand)] == words


# -- root, in folders that others can write to -----------------------------------------------------


def attack(place, stop_at):
    """Somebody else exchanges what stands there for a link to what is root's, and back."""
    os.setgid(65534)
    os.setuid(65534)
    while time.monotonic() < stop_at:
        for name in ("sub", "file"):
            try:
                os.rename(f"{place}/mine/{name}", f"{place}/mine/{name}.was")
                os.symlink("/etc", f"{place}/mine/{name}")
                os.unlink(f"{place}/mine/{name}")
                os.rename(f"{place}/mine/{name}.was", f"{place}/mine/{name}")
            except OSError:
                pass
    os._exit(0)


def test_a_race_with_a_hostile_user_is_never_lost(tmp_path):
    if os.geteuid() != 0:
        pytest.skip("takes root, and somebody else")
    for above in (tmp_path, *tmp_path.parents):
        if str(above).startswith("/tmp/"):
            os.chmod(above, 0o711)
    place = tmp_path / "shared"
    (place / "mine/sub").mkdir(parents=True)
    os.chmod(place, 0o1777)
    for path in (place / "mine", place / "mine/sub"):
        os.chown(path, 65534, 65534)
    for path in (place / "mine/file", place / "mine/sub/file"):
        path.write_bytes(b"theirs")
        os.chown(path, 65534, 65534)
    child = os.fork()
    if not child:
        attack(str(place), time.monotonic() + 3)
    listing = sorted(os.listdir("/etc"))
    notes = tmp_path / "notes"
    notes.mkdir(mode=0o700)
    descriptor = os.open(notes, os.O_RDONLY)
    rounds = 0
    while not os.waitpid(child, os.WNOHANG)[0]:
        for n in range(3):
            path = place / f"root-{n}"
            path.mkdir(exist_ok=True)
            (path / "a").write_bytes(b"x")
            for one in (path / "a", path):
                os.utime(one, (OLD, OLD))
        rule = clutter.Rule("x", "system", (str(place),), 1)
        found = clutter.Gather(rule, 0, os.stat(place).st_dev, set(), set(), root=True)
        found.folder(kernel.folder_at(str(place)), str(place))
        places = [line.piece.place for line in numbered(found.list.parts())]
        assert not [p for p in places if "mine" in p], places
        made = aside.Aside(descriptor, True, str)
        done = made.set_aside(found.list, found.list.sha256(), {"key": "x", "clutter": "x"}, set)
        assert made.put_back(done["sha256"])["left"] == {}
        rounds += 1
    os.close(descriptor)
    assert rounds > 20
    assert sorted(os.listdir("/etc")) == listing
