"""The owner's files and programs: shown, never chosen for them; of copies one stays."""

import json
import os
import random
import shutil
import subprocess

import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import CATALOGUE, facts, item, lumtak, profile, put, reading, tree_user
from lumtak.computers.clutter import KEPT, item_of
from lumtak.computers.hands.sent.clutter import copies
from lumtak.computers.hands.sent.clutter.lone import file_is, looked_at
from lumtak.computers.hands.sent.clutter.marks import fits
from lumtak.computers.hands.sent.files.kernel import folder_at
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.files.walking import Walk
from lumtak.computers.hands.sent.hand import Hand
from lumtak.computers.hands.sent.system.packages import MARKS, STATUS, Packages
from lumtak.computers.linux.extensions import with_extensions
from lumtak.core.audit import audit
from lumtak.core.clutter import PATH, BigFile, Pile, Survey
from lumtak.core.deciding import Decided, Thing, chosen, leaving_one, things
from lumtak.core.deciding_rules import by_rule
from lumtak.core.extensions import in_words
from lumtak.core.installed import Installed, Programs, removal
from lumtak.core.owned import CopyGroup
from lumtak.core.plan import check_changes
from lumtak.core.sift import sift
from lumtak.errors import BadFileError, UsageError
from lumtak.report.owned_list import from_csv, to_csv, to_pdf
from lumtak.work.owned import job_here, kept_copies, things_of, to_choose
from test_clutter import Home

NOW = 1_700_000_000.0
FOLDERS = "r/.git/HEAD bare/HEAD bare/objects/x bare/refs/x m/cur/1 m/new/1 m/tmp/1 p/.gpg-id"


@pytest.fixture
def mia(tmp_path):
    return Home(tmp_path / "mia")


def moved(mia, paths, copies):
    """What is set aside of these; what was left, with the reason."""
    found = mia.hand.aside_look("chosen", "chosen", paths, copies, [])
    if not found["sha256"]:
        return found["left"]
    try:
        return mia.hand.aside_move(found["handle"])["left"]
    except RefusalError as error:
        return str(error)


# -- of copies one stays ---------------------------------------------------------------------------


def test_a_copy_goes_only_while_the_same_bytes_stay(mia):
    one, other = mia.file("a/film", b"f" * 9000), mia.file("b/film", b"f" * 9000)
    with open(other, "r+b") as file:
        file.write(b"g")
    assert "no other copy of it stays" in moved(mia, [one], [[one, [other]]])
    os.unlink(other)
    assert "no other copy of it stays" in moved(mia, [one], [[one, [other]]])
    assert os.path.exists(one)
    third = mia.file("c/film", b"f" * 9000)
    assert moved(mia, [one], [[one, [other, third]]]) == {}
    assert not os.path.exists(one)
    assert os.path.exists(third)


def other_one(path, how):
    """Another file, or another content, stands there under the same name, of the same size."""
    about = os.stat(path)
    if how == "replaced":
        os.rename(path, path + ".was")
    with open(path, "r+b" if how == "written over" else "wb") as file:
        file.write(b"n" * about.st_size)
    os.utime(path, ns=(about.st_atime_ns, about.st_mtime_ns))


@pytest.mark.parametrize("how", ["replaced", "written over", "only its rights"])
def test_a_decision_is_about_a_file_and_not_about_a_name(mia, how):
    film = mia.file("films/a.mkv", b"f" * 70_000)
    ((mark, _, _),) = mia.hand.marks([(film, 1)])
    if how == "only its rights":
        os.chmod(film, 0o600)
    else:
        other_one(film, how)
    found = mia.hand.aside_look("path", film, [film], [], [[film, mark]])
    if how == "only its rights":
        assert found["files"] == 1
        mia.hand.aside_move(found["handle"])
        assert not os.path.exists(film)
    else:
        assert found["left"] == {"changed since you decided": 1}
        assert not found["sha256"]


def test_a_decision_about_a_folder_is_about_all_that_is_in_it(mia):
    mia.file("old/in/a", b"x")
    mia.file("old/b", b"x")
    folder = mia.path + "/old"
    ((mark, _, _),) = mia.hand.marks([(folder, 0)])
    assert fits(mark, folder)
    inner = os.stat(folder + "/in")
    mia.file("old/in/new", b"x")
    os.utime(folder + "/in", ns=(inner.st_atime_ns, inner.st_mtime_ns))
    assert not fits(mark, folder)
    os.unlink(folder + "/in/new")
    os.utime(folder + "/in", ns=(inner.st_atime_ns, inner.st_mtime_ns))
    assert fits(mark, folder)
    os.rename(folder, folder + ".was")
    shutil.copytree(folder + ".was", folder)
    assert not fits(mark, folder)


