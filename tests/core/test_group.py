"""Files become shots: from a simulated card, and from made-up names, numbers and times."""

from __future__ import annotations

import os
from fractions import Fraction
from pathlib import Path

import av
import msgspec
import numpy as np
import pytest

from adzer.core import cards
from adzer.core.compile import freeze
from adzer.core.errors import AdzerError, Stopped, UnreadableError
from adzer.core.intake import naming, proxies
from adzer.core.intake.group import gather, group
from adzer.core.intake.offload import offload
from adzer.core.intake.relink import likeness, relink, report_text
from adzer.core.intake.take import add_files, first_route, join_chapters, look_at_new, source_problem, take
from adzer.core.job import Job, Mark, Part
from adzer.core.media import audio, probe
from adzer.core.media.decode import opened
from adzer.core.media.rolls import Roll
from adzer.core.read import baked
from adzer.core.route import Route, walk
from adzer.core.run import queue
from adzer.core.run.render import render
from adzer.core.sim import card as cards_

from ..conftest import frame_number, write_clip


@pytest.fixture(scope="module")
def card(tmp_path_factory):
    return cards_.make(tmp_path_factory.mktemp("card") / "c", 6)


@pytest.fixture(scope="module")
def taken(card):
    said = []
    return {r.name: r for r in take([card], Fraction(25), said.append)}, said


def facts(path="/c/A001.mov", frames=100, timecode="10:00:00:00", created=1000.0, raster=(1920, 1080), **changes):
    plain = {
        "path": path, "size": 1, "fingerprint": path, "container": "mov", "codec": "hevc", "profile": None, "pix_fmt": "yuv420p",
        "raster": raster, "pixel_aspect": None, "bits": 8, "chroma": "4:2:0", "rgb": False, "curve": None, "primaries": None,
        "matrix": None, "range": None, "rate": Fraction(25), "time_base": Fraction(1, 25), "timecode": timecode, "frames": frames,
        "start": Fraction(0), "duration": Fraction(frames, 25), "spacing": (Fraction(1, 25),) * 3, "constant_rate": True,
        "created": created,
    }  # fmt: skip
    return probe.FileFacts(**(plain | changes))


# --- the card ----------------------------------------------------------------------------------------------------
def test_a_card_becomes_shots(taken):
    rows, said = taken
    kinds = {name: r.kind for name, r in rows.items()}
    assert kinds["V0003_front"] == "lens pair" and kinds["E0011_L"] == "eye pair"
    assert kinds["P0007_01"] == "2 chapters" and kinds["A001"] == "DNG sequence" and kinds["plate"] == "DPX sequence"
    roles = {name: [(p.role, Path(p.path).name) for p in r.parts] for name, r in rows.items()}
    assert roles["V0003_front"] == [("second", "V0003_rear.mp4")] and roles["E0011_L"] == [("second", "E0011_R.mp4")]
    assert roles["C0001"] == [("proxy", "C0001_low.mp4"), ("sound", "C0001.wav")]
    assert rows["A001"].facts.missing == (6,) and rows["A001"].facts.mosaic == "rggb"
    assert rows["plate"].facts.frames == 5 and rows["plate"].facts.rate == 25
    assert len(said) == 1 and "C0003.mov" in said[0] and "0 bytes" in said[0]


def test_a_sequence_of_sensor_values_is_known_and_developed(taken):
    made = taken[0]["A001"].facts
    walked = walk(Route(), made)
    stop, developed = walked["read"], walked["develop"]
    codes = {f.code: f for f in walked.findings}
    assert "6" in codes["frames-missing"].text and "no-camera-matrix" not in codes and walked.stopped is None
    assert stop.after.mosaic == "rggb" and stop.after.curve == "linear"
    assert developed.after.mosaic == "none" and developed.after.curve == "float-log" and developed.after.primaries == "ap1"
    with opened(made.sources) as reader:
        planes = [f.cropped(0) for f in reader.frames()]
    assert len(planes) == 7 and all(p.shape == (136, 240) for p in planes)
    green, red = planes[0][0::2, 1::2].mean(), planes[0][0::2, 0::2].mean()
    assert green != red and planes[0].std() > 100


