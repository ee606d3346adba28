"""Whole renders: the master against the world's ground truth, and what happens when things go wrong on the way."""

from __future__ import annotations

import json
import os
import resource
import signal
import subprocess
import sys
import time
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest

from adzer.core.cards import delivery
from adzer.core.compile import compile_order, freeze
from adzer.core.errors import AdzerError, Cancelled, RenderFailed
from adzer.core.intake.take import read_file
from adzer.core.light import names as colour_cards
from adzer.core.media import audio, probe
from adzer.core.media.decode import Reader
from adzer.core.route import Route, walk
from adzer.core.run import render as rendering
from adzer.core.run import verify
from adzer.core.run.pixels import Processor
from adzer.core.run.render import render
from adzer.core.sim import camera as cameras

from ..conftest import frame_number, parts_folder, write_clip

SCOPE = (
    Route()
    .with_("read", curve="fen-log")
    .with_("shape", squeeze="8/5", shape="239/100")
    .with_("colour", whites="let go")
)


@pytest.fixture(scope="module")
def straight(tmp_path_factory):
    """The scope lens held straight, recorded losslessly, so that circles facing it are circles; and the truth."""
    camera = cameras.load("scope-lens")
    recorder = replace(camera.recorder, encoder="ffv1", options={})
    camera = replace(camera, pose=lambda _: cameras.Pose(), recorder=recorder, container="mov")
    path = tmp_path_factory.mktemp("straight") / "straight.mkv"
    truth = cameras.shoot(camera, 3, path)
    return path, json.loads(truth.read_text())


@pytest.fixture(scope="module")
def truth(straight):
    return straight[1]


@pytest.fixture(scope="module", params=["archive", "native-wide"])
def master(request, straight, tmp_path_factory):
    """The straight shot, delivered losslessly and as H.265."""
    facts, seen = read_file(straight[0])
    out = tmp_path_factory.mktemp("master") / f"m.{delivery(request.param).container}"
    order = freeze("sails", facts, SCOPE, request.param, out, seen=seen)
    report = render(order)
    assert report.passed
    return order, out


def delivered_place(order, place):
    (panel,) = compile_order(order).pixels.panels
    return [(place[i] - float(panel.look.offset[i])) / float(panel.look.scale[i]) + panel.place[i] for i in (0, 1)]


def test_grey_patches_have_the_codes_that_their_reflectance_gives(master, truth):
    order, out = master
    with Reader(out) as reader:
        luma = reader.frame(0).cropped(0).astype(float)
        chroma = reader.frame(0).cropped(1).astype(float)
    target = colour_cards.curve("bt709")
    half = truth["patch_width"] * 0.3
    for patch in truth["grey_patches"]:
        x, y = delivered_place(order, patch["place"])
        dy = half / 1.6
        piece = luma[int(y - dy) : int(y + dy), int(x - half) : int(x + half)]
        light = patch["reflectance"] * 2 ** truth["recorder"]["exposure"]
        expected = target.encode(np.array([light]))[0] * 876 + 64
        piece = piece[np.abs(piece - np.median(piece)) < 16]  # a reed may cross a patch
        assert len(piece) > 50 and abs(piece.mean() - expected) <= 1.0, patch
        sx, sy = (2, 1 if order.card.chroma == "4:2:2" else 2)
        grey = chroma[int((y - dy) / sy) : int((y + dy) / sy), int((x - half) / sx) : int((x + half) / sx)]
        assert abs(np.median(grey) - 512) <= 1.0