def test_all_of_what_may_be_an_only_copy_is_in_its_mark(mia):
    image = mia.file("disk.img", bytes(1 << 20))
    (some,), (whole,) = (mia.hand.marks([(image, how)]) for how in (1, 2))
    about = os.stat(image)
    with open(image, "r+b") as file:
        file.seek(100_000)
        file.write(b"x")
    os.utime(image, ns=(about.st_atime_ns, about.st_mtime_ns))
    assert fits(some[0], image)  # three parts are as they were
    assert not fits(whole[0], image)


def test_copies_are_looked_for_beside_what_is_named_and_links_are_none(mia):
    film = mia.file("films/a", b"f" * 30_000)
    other = mia.file("more/b", b"f" * 30_000)
    mia.file("more/c", b"f" * 29_999 + b"g")
    os.link(film, mia.path + "/more/link")
    os.symlink(film, mia.path + "/more/symlink")
    *_, last = mia.hand.beside([mia.path + "/films"])
    ((found, others),) = last["ended"]["found"]
    # All of the volume is looked through: other tests may have left the same there.
    assert (found, [o for o in others if o.startswith(mia.path)]) == (film, [other])


@pytest.mark.parametrize("folder", [False, True])
def test_not_even_both_at_once_or_a_folder_with_both_takes_the_last(mia, folder):
    one, other = mia.file("a/x/film", b"f" * 9000), mia.file("a/y/film", b"f" * 9000)
    mia.file("a/more", b"m")
    copies = [[one, [other]], [other, [one]]]
    moved(mia, [mia.path + "/a"] if folder else [one, other], copies)
    left = [p for p in (one, other) if os.path.exists(p)]
    assert len(left) == (2 if folder else 1)


paths = st.integers(0, 5).flatmap(
    lambda n: st.lists(st.sampled_from("abc"), min_size=n, max_size=n)
)
names = paths.map(lambda parts: "/home/mia/" + "/".join([*parts, "film"]))


@given(st.lists(st.lists(names, min_size=2, max_size=5, unique=True), max_size=4), st.data())
def test_whatever_is_chosen_or_typed_of_each_content_one_stays(groups, data):
    seen, made = set(), []
    for group in groups:
        mine = [name for name in group if name not in seen]
        seen |= set(mine)
        if len(mine) > 1:
            made.append(CopyGroup(bytes=9.0, copies=tuple((n,) for n in mine), count=len(mine)))
    anything = sorted(seen | {p.rpartition("/")[0] for p in seen}) or ["/home/mia/x"]
    wanted = data.draw(st.lists(st.sampled_from(anything), unique=True))

    def goes(name, going):
        return any((name + "/").startswith(path + "/") for path in going)

    found = [Thing(path=path, kind="film", bytes=9.0) for path in wanted]
    left = [thing.path for thing in leaving_one(found, made)]
    for going in (wanted, left):
        lost = [g for g in made if all(goes(n, going) for (n,) in g.copies)]
        if lost:
            with pytest.raises(UsageError, match="always stays"):
                chosen(going, made)
            continue
        for name, staying in chosen(going, made).copies:
            assert goes(name, going)
            assert staying
            assert not any(goes(n, going) for n in staying)
    assert not any(all(goes(n, left) for (n,) in g.copies) for g in made)
    # What was said before counts too: first half of it, then a rule that means all.
    before = [thing.path for thing in leaving_one(found[::2], made)]
    later = [thing.path for thing in leaving_one(found, made, before)]
    assert not any(all(goes(n, [*before, *later]) for (n,) in g.copies) for g in made)


@given(st.text("services ask ease storage > 1 disk asked -", max_size=20))
def test_no_filter_no_key_and_no_plan_chooses_what_the_owner_alone_may(words):
    pile = Pile(clutter=PATH, disposal="asked", sorts="own", bytes=9e10, files=3, all_bytes=9e10)
    own = item_of("/home/mia/film", pile, "film", KEPT)
    found = audit(facts(own), profile(), CATALOGUE, reading())
    try:
        let = sift(found, words)
    except UsageError:
        let = list(found.findings)
    # Keys and plans choose what is proposed, and nothing else (work/audit, core/planner/problem).
    assert all(f.proposal is None and f.stance == "keep" for f in (*let, *found.findings))


