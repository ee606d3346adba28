"""Spheres delivered whole: tags put into files without touching their media, read back by the media library's own reader."""

from __future__ import annotations

import struct

import av
import numpy as np
import pytest

from adzer.core import cards
from adzer.core.compile import freeze
from adzer.core.deliver.step import told
from adzer.core.errors import RenderFailed, Stopped
from adzer.core.intake.take import read_file
from adzer.core.media import boxes, probe
from adzer.core.media.boxes import SphereTags
from adzer.core.picture import Picture
from adzer.core.route import Route, walk
from adzer.core.run import render as rendering
from adzer.core.run.render import render
from adzer.core.sim.demo import CLIPS

HALF = SphereTags("both", "equirectangular", "side by side", "left", (0.0, 0.0, 0.25, 0.25))


def shown(path):
    """(projection, cut at left, top, right, bottom in quarters, kind of eyes) that the library tells of the first frame; and a hash of
    every frame."""
    with av.open(str(path)) as container:
        frames = list(container.decode(video=0))
    held = {d.type.name: bytes(d) for d in frames[0].side_data}
    kind, _, _, _, *cut = struct.unpack_from("=I3i4I", held["SPHERICAL"]) if "SPHERICAL" in held else (None,) * 8
    eyes = struct.unpack_from("=i", held["STEREO3D"])[0] if "STEREO3D" in held else None
    return kind, None if kind is None else [round(v / 2**30, 3) for v in cut], eyes, [hash(f.to_ndarray().tobytes()) for f in frames]


def film(path, **options):
    with av.open(str(path), "w", options=options) as out:
        stream = out.add_stream("mpeg4", rate=25)
        stream.width, stream.height, stream.pix_fmt = 128, 64, "yuv420p"
        sound = out.add_stream("aac", rate=48000, layout="mono")
        for n in range(30):
            grey = np.full((64, 128, 3), 4 * n, np.uint8)
            out.mux(stream.encode(av.VideoFrame.from_ndarray(grey, format="rgb24")))
        out.mux(stream.encode(None))
        frame = av.AudioFrame.from_ndarray(np.zeros((1, 57600), np.float32), format="fltp", layout="mono")
        frame.rate, frame.pts = 48000, 0
        out.mux(sound.encode(frame))
        out.mux(sound.encode(None))
    return path


@pytest.mark.parametrize("options", [{}, {"movflags": "+faststart"}, {"moov_size": "65536"}], ids=["behind", "in front", "with room"])
@pytest.mark.parametrize("ending", ["mp4", "mov"])
def test_tags_go_into_a_file_and_nothing_of_its_media_moves(tmp_path, options, ending):
    path = film(tmp_path / f"a.{ending}", **options)
    before, whole = shown(path), path.read_bytes()
    assert before[:3] == (None, None, None)
    boxes.put_into_mp4(path, HALF, (1, 2))
    kind, cut, eyes, frames = shown(path)
    assert kind in (0, 2) and cut == [1, 0, 1, 0] and eyes == 1 and frames == before[3]
    found = boxes.read(path)
    assert (found.projection, found.eyes, found.first, found.coverage) == ("equirectangular", "side by side", "left", "180")
    after, media = path.read_bytes(), whole.index(b"mdat")
    length = struct.unpack(">I", whole[media - 4 : media])[0] - 8
    assert after[media : media + 4 + length] == whole[media : media + 4 + length]  # where it was, as it was
    if "moov_size" in options:
        assert len(after) == len(whole) and after.index(b"moov") < after.index(b"mdat")  # still in front


def test_a_file_of_twenty_gigabytes_is_tagged_without_reading_it(tmp_path):
    small, large = film(tmp_path / "small.mp4"), tmp_path / "large.mp4"
    whole = small.read_bytes()
    at = whole.index(b"mdat") - 4
    size = struct.unpack_from(">I", whole, at)[0]
    header = whole[whole.index(b"moov") - 4 :]
    with large.open("wb") as file:  # a media box of 20 GB, nearly all of it a hole, then the header
        file.write(whole[:at] + struct.pack(">I4sQ", 1, b"mdat", 20 << 30) + whole[at + 8 : at + size])
        file.seek(at + (20 << 30))
        file.write(header)
    used = large.stat().st_blocks
    boxes.put_into_mp4(large, HALF, (1, 2))
    assert boxes.read(large).coverage == "180" and large.stat().st_blocks <= used + 64
    with large.open("rb") as file:
        assert file.read(at + 8)[-4:] == b"mdat" and file.seek(at + 16) and file.read(size - 8) == whole[at + 8 : at + size]


@pytest.mark.parametrize(("eyes", "kind"), [("one", None), ("side by side", 1), ("over under", 2)])
def test_each_version_alone_is_known_to_the_other_reader(tmp_path, eyes, kind):
    for version in (1, 2):
        path = film(tmp_path / f"{version}.mp4")
        boxes.put_into_mp4(path, SphereTags("", "equirectangular", eyes, "left" if kind else None), (version,))
        seen = shown(path)
        assert seen[0] == 0 and (seen[2] or None) == kind, version
        assert boxes.read(path).eyes == eyes