def test_chapters_play_and_sound_as_one(tmp_path):
    """Frame numbers read off the picture go on over the cut, and so does the voice."""
    a = write_clip(tmp_path / "K0001_01.mov", 30, sound=True, timecode="10:00:00:00")
    b = write_clip(tmp_path / "K0001_02.mov", 20, sound=True, timecode="10:00:01:05")
    for path, at in ((a, 5000.0), (b, 5001.2)):
        os.utime(path, (at, at))
    (row,) = take([tmp_path])
    made = row.facts
    assert row.kind == "2 chapters" and made.frames == 50 and made.duration == 2
    with opened(made.sources) as reader:
        numbers = [frame_number(f.cropped(0).astype(float), 1, 255) for f in reader.frames()]
        assert numbers == [*range(30), *range(20)]
        assert frame_number(reader.frame(44).cropped(0).astype(float), 1, 255) == 14
        assert frame_number(reader.frame(3).cropped(0).astype(float), 1, 255) == 3
    whole = audio.mono(made.source, made.start, Fraction(2))
    apart = np.concatenate([audio.mono(a, Fraction(0), Fraction(6, 5)), audio.mono(b, Fraction(0), Fraction(4, 5))])
    assert abs(audio.shift(whole, apart, 4000)[0]) < 100
    assert source_problem(made) is None
    b.unlink()
    assert source_problem(made).code == "source-missing"
    with pytest.raises(UnreadableError, match="K0001_02"):
        opened(made.sources)


def test_a_card_of_bad_files_is_offloaded_and_only_the_good_ones_become_shots(tmp_path, small_clip):
    from .test_media import bad_files

    folder = tmp_path / "card"
    folder.mkdir()
    bad_files(folder, small_clip)
    (folder / "folder.mov").rmdir()
    (folder / "fine.mov").write_bytes(small_clip.read_bytes())
    done = offload(folder, [tmp_path / "to"], "mill")
    assert done.safe and len(done.copied) == 7
    said = []
    rows = take([done.roots[0]], say=said.append)
    assert "fine" in {r.name for r in rows} and len(said) >= 4
    assert all(any(name in text for text in said) for name in ("empty.mov", "text.mov", "random.mp4", "headless.mp4"))


# --- names and times ---------------------------------------------------------------------------------------------
@pytest.mark.parametrize(("a", "b", "kind"), [
    ("V01_front.mp4", "V01_rear.mp4", "lens pair"), ("r_0007.mp4", "l_0007.mp4", "eye pair"),
    ("left/E0001.mp4", "right/E0001.mp4", "eye pair"), ("left/E_left_3.mp4", "right/E_right_3.mp4", "eye pair"),
    ("A_00_12.mp4", "A_10_12.mp4", "lens pair"),
])  # fmt: skip
def test_pairs_by_suffix_and_folder(a, b, kind):
    (made,) = group([facts(f"/c/{a}", created=1000.0, timecode=None), facts(f"/c/{b}", created=1000.8, timecode=None)])
    assert made.kind == kind and {made.first.name, made.second.name} == {Path(a).name, Path(b).name}
    assert any(w in made.first.path for w in ("front", "l_", "left", "_00_"))


def _layouts():
    """Cards as cameras lay them out: (name, paths by group: each what belongs together, first of a pair or the master first)."""
    three = (11, 12, 59)
    return [
        ("lens folders, letters glued on", [(f"101AFRNT/AAFR{n:04d}.mp4", f"101ABACK/AABK{n:04d}.mp4") for n in three]),
        ("lenses by one glued letter", [(f"AF{n:04d}.mp4", f"AB{n:04d}.mp4") for n in three]),
        ("lenses by ending", [(f"V{n:03d}_FR.mp4", f"V{n:03d}_BK.mp4") for n in three]),
        ("lenses by number", [(f"V_20261101_{n:06d}_00_{n:03d}.mp4", f"V_20261101_{n:06d}_10_{n:03d}.mp4") for n in three]),
        ("eyes by folder", [(f"L/101/x{n}.mp4", f"R/101/x{n}.mp4") for n in three]),
        ("eyes by folder, nameless", [("L/101/x.mp4", "R/101/x.mp4"), ("L/102/x.mp4", "R/102/x.mp4")]),
        ("eyes, deeper", [(f"eye_left/media/100/clips/E{n:04d}.mp4", f"eye_right/media/100/clips/E{n:04d}.mp4") for n in three]),
        ("eyes by glued words", [(f"millleft{n}.mp4", f"millright{n}.mp4") for n in three]),
        ("proxies with a letter before", [(f"B014C{n:03d}_261101.mov", f"proxy/PB014C{n:03d}_261101.mxf") for n in three]),
        ("proxies with letters after", [(f"clip/C{n:04d}.mp4", f"sub/C{n:04d}S03.mp4") for n in three]),
        ("proxies with another ending", [(f"G{n:04d}.mp4", f"G{n:04d}.mov") for n in three]),
        ("single recordings of two cameras", [(f"A001C{n:03d}.mov",) for n in three] + [(f"B001C{n:03d}.mov",) for n in three]),
    ]


