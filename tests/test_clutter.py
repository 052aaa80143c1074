"""The hand's part of storage: a volume looked through, clutter set aside and put back."""

import contextlib
import ctypes
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import time
import traceback

import pytest

from lumtak.computers.hands.channel import bootstrap
from lumtak.computers.hands.piped import Piped
from lumtak.computers.hands.sent.clutter import aside, aside_folder, aside_list, clutter
from lumtak.computers.hands.sent.clutter.aside_list import numbered
from lumtak.computers.hands.sent.clutter.copies import Copies, alike
from lumtak.computers.hands.sent.clutter.rules import OWN_NOTES
from lumtak.computers.hands.sent.files import deleting, kernel
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.files.walking import Walk
from lumtak.computers.hands.sent.hand import Hand
from lumtak.computers.hands.sent.script.aside_shell import ASIDE

OLD = 1_000_000_000
ODD = [
    b"line\nend\n",
    b"back\\0041slash",
    b"quote'\"$(x)`y`",
    b"no text \xff\xfe",
    b" -n ",
    b"*?[a]",
]


class Home:
    """A user's home with clutter in it, and the hand that looks after it."""

    def __init__(self, path):
        self.path, self.cache = str(path), str(path / ".cache")
        self.data = str(path / ".local/share")
        self.notes = self.data + OWN_NOTES
        self.homes = [self.path, self.cache, self.data]
        os.makedirs(self.data)
        self.hand = Hand(homes=[self.data], own=self.homes)

    def file(self, path, data=b"x", age=OLD):
        whole = os.fsencode(self.path) + b"/" + (path if isinstance(path, bytes) else path.encode())
        os.makedirs(os.path.dirname(whole), exist_ok=True)
        with open(whole, "wb") as file:
            file.write(data)
        os.utime(whole, (age, age))
        return os.fsdecode(whole)

    def look(self, name="thumbnails", path="", hand=None):
        return (hand or self.hand).aside_look(name, name, [path] if path else [], [], [])

    def move(self, sha256):
        """What was looked for last, whose list has this checksum."""
        (handle,) = (h for h, p in self.hand._planned.items() if p.sha256 == sha256)
        return self.hand.aside_move(handle)

    def planned(self, found):
        """Places of what a look found."""
        return [
            one.piece.place for one in numbered(self.hand._planned[found["handle"]].list.parts())
        ]

    def tree(self):
        """Everything that can be told apart of what stands here, but what a rename changes."""
        found = {}
        for folder, folders, files in os.walk(self.path):
            for path in [folder, *(os.path.join(folder, n) for n in (*folders, *files))]:
                about = os.lstat(path)
                link = os.readlink(path) if os.path.islink(path) else ""
                more = sorted(os.listxattr(path, follow_symlinks=False)) if not link else []
                data = b""
                if os.path.isfile(path) and not link:
                    with open(path, "rb") as file:
                        data = file.read()
                found[path] = (
                    about.st_ino,
                    about.st_mode,
                    about.st_uid,
                    about.st_gid,
                    about.st_mtime_ns,
                    about.st_nlink,
                    about.st_size,
                    link,
                    more,
                    data,
                )
        return found


@pytest.fixture
def home(tmp_path):
    return Home(tmp_path / "mia")


def varied(home):
    """Clutter of every shape: odd names, links, a folder in a folder, one too young."""
    for name in ODD:
        home.file(b".cache/thumbnails/odd/" + name)
    for n in range(4):
        home.file(f".cache/thumbnails/large/{n}.png", b"x" * 5000 * n)
    os.symlink("../../x", home.cache + "/thumbnails/large/link")
    os.utime(home.cache + "/thumbnails/large/link", (OLD, OLD), follow_symlinks=False)
    os.link(home.cache + "/thumbnails/large/1.png", home.cache + "/thumbnails/large/second")
    home.file(".cache/thumbnails/whole/in/deep.png")
    for folder in ("whole/in", "whole", "large"):
        os.utime(f"{home.cache}/thumbnails/{folder}", (OLD, OLD + 5))
    home.file(".cache/thumbnails/large/young.png", age=time.time())
    os.utime(home.cache + "/thumbnails/large", ns=(OLD * 10**9, (OLD + 7) * 10**9 + 123_456_789))


