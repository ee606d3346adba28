"""A little of ``./run bench hostile``, seeded: damaged media, rows and cards end in a sentence, never in a traceback."""

from __future__ import annotations

import contextlib
import os
import resource
import shutil
import signal
import sqlite3
import struct
import subprocess
import sys
from pathlib import Path

import pytest
from msgspec.structs import replace

from adzer.core import ledger
from adzer.core.errors import UnreadableError
from adzer.core.intake.take import read_file, take
from adzer.core.job import Job
from adzer.core.media import boxes, probe
from adzer.core.sim.demo import CLIPS
from adzer.numbers import hostile


def _faults(found) -> dict[str, int]:
    return {what: n for what, n in found.items() if what not in ("read", "refused")}


def test_damaged_media_are_read_or_refused(tmp_path):
    found = hostile.media(48, tmp_path, seed=7)
    assert not _faults(found) and found["refused"] > 8 and sum(found.values()) == 48


def test_changed_rows_and_cards_are_read_or_refused(tmp_path):
    with Job.create(tmp_path / "x.adzer", "x") as job:
        job.add_shots([replace(row, name=f"n{i}") for i, row in enumerate(take([CLIPS / "by-the-canal.mp4"]))])
    with contextlib.closing(sqlite3.connect(tmp_path / "x.adzer")) as db:
        db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    (tmp_path / "rows").mkdir()
    (tmp_path / "cards").mkdir()
    rows = hostile.rows(150, tmp_path / "x.adzer", tmp_path / "rows", seed=3)
    cards = hostile.cards_(150, tmp_path / "cards", seed=3)
    assert not _faults(rows) and not _faults(cards)
    assert rows["refused"] > 10 and cards["refused"] > 50


def test_a_name_that_is_no_text_is_said_instead_of_traced_back(tmp_path, phone_clip):
    odd = Path(os.fsdecode(os.fsencode(tmp_path) + b"/caf\xe9.mp4"))
    odd.write_bytes(phone_clip.read_bytes())
    with pytest.raises(UnreadableError, match=r"caf\?\.mp4: its name is not text"):
        read_file(odd)
    said = []
    assert take([tmp_path], say=said.append) == [] and "Rename it" in said[0]


def _cut_off():
    """A disk that takes no file beyond some kilobytes, as far as this process can tell."""
    signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    resource.setrlimit(resource.RLIMIT_FSIZE, (16_000, 16_000))


@pytest.mark.parametrize("words", [
    ("new", "j.adzer"), ("add", "j.adzer", "CLIP"), ("convert", "CLIP", "--card", "archive", "--out", "m.mkv"),
    ("offload", "CARD", "--to", "off"), ("sim", "card", "new-card"),
])  # fmt: skip
def test_a_full_disk_is_said_and_leaves_nothing_under_a_name(tmp_path, words):
    (tmp_path / "card").mkdir()
    shutil.copy(CLIPS / "by-the-canal.mp4", tmp_path / "card" / "a.mp4")
    put = {"CLIP": str(CLIPS / "by-the-canal.mp4"), "CARD": str(tmp_path / "card")}
    done = subprocess.run(
        [sys.executable, "-m", "adzer", *(put.get(w, w) for w in words)], cwd=tmp_path, capture_output=True, text=True,
        preexec_fn=_cut_off, timeout=300, env=os.environ | {"PYTHONDONTWRITEBYTECODE": "1"},
    )  # fmt: skip
    assert done.returncode in (1, 2) and "Traceback" not in done.stderr and "(signal" not in done.stderr, done
    assert "adzer: " in done.stderr or "NOT safe to erase" in done.stdout, done
    named = [p.relative_to(tmp_path) for p in tmp_path.rglob("*") if p.suffix in (".adzer", ".mkv", ".mp4") and p.parent.name != "card"]
    assert not [p for p in named if "parts" not in str(p.parent)], named


def test_a_job_on_a_disk_that_takes_nothing_can_be_looked_at(tmp_path, monkeypatch):
    with Job.create(tmp_path / "x.adzer", "x") as job:
        job.add_shots([replace(row, name="canal") for row in take([CLIPS / "by-the-canal.mp4"])])

    def refused(path):
        error = sqlite3.OperationalError("attempt to write a readonly database")
        error.sqlite_errorname = "SQLITE_READONLY_DIRECTORY"
        raise error

    monkeypatch.setattr(ledger, "_connect", refused)
    before = (tmp_path / "x.adzer").read_bytes()
    with Job.open(tmp_path / "x.adzer") as job:
        assert [s.name for s in job.shots()] == ["canal"] and job.locked == "nothing can be written there"
        with pytest.raises(UnreadableError, match="could not be saved .nothing can be written there.*nothing of it is lost"):
            job.describe({1: {"name": "sails"}}, "x")
    assert (tmp_path / "x.adzer").read_bytes() == before


def _nested(kind, n):
    made = b""
    for _ in range(n):
        made = struct.pack(">I4s", 8 + len(made), kind) + made
    return made


def test_boxes_in_boxes_without_end_are_no_tags_and_no_fault(tmp_path):
    """A whole recording with twenty thousand boxes in each other in its header is read as if they were not there."""
    data = (CLIPS / "by-the-canal.mp4").read_bytes()
    more = _nested(b"trak", 20_000)
    at = data.index(b"moov") - 4
    size = struct.unpack_from(">I", data, at)[0]
    if at < data.index(b"mdat"):  # its index is moved out of the way instead of being mended
        data, at = data[:at] + data[at + size :] + data[at : at + size], len(data) - size
    path = tmp_path / "deep.mp4"
    path.write_bytes(data[:at] + struct.pack(">I", size + len(more)) + data[at + 4 : at + size] + more)
    assert boxes.read(path) is None
    matroska = b""
    for _ in range(20_000):
        matroska = b"\xae" + (len(matroska) | 1 << 56).to_bytes(8, "big") + matroska
    (tmp_path / "deep.mkv").write_bytes(b"\x1a\x45\xdf\xa3\x80" + matroska)
    assert boxes.read(tmp_path / "deep.mkv") is None and boxes.matroska_siting(tmp_path / "deep.mkv") is None


def test_a_file_that_never_ends_is_given_up_with_a_sentence(tmp_path, monkeypatch):
    monkeypatch.setattr(probe, "PATIENCE", 1.0)
    with (tmp_path / "empty.mkv").open("wb") as file:  # a segment of unknown length, and then nothing, for 300 GB
        file.write(b"\x1a\x45\xdf\xa3\x80\x18\x53\x80\x67\x01\xff\xff\xff\xff\xff\xff\xff")
        file.truncate(300 << 30)
    with pytest.raises(UnreadableError, match="nothing but emptiness was found in it for 1 seconds"):
        read_file(tmp_path / "empty.mkv")