@pytest.mark.parametrize("clocks", ["together", "none", "random"])
@pytest.mark.parametrize(("layout", "card"), _layouts())
def test_what_a_camera_lays_out_is_grouped_or_asked_and_never_wrong(layout, card, clocks):
    rng = np.random.default_rng(len(layout))
    films, truth = [], {}
    for belong in card:
        frames, began = int(rng.integers(80, 900)), float(rng.uniform(0, 1e6))
        for n, name in enumerate(belong):
            path = f"/card/{name}"
            created = {"together": began + 0.3 * n, "none": None, "random": float(rng.uniform(0, 1e6))}[clocks]
            small = "proxies" in layout and n
            films.append(facts(path, frames, None, created, (960, 540) if small else (3840, 2160)))
            truth[path] = f"/card/{belong[0]}"
    order = rng.permutation(len(films))
    made = group([films[i] for i in order])
    grouped = {}
    for g in made:
        for held in (g.first, *([g.second] if g.second else []), *g.proxies):
            grouped[held.path] = g.first.path
    asked = {(g.first.path, p) for g in made for d in g.doubts for p in d.paths}
    for path, first in truth.items():
        together = grouped[path] == first
        assert together or (grouped[path] == path and ((first, path) in asked or (path, first) in asked)), (path, grouped[path], asked)
        if clocks == "together":
            assert together, f"{path}: names and clocks agree"
    assert all(truth[a] == truth[b] for a, b in asked), "nothing is asked that no name suggests"


def test_a_proxy_may_be_a_frame_longer_or_shorter_which_is_said(tmp_path):
    for frames in (11, 12, 13, 15):
        folder = tmp_path / str(frames)
        folder.mkdir()
        write_clip(folder / "C0007.mov", 12, (320, 180), timecode="01:00:00:00")
        write_clip(folder / "C0007_proxy.mov", frames, (160, 90), timecode="01:00:00:00")
        said = []
        rows = take([folder], say=said.append)
        assert len(rows) == (2 if frames == 15 else 1), frames
        assert [s for s in said if "one frame" in s] == ([said[0]] if frames in (11, 13) else [])
        if frames in (11, 13):
            assert ("longer" if frames == 13 else "shorter") in said[0] and rows[0].facts.name == "C0007.mov"


def test_what_is_not_certain_is_asked():
    late = group([facts("/c/V1_front.mp4"), facts("/c/V1_rear.mp4", timecode="10:00:14:00")])
    assert [g.kind for g in late] == ["film", "film"] and "14.0 s apart" in late[0].doubts[0].ask
    short = group([facts("/c/E1_L.mp4"), facts("/c/E1_R.mp4", frames=60)])
    assert len(short) == 2 and "100 and 60 frames" in short[0].doubts[0].ask
    twins = group([facts("/c/camA/C0007.mp4"), facts("/c/camB/C0007.mp4")])
    assert len(twins) == 2 and "two eyes" in twins[0].doubts[0].ask
    follow = group(
        [facts("/c/one.mov", timecode="10:00:00:00"), facts("/c/two.mov", timecode="10:00:04:00", created=1004.0)]
    )
    assert len(follow) == 2 and follow[0].doubts[0].kind == "chapters"
    assert [g.kind for g in group([facts("/c/A.mov"), facts("/c/B.mov", timecode="11:00:00:00", created=9000.0)])] == [
        "film"
    ] * 2


def test_other_modes_are_never_joined():
    spanned = [
        facts("/c/C01_01.mov"),
        facts("/c/C01_02.mov", timecode="10:00:04:00", created=1004.0, raster=(1280, 720)),
    ]
    assert [len(g.files) for g in group(spanned)] == [1, 1]
    with pytest.raises(UnreadableError):
        join_chapters([facts("/c/gone1.mov"), facts("/c/gone2.mov")])


def test_numbered_frames_are_sorted_by_number_and_holes_are_asked(tmp_path):
    for n in (8, 9, 10, 11, 100, 101):
        (tmp_path / f"f{n}.tif").write_bytes(b"x")
    for n in (998, 999, 1000):
        (tmp_path / f"g.{n:04d}.exr").write_bytes(b"x")
    (tmp_path / "notes.txt").write_text("x")
    (tmp_path / ".hidden.mov").write_text("x")
    found = gather([tmp_path])
    by_name = {s.name: s for s in found.sequences}
    assert by_name["f"].numbers == (8, 9, 10, 11, 100, 101) and by_name["f"].holes == [(12, 99)]
    assert by_name["g"].numbers == (998, 999, 1000) and not found.films