# -- the walk --------------------------------------------------------------------------------------


def walked(path, passed=()):
    *_, last = Walk([], set(passed)).through(kernel.folder_at(str(path)), str(path))
    return last["ended"]


def test_a_walk_counts_what_du_counts_to_the_block(tmp_path):
    dice = random.Random(7)
    top = tmp_path / "tree"
    for n in range(400):
        folder = top / "/".join(dice.choices("abcdef", k=dice.randint(1, 5)))
        folder.mkdir(parents=True, exist_ok=True)
        (folder / f"f{n}").write_bytes(b"x" * dice.randint(0, 30_000))
    with open(top / "sparse", "wb") as sparse:
        sparse.truncate(1 << 30)
        sparse.seek(1 << 29)
        sparse.write(b"here")
    for n in range(30):
        os.link(top / "sparse", top / f"again{n}")
    os.symlink("/", top / "everything")
    os.mkfifo(top / "pipe")
    for name in ODD:
        with open(os.fsencode(top) + b"/" + name, "wb") as file:
            file.write(b"odd")
    deep = os.open(top, os.O_RDONLY)
    for _ in range(1500):
        os.mkdir("deep", dir_fd=deep)
        below = os.open("deep", os.O_RDONLY, dir_fd=deep)
        os.close(deep)
        deep = below
    os.close(deep)
    told = subprocess.run(["du", "-s", "-B1", top], capture_output=True, check=True).stdout
    found = walked(top)
    assert found["bytes"] == int(told.split()[0])
    assert found["unread"] == 0
    assert walked(tmp_path, passed=[str(top)])["bytes"] < 1 << 20
    above = kernel.folder_at(str(tmp_path))
    assert deleting.Deleting(()).delete(above, "tree", print)  # nothing else here gets as deep
    assert os.listdir(above) == []
    os.close(above)


def test_a_walk_keeps_the_largest_and_says_what_it_could_not_see(tmp_path):
    for n in range(1200):
        (tmp_path / f"{n}").write_bytes(b"x")
    (tmp_path / "large").write_bytes(b"x" * 100_000)
    (tmp_path / "folder").mkdir()
    (tmp_path / "folder" / "larger").write_bytes(b"x" * 200_000)
    found = walked(tmp_path)
    assert [p for _, p, _ in found["largest"][:2]] == [
        f"{tmp_path}/folder/larger", f"{tmp_path}/large",
    ]  # fmt: skip
    assert len(found["largest"]) == 1000
    assert found["folders"][0][1:] == [str(tmp_path), 1202]


# -- what may go -----------------------------------------------------------------------------------


def test_what_is_young_open_locked_or_a_socket_is_left(home):
    varied(home)
    home.file(".cache/thumbnails/app.lock")
    home.file(".cache/thumbnails/future.png", age=time.time() + 9e6)
    held = home.file(".cache/thumbnails/held.png")
    with open(held, "rb") as opened:
        child = subprocess.Popen(["sleep", "60"], stdin=opened)
        try:
            found = home.look()
        finally:
            child.kill()
            child.wait()
    assert found["left"] == {"too young": 2, "in use": 1, "a socket, a lock or a device": 1}
    places = [p.removeprefix(home.cache + "/thumbnails/") for p in home.planned(found)]
    assert "whole" in places
    assert "odd" not in places
    assert "large/0.png" in places
    assert not any(name in p for p in places for name in ("young", "future", "held", "lock"))


def test_trash_goes_by_when_it_was_thrown_away_with_the_note_of_it(home):
    for name, when in (("old.txt", "2019-02-03T04:05:06"), ("new.txt", "2038-01-01T00:00:00")):
        home.file(f".local/share/Trash/files/{name}", b"x" * 9000)
        home.file(
            f".local/share/Trash/info/{name}.trashinfo",
            f"[Trash Info]\nPath=/x/{name}\nDeletionDate={when}\n".encode(),
        )
    home.file(".local/share/Trash/files/nobody-said-when")
    found = home.look("trash")
    places = sorted(map(os.path.basename, home.planned(found)))
    assert places == ["old.txt", "old.txt.trashinfo"]
    assert found["left"]["too young"] == 1


