"""Recordings that change, or are damaged: what was read is what is rendered, or nothing is."""

from __future__ import annotations

import os
import random
import shutil
from pathlib import Path

import av
import numpy as np
import pytest
from msgspec.structs import replace

from adzer.core import compile as compile_
from adzer.core.compile import freeze
from adzer.core.errors import AdzerError, Cancelled, DamagedError
from adzer.core.intake.take import add_files, read_file, source_problem
from adzer.core.job import Job
from adzer.core.media import prints, probe
from adzer.core.route import Route
from adzer.core.run import queue
from adzer.core.run import render as rendering
from adzer.core.run.render import render

from .. import foreign
from ..conftest import parts_folder, write_clip

PLAIN = Route().with_("shape", hold="native")


def decoded(path: Path) -> list[np.ndarray]:
    with av.open(str(path)) as held:
        return [f.to_ndarray() for f in held.decode(video=0)]


@pytest.fixture
def clip(tmp_path):
    """Many keyframes, so that a piece from the middle of another file can stand in for its own."""
    return write_clip(tmp_path / "clip.mkv", 60, encoder="ffv1", gop=1, options={"slices": "4"})


@pytest.fixture
def order(clip, tmp_path, monkeypatch):
    monkeypatch.setattr(compile_, "SEGMENT_SECONDS", 0.2)
    facts, seen = read_file(clip)
    made = freeze("s", facts, PLAIN, "web-wide", tmp_path / "out.mp4", 0, 60, seen)
    return replace(made, card=replace(made.card, gop_seconds=0.2))


def swap_middle(path: Path) -> None:
    """Half a frame's bytes in the middle exchanged for others; size and times of reading and writing as before."""
    held, data = path.stat(), bytearray(path.read_bytes())
    middle = len(data) // 2
    data[middle : middle + 3000] = random.Random(1).randbytes(3000)
    path.write_bytes(data)
    os.utime(path, ns=(held.st_atime_ns, held.st_mtime_ns))


def test_a_middle_replaced_between_stop_and_going_on_is_not_rendered_with_the_old_beginning(order, clip):
    with pytest.raises(Cancelled):
        render(order, cancelled=lambda: bool(list(parts_folder(Path(order.out)).glob("00001.mp4"))))
    swap_middle(clip)
    try:
        render(order)
    except AdzerError:
        assert not Path(order.out).exists()
    else:  # the blocks that are looked at lay elsewhere: then all of it is rendered again, of the file as it is now
        pytest.fail("a replaced middle passed for what was read")


def test_a_whole_large_replacement_is_told_wherever_it_lies(tmp_path):
    """Of eight megabytes, a twentieth exchanged at any place, both ends and the size as they were."""
    path, chance = tmp_path / "x.bin", random.Random(5)
    data = chance.randbytes(8 << 20)
    path.write_bytes(data)
    before = prints.spread((path,)), prints.fingerprint(path)
    for _ in range(20):
        at = chance.randrange(1 << 20, 6 << 20)
        path.write_bytes(data[:at] + bytes(420_000) + data[at + 420_000 :])
        assert prints.fingerprint(path) == before[1] and prints.spread((path,)) != before[0]
    stamp = prints.stamp([path])
    swap_middle(path)
    assert prints.stamp([path]) != stamp, "whatever times it was given"


@pytest.mark.parametrize("how", ["renamed over", "written into", "taken away"])
def test_a_file_that_changes_while_it_is_rendered_makes_no_master(order, clip, tmp_path, how, monkeypatch):
    other = write_clip(tmp_path / "other.mkv", 60, encoder="ffv1", gop=1, options={"slices": "4"})
    real, count = rendering.render_segment, 0

    def meanwhile(*args):
        nonlocal count
        count += 1
        if count == 3:
            {"renamed over": lambda: other.replace(clip), "written into": lambda: swap_middle(clip), "taken away": clip.unlink}[how]()
        return real(*args)

    monkeypatch.setattr(rendering, "render_segment", meanwhile)
    with pytest.raises(AdzerError, match=r"clip\.mkv .*(replaced|changed|not there)"):
        render(order)
    assert not Path(order.out).exists()


def test_frames_that_decode_with_errors_stop_a_render_and_are_named(tmp_path):
    """A clip of others with some bytes overwritten; which frames come out wrong, another decoding of both files says."""
    clean, path = foreign.clip("bikes"), tmp_path / "bikes.mp4"
    data = bytearray(clean.read_bytes())
    at = int(len(data) * 0.6)
    data[at : at + 20] = random.Random(26).randbytes(20)
    path.write_bytes(data)
    wrong = [n for n, (a, b) in enumerate(zip(decoded(clean), decoded(path), strict=True)) if not np.array_equal(a, b)]
    assert len(wrong) > 5
    with Job.create(tmp_path / "j.adzer", "j") as job:
        (shot,) = add_files(job, [path])
        shot = job.set_range(shot, wrong[0] - 20, wrong[0] + 12)
        made = freeze("s", shot.facts, PLAIN, "web-wide", tmp_path / "out.mp4", shot.start, shot.stop, job.seen(shot.id))
        with pytest.raises(DamagedError) as caught:
            render(made)
        ((first, stop),) = caught.value.spans
        assert wrong[0] - 2 <= first <= wrong[0] and stop == shot.stop and f"frames {first}–{stop - 1}" in str(caught.value)
        job.enqueue(shot.id, made)
        assert queue.run(job) == [1] and not (tmp_path / "out.mp4").exists()
        finding = job.walker()(shot).stopped
        assert finding is not None and finding.code == "damaged-frames" and f"{first}–" in finding.text
        shot = job.decide(shot, shot.route.mended(finding.fix), "use them")
        assert job.walker()(shot).stopped is None
        report = render(replace(made, route=made.route.with_("read", damage="use")))
        assert report.passed and any(f"–{shot.stop - 1}" in c.text for c in report.checks if c.name == "source")


@pytest.mark.parametrize("harm", [1, 20])
def test_a_harmed_slice_of_ffv1_is_named_though_its_decoder_says_nothing(clip, harm):
    from adzer.core.media.decode import Reader

    clean, chance = decoded(clip), random.Random(harm)
    with Reader(clip) as reader:
        assert not any(f.damaged for f in reader.frames())
    data = bytearray(clip.read_bytes())
    at = int(len(data) * 0.4)
    data[at : at + harm] = bytes(b ^ chance.randrange(1, 256) for b in data[at : at + harm])
    clip.write_bytes(data)
    wrong = {n for n, (a, b) in enumerate(zip(clean, decoded(clip), strict=True)) if not np.array_equal(a, b)}
    with Reader(clip) as reader:
        assert {f.number for f in reader.frames() if f.damaged} >= wrong != set()


@pytest.mark.parametrize("name", ["bikes", "bigbuckbunny", "carphone_pristine"])
def test_sound_footage_is_not_called_damaged_wherever_one_begins(name):
    from adzer.core.media.decode import Reader

    with Reader(foreign.clip(name)) as reader:
        for start in range(0, len(reader), max(1, len(reader) // 9)):
            assert not any(f.damaged for f in reader.frames(start, start + 15))


def test_a_file_from_an_older_adzer_is_judged_as_it_was_read(tmp_path, small_clip):
    path = tmp_path / "x.mov"
    shutil.copyfile(small_clip, path)
    facts = probe.probe(path)
    assert source_problem(facts) is None and source_problem(replace(facts, spread="")) is None
    swap_middle(path)
    assert source_problem(facts) is not None or path.stat().st_size > 1 << 20