def test_the_cartwheel_is_round_in_the_master(master, truth):
    """Edge of the dark tyre along many spokes, then the best ellipse."""
    order, out = master
    with Reader(out) as reader:
        luma = reader.frame(0).cropped(0).astype(float)
    rim = np.array([delivered_place(order, p) for p in truth["wheel_rim"]])
    centre = (rim.max(axis=0) + rim.min(axis=0)) / 2
    radius = (rim.max(axis=0) - rim.min(axis=0)) / 2
    found = []
    for angle in np.linspace(0, 2 * np.pi, 720, endpoint=False):
        r = np.linspace(0.9, 1.1, 161)
        x, y = centre[0] + radius[0] * r * np.cos(angle) - 0.5, centre[1] + radius[1] * r * np.sin(angle) - 0.5
        ix, iy = x.astype(int), y.astype(int)
        fx, fy = x - ix, y - iy
        v = (luma[iy, ix] * (1 - fx) + luma[iy, ix + 1] * fx) * (1 - fy) + (
            luma[iy + 1, ix] * (1 - fx) + luma[iy + 1, ix + 1] * fx
        ) * fy
        dark, light = v[62:76].min(), np.median(v[95:120])
        if light - dark < 60:
            continue
        above = np.flatnonzero(v[66:] > (dark + light) / 2)
        k = 66 + above[0]
        edge = r[k - 1] + (r[k] - r[k - 1]) * ((dark + light) / 2 - v[k - 1]) / (v[k] - v[k - 1])
        found.append((edge * np.cos(angle), edge * np.sin(angle)))
    points = np.array(found)
    assert len(points) > 300
    system = np.column_stack([points**2, points, np.ones(len(points))])
    for _ in range(3):  # an ellipse with upright axes, outliers (sails, board) left out
        solved, *_ = np.linalg.lstsq(system[:, :4], np.ones(len(system)), rcond=None)
        off = np.abs(system[:, :4] @ solved - 1)
        system = system[off < max(3 * np.median(off), 1e-4)]
    a, b, c, d = solved
    k = 1 + c * c / (4 * a) + d * d / (4 * b)
    axes = np.sqrt(k / np.array([a, b])) * radius
    assert abs(axes[0] / axes[1] - 1) < 0.002


def test_no_frame_is_dropped_doubled_or_shifted(small_clip, tmp_path):
    facts, seen = read_file(small_clip)
    for card, suffix in (("web-wide", "mp4"), ("edit-intermediate", "mov"), ("archive", "mkv")):
        clip, size = (small_clip, facts.raster)
        if card == "edit-intermediate":
            clip = write_clip(tmp_path / "big.mov", 60, (320, 180), sound=True)
            size = (320, 180)
        read, lv = read_file(clip)
        out = tmp_path / f"out.{suffix}"
        route = Route().with_("shape", hold="native")
        order = freeze("s", read, route, card, out, 7, 55, lv)
        assert len(compile_order(order).segments()) >= 1
        assert render(order).passed
        with Reader(out) as reader:
            numbers = [frame_number(f.planes[0].astype(int), 1, (1 << f.format.bits) - 1) for f in reader.frames()]
        assert numbers == list(range(7, 55)) and size == probe.probe(out).raster


def test_many_segments_are_joined_without_a_seam(small_clip, tmp_path, monkeypatch):
    monkeypatch.setattr("adzer.core.compile.SEGMENT_SECONDS", 0.4)
    monkeypatch.setattr("adzer.core.cards.delivery", lambda name, real=delivery: _short_gop(real(name)))
    facts, seen = read_file(small_clip)
    out = tmp_path / "out.mp4"
    order = freeze("s", facts, Route().with_("shape", hold="native"), "web-wide", out, seen=seen)
    assert len(compile_order(order).segments()) == 6
    report = render(order)
    assert report.frames == 60 and any("sound is" in c.text and "off" in c.text for c in report.checks)
    with Reader(out) as reader:
        assert [frame_number(f.planes[0], 1, 255) for f in reader.frames()] == list(range(60))
        assert all(frame_number(reader.frame(n).planes[0], 1, 255) == n for n in (59, 10, 31, 0))


def _short_gop(card):
    import msgspec

    return msgspec.structs.replace(card, gop_seconds=0.4)


def test_variable_stamps_are_carried_and_evened_ones_even(phone_clip, tmp_path):
    facts, seen = read_file(phone_clip)
    render(freeze("p", facts, Route(), "web-wide", tmp_path / "as.mp4", 0, 30, seen))
    with Reader(phone_clip) as a, Reader(tmp_path / "as.mp4") as b:
        assert len(b) == 30
        assert np.allclose(
            [float(a.time(n)) for n in range(len(b))], [float(b.time(n)) for n in range(len(b))], atol=2e-5
        )
    route = Route().with_("read", timing="even", even_rate="25")
    report = render(freeze("p", facts, route, "web-wide", tmp_path / "even.mp4", 0, 30, seen))
    even = probe.probe(tmp_path / "even.mp4")
    assert even.constant_rate and even.rate == 25 and report.passed
    assert abs(even.duration - Reader(phone_clip).time(30)) <= Fraction(1, 25)