def test_only_the_named_thing_goes_and_never_a_home(home):
    film = home.file("films/old film.mkv", b"x" * 70_000)
    for path in (home.path, home.data, home.cache, "/", home.path + "/.local"):
        with pytest.raises(RefusalError, match="never set aside"):
            home.look("path", path)
    before = home.tree()
    found = home.look("path", film)
    assert found["files"] == 1
    home.hand.aside_move(found["handle"])
    assert not os.path.exists(film)
    home.hand.aside_back(found["sha256"])
    assert home.tree() == before


def test_others_files_are_left(home):
    if os.geteuid() != 0:
        pytest.skip("takes root to make files of somebody else")
    os.chown(home.file(".cache/thumbnails/theirs.png"), 65534, 65534)
    found = home.look()
    assert found["left"] == {"somebody else's": 1}
    assert not found["sha256"]


# -- there and back --------------------------------------------------------------------------------


def test_set_aside_and_put_back_is_the_same_tree(home):
    varied(home)
    before = home.tree()
    found = home.look()
    done = home.hand.aside_move(found["handle"])
    assert (done["files"], done["left"]) == (found["files"], {})
    assert sorted(os.listdir(home.cache + "/thumbnails/large")) == ["young.png"]
    assert os.stat(home.notes).st_mode & 0o777 == 0o700
    assert home.hand.aside_back(found["sha256"]) == {
        "files": found["files"], "left": {},
    }  # fmt: skip
    assert home.tree() == before


@pytest.mark.parametrize("shell", [["dash"], ["busybox", "sh"], ["bash", "--posix"]])
def test_the_script_puts_back_what_stands_in_the_list(home, shell, tmp_path):
    varied(home)
    before = home.tree()
    sha256 = home.look()["sha256"]
    home.move(sha256)
    script = tmp_path / "undo.sh"
    script.write_text(f"set -u\nroot=\n{ASIDE}\naside_back '{home.notes}' {sha256}\n")
    ran = subprocess.run([*shell, script], capture_output=True, text=True, check=False)
    assert (ran.returncode, ran.stderr) == (0, "")
    assert home.tree() == before


@pytest.mark.parametrize("shell", ["dash", "busybox", "bash"])
def test_the_script_goes_into_a_place_that_is_longer_than_a_path_may_be(home, shell, tmp_path):
    os.makedirs(home.cache + "/thumbnails")
    below = os.open(home.cache + "/thumbnails", os.O_RDONLY)
    for _ in range(30):
        name = "n" * 200 + " é"
        os.mkdir(name, dir_fd=below)
        inner = os.open(name, os.O_RDONLY, dir_fd=below)
        os.close(below)
        below = inner
    for name, age in (("old", OLD), ("young", time.time())):
        with open(name, "w", opener=lambda n, f: os.open(n, f, dir_fd=below)) as file:
            file.write("deep")
        os.utime(name, (age, age), dir_fd=below)
    before = os.stat("old", dir_fd=below)
    sha256 = home.look()["sha256"]
    home.move(sha256)
    assert os.listdir(below) == ["young"]
    assert by_script(home, sha256, shell) == ""
    assert os.path.samestat(os.stat("old", dir_fd=below), before)
    os.close(below)
    assert not os.path.exists(home.notes)


def test_nothing_is_ever_replaced(home):
    varied(home)
    sha256 = home.look()["sha256"]
    home.move(sha256)
    taken = home.file(".cache/thumbnails/large/0.png", b"new")
    back = home.hand.aside_back(sha256)
    assert back["left"] == {"something stands there": 1}
    with open(taken, "rb") as file:
        assert file.read() == b"new"
    os.unlink(taken)
    assert home.hand.aside_back(sha256) == {"files": 1, "left": {}}