def test_a_box_that_says_no_size_is_refused_and_the_file_left_alone(tmp_path):
    path = film(tmp_path / "a.mp4")
    whole = bytearray(path.read_bytes())
    for kind, size in ((b"mdat", 0), (b"moov", 0), (b"stsd", 7)):
        harmed = bytearray(whole)
        struct.pack_into(">I", harmed, harmed.index(kind) - 4, size)
        path.write_bytes(harmed)
        with pytest.raises(ValueError, match="there is no"):
            boxes.put_into_mp4(path, HALF)
        assert path.read_bytes() == harmed


def test_what_is_no_film_is_refused_and_left_alone(tmp_path):
    for body in (b"", b"\0\0\0\x08moov", b"\0\0\0\x10ftypisom\0\0\0\0", struct.pack(">I4s", 1 << 31, b"moov") + bytes(64)):
        (tmp_path / "x.mp4").write_bytes(body)
        with pytest.raises(ValueError, match="there is no"):
            boxes.put_into_mp4(tmp_path / "x.mp4", HALF)
        assert (tmp_path / "x.mp4").read_bytes() == body


def test_a_sphere_leaves_as_a_sphere_and_its_proof_would_notice_if_not(tmp_path, monkeypatch):
    facts, seen = read_file(CLIPS / "all-round.mp4")
    route = Route().with_("read", projection="equirectangular", coverage="360")
    report = render(freeze("x", facts, route, "web-sphere", tmp_path / "s.mp4", 0, 6, seen))
    assert report.passed and {"sphere", "shown as"} <= {c.name for c in report.checks} and report.raster == facts.raster
    assert shown(tmp_path / "s.mp4")[:3] in ((0, [0, 0, 0, 0], 0), (0, [0, 0, 0, 0], None))
    head = (tmp_path / "s.mp4").read_bytes()[:4096]
    assert b"moov" in head and probe.probe(tmp_path / "s.mp4").sphere.coverage == "360"
    # A fault in what writes, and one in what reads, too: the other reader still tells.
    monkeypatch.setattr(rendering.boxes, "put_into_mp4", lambda *a: None)
    with pytest.raises(RenderFailed, match="sphere is nothing"):
        render(freeze("x", facts, route, "web-sphere", tmp_path / "t.mp4", 0, 6, seen))
    monkeypatch.setattr(boxes, "read", lambda path: SphereTags("both", "equirectangular", "one"))
    with pytest.raises(RenderFailed, match="a player is told: a flat picture"):
        render(freeze("x", facts, route, "web-sphere", tmp_path / "t.mp4", 0, 6, seen))
    assert not (tmp_path / "t.mp4").exists()


def test_a_sphere_is_kept_as_one_by_a_card_that_shows_it_nowhere():
    facts, seen = read_file(CLIPS / "all-round.mp4")
    route = Route().with_("read", projection="equirectangular", coverage="360")
    for name, kept in (("archive", True), ("edit-intermediate", True), ("web-wide", False), ("native-wide", False)):
        walked = walk(route, facts, seen, cards.delivery(name))
        assert (walked.stopped is None) == kept and (walked.draft.target.shown is not None) == kept, name


def test_two_half_spheres_keep_their_bounds(tmp_path):
    facts, seen = read_file(CLIPS / "all-round.mp4")  # 2:1: two squares, as two half spheres side by side are
    route = Route().with_("read", projection="equirectangular", coverage="180", eyes="side by side", first="left")
    report = render(freeze("x", facts, route, "web-sphere", tmp_path / "h.mp4", 0, 4, seen))
    assert report.passed
    kind, cut, eyes, _ = shown(tmp_path / "h.mp4")
    assert kind in (0, 2) and cut == [1, 0, 1, 0] and eyes == 1


def test_what_cannot_be_a_sphere_or_cannot_be_said_is_a_stop(tmp_path):
    card = cards.delivery("web-sphere")
    sphere = Picture((3840, 1920), projection="equirectangular", coverage="360", eyes="one")
    assert told(sphere, card)[0].coverage == "360"
    pair = sphere.with_(raster=(3840, 3840), eyes="over under", first="left", packing="full")
    assert told(pair, card)[0] == SphereTags("both", "equirectangular", "over under", "left")
    codes = {
        "not-a-sphere": (sphere.with_(projection="flat"), sphere.with_(projection=None), sphere.with_(projection="fisheye")),
        "eyes-cannot-be-said": (
            pair.with_(first="right"), pair.with_(first=None), pair.with_(eyes="side by side", raster=(7680, 1920), first="right"),
        ),
        "sphere-cropped": (sphere.with_(raster=(3840, 1080)), pair.with_(raster=(3840, 1920))),
    }
    for code, pictures in codes.items():
        for picture in pictures:
            tags, finding = told(picture, card)
            assert tags is None and finding.code == code and finding.level.value == "stop", picture
    facts, seen = read_file(CLIPS / "all-round.mp4")
    plain = Route().with_("read", projection="equirectangular", coverage="360")
    cropped = plain.with_("shape", shape="16/9")
    with pytest.raises(Stopped, match="a sphere that is cropped"):
        freeze("x", facts, cropped, "web-sphere", tmp_path / "x.mp4", seen=seen)
    fix = next(f.fix for f in walk(cropped, facts, seen, card).findings if f.code == "sphere-cropped")
    assert walk(cropped.mended(fix), facts, seen, card).stopped is None
    flat, looked = read_file(CLIPS / "sails-ground.mov")
    with pytest.raises(Stopped, match="would break the film"):
        freeze("x", flat, Route().with_("read", curve="bt709"), "web-sphere", tmp_path / "x.mp4", seen=looked)