@pytest.mark.parametrize(
    "speed, even, shown",
    [
        ("2", None, lambda n: 2 * n),
        ("1/2", None, lambda n: n // 2),
        ("1/2", "50", lambda n: (n + 1) // 4),
        ("5/2", None, lambda n: (5 * n) // 2),
    ],
)
def test_speed_acts_on_frames_and_sound_alike(small_clip, tmp_path, speed, even, shown):
    """Each delivered tick shows the frame recorded nearest to it; the sound is as long as the picture and keeps its pitch."""
    facts, seen = read_file(small_clip)
    route = Route().with_("shape", speed=speed)
    if even:
        route = route.with_("read", timing="even", even_rate=even)
    order = freeze("s", facts, route, "archive", tmp_path / "m.mkv", 4, 44, seen)
    report = render(order)
    rate, count = Fraction(even or 25), round(40 / Fraction(speed) * Fraction(even or 25) / 25)
    made = probe.probe(tmp_path / "m.mkv")
    assert report.passed and made.frames == count and made.rate == rate and made.timecode is None
    with Reader(tmp_path / "m.mkv") as reader:
        for n in (0, 1, 2, 3, 7, count - 1):
            assert frame_number(reader.frame(n).planes[0], 1.0, 255) == min(4 + shown(n), 43)
    before = audio.mono(small_clip, facts.start + Fraction(4, 25), Fraction(3, 2))
    after = audio.mono(tmp_path / "m.mkv", made.start, count / rate)
    assert len(after) == int(count / rate * 48000) and 0.4 < after.std() / before.std() < 2.5
    assert next(c for c in report.checks if c.name == "sound").passed


@pytest.mark.parametrize("speed", [Fraction(2), Fraction(3, 10), Fraction(7), Fraction(24, 25)])
def test_hastened_sound_keeps_its_pitch_and_has_the_length_that_is_asked(speed):
    wave = np.sin(2 * np.pi * 440 * np.arange(96000) / 48000).astype(np.float32)
    pieces = (av.AudioFrame.from_ndarray(wave[None, n : n + 1024], "fltp", "mono") for n in range(0, 96000, 1024))

    def stamped():
        for n, piece in enumerate(pieces):
            piece.sample_rate, piece.pts, piece.time_base = 48000, n * 1024, Fraction(1, 48000)
            yield piece

    total = int(96000 / speed)
    made = list(audio.hastened(stamped(), speed, total))
    heard = np.concatenate([f.to_ndarray()[0] for f in made])
    assert len(heard) == total and [f.pts for f in made[:2]] == [0, made[0].samples]
    middle = heard[total // 4 : total // 4 + 8192]
    peak = np.abs(np.fft.rfft(middle * np.hanning(len(middle)))).argmax() * 48000 / len(middle)
    assert abs(peak - 440) < 8


def test_speeds_that_cannot_be_get_a_sentence_and_uneven_ones_a_note(small_clip, tmp_path):
    facts, seen = read_file(small_clip)
    walked = walk(Route().with_("shape", speed="40"), facts, seen)
    assert walked.stopped.code == "speed-out-of-range"
    mended = Route().with_("shape", speed="40").mended(walked.stopped.fix)
    assert walk(mended, facts, seen).stopped is None
    for speed, word in (("1/2", "shown twice"), ("3/2", "Each or every 2nd recorded frame is shown"), ("2", None)):
        found = [
            f.text for f in walk(Route().with_("shape", speed=speed), facts, seen).findings if f.code == "uneven-pace"
        ]
        assert (word in found[0]) if word else not found
    after = walk(Route().with_("shape", speed="2"), facts, seen)["deliver"].after
    assert after.frames == 30 and after.duration == facts.duration / 2


def test_the_compiled_master_is_the_reference_on_real_footage(scope_clip, tmp_path):
    """Decode → kernels → lossless file equals decode → NumPy reference, within one code on every pixel."""
    from adzer.core.run import reference

    facts, seen = read_file(scope_clip)
    order = freeze(
        "s",
        facts,
        SCOPE.with_("colour", exposure=0.4, kelvin=5600, contrast=1.1),
        "archive",
        tmp_path / "m.mkv",
        50,
        51,
        seen,
    )
    render(order)
    plan = compile_order(order)
    with Reader(scope_clip) as a, Reader(tmp_path / "m.mkv") as b:
        source, made = a.frame(50), b.frame(0)
        wanted = reference.deliver(plan.pixels, [tuple(source.cropped(i) for i in range(3))])
        for i in range(3):
            assert np.abs(made.cropped(i).astype(int) - wanted[i]).max() <= 1


# --- when things go wrong ------------------------------------------------------------------------------------------
@pytest.fixture
def order(small_clip, tmp_path, monkeypatch):
    monkeypatch.setattr("adzer.core.compile.SEGMENT_SECONDS", 0.4)
    monkeypatch.setattr("adzer.core.cards.delivery", lambda name, real=delivery: _short_gop(real(name)))
    facts, seen = read_file(small_clip)
    return freeze("s", facts, Route().with_("shape", hold="native"), "web-wide", tmp_path / "out.mp4", seen=seen)


def test_stopping_keeps_segments_and_starting_again_uses_them(order, monkeypatch):
    out = Path(order.out)
    count = 0

    def enough():
        nonlocal count
        count += 1
        return count > 25

    with pytest.raises(Cancelled):
        render(order, cancelled=enough)
    kept = sorted(parts_folder(out).glob("0000[0-9].mp4"))
    assert len(kept) == 2 and not out.exists()
    stamps = {p: p.stat().st_mtime_ns for p in kept}
    made = []
    real = rendering.render_segment
    monkeypatch.setattr(rendering, "render_segment", lambda *a: made.append(a[3]) or real(*a))
    assert render(order).frames == 60
    assert [s[0] for s in made] == [20, 30, 40, 50] and stamps
    assert out.exists() and not parts_folder(out).exists()


_KILLED = """
import sys
from adzer.core import compile, records
from adzer.core.run.render import render
compile.SEGMENT_SECONDS = 0.4
order = records.from_json(open(sys.argv[1]).read(), compile.Order)
def slow(p):
    import time
    time.sleep(0.02)
render(order, slow)
"""


def test_a_killed_render_goes_on(order, tmp_path):
    out = Path(order.out)
    from adzer.core import records

    (tmp_path / "order.json").write_text(records.to_json(order))
    process = subprocess.Popen([sys.executable, "-c", _KILLED, str(tmp_path / "order.json")])
    end = time.monotonic() + 60
    while not (parts_folder(out) / "00001.mp4").exists() and time.monotonic() < end:
        time.sleep(0.01)
    process.send_signal(signal.SIGKILL)
    process.wait()
    assert not out.exists() and (parts_folder(out) / "00001.mp4").exists()
    assert render(order).passed and out.exists()


def test_a_changed_order_does_not_use_old_segments(order, small_clip):
    with pytest.raises(Cancelled):
        render(order, cancelled=lambda: (parts_folder(Path(order.out)) / "00000.mp4").exists())
    import msgspec

    brighter = msgspec.structs.replace(order, route=order.route.with_("colour", exposure=1.0))
    render(brighter)
    plan = compile_order(brighter)
    with Reader(small_clip) as a, Reader(order.out) as b, Processor(plan.pixels, 1) as processor:
        blank = tuple(
            np.zeros((h, w), np.uint8) for w, h in (plan.spec.format.plane_size(plan.spec.raster, i) for i in range(3))
        )
        processor.run([a.frame(2).planes], blank)
        assert abs(b.frame(2).cropped(0).mean() - blank[0].mean()) < 1


def test_a_full_disk_leaves_a_report_and_no_master(order, tmp_path):
    """The limit on file size stands for the disk's end: writing fails in the same place."""
    code = (
        "import sys, resource, signal; signal.signal(signal.SIGXFSZ, signal.SIG_IGN)\n"
        "resource.setrlimit(resource.RLIMIT_FSIZE, (6000, 6000))\n"
    ) + _KILLED.replace("render(order, slow)", "render(order)")
    from adzer.core import records

    (tmp_path / "order.json").write_text(records.to_json(order))
    done = subprocess.run([sys.executable, "-c", code, str(tmp_path / "order.json")], capture_output=True, text=True)
    assert done.returncode == 1 and "RenderFailed" in done.stderr and "Free some space" in done.stderr
    assert not Path(order.out).exists()
    assert "Free some space" in json.loads((tmp_path / "out.mp4.failed.json").read_text())["why"]
    assert resource.getrlimit(resource.RLIMIT_FSIZE)[0] == resource.RLIM_INFINITY


def test_a_folder_that_cannot_be_written_and_a_name_that_is_taken(order, tmp_path):
    import msgspec

    blocked = tmp_path / "blocked"
    blocked.write_text("a file where a folder should be")
    with pytest.raises(AdzerError, match="blocked"):
        render(msgspec.structs.replace(order, out=str(blocked / "x.mp4")))
    Path(order.out).write_text("precious")
    with pytest.raises(AdzerError, match="never overwritten"):
        render(order)
    assert Path(order.out).read_text() == "precious"


@pytest.mark.parametrize("fault", ["levels", "frame", "tags"])
def test_the_check_catches_a_master_that_is_not_what_was_ordered(order, monkeypatch, fault):
    real = verify.check

    def tampered(path, plan, order_, held, sounds, took):
        import msgspec

        if fault == "levels":
            held = list(held)
            for witness in held:
                witness.looks = [replace(k, means=k.means + 9) for k in witness.looks]
        elif fault == "frame":
            plan = replace(
                plan, timing=replace(plan.timing, frames=plan.timing.frames[:-1], stamps=plan.timing.stamps[:-1])
            )
        else:
            tags = msgspec.structs.replace(plan.target.tags, primaries="bt2020")
            plan = replace(plan, target=replace(plan.target, tags=tags))
        return real(path, plan, order_, held, sounds, took)

    monkeypatch.setattr(rendering.verify, "check", tampered)
    with pytest.raises(RenderFailed, match="failed its check"):
        render(order)
    assert not Path(order.out).exists() and not parts_folder(Path(order.out)).exists()
    assert Path(order.out).with_name("out.mp4.failed.json").exists()


def test_a_trial_second_measures_this_shot(order, tmp_path):
    made = rendering.trial(order, tmp_path)
    assert made.frames == 25 and made.size > 1000 and made.seconds > 0
    assert not list(tmp_path.glob("trial*"))
    assert os.listdir(tmp_path) == []


@pytest.mark.parametrize("card", ["web-wide", "native-wide"])
def test_a_recording_that_pauses_becomes_any_delivery_with_its_pause(tmp_path, card):
    stamps = [40 * n + (5000 if n > 30 else 0) for n in range(60)]
    with av.open(str(tmp_path / "pause.mkv"), "w") as target:
        stream = target.add_stream("ffv1", rate=25, options={"slices": "4"})
        stream.width, stream.height, stream.pix_fmt = 64, 48, "yuv420p"
        stream.codec_context.time_base = stream.time_base = Fraction(1, 1000)
        for n, stamp in enumerate(stamps):
            frame = av.VideoFrame.from_ndarray(np.full((72, 64), 40 + 3 * n, np.uint8), format="yuv420p")
            frame.pts, frame.time_base = stamp, Fraction(1, 1000)
            target.mux(stream.encode(frame))
        target.mux(stream.encode(None))
    facts, seen = read_file(tmp_path / "pause.mkv")
    assert render(freeze("p", facts, Route(), card, tmp_path / "out.mp4", 0, 60, seen)).passed
    with av.open(str(tmp_path / "out.mp4")) as made:  # another reader than ours
        shown = sorted(float(p.pts * p.time_base) for p in made.demux(video=0) if p.size)
    assert np.allclose(np.array(shown) - shown[0], np.array(stamps) / 1000, atol=1e-3)