def test_a_folder_that_was_made_anew_takes_what_is_not_there(home):
    varied(home)
    sha256 = home.look()["sha256"]
    home.move(sha256)
    new = home.file(".cache/thumbnails/whole/in/deep.png", b"new")
    home.file(".cache/thumbnails/whole/other", b"new")
    assert home.hand.aside_back(sha256)["left"] == {"something stands there": 1}
    with open(new, "rb") as file:
        assert file.read() == b"new"
    os.unlink(new)
    assert home.hand.aside_back(sha256) == {"files": 1, "left": {}}
    with open(new, "rb") as file:
        assert file.read() == b"x"
    assert sorted(os.listdir(home.cache + "/thumbnails/whole")) == ["in", "other"]
    assert not os.path.exists(home.notes)


def test_a_folder_that_is_another_one_now_takes_nothing_back(home):
    varied(home)
    sha256 = home.look()["sha256"]
    home.move(sha256)
    large = home.cache + "/thumbnails/large"
    os.rename(large, large + ".was")
    os.mkdir(large)
    back = home.hand.aside_back(sha256)
    assert back["left"] == {"its folder is another one now": 6}
    assert os.listdir(large) == []


def test_a_list_that_somebody_wrote_anew_is_not_followed(home):
    varied(home)
    victim = home.file("victim", b"keep")
    sha256 = home.look()["sha256"]
    home.move(sha256)
    path = f"{home.notes}/aside/{sha256[:16]}/list"
    with open(path, "ab") as file:
        file.write(b"f 1 1 1.000000000 1.000000000 1 1 /etc/passwd\n")
    for act in (lambda: home.hand.aside_back(sha256),
                lambda: list(home.hand.aside_empty(sha256, []))):  # fmt: skip
        with pytest.raises(RefusalError, match="not the one that was recorded"):
            act()
    assert os.path.exists(victim)


def test_emptying_deletes_what_is_held_and_nothing_else(home):
    varied(home)
    os.makedirs(home.cache + "/thumbnails/locked/in")
    home.file(".cache/thumbnails/locked/in/a")
    for folder in ("locked/in", "locked"):
        os.utime(f"{home.cache}/thumbnails/{folder}", (OLD, OLD))
        os.chmod(f"{home.cache}/thumbnails/{folder}", 0o500)
    outside = home.file("kept/file", b"keep")
    os.symlink(home.path + "/kept", home.cache + "/thumbnails/large/away")
    os.utime(home.cache + "/thumbnails/large/away", (OLD, OLD), follow_symlinks=False)
    found = home.look()
    home.hand.aside_move(found["handle"])
    *_, doubts = home.hand.aside_doubts(found["sha256"])
    *_, last = home.hand.aside_empty(found["sha256"], [])
    for said in (doubts["ended"], last["ended"]):
        assert [said[n] for n in ("files", "bytes", "left")] == [found["files"], found["bytes"], {}]
    assert os.path.exists(outside)
    assert not os.path.exists(home.notes)


def ended(parts):
    *_, last = parts
    return last["ended"]


def by_script(home, sha256, shell="dash"):
    """What the undo script says where it puts this back."""
    text = f"set -u\nroot=\n{ASIDE}\naside_back '{home.notes}' {sha256}\n"
    text += f"aside_tidy \"$root\"'{home.notes}'\n"
    how = [shell, "sh"] if shell == "busybox" else [shell]
    ran = subprocess.run([*how, "-c", text], capture_output=True, text=True, check=False)
    assert not ran.stderr, ran.stderr
    return ran.stdout


