"""Recordings that were held upright, and where a stream says that its chroma lies."""

from __future__ import annotations

from fractions import Fraction

import av
import numpy as np
import pytest

from adzer.core.compile import freeze, freeze_copy, pixel_plan
from adzer.core.intake.take import read_file
from adzer.core.media import headers, probe
from adzer.core.media.decode import Reader
from adzer.core.read.step import upright_raster
from adzer.core.route import Route, walk
from adzer.core.run.pixels import Processor
from adzer.core.run.render import render

from .. import foreign

PLAIN = Route().with_("read", curve="bt709").with_("shape", hold="native")
# What stands, turned as a camera that is held on its side records it: degrees counter-clockwise that a player turns back by → np.rot90s
HELD = {0: 0, 90: -1, 180: 2, 270: 1}


def planes(picture, form):
    """BT.709 in limited range (H.273, table 4), chroma co-sited sideways and between lines, from full resolution by hand."""
    r, g, b = (picture[..., i] / 255 for i in range(3))
    y = 0.2126 * r + 0.7152 * g + 0.0722 * b
    chroma = [(b - y) / 1.8556, (r - y) / 1.5748]
    if form != "yuv444p":
        wide = [np.pad(c, ((0, 0), (1, 1)), mode="edge") for c in chroma]
        chroma = [(w[:, :-2] + 2 * w[:, 1:-1] + w[:, 2:])[:, ::2] / 4 for w in wide]
    if form == "yuv420p":
        chroma = [(c[::2] + c[1::2]) / 2 for c in chroma]
    return [np.rint(16 + 219 * y).astype(np.uint8), *(np.rint(128 + 224 * c).astype(np.uint8) for c in chroma)]


def shot(path, turn, codec="libx264", form="yuv420p", matrix=None, siting=None):
    """A photograph, recorded lying as a camera held by ``turn`` degrees does, with the tag that it then writes."""
    picture = np.ascontiguousarray(np.rot90(foreign.photograph("astronaut")[:320, 100:340], HELD[turn]))
    options = {"crf": "4", "preset": "ultrafast"}
    if siting is not None:
        key = {"libx264": "x264-params", "libx265": "x265-params"}[codec]
        options[key] = f"chromaloc={siting}" + (":log-level=error" if codec == "libx265" else "")
    with av.open(str(path), "w") as target:
        stream = target.add_stream(codec, rate=25, options=options)
        stream.height, stream.width = picture.shape[:2]
        stream.pix_fmt = form
        if matrix is not None:
            stream.set_display_matrix(matrix)
        elif turn:
            stream.set_display_rotation(turn)
        for n in range(3):
            frame = av.VideoFrame(*picture.shape[1::-1], form)
            for plane, codes in zip(frame.planes, planes(picture, form), strict=True):
                into = np.frombuffer(memoryview(plane), np.uint8).reshape(plane.height, plane.line_size)
                into[: codes.shape[0], : codes.shape[1]] = codes
            frame.pts = n
            target.mux(stream.encode(frame))
        target.mux(stream.encode(None))
    return path


def delivered(path, route=PLAIN, card="archive", **more):
    facts, seen = read_file(path)
    walked = walk(route, facts, seen, None)
    plan = pixel_plan(walk(route, facts, seen))
    out = [np.zeros(plan.target.format.plane_size(plan.raster, i)[::-1], plan.target.format.dtype) for i in range(3)]
    with Reader(path) as reader, Processor(plan, 2) as processor:
        processor.run([reader.frame(0).planes], tuple(out))
    return facts, walked, [o.astype(float) for o in out]


