"""Offloads that write to one place at once, and places where other people's files lie: what is called safe is there, byte for byte.

What became of a copy is judged by reading it with nothing of ours, and manifests by ``xxhsum``."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import threading
import time

import numpy as np
import pytest

from adzer.core.errors import AdzerError, Cancelled
from adzer.core.intake.card import PART
from adzer.core.intake.manifest import MANIFEST
from adzer.core.intake.offload import Control, Moving, offload

CODE = """
import json, sys
from pathlib import Path
from adzer.core.intake import offload as m
m.BLOCK = 64 << 10
done = m.offload(Path(sys.argv[1]), [Path(sys.argv[2])], "mill", "cam", sys.argv[3])
print(json.dumps({"safe": done.safe, "copied": done.copied + done.there, "root": str(done.roots[0])}))
"""


def card_of(folder, seed, names=("A.mov", "B.mov", "C.mov"), size=8_000_000):
    folder.mkdir()
    rng = np.random.default_rng(seed)
    for name in names:
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_bytes(rng.bytes(size))
    return folder


@pytest.mark.parametrize("templates", [("{job}", "{job}"), ("{job}", "{job}/DCIM")])
def test_two_cards_with_the_same_names_at_once(tmp_path, templates):
    """Of two that write the same name the first has it; neither is called safe for the other's bytes, by whatever folder they come."""
    names = ("A.mov", "B.mov") if templates[0] == templates[1] else ("DCIM/A.mov", "DCIM/B.mov")
    cards = [card_of(tmp_path / "one", 1, names), card_of(tmp_path / "two", 2, ("A.mov", "B.mov"))]
    for turn in range(3):
        to = tmp_path / f"to{turn}"
        both = [
            subprocess.Popen([sys.executable, "-c", CODE, str(card), str(to), template], stdout=subprocess.PIPE, text=True)
            for card, template in zip(cards, templates, strict=True)
        ]
        said = [json.loads(p.communicate(timeout=120)[0]) for p in both]
        assert sum(s["safe"] for s in said) <= 1
        for card, one in zip(cards, said, strict=True):
            for place in one["copied"]:
                assert (to / one["root"] / place).read_bytes() == (card / place).read_bytes(), "called safe"
        assert not list(to.rglob(f"*{PART}"))
        for root in {s["root"] for s in said if s["copied"]}:
            assert subprocess.run(["xxhsum", "-c", MANIFEST], cwd=root, capture_output=True).returncode == 0


def test_the_second_offload_to_a_place_waits_says_so_and_can_be_stopped(tmp_path):
    one, two = card_of(tmp_path / "one", 1, ("A.mov",)), card_of(tmp_path / "two", 2, ("B.mov",))
    said: list[Moving] = []
    held, control = threading.Event(), Control()
    done = []

    def slow(moving):
        held.set()
        time.sleep(0.3)

    first = threading.Thread(target=lambda: done.append(offload(one, [tmp_path / "to"], "mill", "cam", "{job}", report=slow)))
    first.start()
    assert held.wait(20)
    with pytest.raises(Cancelled):
        offload(two, [tmp_path / "to"], "mill", "cam", "{job}", report=lambda m: (said.append(m), control.stop()), control=control)
    assert said and said[0].doing.startswith("waiting for another offload")
    first.join()
    assert done[0].safe and offload(two, [tmp_path / "to"], "mill", "cam", "{job}").safe
    check = subprocess.run(["xxhsum", "-c", MANIFEST], cwd=tmp_path / "to" / "mill", capture_output=True, text=True)
    assert check.returncode == 0 and check.stdout.count(": OK") == 2, "both are in the one manifest"


def test_a_card_keeps_files_of_any_name_and_others_keep_their_manifests(tmp_path):
    card = card_of(tmp_path / "card", 3, (f".{MANIFEST}{PART}", "A.mov", f"adzer-{MANIFEST}"), 4000)
    root = tmp_path / "to" / "mill"
    root.mkdir(parents=True)
    line = "0123456789abcdef0123456789abcdef  somebody's.mov\n"
    (precious := tmp_path / "precious").write_text(line)
    (root / MANIFEST).write_text(line)  # of another tool, in the very form of ours
    (root / f"adzer-2-{MANIFEST}").symlink_to(precious)
    done = offload(card, [tmp_path / "to"], "mill", "cam", "{job}")
    assert done.safe and (root / MANIFEST).read_text() == precious.read_text() == line and done.manifest == f"adzer-3-{MANIFEST}"
    for name in os.listdir(card):
        assert (root / name).read_bytes() == (card / name).read_bytes()
    assert subprocess.run(["xxhsum", "-c", done.manifest], cwd=root, capture_output=True).returncode == 0
    again = offload(card, [tmp_path / "to"], "mill", "cam", "{job}")
    assert again.safe and again.manifest == done.manifest, "it knows its own again"
    with (root / done.manifest).open("a") as held:
        held.write("# checked by hand\n")
    assert offload(card, [tmp_path / "to"], "mill", "cam", "{job}").manifest == f"adzer-4-{MANIFEST}"
    assert (root / done.manifest).read_text().endswith("# checked by hand\n")


@pytest.mark.parametrize("pattern", ["}{", "{", "{job", "{job}}", "{job!r}", "{job.__class__}", "{0}", "{}", "a\0b", "{job}" + "x" * 300])
def test_folder_patterns_that_cannot_be_get_a_sentence(tmp_path, pattern):
    card = card_of(tmp_path / "card", 4, ("A.mov",), 100)
    with pytest.raises(AdzerError, match=r"folder pattern .*\."):
        offload(card, [tmp_path / "to"], "mill", "cam", pattern)
    assert not (tmp_path / "to").exists()


def test_a_file_from_the_far_future_comes_home(tmp_path):
    card = card_of(tmp_path / "card", 5, ("A.mov",), 100)
    os.utime(card / "A.mov", (10**12, 10**12))  # the year 33658
    done = offload(card, [tmp_path / "to"], "mill", "cam")
    assert done.safe and done.roots[0].is_relative_to(tmp_path / "to" / time.strftime("%Y"))
