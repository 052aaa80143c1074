"""Journals that an older Lumtak wrote.

`data/jobs-0.1.json` holds two of them with their computers, made by version 0.1 itself.
"""

import base64
import json
import os
import shutil
from pathlib import Path

import msgspec
import pytest

from faulting import run_script
from helpers import computer_on, database_at, put, snapshot_of
from lumtak.computers.hands.sent.states.states import (
    STATE_KINDS,
    ChannelKey,
    File,
    UnitLinks,
    Unknown,
)
from lumtak.core.setting import parse_ref
from lumtak.errors import ComputerError
from lumtak.journal import Journal, drift, put_back, recorded
from lumtak.journal.entry import FORMAT, Entry, unsealed
from lumtak.journal.undo_script import refresh_script
from outside import Outside
from test_losses import sealed

JOBS = {
    name: made
    for file in ("jobs-0.1", "jobs-without-receipts")
    for name, made in json.loads(
        (Path(__file__).parent / f"data/{file}.json").read_text(encoding="utf-8")
    ).items()
}
"""Of 0.1, and of the last Lumtak whose root kept no receipts."""


def build(root, paths):
    for name, what in paths.items():
        place = root / name
        place.parent.mkdir(parents=True, exist_ok=True)
        match what:
            case {"link": target}:
                place.symlink_to(target)
            case {"folder": mode}:
                place.mkdir(exist_ok=True)
                place.chmod(mode)
            case {"mode": mode, "text": text}:
                place.write_bytes(text.encode())
                place.chmod(mode)
    return root


def seen(root):
    """Everything, and what programs keep as they understand it."""
    return {**snapshot_of(root), "outside.json": json.loads((root / "outside.json").read_text())}


@pytest.fixture(params=JOBS)
def job(request, tmp_path, home):
    """(hand, everything as it was before the job).

    The computer and the journal as 0.1 left them.
    """
    made = JOBS[request.param]
    before = seen(build(tmp_path / "before", made["before"]))
    root = build(
        tmp_path / "root",
        {n: what for n, what in {**made["before"], **made["since"]}.items() if what},
    )
    put(home, "journal-id", made["tag"] + "\n")
    with database_at(home / "journal.db") as database:
        for statement in made["database"]["made"]:
            database.execute(statement)
        for number, computer, document, checksum, at in made["database"]["change"]:
            row = (number, computer, document.encode(), checksum, at)
            database.execute("INSERT INTO change VALUES (?, ?, ?, ?, ?)", row)
            if json.loads(document)["stage"] == "verified":
                put(home, f"before/{computer}/{number}.json", f"{checksum}\n{document}\n")
        for number, document, *rest in made["database"]["plan"]:
            database.execute(
                "INSERT INTO plan VALUES (?, ?, ?, ?)", (number, document.encode(), *rest)
            )
        database.execute(f"PRAGMA user_version = {made['database']['version']}")
    return Outside(root), before


def test_the_journal_of_an_older_job_opens_shows_and_puts_back_to_the_byte(job, home):
    hand, before = job
    computer, journal = computer_on(hand), Journal(home)
    assert journal.notices == []
    for entry in journal.entries():
        assert entry.format == FORMAT
        assert type(entry.restore.exact) is STATE_KINDS[entry.restore.exact.kind]
        assert any("kind: " in line for line in recorded(entry))
    assert {d.standing for d in drift(journal, computer)} == {"as left"}
    first = put_back(journal, computer)
    assert {o.result for o in first} == {"done", "failed"} or {o.result for o in first} == {
        "failed"
    }
    unseen = [o.id for o in first if o.unseen]
    assert {o.id for o in first if o.result == "failed"} == set(unseen)
    assert {e.ref.area for e in journal.entries() if e.id in unseen} <= set(
        computer.settings.take_root
    ), "what takes only the user's rights is put back as ever"
    done = put_back(journal, computer, unseen, shown=unseen)
    assert {o.result for o in done} == {"done"}, [o.note for o in done]
    assert seen(hand.path) == before
    journal.close()


@pytest.mark.skipif(os.geteuid() != 0, reason="one of the scripts is root's")
def test_scripts_put_back_an_older_job_and_root_s_own_of_then_stays_as_it_was(job, home, tmp_path):
    hand, before = job
    of_root = sorted((hand.path / "var/lib/lumtak").glob("undo-*.sh"))
    told = [script.read_bytes() for script in of_root]
    journal = Journal(home)
    refresh_script(journal, computer_on(hand))
    tag = journal.tag
    journal.close()
    copy = shutil.copytree(hand.path, tmp_path / "copy", symlinks=True)
    kept = sorted((copy / "var/lib/lumtak").glob("undo-*.sh"))
    assert [script.read_bytes() for script in kept] == told
    for script in (
        *kept,
        copy / f"var/lib/lumtak/put-back-{tag}.sh",
        copy / f"home/u/.local/share/lumtak-undo/undo-{tag}.sh",
    ):
        ended = run_script(script, copy) if script.exists() else None
        assert ended is None or (ended.returncode, "0 left alone, 0 failed" in ended.stdout) == (
            0,
            True,
        ), ended
    passed = ("proc", "sys", "outside.json", "var/lib/lumtak/swap")
    passed += () if told else ("etc", "var/lib/lumtak")
    now = {n: what for n, what in seen(copy).items() if not n.startswith(passed)}
    assert now == {n: what for n, what in before.items() if not n.startswith(passed)}


