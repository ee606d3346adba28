"""A little of ``./run bench hostile``, seeded: damaged media, rows and cards end in a sentence, never in a traceback."""

from __future__ import annotations

import contextlib
import os
import sqlite3
from pathlib import Path

import pytest

from adzer import bench_hostile as hostile
from adzer.core.errors import UnreadableError
from adzer.core.intake import read_file, take
from adzer.core.job import Job
from adzer.core.sim.demo import CLIPS


def _faults(found) -> dict[str, int]:
    return {what: n for what, n in found.items() if what not in ("read", "refused")}


def test_damaged_media_are_read_or_refused(tmp_path):
    found = hostile.media(48, tmp_path, seed=7)
    assert not _faults(found) and found["refused"] > 8 and sum(found.values()) == 48


def test_changed_rows_and_cards_are_read_or_refused(tmp_path):
    with Job.create(tmp_path / "x.adzer", "x") as job:
        job.add_shots([dict(row, name=f"n{i}") for i, row in enumerate(take([CLIPS / "by-the-canal.mp4"]))])
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
