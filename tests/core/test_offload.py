"""Offloading: everything arrives whole, nothing is overwritten, no interruption loses anything, and the verdict is true."""

from __future__ import annotations

import os
import random
import shutil
import signal
import subprocess
import sys
import time
from datetime import datetime
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest

from adzer.core.errors import AdzerError, Cancelled, UnreadableError
from adzer.core.intake import offload as module
from adzer.core.intake.card import PART, survey
from adzer.core.intake.copies import part_of
from adzer.core.intake.manifest import MANIFEST, read_manifest
from adzer.core.intake.offload import Control, destination, offload

BYTES = np.random.default_rng(5)


@pytest.fixture
def card(tmp_path):
    root = tmp_path / "card"
    for place, size in {
        "DCIM/100/C0001.mov": 3_000_000, "DCIM/100/C0002.mov": 1_700_001, "DCIM/101/C0003.mov": 900_000, "CLIPINFO/index.xml": 12,
        "DCIM/100/empty.mov": 0, "DCIM/100/ late light.mov": 40_000,
    }.items():  # fmt: skip
        path = root / place
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(BYTES.bytes(size))
        os.utime(path, (1_700_000_000, 1_700_000_000))
    return root


def tree(root: Path) -> dict[str, bytes]:
    return {str(p.relative_to(root)): p.read_bytes() for p in sorted(root.rglob("*")) if p.is_file()}


def copied(root: Path) -> dict[str, bytes]:
    return {k: v for k, v in tree(root).items() if not k.startswith(("offload ", MANIFEST))}


def run(card, *to, **more):
    return offload(card, to, "mill", "scope lens", **more)


def test_everything_arrives_at_both_places_and_another_tool_agrees(card, tmp_path):
    before = tree(card)
    said = []
    done = run(card, tmp_path / "a", tmp_path / "b", report=said.append)
    assert done.safe and "safe to erase: all 6 files" in done.words
    for base in "ab":
        root = tmp_path / base / "2023" / "11" / "mill" / "scope lens"
        assert copied(root) == before == tree(card)
        assert (root / "DCIM/100/C0001.mov").stat().st_mtime == 1_700_000_000
        check = subprocess.run(["xxhsum", "-c", MANIFEST], cwd=root, capture_output=True, text=True)
        assert check.returncode == 0 and check.stdout.count(": OK") == 6, check.stdout
        assert "safe to erase" in next(root.glob("offload *.txt")).read_text()
    assert said[-1].doing == "done" and said[-1].done == said[-1].total
    assert [s.done for s in said] == sorted(s.done for s in said)
    assert {o.place for o in done.oddities} == {"DCIM/100/empty.mov", "DCIM/100/ late light.mov"}


def test_a_second_run_copies_nothing_and_a_differing_file_is_left_alone(card, tmp_path):
    root = run(card, tmp_path).roots[0]
    again = run(card, tmp_path)
    assert again.safe and not again.copied and len(again.there) == 6
    for changed, words in ((b"x", "bytes"), (bytes(900_000), "other content")):
        (root / "DCIM/101/C0003.mov").write_bytes(changed)
        third = run(card, tmp_path)
        assert not third.safe and "NOT safe to erase" in third.words
        assert words in third.differing["DCIM/101/C0003.mov"]
        assert (root / "DCIM/101/C0003.mov").read_bytes() == changed
    assert len(list(root.glob("offload *.txt"))) == 4


def test_interrupted_at_fifty_points_nothing_is_lost_or_overwritten(card, tmp_path, monkeypatch):
    """Stopped at random bytes; then the part that was being written is damaged, cut or left, and the run goes on."""
    monkeypatch.setattr(module, "BLOCK", 64 << 10)
    rng = random.Random(11)
    before = tree(card)
    base = tmp_path / "to"
    (base / "2023/11/mill/scope lens/DCIM/101").mkdir(parents=True)
    other = base / "2023/11/mill/scope lens/DCIM/101/keep.txt"
    other.write_text("mine")
    for turn in range(50):
        control = Control()
        stop_at = rng.randrange(11_000_000)

        def report(moving, control=control, stop_at=stop_at):
            if moving.done >= stop_at:
                control.stop()

        monkeypatch.setattr(module.time, "monotonic", iter(range(10**9)).__next__)  # every report comes through
        try:
            run(card, base, report=report, control=control)
        except Cancelled:
            pass
        names = copied(base / "2023/11/mill/scope lens")
        for place, data in names.items():
            if not place.endswith(PART) and place != "DCIM/101/keep.txt":
                assert data == before[place], "a name means a whole file"
        for part in base.rglob(f"*{PART}"):
            if rng.random() < 0.5:
                data = bytearray(part.read_bytes())
                data = data[: rng.randrange(len(data) + 1)]
                if data:
                    data[rng.randrange(len(data))] ^= 255
                part.write_bytes(data)
        if turn % 17 == 16:  # the disk was tidied in between
            shutil.rmtree(base / "2023/11/mill/scope lens/DCIM/100", ignore_errors=True)
        assert tree(card) == before and other.read_text() == "mine"
    done = run(card, base)
    assert done.safe
    result = copied(base / "2023/11/mill/scope lens")
    assert {k: v for k, v in result.items() if k != "DCIM/101/keep.txt"} == before
    assert not list(base.rglob(f"*{PART}"))