def test_of_more_files_of_one_size_than_are_held_at_once_the_copies_are_found(
    tmp_path, monkeypatch
):
    monkeypatch.setattr(copies, "_MOST", 50)
    for n in range(400):
        (tmp_path / f"one{n}").write_bytes(b"%09d" % (n if n % 40 else 7) * 3000)
    for n in range(6):
        (tmp_path / f"other{n}").write_bytes(b"same" * 99)
    *_, last = copies.Copies(1, set()).through(str(tmp_path))
    found = {group["count"] for group in last["ended"]["groups"]}
    assert found == {10 + 1, 6}
    assert (last["ended"]["left"], last["ended"]["changed"], last["ended"]["unread"]) == (0, 0, 0)


# -- what may be the only copy ---------------------------------------------------------------------


@pytest.mark.parametrize(
    ("what", "path", "data"),
    [
        ("database", "x.bin", b"SQLite format 3\0" + b"\0" * 90),
        ("virtual disk", "film.mkv", b"QFI\xfb" + b"\0" * 90),
        ("virtual disk", "raw", b"\0" * 510 + b"\x55\xaa" + b"\0" * (1 << 20)),
        ("virtual disk", "fixed", b"\0" * 4096 + b"conectix" + b"\0" * 504),
        ("keys", "notes.txt", b"-----BEGIN OPENSSH " + b"PRIVATE KEY-----\n" + b"a" * 40),
        ("keys", "ring", b"GnomeKeyring\n\r\0\n" + b"\0" * 40),
        ("passwords", "old", b"\x03\xd9\xa2\x9a" + b"\0" * 40),
        ("mail", "inbox", b"From mia@sail Mon\nReceived: by x\n\nhello"),
        ("wallet", "w", b'{"wallet_type": "standard", "x": 1}'),
        ("wallet", "wallet.dat", b"\0" * 12 + b"\x62\x31\x05\0" + b"\0" * 90),
    ],
)
def test_what_may_be_the_only_copy_is_known_by_what_it_is(tmp_path, what, path, data):
    file = tmp_path / "deep" / "er" / path
    file.parent.mkdir(parents=True)
    file.write_bytes(data)
    before = os.stat(file).st_atime_ns
    for top in (tmp_path, file):
        assert looked_at([(str(top), str(top))])["found"] == [[what, str(file)]]
    assert os.stat(file).st_atime_ns == before


def test_folders_are_known_by_what_stands_together_and_ordinary_files_are_nothing(tmp_path):
    for name in FOLDERS.split():
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_text("x")
    said = looked_at([(str(tmp_path), "/top")])
    assert sorted(said["found"]) == [
        ["mail", "/top/m"],
        ["passwords", "/top/p"],
        ["repository", "/top/bare"],
        ["repository", "/top/r"],
    ]
    dice = random.Random(3)
    for head in (b"\x89PNG\r\n", b"PK\3\4", b"From here on we sail\n", b"{}", b"%PDF-1.7"):
        assert file_is("x", head + dice.randbytes(600), b"", 4096) == ""


# -- folders with nothing in them ------------------------------------------------------------------


def test_hollow_folders_are_named_once_and_nothing_that_was_not_seen_is(tmp_path):
    for path in ("new/a/b", "full/x", ".config/y", "near"):
        (tmp_path / path).mkdir(parents=True)
    (tmp_path / "full/big").write_bytes(b"x" * 99_000)
    (tmp_path / "near/note").write_bytes(b"x")
    (tmp_path / "mounted/there").mkdir(parents=True)
    mounts = {f"{tmp_path}/mounted/there"}
    walk = Walk([str(tmp_path)], mounts)
    *_, last = walk.through(folder_at(str(tmp_path)), str(tmp_path))
    found = {os.path.relpath(path, tmp_path): files for _, path, files in last["ended"]["hollow"]}
    assert found == {"new": 0, "full/x": 0, "near": 1}


# -- rules, lists ----------------------------------------------------------------------------------