# --- relinking ---------------------------------------------------------------------------------------------------
def crowd(count, seed=5):
    """Masters and proxies of one shoot; names mangled one way, some without timecode, some twins."""
    rng = np.random.default_rng(seed)
    masters, small, truth = [], [], {}
    for n in range(count):
        code = None if n % 10 == 9 else f"{10 + n // 3600:02d}:{n // 60 % 60:02d}:{n % 60:02d}:{n % 25:02d}"
        length = int(rng.integers(50, 400))
        master = facts(f"/m/A{n // 100:03d}_C{n:04d}.mov", length, code, 1e6 + 30 * n, (3840, 2160))
        extra = ("_proxy", "_s03", "-LOW", " small", "_v2_half")[n % 5]
        stem = f"A{n // 100:03d}_C{n:04d}"
        name = f"/p/x{n // 100}/{stem.lower() if n % 2 else stem}{extra}.mp4"
        proxy = facts(name, length, code if n % 7 else None, 1e6 + 30 * n + (0.7 if n % 3 else 0.0), (960, 540))
        masters.append(master)
        small.append(proxy)
        truth[proxy.path] = master.path
    rng.shuffle(small)
    return masters, small, truth


def test_a_thousand_are_relinked_both_ways_in_seconds():
    import time

    masters, small, truth = crowd(1000)
    began = time.monotonic()
    there, back = relink(small, masters), relink(masters, small)
    assert time.monotonic() - began < 20  # ./run bench measures it; this only bounds it
    assert all(m.state == "matched" and m.found == truth[m.wanted] for m in there)
    assert all(m.state == "matched" and truth[m.found] == m.wanted for m in back)


def test_twins_are_reported_and_lengths_never_bent():
    a = facts("/m/C1.mov", 100, None, created=None)
    twins = [facts("/p/q.mp4", 100, None, created=None), facts("/p/r.mp4", 100, None, created=None)]
    (m,) = relink([a], twins)
    assert m.state == "doubtful" and m.found is None and len(m.candidates) == 2
    (m,) = relink([a], [facts("/p/C1_proxy.mp4", 99, None)])
    assert m.state == "missing" and "99 frames instead of 100" in m.why
    (m,) = relink([facts("/m/C1.mov", timecode="10:00:00:00")], [facts("/p/C1.mp4", timecode="10:00:03:00")])
    assert m.state == "missing"
    (m,) = relink([facts("/m/C1.mov", timecode="10:00:00:00")], [facts("/p/B9.mp4", timecode="10:00:01:00")])
    assert m.state == "doubtful" and "begins at its frame 25 and holds 75 of its 100 frames, but the names are not alike" in m.why
    two = relink([facts("/m/a.mov"), facts("/m/b.mov")], [facts("/p/c.mp4")])
    assert {x.state for x in two} == {"doubtful"} and "as well" in two[0].why
    text = report_text(two)
    assert "2 doubtful" in text and "a.mov" in text


def test_likeness_counts_numbers_most():
    assert likeness("A001_C0007.mov", "a001c0007_proxy.mp4") > 0.9 > 0.5 > likeness("A001_C0007.mov", "A002_C0008.mov")


# --- proxies in a job --------------------------------------------------------------------------------------------
@pytest.fixture
def job(tmp_path, small_clip):
    made = Job.create(tmp_path / "mill.adzer", "mill")
    master = tmp_path / "masters" / "K0001.mov"
    master.parent.mkdir()
    master.write_bytes(small_clip.read_bytes())
    add_files(made, [master], camera="log body")
    yield made
    made.close()