@pytest.mark.parametrize("gone", ["deleted", "overwritten", "a link to it", "held too"])
def test_what_became_the_last_copy_stays_unless_somebody_says_yes_to_just_that(home, gone):
    one, other = home.file("films/a", b"film" * 5000), home.file("more/b", b"film" * 5000)
    found = home.hand.aside_look("path", one, [one], [[one, [other]]], [])
    home.hand.aside_move(found["handle"])
    assert ended(home.hand.aside_doubts(found["sha256"]))["last"] == []
    (held,) = (f"{d}/1" for d, _, names in os.walk(home.notes) if "1" in names)
    os.unlink(other)
    if gone == "overwritten":
        home.file("more/b", b"song" * 5000)
    elif gone == "a link to it":
        os.link(held, other)
    elif gone == "held too":  # by a way that leads into what is held
        shutil.copy(held, os.path.dirname(held) + "/b")
        os.rmdir(os.path.dirname(other))
        os.symlink(os.path.dirname(held), os.path.dirname(other))
    assert ended(home.hand.aside_doubts(found["sha256"]))["last"] == [[1, one]]
    done = ended(home.hand.aside_empty(found["sha256"], []))
    assert (done["files"], done["held"]) == (0, 1)
    assert done["named"] == [[one, "no other copy of it is there any more"]]
    if gone == "deleted":
        done = ended(home.hand.aside_empty(found["sha256"], [1]))
        assert (done["files"], done["left"]) == (1, {})
        assert not os.path.exists(home.notes)
    else:
        home.hand.aside_back(found["sha256"])
        assert os.path.exists(one)


def test_what_cannot_be_deleted_is_named_stops_nothing_and_can_be_put_back(home):
    varied(home)
    before = home.tree()
    sha256 = home.look()["sha256"]
    home.move(sha256)
    (folder,) = (d for d, _, _ in os.walk(home.notes) if d.endswith("/held"))
    whole, *_ = (n for n in os.listdir(folder) if os.path.isdir(f"{folder}/{n}"))
    subprocess.run(["chattr", "+i", f"{folder}/{whole}/in"], check=True)
    with open(f"{folder}/2", "rb") as opened:
        child = subprocess.Popen(["sleep", "60"], stdin=opened)
        try:
            done = ended(home.hand.aside_empty(sha256, []))
        finally:
            child.kill()
            child.wait()
    why = {w: os.path.basename(p) for p, w in done["named"]}
    fixed = "marked as never to be changed: sudo chattr -i takes that off"
    assert why.keys() == {fixed, "in use"}
    assert why[fixed] == "deep.png"
    subprocess.run(["chattr", "-i", f"{folder}/{whole}/in"], check=True)
    assert sorted(os.listdir(folder)) == sorted(["2", whole])
    assert by_script(home, sha256) == ""
    now = home.tree()
    back = {p for p in now if os.path.isfile(p)} - {home.cache + "/thumbnails/large/young.png"}
    assert len(back) == 2
    assert all(now[p] == before[p] for p in back)
    assert not os.path.exists(home.notes)


def test_what_an_older_lumtak_set_aside_goes_back_and_is_emptied(home):
    for act in ("back", "script", "empty"):
        varied(home)
        before = home.tree()
        sha256 = home.look()["sha256"]
        home.move(sha256)
        note = f"{home.notes}/aside-{sha256[:16]}.json"
        os.unlink(f"{home.notes}/aside/{sha256[:16]}/wait")
        with open(note, "rb") as file:
            said = {k: v for k, v in json.load(file).items() if k != "format"}
        with open(note, "w", encoding="utf-8") as file:
            json.dump(said, file)
        if act == "empty":
            assert ended(home.hand.aside_empty(sha256, []))["left"] == {}
        else:
            by_script(home, sha256) if act == "script" else home.hand.aside_back(sha256)
            assert home.tree() == before
        assert not os.path.exists(home.notes)
        shutil.rmtree(home.cache)