def test_a_rule_means_what_it_says_and_nothing_else():
    old = Thing(path="/home/mia/a/Film.mkv", kind="film", bytes=3e9, changed_at=int(NOW - 9e7))
    new = Thing(path="/home/mia/b/c.iso", kind="disk image", bytes=2e8, copies=("/home/mia/d",))
    for words, meant in (
        ("film", [old]), (">1g", [old]), ("<1g disk-image", [new]), ("older>365", [old]),
        ("in:/home/mia/b", [new]), ("copies", [new]), ("film.mkv", [old]),
        ("in:/home/mia/", [old, new]),
        ("film copies", []),
    ):  # fmt: skip
        assert by_rule([old, new], words, NOW) == meant, words
    for words in ("", "  ", ">1x", "older>", "<"):
        with pytest.raises(UsageError):
            by_rule([old, new], words, NOW)


TAILS = st.text(st.characters(exclude_categories=("Cs", "Cc")), min_size=1)


@given(st.lists(TAILS, unique=True, max_size=9))
def test_a_list_goes_out_and_comes_back(tails):
    found = [Thing(path=f"/home/mia/{tail}", kind="other", bytes=5.0) for tail in tails]
    said = {t.path: Decided(path=t.path, decision="aside", at="") for t in found[::2]}
    data = to_csv(found, said).encode()
    assert from_csv(data, "list.csv") == dict.fromkeys(said, "aside")
    assert to_pdf("x", "2026-01-01", found, said)[:5] == b"%PDF-"


@pytest.mark.parametrize(
    "data",
    [b"", b"\xff\xfe", b"path,decision\n/x,burn\n", b"path,decision\n/x\n", b'path,decision\n"/x'],
)
def test_what_is_no_list_is_said(data):
    try:
        assert from_csv(data, "list.csv") == {}
    except BadFileError as error:
        assert "list.csv" in str(error)


def test_the_command_line_decides_sets_aside_and_puts_back(home):
    def run(*words, code=0):
        done = lumtak(*words, home=home)
        assert done.returncode == code, (words, done.stdout, done.stderr)
        return done.stdout + done.stderr

    crib = "sim:tool-crib"
    run("storage", crib, "duplicates")
    assert "Begin one" in run("decide", crib, "aside", "copies", code=2)
    run("job", "start", crib, "--profile", "tool-lending")
    assert run("decide", crib, "aside", "copies").count("of its copies one always does") == 3
    alone = "/home/crib/mail/lending.mbox"
    assert "only copy: mail" in run("decide", crib, "aside", alone)
    assert "only copy: mail" in run("set-aside", crib, alone, code=2)
    run("decide", crib, "aside", alone, "--only-copy", alone)
    run("decide", crib, "--write", str(home / "l.csv"))
    (home / "l.csv").write_text((home / "l.csv").read_text().replace("aside,film", "keep,film"))
    run("decide", crib, "--read-back", str(home / "l.csv"))
    assert "FAILED" not in run("set-aside", crib, "--decided", "--elsewhere", "not known")
    asked = run("empty-aside", crib, "--early", code=2)
    assert "did not say that these exist anywhere else: " in asked
    assert alone in asked
    said = run("storage", crib, "largest")
    assert "/home/crib/films/keel-laying.mkv" in said
    assert alone not in said
    assert "2022.zip" in said
    run("undo", crib, "--all")
    assert alone in run("storage", crib, "largest")
    left = "/home/crib/films/keel-laying.mkv", "/home/crib/films/keel-laying (copy).mkv"
    assert "always stays" in run("set-aside", crib, *left, code=2)


def test_many_things_become_one_change_and_a_rule_is_one(data_folder):
    computer = data_folder.computer("sim:tool-crib")
    many = [f"/home/crib/{n}" for n in range(60)]
    made = to_choose(data_folder, computer, computer.about.facts(), many)
    assert [str(c.ref) for c in made.changes] == ["storage:chosen"]
    made = to_choose(data_folder, computer, computer.about.facts(), many[:3], [many[:2]])
    assert [str(c.ref) for c in made.changes] == [f"storage:{many[2]}", "storage:chosen"]
    assert made.keys == {many[0]: "chosen", many[1]: "chosen", many[2]: many[2]}
    assert check_changes(made.facts, made.changes, {})
    with pytest.raises(UsageError, match="there is none"):
        job_here(data_folder, computer)
    assert kept_copies(data_folder, computer) == []
    assert things_of(data_folder, computer)