def test_a_proxy_is_made_linked_and_later_exchanged_for_its_master(job, tmp_path):
    (shot,) = job.shots()
    job.enqueue(shot.id, proxies.copy_order(job, shot, "proxy", "half"))
    assert queue.run(job) == []
    (shot,) = job.shots()
    part = proxies.stand_in(shot)
    assert part.role == "proxy" and part.facts.raster == (96, 54) and part.facts.frames == 60
    assert part.facts.timecode == shot.facts.timecode and len(part.facts.audio) == 1
    with opened(part.facts.sources) as reader:
        assert [frame_number(f.cropped(0).astype(float), 0.5, 255) for f in reader.frames()] == list(range(60))
    assert (
        baked.compare(shot.facts, part.facts, *(proxies.assumed_samples(f) for f in (shot.facts, part.facts))).value
        == "same"
    )
    # The other way: a job that knows only the proxy, and masters that come later under longer names.
    other = Job.create(tmp_path / "cut.adzer", "cut")
    add_files(other, [part.path])
    longer = tmp_path / "disk" / "K0001_master_v2.mov"
    longer.parent.mkdir()
    longer.write_bytes(Path(shot.facts.path).read_bytes())
    found, said = proxies.offered([longer.parent])
    (changed,) = proxies.apply(other, other.shots(), proxies.match(other.shots(), found), found)
    assert not said and changed.facts.path == str(longer) and changed.parts[-1].path == part.path
    assert other.seen(changed.id) is None, "what was measured on the proxy is not said of its master"
    look_at_new(other, [changed])
    assert other.seen(changed.id).fingerprint == changed.facts.fingerprint
    assert other.undo() and other.shots()[0].facts.path == part.path and other.seen(changed.id).fingerprint != changed.facts.fingerprint
    other.close()


def test_a_proxy_alone_waits_for_its_master(job, tmp_path, small_clip):
    """Asked by its name; said, it can be worked on and not delivered; linked, it delivers, and nothing is asked any more."""
    (whole,) = job.shots()
    job.enqueue(whole.id, proxies.copy_order(job, whole, "proxy", "half"))
    queue.run(job)
    small = Path(proxies.stand_in(job.shots()[0]).path).rename(tmp_path / "C0007_proxy.mov")
    with Job.create(tmp_path / "x.adzer", "x") as made:
        (shot,) = add_files(made, [small])
        walked = made.walker()(shot)
        (asked,) = [f for f in walked.findings if f.code == "proxy-asked"]
        assert asked.level == "warn" and walked.stopped is None
        (shot,) = made.decide_all([(shot, shot.route.mended(asked.fix).with_("colour", exposure=0.5))], "waits")
        assert made.walker()(shot).stopped.code == "master-to-come"
        with pytest.raises(Stopped, match="still to come"):
            freeze(shot.name, shot.facts, shot.route, "web-wide", tmp_path / "m.mp4", 0, 10)
        disk = tmp_path / "disk"
        disk.mkdir()
        (disk / "C0007.mov").write_bytes(small_clip.read_bytes())
        found, _ = proxies.offered([disk])
        (changed,) = proxies.apply(made, made.shots(), proxies.match(made.shots(), found), found)
        assert changed.facts.name == "C0007.mov" and changed.route.colour.exposure == 0.5 and changed.route.read.master is None
        assert not [f for f in made.walker()(changed).findings if f.code in ("proxy-asked", "master-to-come")]


def test_a_healthy_shot_stays_where_it_is(job, tmp_path):
    """Neither an identical copy elsewhere nor a folder without its file has anything to say of it."""
    (shot,) = job.shots()
    copies = tmp_path / "copies"
    copies.mkdir()
    (copies / "K0001 copy.mov").write_bytes(Path(shot.facts.path).read_bytes())
    for folder in (copies, tmp_path / "copies" / "nothing"):
        folder.mkdir(exist_ok=True)
        found, _ = proxies.offered([folder])
        (m,) = proxies.match([shot], found)
        assert m.state == "linked" and m.found == shot.facts.path and not proxies.apply(job, [shot], [m], found)
    assert job.shots()[0].facts.path == shot.facts.path


def test_a_moved_file_is_known_again(job, tmp_path):
    (shot,) = job.shots()
    moved = tmp_path / "elsewhere" / "renamed.mov"
    moved.parent.mkdir()
    Path(shot.facts.path).rename(moved)
    assert source_problem(shot.facts).code == "source-missing"
    found, _ = proxies.offered([moved.parent])
    (m,) = proxies.match([shot], found)
    assert m.why == "it is the very same file"
    (changed,) = proxies.apply(job, [shot], [m], found)
    assert source_problem(changed.facts) is None and changed.route == shot.route