@pytest.mark.parametrize("full", ["size", "nr_inodes"])
def test_emptying_and_going_back_work_where_nothing_is_left(tmp_path, full):
    if os.geteuid() != 0:
        pytest.skip("takes root to mount a small volume")
    (tmp_path / "mia").mkdir()
    child = os.fork()
    if not child:
        try:
            libc = ctypes.CDLL(None, use_errno=True)
            assert libc.unshare(0x20000) == 0
            assert libc.mount(None, b"/", None, 0x44000, None) == 0
            at = os.fsencode(tmp_path / "mia")
            options = b"size=4m,nr_inodes=400"
            assert libc.mount(b"tmpfs", at, b"tmpfs", 0, options) == 0
            home = Home(tmp_path / "mia")
            for act in ("back", "script", "empty"):
                varied(home)
                before = home.tree()
                sha256 = home.look()["sha256"]
                home.move(sha256)
                with contextlib.suppress(OSError):
                    for n in range(1000):
                        with open(f"{home.path}/f{n}", "wb") as file:
                            file.write(b"x" * (1 << 20 if full == "size" else 0))
                free = os.statvfs(home.path)
                assert (free.f_bfree if full == "size" else free.f_ffree) == 0
                if act == "empty":
                    assert ended(home.hand.aside_empty(sha256, []))["left"] == {}
                elif act == "script":
                    assert by_script(home, sha256) == ""
                else:
                    assert home.hand.aside_back(sha256)["left"] == {}
                assert not os.path.exists(home.notes)
                for n in range(1000):
                    with contextlib.suppress(FileNotFoundError):
                        os.unlink(f"{home.path}/f{n}")
                if act == "empty":
                    assert not any(
                        files for _, _, files in os.walk(home.cache + "/thumbnails/whole")
                    )
                else:
                    now = home.tree()
                    assert {p: a for p, a in now.items() if p != home.path} == {
                        p: a for p, a in before.items() if p != home.path
                    }
                shutil.rmtree(home.cache)
        except BaseException:  # noqa: BLE001 - of a process that has to end here
            traceback.print_exc()
            os._exit(1)
        os._exit(0)
    assert os.waitpid(child, 0)[1] == 0


# -- interrupted -----------------------------------------------------------------------------------

_STEPS = (
    (aside, "move_new"), (aside, "put"), (aside, "put_parts"), (aside_folder, "put_or_rewrite"),
    (aside_folder, "forget"), (aside.os, "mkdir"), (aside.os, "rmdir"), (aside.os, "rename"),
    (aside, "keep_times"),
)  # fmt: skip


def killed_at(step, act, steps=_STEPS):
    """Run in a process of its own that ends, without a word, before its so-manieth step; whether it
    came to its end.
    """
    child = os.fork()
    if child:
        return os.waitpid(child, 0)[1] == 0
    left = [step]

    def counted(real):
        def wrapped(*given, **named):
            left[0] -= 1
            if left[0] < 0:
                os._exit(9)
            return real(*given, **named)

        return wrapped

    for where, name in steps:
        setattr(where, name, counted(getattr(where, name)))
    try:
        act()
    except BaseException:  # noqa: BLE001 - of a process that has to end here
        os._exit(7)
    os._exit(0)


def test_killed_at_every_step_of_setting_aside_everything_goes_back(home):
    varied(home)
    before = home.tree()
    step = 0
    while True:
        sha256 = home.look()["sha256"]
        ended = killed_at(step, lambda sha=sha256: home.move(sha))
        home.hand._planned.clear()
        if os.path.isdir(home.notes) and f"aside-{sha256[:16]}.json" in os.listdir(home.notes):
            assert home.hand.aside_back(sha256)["left"] == {}
        shutil.rmtree(home.notes, ignore_errors=True)  # what was made before the note was written
        now = home.tree()
        now[home.data] = before[home.data]
        assert now == before, step
        if ended:
            break
        step += 1
        assert step < 200
    assert step > 20


def test_killed_at_every_step_of_going_back_the_rest_goes_back_later(home):
    varied(home)
    before = home.tree()
    step, ended = 0, False
    while not ended:
        sha256 = home.look()["sha256"]
        home.move(sha256)
        ended = killed_at(step, lambda sha=sha256: home.hand.aside_back(sha))
        if not ended and os.path.exists(f"{home.notes}/aside-{sha256[:16]}.json"):
            assert home.hand.aside_back(sha256)["left"] == {}
        now = home.tree()
        for place in (home.notes, home.data):
            now.pop(place, None)
        assert now == {p: a for p, a in before.items() if p != home.data}, step
        step += 1
        assert step < 200
    assert step > 20


