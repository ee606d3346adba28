"""Dots that stay where they are in footage that is no sensor values, found in and taken off a film that is not ours."""

from __future__ import annotations

import av
import numpy as np

from adzer.core.develop.dots import Healed, found
from adzer.core.intake.take import join_files, read_file
from adzer.core.light.samples import Samples
from adzer.core.media.formats import PixelFormat
from adzer.core.records import to_json
from adzer.core.route import Route, walk
from adzer.core.run.developing import noise_of
from adzer.core.run.frames import Inputs

from ..foreign import clip

DOTS = ((40, 30, 200), (301, 95, 190), (77, 211, -110), (500, 17, 160), (222, 140, 150))  # left, top, codes brighter


def _dotted(path, frames, dots, crf="16"):
    with av.open(str(path), "w") as out:
        h, w = frames[0].shape
        stream = out.add_stream("libx264", rate=25, options={"crf": crf})
        stream.width, stream.height, stream.pix_fmt = w, h, "yuv420p"
        for luma in frames:
            luma = luma.astype(float)
            for x, y, more in dots:  # as demosaicing spreads one value over its neighbours
                luma[y - 1 : y + 2, x - 1 : x + 2] += more * np.array([[0.2, 0.5, 0.2], [0.5, 1.0, 0.5], [0.2, 0.5, 0.2]])
            frame = av.VideoFrame(w, h, "yuv420p")
            for k, plane in enumerate(frame.planes):
                codes = np.full((plane.height, plane.line_size), 128, np.uint8)
                if k == 0:
                    codes[:, :w] = np.clip(luma, 16, 235)
                plane.update(codes.tobytes())
            out.mux(stream.encode(frame))
        out.mux(stream.encode(None))


def test_dots_that_stay_are_found_in_a_film_that_is_not_ours_and_taken_from_around_them(tmp_path):
    """Five dots painted on a film of the street before it was encoded: found where they are, and no other; healed, no worse there than the film
    drawn straight between what lies two pixels off. A film without any has none, nor a picture in which nothing moves."""
    with av.open(str(clip("bikes"))) as container:
        frames = [16 + f.to_ndarray(format="gray").astype(float) * 219 / 255 for _, f in zip(range(120), container.decode(video=0), strict=False)]
    _dotted(tmp_path / "dots.mp4", frames, DOTS)
    _dotted(tmp_path / "none.mp4", frames, ())
    _dotted(tmp_path / "still.mp4", [frames[0]] * 60, DOTS)
    route = Route().with_("read", curve="bt709", range="limited")
    held = {name: noise_of(read_file(tmp_path / f"{name}.mp4")[0], route) for name in ("dots", "none", "still")}
    assert held["none"].dots == () and held["still"].dots == ()
    assert noise_of(read_file(clip("carphone_pristine"))[0], route).dots == (), "a car from inside stands still round a face"
    assert len(held["dots"].dots) == len(DOTS)
    for x, y, _ in DOTS:
        assert any(abs(x - a) <= 1 and abs(y - b) <= 1 and 1 <= r <= 4 for a, b, r in held["dots"].dots), (x, y)
    facts, seen = read_file(tmp_path / "dots.mp4")
    walked = walk(route, facts, seen, measured={"noise": to_json(held["dots"]).encode()})
    (told,) = [f for f in walked.findings if f.code == "dots-stay"]
    mended = walk(route.with_("develop", **told.fix.answers), facts, seen, measured={"noise": to_json(held["dots"]).encode()})
    assert not any(f.code == "dots-stay" for f in mended.findings) and "5 dots healed" in mended["develop"].result.says
    with Inputs(mended.draft.inputs, facts) as healed, Inputs(walked.draft.inputs, facts) as plain:
        for n, (a,), (b,) in zip((5, 60), healed.along(np.array([5, 60]), np.zeros(2)), plain.along(np.array([5, 60]), np.zeros(2)), strict=True):
            where = np.zeros(frames[0].shape, bool)
            for x, y, _ in DOTS:
                where[y - 4 : y + 5, x - 4 : x + 5] = True
                there = slice(y - 1, y + 2), slice(x - 1, x + 2)
                assert np.abs(b[0][there].astype(float) - frames[n][there]).mean() > 40
                ways = [np.linspace(frames[n][y, x - 3], frames[n][y, x + 3], 7)[2:5], np.linspace(frames[n][y - 3, x], frames[n][y + 3, x], 7)[2:5]]
                best = min(np.abs(v - frames[n][y, x - 1 : x + 2]).mean() for v in ways)
                assert np.abs(a[0][there].astype(float) - frames[n][there]).mean() < best + 18, (n, x, y)
            assert np.array_equal(a[0][:, : where.shape[1]][~where], b[0][:, : where.shape[1]][~where])


def test_dots_of_a_second_files_eye_stay_its_own(tmp_path):
    """Recorded beside each other they lie from 320 on; alone they begin there."""
    samples = Samples(PixelFormat(8, "4:2:0"), "bt709", True)
    both = Healed(samples, (640, 240), ((10, 20, 2), (400, 50, 1)))
    assert both.sized((320, 240)).dots == ((10, 20, 2),) and both.sized((320, 240), 320).dots == ((80, 50, 1),)
    planes = tuple(np.full(s, 90, np.uint8) for s in ((240, 640), (120, 320), (120, 320)))
    planes[0][20, 10] = 250
    (mended, *_) = both.run([planes], 0)
    assert planes[0][20, 10] == 250 and mended[20, 10] == 90, "the decoder's own memory stays as it is"
    for name in ("left", "right"):
        _dotted(tmp_path / f"{name}.mp4", [np.full((240, 320), 90.0)] * 3, ())
    facts = join_files(str(tmp_path / "left.mp4"), str(tmp_path / "right.mp4"))
    route = Route().with_("read", eyes="side by side", first="left", projection="flat").with_("join", laid="beside")
    walked = walk(route.with_("develop", dots=[[10, 20, 2], [400, 50, 1]]), facts)
    assert [eye.input.prepares[0].dots for eye in walked.draft.pair.eyes] == [((10, 20, 2),), ((80, 50, 1),)]


def test_a_bright_thing_under_noise_that_nothing_passes_is_no_dot():
    """A plain sky, noise of three codes, one bright thing three pixels wide: nothing round it moves but noise, so nobody can tell."""
    rng = np.random.default_rng(2)
    sky = np.full((120, 160), 120.0, np.float32)
    sky[59:62, 79:82] += 60
    frames = [(sky + 3 * rng.standard_normal(sky.shape)).astype(np.float32) for _ in range(6)]
    assert found(frames, 219.0) == ()
    passing = [f.copy() for f in frames]
    for n, f in enumerate(passing):  # stripes that go by are another matter
        f += (20 * np.sign(np.sin((np.arange(160) - 13 * n) / 5))).astype(np.float32) * (np.abs(f - 120) < 30)
    assert [d[:2] for d in found(passing, 219.0)] == [(80, 60)]