CHANGE = {
    "format": 2, "id": 1, "plan": 1, "turn": 3, "computer": "c", "address": "local", "user": "u",
    "job": "", "title": "a", "value": "off",
    "expected": {"value": "off"}, "after": None, "stage": "verified", "shows": "login",
    "boot_id": "b", "session_id": None, "note": "",
    "begun_at": "", "stage_at": "", "rescued": False, "taken_over_by": 0,
}  # fmt: skip
PLACE = {
    "folder": "/home/u/.config/autostart",
    "file": "a.desktop",
    "missing": "1",
    "undo_missing": "2",
}


def entry_of(address, exact, around):
    state = {"value": "on", "exact": exact, "around": around}
    ref = dict(zip(("area", "key"), address.split(":"), strict=True))
    return unsealed(*sealed({**CHANGE, "ref": ref, "before": state, "restore": state}), Entry)


def test_what_stood_around_a_state_is_in_it_or_in_the_change():
    entry = entry_of("apps:a", {"kind": "file", "mode": "640", "bytes": "YWI="}, PLACE)
    assert entry.restore.exact == File("/home/u/.config/autostart", "a.desktop", 1, 0o640, b"ab")
    assert (entry.restore.exact.missing, entry.script_made) == (1, 2)
    entry = entry_of("services:tide", {"kind": "links", "part:/x": "/y"}, {})
    assert entry.before.exact == UnitLinks("tide.service", {"/x": "/y"}, None)
    assert (entry.before.exact.active, entry.script_made) == (None, 0)
    bare = {k: v for k, v in PLACE.items() if "missing" not in k}
    assert entry_of("apps:a", {"kind": "absent"}, bare).restore.exact.missing == 0
    assert (
        entry_of("services:tide", {"kind": "links"}, {"active": "no"}).before.exact.active is False
    )


def test_a_whole_file_of_a_channel_becomes_its_property(tmp_path):
    folder = "/home/u/.config/xfce4/xfconf/xfce-perchannel-xml"
    where = {"folder": folder, "file": "xfwm4.xml", "missing": "3"}
    data = (
        b'<channel>\n  <property name="general" type="empty">\n    <property'
        b' name="show_frame_shadow" type="bool" value="false"/>\n  </property>\n</channel>\n'
    )
    words = {"kind": "file", "mode": "640", "bytes": base64.b64encode(data).decode()}
    state = entry_of("effects:shadows", words, where).restore
    name = "/general/show_frame_shadow"
    assert state.exact == ChannelKey("xfwm4", name, "b", "false", folder, 3, 0o640, data)
    assert (state.exact.missing, state.exact.mode, state.exact.data) == (3, 0o640, data)
    unset = entry_of("effects:shadows", {"kind": "absent"}, where).restore.exact
    assert (unset.raw, unset.data) == ("", None)
    assert type(entry_of("effects:glass", words, where).restore.exact) is File, "of no such setting"


@pytest.mark.parametrize(
    ("address", "exact", "around"),
    [
        ("apps:a", {"kind": "file", "mode": "rwx", "bytes": ""}, PLACE),
        ("apps:a", {"kind": "file", "mode": "644"}, PLACE),
        ("apps:a", {"kind": "file", "mode": "644", "bytes": "%"}, PLACE),
        ("apps:a", {"kind": "absent"}, {}),
        ("apps:a", {"kind": "absent"}, ["no", "record"]),
        ("apps:a", {"kind": "of another computer", "x": "y"}, PLACE),
        ("apps:a", {"x": "y"}, PLACE),
        (
            "memory:swappiness",
            {"kind": "sysctl", "kernel": 7, "part:live": "1", "part:bytes": ""},
            {},
        ),
        ("memory:swap_mib", {"kind": "swap", "part:own much on": "yes"}, {}),
        ("power:mains", {"kind": "property"}, {}),
    ],
)
def test_what_is_no_state_is_kept_as_it_stands_and_refused(box, address, exact, around):
    entry = entry_of(address, exact, around)
    assert type(entry.restore.exact) is Unknown
    again = unsealed(*sealed(msgspec.to_builtins(entry)), Entry)
    assert again.restore.exact == entry.restore.exact
    assert "its kind is not known" in str(refusal(box, address, again.restore))
    assert any(str(exact.get("kind", "x")) in line for line in recorded(again))


def refusal(box, address, state):
    with pytest.raises(ComputerError) as caught:
        box.settings.write(parse_ref(address), state)
    return caught.value