# -- programs --------------------------------------------------------------------------------------

DATABASE = """Package: sail
Status: install ok installed
Architecture: all
Version: 1
Installed-Size: 10
Depends: rope (>= 1), cloth | canvas
Recommends: wind

Package: rope
Status: install ok installed
Architecture: all
Version: 1

Package: canvas
Status: install ok installed
Architecture: all
Provides: cloth

Package: wind
Status: install ok installed
Architecture: all

Package: boat
Status: install ok installed
Architecture: all
Depends: sail

Package: gone
Status: deinstall ok config-files
Architecture: all
Depends: sail

Package: base
Status: install ok installed
Architecture: all
Essential: yes
Depends: boat
"""
_MARK = "Package: {}\nArchitecture: all\nAuto-Installed: 1\n\n"
AUTO = "".join(map(_MARK.format, ("rope", "wind", "canvas")))


def test_what_would_go_and_what_nothing_needs_then():
    found = Packages(DATABASE, AUTO)
    assert found.would_go(["sail"]) == {"sail", "boat", "base"}
    assert found.would_go(["canvas"]) == {"canvas", "sail", "boat", "base"}
    assert found.needed_by("sail") == ["boat"]
    assert "every system needs base" in found.why_not(["sail", "boat", "base"])
    assert "boat" in found.why_not(["sail"])
    alone = Packages(DATABASE.replace("Depends: boat", "Depends:"), AUTO)
    assert alone.only_for(["sail", "boat"]) == {"rope", "wind", "canvas"}
    assert alone.only_for(["boat"]) == set()
    assert alone.why_not(["sail", "boat"]) == ""
    half = DATABASE.replace("ok installed", "ok half-installed", 1)
    for cut in (DATABASE[:-1], DATABASE + "\nVersion: 3\n", half):
        assert Packages(cut).why_not(["sail", "boat"]), "what cannot be trusted removes nothing"


def test_nothing_is_removed_along_that_was_not_chosen():
    one = Installed(name="sail", manager="dpkg", title="x", takes=("boat",), version="1")
    boat = Installed(name="boat", manager="dpkg", title="y", why_not="It is guarded: x.")
    programs = Programs(found=(one, boat))
    assert removal(programs, ["sail"]).why_not == "It would take along what was not chosen: boat."
    assert removal(programs, ["sail", "boat"]).why_not == "It is guarded: x."
    assert removal(programs, ["nothing"]).why_not == "nothing is not installed."


def printed(*words):
    """What a program prints; nothing where it fails."""
    env = {**os.environ, "LC_ALL": "C"}
    done = subprocess.run(words, capture_output=True, text=True, check=False, env=env)
    return done.stdout if done.returncode == 0 else ""


@pytest.mark.skipif(not shutil.which("apt-get") or not os.path.exists(STATUS), reason="no dpkg")
def test_sizes_and_what_would_go_are_what_the_package_manager_says():
    with open(STATUS, encoding="utf-8") as file:
        status = file.read()
    marks = ""
    if os.path.exists(MARKS):
        with open(MARKS, encoding="utf-8") as file:
            marks = file.read()
    found = Packages(status, marks)
    assert found.broken == ""
    form = "${db:Status-Status} ${Package} ${Installed-Size}\n"
    rows = [line.split() for line in printed("dpkg-query", "-W", "-f", form).splitlines()]
    sizes = {name: int(size) * 1024 for state, name, size in rows if state == "installed"}
    assert {p.name: p.bytes for p in found.all.values()} == sizes
    dice = random.Random(5)
    mine = sorted(k for k, p in found.all.items() if not p.basic and not found.auto.issuperset([k]))
    for key in dice.sample(mine, min(6, len(mine))):
        told = printed("apt-get", "-s", "remove", key)
        if told and "Inst " not in told:
            goes = {w.split()[1] for w in told.splitlines() if w.startswith("Remv ")}
            assert found.would_go([key]) == goes, key