@pytest.mark.parametrize("form", ["yuv420p", "yuv422p", "yuv444p"])
def test_whatever_way_it_was_held_it_is_delivered_upright(tmp_path, form):
    _, _, upright = delivered(shot(tmp_path / "0.mp4", 0, form=form))
    for turn in (90, 180, 270):
        facts, walked, turned = delivered(shot(tmp_path / f"{turn}.mp4", turn, form=form))
        assert facts.rotation == turn and walked["read"].after.turn == -turn % 360
        assert walked["read"].after.raster == (240, 320) == upright_raster(facts, PLAIN.read)
        assert "tagged" in walked["read"].result.evidence["turn"] and turned[0].shape == upright[0].shape
        assert np.abs(turned[0] - upright[0])[8:-8, 8:-8].mean() < 1.5
        for c in (1, 2):
            there, here = turned[c][4:-4, 4:-4], upright[c][4:-4, 4:-4]
            down, across = np.gradient(here)
            slopes = np.stack([across.ravel(), down.ravel()], axis=1)
            moved, *_ = np.linalg.lstsq(slopes, (here - there).ravel(), rcond=None)
            assert np.abs(moved).max() < 0.12, (form, turn, c, moved)  # samples; not turning its place leaves a quarter or half


def test_a_turn_can_be_declared_and_taken_back_and_the_master_stands(tmp_path):
    path = shot(tmp_path / "lying.mp4", 90)
    facts, seen = read_file(path)
    assert walk(PLAIN.with_("read", turn=0), facts, seen)["read"].after.raster == (320, 240)
    untagged = shot(tmp_path / "untagged.mp4", 90, matrix=[1, 0, 0, 0, 1, 0, 0, 0, 1])
    facts, seen = read_file(untagged)
    assert facts.rotation == 0
    order = freeze("x", facts, PLAIN.with_("read", turn=270), "web-upright", tmp_path / "m.mp4", seen=seen)
    assert render(order).passed
    with Reader(tmp_path / "m.mp4") as reader:
        frame = reader.frame(0)
    luma = frame.cropped(0).astype(float)
    lines = np.linspace(0, 1, 24)[1:-1]
    truth = foreign.photograph("astronaut")[:320, 100:340] @ [0.2126, 0.7152, 0.0722]
    w = truth.shape[0] * luma.shape[1] / luma.shape[0]
    x0 = (truth.shape[1] - w) / 2
    seen_ = np.array([[luma[int(v * luma.shape[0]), int(u * luma.shape[1])] for u in lines] for v in lines])
    meant = np.array([[truth[int(v * 320), int(x0 + u * w)] for u in lines] for v in lines])
    assert np.corrcoef(seen_.ravel(), meant.ravel())[0, 1] > 0.9