def test_a_real_kill_in_the_middle_of_ten_thousand(home):
    for n in range(10_000):
        home.file(f".cache/thumbnails/large/{n}.png", b"")
    home.file(".cache/thumbnails/large/young.png", age=time.time())
    os.utime(home.cache + "/thumbnails/large", (OLD, OLD))
    before = home.tree()
    hand = Piped(
        bootstrap(sys.executable),
        {"homes": [home.data], "own": home.homes, "roles": ["user"]},
        "the hand",
    )
    found = home.look(hand=hand)
    sha256 = found["sha256"]
    child = os.fork()
    if not child:
        # Killed once some were moved: what is looked at is the folder that they go to.
        place = f"{home.notes}/aside/{sha256[:16]}/held"
        tries = 2_000_000
        while tries and not (os.path.isdir(place) and len(os.listdir(place)) > 2000):
            tries -= 1
        os.kill(hand.known_pid, signal.SIGKILL)
        os._exit(0)
    with pytest.raises(OSError, match="has ended"):
        hand.aside_move(found["handle"])
    os.waitpid(child, 0)
    held = len(os.listdir(f"{home.notes}/aside/{sha256[:16]}/held"))
    assert 2000 < held < 10_000
    assert home.hand.aside_back(sha256) == {"files": held, "left": {}}
    assert home.tree() == before


@pytest.mark.parametrize("by_lumtak", [True, False])
def test_killed_at_every_step_of_emptying_what_is_not_deleted_goes_back(home, by_lumtak):
    step, finished = 0, False
    while not finished:
        varied(home)
        before = home.tree()
        sha256 = home.look()["sha256"]
        home.move(sha256)

        def act(sha=sha256):
            assert ended(home.hand.aside_empty(sha, []))["held"] == 0

        finished = killed_at(step, act, ((deleting.os, "unlink"), (deleting.os, "rmdir")))
        if os.path.exists(home.notes) and by_lumtak:
            assert home.hand.aside_back(sha256)["left"] == {}
        elif os.path.exists(home.notes):
            assert by_script(home, sha256) == ""
        now = home.tree()
        for path, about in now.items():
            if os.path.isfile(path) and not path.endswith("second"):
                assert about[9] == before[path][9], step
        assert not os.path.exists(home.notes)
        shutil.rmtree(home.cache)
        step += 1
    assert step > 15


# -- somebody is quicker ---------------------------------------------------------------------------


def test_what_is_exchanged_between_the_look_and_the_move_is_left(home, monkeypatch):
    varied(home)
    outside = home.file("outside/0.png", b"theirs")
    found = home.look()
    large = home.cache + "/thumbnails/large"
    os.rename(large, large + ".was")
    os.symlink(os.path.dirname(outside), large)
    done = home.hand.aside_move(found["handle"])
    assert sum(done["left"].values()) == 6
    assert os.path.exists(outside)
    os.unlink(large)
    os.rename(large + ".was", large)
    home.hand.aside_back(found["sha256"])
    real = aside.move_new

    def late(here, name, there, new):
        if name == "0.png":  # exchanged in the last moment: what was moved goes where it was
            os.rename("0.png", "0.was", src_dir_fd=here, dst_dir_fd=here)
            os.symlink("/etc/passwd", "0.png", dir_fd=here)
        real(here, name, there, new)

    found = home.look()
    monkeypatch.setattr(aside, "move_new", late)
    assert home.hand.aside_move(found["handle"])["left"] == {"changed while it was looked at": 1}
    assert os.readlink(large + "/0.png") == "/etc/passwd"
    assert os.path.exists(large + "/0.was")


def test_root_takes_nothing_out_of_a_folder_that_others_can_change(tmp_path, monkeypatch):
    if os.geteuid() != 0:
        pytest.skip("takes root")
    place = tmp_path / "spool"
    for name in ("safe", "open"):
        (place / name).mkdir(parents=True)
        for n in range(2):
            (place / name / f"{n}.1").write_bytes(b"x" * 5000)
            os.utime(place / name / f"{n}.1", (OLD, OLD))
    (place / "open").chmod(0o777)
    rule = clutter.Rule("x", "system", (str(place),), 1)
    gathered = clutter.Gather(rule, 0, os.stat(place).st_dev, set(), set(), root=True)
    gathered.folder(kernel.folder_at(str(place)), str(place))
    places = [one.piece.place for one in numbered(gathered.list.parts())]
    assert [os.path.basename(os.path.dirname(p)) for p in places] == ["safe"] * 2
    assert gathered.left == {"others can change its folder": 2}