def test_killed_outright_it_goes_on(tmp_path):
    card, base = tmp_path / "card", tmp_path / "to"
    card.mkdir()
    for n in range(6):
        (card / f"C{n}.mov").write_bytes(BYTES.bytes(30_000_000))
    code = (
        "from pathlib import Path; from adzer.core.intake.offload import offload; "
        f"offload(Path({str(card)!r}), [Path({str(base)!r})], 'mill')"
    )
    for wait in (0.05, 0.12, 0.2):
        child = subprocess.Popen([sys.executable, "-c", code])
        began = time.monotonic()
        while not base.exists() and child.poll() is None and time.monotonic() - began < 20:
            time.sleep(0.005)
        time.sleep(wait)
        child.send_signal(signal.SIGKILL)
        child.wait()
        for path in base.rglob("C?.mov"):
            assert path.read_bytes() == (card / path.name).read_bytes()
    done = offload(card, [base], "mill")
    assert done.safe and tree(card) == copied(done.roots[0])


def test_odd_things_are_reported_and_never_followed(card, tmp_path):
    secret = tmp_path / "secret"
    secret.mkdir()
    (secret / "key").write_text("not for cards")
    (card / "DCIM/away").symlink_to(secret)
    (card / "DCIM/100/link.mov").symlink_to(secret / "key")
    os.mkfifo(card / "DCIM/pipe")
    (card / os.fsdecode(b"caf\xe9.mov")).write_bytes(b"1")
    (card / "two\nlines\\.mov").write_bytes(b"2")
    (card / "c0001.MOV").write_bytes(b"3")
    (card / "C0001.mov").write_bytes(b"4")
    done = run(card, tmp_path / "to")
    why = {o.place: o for o in done.oddities}
    assert why["DCIM/away"].blocks and why["DCIM/100/link.mov"].blocks and why["DCIM/pipe"].blocks
    assert not why[os.fsdecode(b"caf\xe9.mov")].blocks and "capitals" in why["c0001.MOV"].why
    assert not done.safe and "not a plain file" in done.words
    assert not list((tmp_path / "to").rglob("key"))
    for root in done.roots:
        check = subprocess.run(["xxhsum", "-c", MANIFEST], cwd=root, capture_output=True)
        assert check.returncode == 0, check.stdout
        assert set(read_manifest(root / MANIFEST)) == {i.place for i in survey(card).items}


def test_a_disk_that_lies_is_found_out(card, tmp_path, monkeypatch):
    """What is read back must be what was on the card, or the file does not get its name."""
    real = module.Part.finish

    def flip(part, size, changed):
        if part.path == part_of(part.path.parent / "C0002.mov"):
            os.pwrite(part.handle, b"\0\0\0\0", 1000)
        real(part, size, changed)

    monkeypatch.setattr(module.Part, "finish", flip)
    done = run(card, tmp_path / "to")
    assert not done.safe and "read back" in done.failed["DCIM/100/C0002.mov"]
    assert not (done.roots[0] / "DCIM/100/C0002.mov").exists()
    monkeypatch.setattr(module.Part, "finish", real)
    assert run(card, tmp_path / "to").safe


def test_a_card_that_changes_meanwhile_is_not_called_safe(card, tmp_path):
    def report(moving):
        (card / "late.mov").write_bytes(b"one more")

    done = run(card, tmp_path / "to", report=report)
    assert not done.safe and "changed meanwhile" in done.words


def test_room_is_checked_before_anything_is_written(card, tmp_path, monkeypatch):
    monkeypatch.setattr(module.shutil, "disk_usage", lambda _: SimpleNamespace(free=5_000_000))
    with pytest.raises(AdzerError, match="free"):
        run(card, tmp_path / "to")
    assert not (tmp_path / "to").exists()


def test_bad_asks_get_a_sentence(card, tmp_path):
    (tmp_path / "empty").mkdir()
    for bad, to, template in (
        (tmp_path / "gone", tmp_path / "x", module.TEMPLATE), (card / "CLIPINFO/index.xml", tmp_path / "x", module.TEMPLATE),
        (tmp_path / "empty", tmp_path / "x", module.TEMPLATE), (card, card / "inside", module.TEMPLATE),
        (card, tmp_path / "x", "{year}/{lens}"), (card, tmp_path / "x", "../../{job}"), (card, tmp_path / "x", "{year"),
    ):  # fmt: skip
        with pytest.raises((AdzerError, UnreadableError)) as caught:
            offload(bad, [to], "mill", template=template)
        assert str(caught.value).endswith((".", "?"))
    found = survey(card)
    assert destination(tmp_path, "{job}/{day}", found, "a/b:c", "x", datetime(2026, 3, 4)) == tmp_path / "a-b-c" / "04"


def test_places_that_are_no_second_copy_are_said(tmp_path, monkeypatch):
    """By the disk that each lies on, whether it is there already or not."""
    card, one, two, three = (tmp_path / n for n in ("card", "one", "two", "three"))
    card.mkdir()
    disks = {card: 1, one: 1, two: 2, three: 2}
    monkeypatch.setattr(module, "_disk", disks.__getitem__)
    assert module.cautions(card, [two]) == []
    (own,) = module.cautions(card, [one, two])
    assert str(one) in own and "the disk that the card's files are on" in own
    (same,) = module.cautions(card, [two, three])
    assert str(two) in same and str(three) in same and "one disk" in same
    monkeypatch.undo()
    assert module._disk(tmp_path / "not" / "there") == tmp_path.stat().st_dev