def test_programs_are_shown_removed_and_the_list_that_brings_them_back_is_kept(home):
    def run(*words, code=0):
        done = lumtak(*words, home=home)
        assert done.returncode == code, (words, done.stdout, done.stderr)
        return done.stdout + done.stderr

    crib = "sim:tool-crib"
    run("job", "start", crib, "--profile", "tool-lending")
    assert "drawing-suite" in run("storage", crib, "programs", "--older", "700")
    assert "tool-book" not in run("storage", crib, "programs", "--older", "700")
    assert "nobody could log in" in run("remove", crib, "slipway-desktop", "--yes", code=2)
    assert "Nobody is there" in run("remove", crib, "film-cutter", code=2)
    before = run("storage", crib)
    said = run("remove", crib, "film-cutter", "--yes")
    assert "apt-get install film-cutter=4.0" in said
    assert "film-cutter " not in run("storage", crib, "programs")
    assert run("storage", crib) != before


def test_things_are_of_the_owner_s_home_alone():
    survey = Survey(
        identity="x", at="", total_bytes=1, free_bytes=1, seen_bytes=1, inodes=1, parts={},
        largest=(
            BigFile(path="/var/x", bytes=5e9, changed_at=1),
            BigFile(path="/home/mia/c", bytes=5e9, changed_at=1),
        ),
    )  # fmt: skip
    same = (("/home/mia/a", "/home/mia/link"), ("/home/mia/b",))
    group = CopyGroup(bytes=5.0, copies=same, count=2)
    found = things(survey, [group], "/home/mia", {"/home/mia/a": "2026-01-01"})
    assert [(t.path, t.copies, t.opened) for t in found] == [
        ("/home/mia/c", (), ""),
        ("/home/mia/a", ("/home/mia/b",), "2026-01-01"),
        ("/home/mia/b", ("/home/mia/a",), ""),
    ]


# -- what browsers load ----------------------------------------------------------------------------

KEY = "abcdefghijklmnopabcdefghijklmnop"
ADDONS = {
    "addons": [
        {
            "id": "a@b",
            "type": "extension",
            "active": True,
            "location": "app-profile",
            "installDate": 1_600_000_000_000,
            "defaultLocale": {"name": "Reads \u001b[31m aloud"},
            "userPermissions": {"permissions": ["tabs"], "origins": ["<all_urls>"]},
        },
        {"id": "own", "type": "extension", "active": True, "location": "app-builtin"},
        {"id": "theme", "type": "theme", "active": True},
        {"id": 7},
        "odd",
    ]
}
SET = {
    "extensions": {
        "settings": {
            KEY: {
                "state": 1,
                "location": 1,
                "path": f"{KEY}/1.0_0",
                "first_install_time": "13300000000000000",
            },
            "b" * 32: {
                "state": 0,
                "manifest": {"name": "Off", "host_permissions": ["https://x/*"]},
            },
            "c" * 32: {"state": 1, "location": 5, "manifest": {"name": "Part of it"}},
            "d" * 32: {"state": "x", "path": "../../../etc/passwd"},
            "e" * 32: {"path": "../../../../etc"},
        }
    }
}


def test_what_a_browser_loads_is_told_and_what_is_odd_passed_over(tree):
    home = "/home/u"
    put(tree, f"{home}/.mozilla/firefox/x.default/extensions.json", json.dumps(ADDONS))
    put(tree, f"{home}/.mozilla/firefox/y/extensions.json", "[" * 9000)
    profile = f"{home}/.config/chromium/Default"
    put(tree, f"{profile}/Secure Preferences", json.dumps(SET))
    manifest = {
        "name": "__MSG_appName__",
        "default_locale": "en",
        "permissions": [{"x": 1}],
        "content_scripts": [{"matches": ["*://*/*"]}],
    }
    place = f"{profile}/Extensions/{KEY}/1.0_0"
    put(tree, f"{place}/manifest.json", json.dumps(manifest))
    put(tree, f"{place}/_locales/en/messages.json", json.dumps({"appname": {"message": "Counts"}}))
    hand, user = Hand(root=str(tree)), tree_user()
    names = ("firefox-esr", "chromium", "x")
    apps = [item("apps", f"process/{name}", running=True) for name in names]
    gecko, chromium, other = with_extensions(hand, user, apps)
    assert [(e.on, e.since, e.everywhere) for e in gecko.extensions] == [(True, "2020-09-13", True)]
    assert "\u001b" not in gecko.extensions[0].name
    assert [(e.name, e.on, e.everywhere) for e in chromium.extensions] == [
        ("Counts", True, True),
        ("Off", False, False),
    ]
    assert other.extensions == ()
    assert "1 extension on, 1 off: Counts (on every page" in in_words(chromium.extensions)