def test_a_proxy_with_a_look_is_found_and_shown_as_what_it_is(tmp_path):
    from dataclasses import replace

    from adzer.core.sim import camera as cameras

    camera = replace(cameras.load("log-body").sized((320, 180)), sound=False)
    cameras.shoot(camera, 4, tmp_path / "C1.mov", samples=1)
    finished = replace(camera.recorder, curve="bt709", primaries="bt709", rolls_off=True, bits=8, chroma="4:2:0", encoder="h264",
                       options={"crf": "18"}, tags=replace_tags())  # fmt: skip
    cameras.shoot(replace(camera, recorder=finished, raster=(160, 90)), 4, tmp_path / "C1_proxy.mov", samples=1)
    with Job.create(tmp_path / "x.adzer", "x") as made:
        (shot,) = add_files(made, [tmp_path / "C1.mov", tmp_path / "C1_proxy.mov"])
        assert [p.role for p in shot.parts] == ["proxy"]
        said = []
        proxies.look_at_parts(made, [shot], said.append)
        (shot,) = made.shots()
        assert shot.parts[0].look == "look" and "carries a look" in said[0]
        route = shot.route.with_("read", curve="fen-log")
        walked = walk(route, shot.facts)
        assert proxies.shown_with(shot, walked, route, True)[1].read.curve == "bt709"
        assert proxies.shown_with(shot, walked, route, False) == (shot.facts, route)


def replace_tags():
    from adzer.core.media.encode import VideoTags

    return VideoTags("bt709", "bt709", "bt709", "limited")


def test_copies_that_cannot_be_are_refused(job, taken):
    (shot,) = job.shots()
    with pytest.raises(AdzerError, match="full, half or quarter"):
        proxies.copy_order(job, shot, "proxy", "tenth")
    raw = msgspec.structs.replace(shot, facts=taken[0]["A001"].facts)
    with pytest.raises(Stopped, match="developed"):
        proxies.copy_order(job, raw, "proxy", "half")


# --- organising --------------------------------------------------------------------------------------------------
def test_words_marks_and_verdicts_are_kept_and_taken_back(job):
    (shot,) = job.shots()
    job.describe(
        {shot.id: {"scene": "sails", "verdict": "keep", "notes": "the third sail sticks", "facts": "no"}}, "about it"
    )
    job.set_marks(shot, [Mark(30), Mark(4, "first knock")])
    (now,) = job.shots()
    assert (now.scene, now.verdict, now.facts) == ("sails", "keep", shot.facts) and [m.frame for m in now.marks] == [
        4,
        30,
    ]
    job.undo()
    job.undo()
    (back,) = job.shots()
    assert back == shot and job.seen(shot.id) is not None


def test_names_by_pattern_are_shown_before_and_never_twice(job):
    (shot,) = job.shots()
    many = [msgspec.structs.replace(shot, id=i, name=f"n{i}", scene="sails" if i else "") for i in range(3)]
    made = naming.rename(many, "{scene} {camera} {n:3}", 7)
    assert [name for _, name in made] == ["scene log body 007", "sails log body 008", "sails log body 009"]
    for bad in ("{scene}", "{lens}", "{n", "   "):
        with pytest.raises(AdzerError):
            naming.rename(many, bad)


def test_an_old_job_is_opened_and_loses_nothing(tmp_path, small_clip):
    import sqlite3

    from adzer.core import ledger, records

    path = tmp_path / "old.adzer"
    made = probe.probe(small_clip)
    db = sqlite3.connect(path)
    db.executescript(ledger._TABLES)
    for column in ledger._ADDED:
        db.execute(f"ALTER TABLE shots DROP COLUMN {column}")
    db.execute("ALTER TABLE shots ADD COLUMN levels TEXT")
    db.execute(f"PRAGMA application_id = {ledger.APPLICATION_ID}")
    db.execute("PRAGMA user_version = 1")
    db.execute("INSERT INTO meta VALUES ('name', 'old'), ('rate', '25')")
    plain = records.to_plain(made)
    for new in ("sphere", "mosaic", "created", "files", "seconds", "missing"):
        plain.pop(new)
    db.execute("INSERT INTO shots (id, position, name, kind, facts, route, start, stop, levels) VALUES (1,1,'a','k',?,?,2,9,'{}')",
               (records.to_json(plain), '{"schema": 1, "read": {"version": 1, "curve": "fen-log"}}'))  # fmt: skip
    db.commit()
    db.close()
    with Job.open(path) as job:
        (shot,) = job.shots()
        assert (shot.name, shot.start, shot.stop, shot.route.read.curve) == ("a", 2, 9, "fen-log")
        assert job.seen(1) is None and shot.parts == () and job.meta("name") == "old"
        job.describe({1: {"scene": "x"}}, "y")
    with Job.open(path) as job:
        assert job.shots()[0].scene == "x"