@pytest.mark.parametrize("card", ["proxy", "intermediate"])
@pytest.mark.parametrize("declared", [None, 180])
def test_a_copy_lies_as_its_recording_and_says_how_players_turn_it(tmp_path, card, declared):
    """What another library reads of the copy's tag turns its picture upright; and pixels are said to be square."""
    path = shot(tmp_path / "lying.mp4", 90)
    facts, _ = read_file(path)
    order = freeze_copy("x", facts, PLAIN.with_("read", turn=declared), card, Fraction(1), tmp_path / "copy.mov")
    assert render(order).passed
    with av.open(str(tmp_path / "copy.mov")) as copy:
        frame = next(copy.decode(video=0))
        assert frame.rotation % 360 == (90 if declared is None else 180)
        assert copy.streams.video[0].sample_aspect_ratio == 1 and (frame.width, frame.height) == (320, 240)
        up = np.rot90(frame.to_ndarray(format="gray"), frame.rotation // 90)
    if declared is None:
        truth = foreign.photograph("astronaut")[:320, 100:340] @ [0.2126, 0.7152, 0.0722]
        assert np.corrcoef(up[::4, ::4].ravel(), truth[::4, ::4].ravel())[0, 1] > 0.95


@pytest.mark.parametrize("matrix, word", [([-1, 0, 0, 0, 1, 0, 0, 0, 1], "mirror"), ([1, 0.4, 0, 0, 1, 0, 0, 0, 1], "shear")])
def test_a_matrix_that_is_no_turn_is_refused_by_name_until_a_turn_is_declared(matrix, word):
    raw = np.array([round(v * 65536) for v in matrix], np.int32).tobytes()
    turn, odd = probe.display_turn(raw)
    assert turn == 0 and word in odd
    for ccw, (a, b, c, d) in {0: (1, 0, 0, 1), 90: (0, -1, 1, 0), 180: (-1, 0, 0, -1), 270: (0, 1, -1, 0)}.items():
        held = np.array([a * 65536, b * 65536, 0, c * 65536, d * 65536, 0, 0, 0, 1 << 30], np.int32).tobytes()
        assert probe.display_turn(held) == (ccw, None)


def test_a_mirrored_recording_stops(tmp_path):
    facts, seen = read_file(shot(tmp_path / "mirrored.mp4", 0, matrix=[-1, 0, 0, 0, 1, 0, 0, 0, 1]))
    stopped = walk(PLAIN, facts, seen).stopped
    assert stopped is not None and stopped.code == "odd-matrix" and "mirrored.mp4" in stopped.text and "mirror" in stopped.text
    assert walk(PLAIN.mended(stopped.fix), facts, seen).stopped is None


@pytest.mark.parametrize("codec", ["libx264", "libx265"])
def test_siting_is_read_from_the_stream_wherever_it_lies(tmp_path, codec):
    for number, name in enumerate(("left", "center", "topleft", "top", "bottomleft", "bottom")):
        for ending in ("mp4", "ts") if number in (1, 2) else ("mkv",):
            facts = probe.probe(shot(tmp_path / f"{number}.{ending}", 0, codec, siting=number))
            assert facts.siting == name or (number == 0 and facts.siting is None)  # the default need not be written
    read = walk(PLAIN, facts, None)["read"]
    assert read.after.siting == "bottom" and "stated" in read.result.evidence["siting"]
    assert walk(PLAIN.with_("read", siting="center"), facts, None)["read"].after.siting == "center"


def test_siting_of_av1_and_of_matroska_itself(tmp_path):
    for number, name in ((0, None), (1, "left"), (2, "topleft")):
        path = tmp_path / f"{number}.mp4"
        with av.open(str(path), "w") as target:
            options = {"preset": "12", "svtav1-params": f"chroma-sample-position={number}"}
            stream = target.add_stream("libsvtav1", rate=25, options=options)
            stream.width, stream.height, stream.pix_fmt = 128, 96, "yuv420p"
            for n in range(4):
                frame = av.VideoFrame(128, 96, "yuv420p")
                for plane in frame.planes:
                    np.frombuffer(memoryview(plane), np.uint8)[:] = 90
                frame.pts = n
                target.mux(stream.encode(frame))
            target.mux(stream.encode(None))
        assert probe.probe(path).siting == name
    colour = bytes.fromhex("55b7810155b88102")  # ChromaSitingHorz 1, ChromaSitingVert 2
    video = b"\xe0" + bytes([0x80 | (len(colour) + 3)]) + b"\x55\xb0" + bytes([0x80 | len(colour)]) + colour
    entry = b"\xae" + bytes([0x80 | len(video)]) + video
    tracks = b"\x16\x54\xae\x6b" + bytes([0x80 | len(entry)]) + entry
    (tmp_path / "head.mkv").write_bytes(b"\x1a\x45\xdf\xa3\x80" + b"\x18\x53\x80\x67\x01" + b"\xff" * 7 + tracks)
    from adzer.core.media import boxes

    assert boxes.matroska_siting(tmp_path / "head.mkv") == "left"


def test_headers_of_any_bytes_say_something_or_nothing():
    rng = np.random.default_rng(8)
    for codec in headers.CODECS:
        for _ in range(300):
            data = rng.integers(0, 256, int(rng.integers(0, 90)), dtype=np.uint8).tobytes()
            for head in (b"", b"\1", b"\0\0\1\x67", b"\0\0\1\x42\1", b"\x81\0\0\0\x0a\x0b"):
                assert headers.siting(codec, head + data) in (None, *headers.SITINGS)
    assert headers.siting("ffv1", b"\0\0\1\x67") is None and Fraction(1) == 1