def test_the_list_says_what_it_holds_and_reads_back():
    piece = clutter.Piece("/a b/\udcff\n'\\", "d", 1, 2, 0, 3_000_000_001, 4, 5, 6)
    copies = [("/a b/x", ["/c\n", "/d"]), ("/a b/y", [])]
    data = aside_list.FIRST + aside_list.line_of(piece) + aside_list.lines_of_copies(copies)
    whole = data + aside_list.line_of(piece)
    for size in (1, 7, 1 << 20):  # however it is cut into parts
        parts = [whole[at : at + size] for at in range(0, len(whole), size)]
        assert list(numbered(parts)) == [(1, piece, copies), (2, piece, [])]
    assert len(data.split(b"\n")) == 7
    for bad in (b"", data[:-1], data + b"f 1\n", data.replace(b"/a", b"a"), b"x" + data):
        with pytest.raises(RefusalError):
            list(numbered([bad]))


# -- files of which there are several --------------------------------------------------------------


def searched(path, least=1):
    *_, last = Copies(least, set()).through(str(path))
    return last["ended"]


def test_every_copy_is_found_and_no_link_and_nothing_else(tmp_path):
    dice = random.Random(11)
    wanted = {}
    for n in range(300):
        folder = tmp_path / f"{n % 7}"
        folder.mkdir(exist_ok=True)
        data = dice.randbytes(dice.choice([1, 5000, 20_000, 20_000, 20_000]))
        names = [folder / f"{n}"]
        (folder / f"{n}").write_bytes(data)
        if n % 5 == 0:
            for extra in range(n % 3 + 1):
                names.append(tmp_path / f"copy {n} {extra}\n".strip())
                names[-1].write_bytes(data)
        if n % 4 == 0:
            os.link(names[0], folder / f"{n}.link")
        if len(data) > 1 and len(names) > 1:
            wanted[data] = {str(p) for p in names}
    # The same in all parts that are looked at first, and not in the whole.
    for n in range(3):
        (tmp_path / f"trap{n}").write_bytes(b"a" * 9000 + bytes([n]) + b"a" * 90_000)
    os.symlink(tmp_path / "trap0", tmp_path / "trap-link")
    found = searched(tmp_path, least=2)
    told = {frozenset(min(names, key=len) for names in g["copies"]) for g in found["groups"]}
    assert told == set(map(frozenset, wanted.values()))
    # What is free is what the disk has of them, and not what they say of their size.
    takes = {d: os.stat(min(p)).st_blocks * 512 for d, p in wanted.items()}
    assert found["frees"] == sum(takes[d] * (len(p) - 1) for d, p in wanted.items())
    assert (found["unread"], found["changed"], found["left"]) == (0, 0, 0)


def test_a_file_that_changes_or_cannot_be_read_is_in_no_group(tmp_path, monkeypatch):
    for name in "abc":
        (tmp_path / name).write_bytes(b"x" * 40_000)
    real = Copies._hash

    def late(self, file, whole):
        if file.name == "b" and whole:
            (tmp_path / "b").write_bytes(b"y" * 40_001)
        return real(self, file, whole)

    monkeypatch.setattr(Copies, "_hash", late)
    found = searched(tmp_path)
    (group,) = found["groups"]
    assert sorted(os.path.basename(names[0]) for names in group["copies"]) == ["a", "c"]
    assert found["changed"] == 1
    assert not alike(str(tmp_path / "a"), str(tmp_path / "nowhere"))
    with pytest.raises(RefusalError, match="compares nobody"):
        list(Hand(rules=True).copies(str(tmp_path), 1, []))