def test_a_roll_quotes_odd_names(tmp_path):
    odd = tmp_path / "it's a 'roll'"
    odd.mkdir()
    a, b = (write_clip(odd / f"x {n}.mp4", 5) for n in (1, 2))
    roll = Roll((str(a), str(b)), (Fraction(1, 5), Fraction(1, 5)))
    assert probe.probe_source(roll).frames == 10 and isinstance(Part("sound", "x").role, str)


def test_another_recording_of_like_name_and_length_is_not_linked_and_a_masters_curve_is_asked_again(job, tmp_path):
    (shot,) = job.shots()
    job.enqueue(shot.id, proxies.copy_order(job, shot, "proxy", "half"))
    queue.run(job)
    part = proxies.stand_in(job.shots()[0])
    with Job.create(tmp_path / "cut.adzer", "cut") as other:
        (small,) = add_files(other, [part.path])
        other.decide(small, small.route.with_("read", curve="bt709", range="full"), "declared")
        stranger, master = tmp_path / "a" / "K0001_master.mov", tmp_path / "b" / "K0001_master.mov"
        for where in (stranger, master):
            where.parent.mkdir()
        master.write_bytes(Path(shot.facts.path).read_bytes())
        noise = np.random.default_rng(2).integers(30, 220, (60, 108, 192, 3)).astype(np.uint8)
        blocks = np.repeat(np.repeat(noise[:, ::18, ::24], 18, axis=1), 24, axis=2)
        with av.open(str(stranger), "w") as target:  # of the same length, rate and timecode, and quite another picture
            stream = target.add_stream("libx264", rate=25)
            stream.width, stream.height, stream.pix_fmt = 192, 108, "yuv420p"
            stream.metadata["timecode"] = shot.facts.timecode
            for picture in blocks:
                target.mux(stream.encode(av.VideoFrame.from_ndarray(picture, format="rgb24")))
            target.mux(stream.encode(None))
        found, _ = proxies.offered([stranger.parent])
        (m,) = proxies.match(other.shots(), found)
        assert m.state == "doubtful" and "another recording" in m.why
        assert proxies.apply(other, other.shots(), [m], found) == []
        found, _ = proxies.offered([master.parent])
        (m,) = proxies.match(other.shots(), found)
        assert m.state == "matched" and "three frames" in m.why
        (changed,) = proxies.apply(other, other.shots(), [m], found)
        assert changed.facts.path == str(master) and changed.route.read.curve is changed.route.read.range is None
        assert [m.state for m in proxies.match(other.shots(), found)] == ["linked"]
        assert other.undo() and other.shots()[0].route.read.curve == "bt709"


def test_a_trimmed_master_brings_in_out_marks_and_keyframes_along(tmp_path, small_clip):
    """The proxy is 60 numbered frames from 01:00:00:00; the master begins ten later and ends ten earlier."""
    trimmed = tmp_path / "disk" / "small_trimmed.mov"
    trimmed.parent.mkdir()
    with av.open(str(small_clip)) as source, av.open(str(trimmed), "w") as target:
        stream = target.add_stream("libx264", rate=25, options={"crf": "10"})
        stream.width, stream.height, stream.pix_fmt = 384, 216, "yuv420p"
        stream.metadata["timecode"] = "01:00:00:10"
        for n, frame in enumerate(source.decode(video=0)):
            if 10 <= n < 50:
                large = av.VideoFrame.from_ndarray(frame.to_ndarray(format="rgb24").repeat(2, axis=0).repeat(2, axis=1), format="rgb24")
                target.mux(stream.encode(large))
        target.mux(stream.encode(None))
    with Job.create(tmp_path / "cut.adzer", "cut") as job:
        (shot,) = add_files(job, [small_clip])
        found, _ = proxies.offered([trimmed.parent])
        (m,) = proxies.match(job.shots(), found)
        assert m.state == "doubtful" and "uses frames 0 to 59, of which it does not have all" in m.why
        shot = job.set_range(shot, 15, 40)
        job.set_marks(shot, [Mark(20, "kite")])
        moves = {"keys": [{"t": 0.8, "x": 0.4}, {"t": 1.2, "x": 0.6}]}
        shot = job.decide(job.shots()[0], shot.route.with_("shape", moves=moves, marks=[{"x": 9, "y": 9, "a": 8, "b": 8, "frame": 30}]), "x")
        job.add_take(shot, 30, 48)
        (m,) = proxies.match(job.shots(), found)
        assert m.state == "matched" and m.offset == 10 and "begins at its frame 10 and holds 40 of its 60" in m.why
        first, second = proxies.apply(job, job.shots(), [m], found)
        assert (first.start, first.stop, second.start, second.stop) == (5, 30, 20, 38) and first.marks == (Mark(10, "kite"),)
        assert [k.t for k in first.route.shape.moves.keys] == pytest.approx([0.4, 0.8]) and first.route.shape.marks[0].frame == 20
        with opened(first.facts.sources) as reader:
            assert frame_number(reader.frame(first.start).cropped(0).astype(float), 2, 255) == 15
        moved = trimmed.with_name("moved.bak")  # whatever its ending is now
        trimmed.rename(moved)
        again, said = proxies.offered([moved.parent])
        (m,) = proxies.match(job.shots(), again)  # two takes are one recording
        assert not said and m.why == "it is the very same file" and len(proxies.apply(job, job.shots(), [m], again)) == 2
        assert job.undo()
        moved.rename(trimmed)
        early = job.decide(job.shots()[0], first.route, "x")
        assert proxies.shifted(early.route, 15, early.facts) is None  # a keyframe would lie before it
        assert job.undo() and job.undo() and {s.start for s in job.shots()} == {15, 30}


def test_a_frame_that_is_mostly_black_and_light_that_is_brought_down_are_said():
    """16:9 held upright fills (9/16)² = 32 % of a wide frame; its fix fills the frame. HDR that stays HDR is not told so."""
    upright = facts(raster=(1920, 1080), rotation=270, curve="bt709", primaries="bt709", matrix="bt709", range="limited")
    (black,) = [f for f in walk(Route(), upright).findings if f.code == "mostly-black"]
    assert black.text.startswith("68%") and not [f for f in walk(Route().mended(black.fix), upright).findings if f.code == "mostly-black"]
    for curve, card, told in (("pq", "web-wide", True), ("hlg", "web-wide", True), ("bt709", "web-wide", False), ("pq", "archive", True)):
        light = facts(curve=curve, primaries="bt2020", matrix="bt2020", range="limited", bits=10, pix_fmt="yuv420p10le")
        codes = [f.code for f in walk(Route().with_("deliver", cards=[card]), light).findings]
        assert ("hdr-becomes-sdr" in codes) == (told and cards.delivery(card).curve not in ("pq", "hlg")), (curve, card)


def test_where_more_was_recorded_every_frame_can_be_played(tmp_path):
    """60 a second in a job of 30: offered at half speed, and then each recorded frame is there once, in its order."""
    clip = write_clip(tmp_path / "fast.mov", 40, rate=Fraction(60))
    made = probe.probe(clip)
    even = Route().with_("read", timing="even", even_rate="30")
    offered = next(f for f in walk(even, made, job_rate=Fraction(30)).findings if f.code == "every-frame")
    assert "half speed" in offered.fix.label
    out = tmp_path / "slow.mkv"
    render(freeze("fast", made, even.mended(offered.fix), "archive", out, 0, made.frames, job_rate=Fraction(30)))
    with opened(probe.probe(out).sources) as reader:
        assert [frame_number(f.cropped(0).astype(float), 1, 1023) for f in reader.frames()] == list(range(40))


@pytest.mark.parametrize(("raster", "rotation", "cards"), [
    ((1920, 1080), 0, ("web-wide",)), ((1920, 1080), 270, ("web-upright",)), ((1080, 1920), 0, ("web-upright",)), ((3000, 4000), 0, ("web-upright",)),
    ((2880, 2880), 0, ("web-wide",)), ((1920, 2160), 0, ("web-wide",)), ((2880, 5760), 0, ("web-wide",)),  # two over each other
])  # fmt: skip
def test_the_first_delivery_goes_by_the_shape(raster, rotation, cards):
    assert first_route(facts(raster=raster, rotation=rotation)).deliver.cards == cards
    wide = facts(raster=(1440, 1080), pixel_aspect=Fraction(4, 3))
    assert walk(first_route(wide), wide).draft.raster == (1920, 1080), "pixels that are wide become square, and no row is lost"
    shrunk = next(f for f in walk(Route(), wide).findings if f.code == "raster-not-reached")
    assert "25% of its recorded rows" in shrunk.text and "25% of the columns" in shrunk.text
    tagged = facts(raster=(3840, 1920), sphere=probe.SphereTags("both", "equirectangular", "one", None, (0.0, 0.0, 0.0, 0.0)))
    assert first_route(tagged).deliver.cards == ("web-sphere",)
