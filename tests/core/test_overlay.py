"""What is laid over a delivery: by arithmetic on the masters' codes, with pictures written by another library."""

from __future__ import annotations

import numpy as np
import pytest
from skimage import io

from adzer.core import cards
from adzer.core.compile import compile_order, freeze, preview_plan
from adzer.core.deliver.measure import laid, told
from adzer.core.errors import AdzerError, Stopped, UnreadableError
from adzer.core.intake.take import read_file
from adzer.core.media.decode import Reader, opened
from adzer.core.records import to_plain
from adzer.core.route import Route, walk
from adzer.core.run.laying import as_delivered
from adzer.core.run.pixels import Processor
from adzer.core.run.render import render
from adzer.core.sim.demo import CLIPS

from ..foreign import photograph


@pytest.fixture
def badge(tmp_path):
    """A photograph 240 wide and 160 high, its cover rising from 0 on the left to 1 on the right; the right third is plain orange."""
    picture = photograph("coffee")[:160, :240].copy()
    picture[:, 160:] = (230, 120, 20)
    cover = np.clip(np.linspace(0, 1.5, 240), 0, 1)[None].repeat(160, 0)
    rgba = np.dstack([picture, np.rint(255 * cover).astype(np.uint8)])
    io.imsave(tmp_path / "badge.png", rgba, check_contrast=False)
    return tmp_path / "badge.png", rgba.astype(float) / 255


def masters(tmp_path, clip, *routes, card="archive", frames=12):
    facts, seen = read_file(clip)
    for n, route in enumerate(routes):
        out = tmp_path / f"{n}.mkv"
        render(freeze("x", facts, route, card, out, 0, frames, seen))
        with Reader(out) as reader:
            yield [tuple(f.cropped(i).astype(float) for i in range(3)) for f in reader.frames()]


def test_codes_are_those_of_the_arithmetic_and_nothing_else_is_touched(tmp_path, badge):
    file, rgba = badge
    w, h = 960, 540
    plain = Route().with_("read", curve="bt709")
    # Its middle at (400, 200) of 960 × 540, as large as it is; from 0.12 s to 0.32 s at 25 frames a second, coming and going in 0.08 s.
    over = laid(file, x=400 / w, y=200 / h, wide=240 / w, start=0.12, stop=0.32, fade=0.08)
    clip = CLIPS / "sails-ground.mov"
    bare, with_it = masters(tmp_path, clip, plain, plain.with_("deliver", over=[to_plain(over)]))
    assert bare[0][0].shape == (h, w)
    x, y = 400 - 120, 200 - 80
    r, g, b, cover = (rgba[..., i] for i in range(4))
    luma = 0.2126 * r + 0.7152 * g + 0.0722 * b  # BT.709-6, item 3.2
    code = 64 + 876 * luma  # item 4.4 with 10 bits
    for n, (before, after) in enumerate(zip(bare, with_it, strict=True)):
        shows = min(max((n / 25 - 0.12) / 0.08, 0), 1) * min(max((0.32 - n / 25) / 0.08, 0), 1)
        inside = np.zeros((h, w), bool)
        inside[y : y + 160, x : x + 240] = shows > 0
        assert np.array_equal(before[0][~inside], after[0][~inside])
        want = before[0][y : y + 160, x : x + 240] * (1 - shows * cover) + shows * cover * code
        assert np.abs(after[0][y : y + 160, x : x + 240] - want).max() <= 0.51 + 1e-3
        if shows == 1:
            sub = (after[1].shape[0] * 2 // h, after[1].shape[1] * 2 // w)
            down, across = 2 // sub[0], 2 // sub[1]
            blue, red = ((v[y // down + 10, (x + 200) // across]) for v in after[1:])
            level = float(luma[20, 200])
            assert blue == pytest.approx(512 + 896 * (b[20, 200] - level) / 1.8556, abs=1)
            assert red == pytest.approx(512 + 896 * (r[20, 200] - level) / 1.5748, abs=1)
            assert after[0][y + 20, x + 200] == pytest.approx(code[20, 200], abs=1)


def test_both_eyes_get_it_and_the_left_one_sees_it_further_right(tmp_path):
    bar = np.zeros((40, 40, 4), np.uint8)
    bar[...] = 255
    io.imsave(tmp_path / "bar.png", bar, check_contrast=False)
    facts, seen = read_file(CLIPS / "cartwheel-eyes.mp4")
    for first, sign in (("left", 1), ("right", -1)):
        route = Route().with_("read", curve="bt709", eyes="side by side", first=first)
        over = [to_plain(laid(tmp_path / "bar.png", x=0.4, y=0.5, wide=0.1, nearer=2.0))]
        route = route.with_("deliver", over=over)
        walked = walk(route, facts, seen, cards.delivery("archive"))
        plan = walked.draft.frozen()
        with opened(facts.sources) as reader, Processor(plan) as made, Processor(walked.draft.with_(overlays=()).frozen()) as bare:
            codes = []
            for processor in (made, bare):
                sizes = [plan.target.format.plane_size(plan.raster, i) for i in range(3)]
                planes = tuple(np.zeros((h, w), plan.target.format.dtype) for w, h in sizes)
                processor.run([reader.frame(0).planes], planes, 0.0)
                codes.append(planes[0].astype(int))
        changed = codes[0] != codes[1]
        eye = plan.raster[0] // 2
        places = [float(np.nonzero(part.any(axis=0))[0].mean()) for part in (changed[:, :eye], changed[:, eye:])]
        assert places[0] - places[1] == pytest.approx(sign * 0.02 * eye, abs=2.1)
        assert np.mean(places) == pytest.approx(0.4 * eye, abs=2)
    unknown = Route().with_("read", curve="bt709", eyes="side by side").with_("deliver", over=over)
    found = {f.code for f in walk(unknown, facts, None, cards.delivery("archive")).findings}
    assert "overlay-eyes-unknown" in found


def test_white_lies_where_the_standard_puts_it():
    """BT.2408-7, table 1: 203 nits are 58 % of PQ and white is 75 % of HLG; a grey keeps its place between."""
    white = np.ones((1, 3), np.float32)
    assert as_delivered(white, "bt709", "bt709") == pytest.approx(white)
    assert as_delivered(white, "pq", "bt2020") == pytest.approx(0.5807, abs=5e-4)
    assert as_delivered(white, "hlg", "bt2020") == pytest.approx(0.75, abs=1e-3)
    nits = 203 * 0.21404  # of 0.5 in IEC 61966-2-1
    n = 0.1593017578125
    want = ((0.8359375 + 18.8515625 * (nits / 1e4) ** n) / (1 + 18.6875 * (nits / 1e4) ** n)) ** 78.84375
    assert as_delivered(white / 2, "pq", "bt2020") == pytest.approx(want, abs=1e-4)


def test_a_preview_shows_the_same_smaller(tmp_path, badge):
    file, _ = badge
    facts, seen = read_file(CLIPS / "sails-ground.mov")
    route = Route().with_("read", curve="bt709").with_("deliver", over=[to_plain(laid(file, x=0.5, y=0.5, wide=0.5))])
    walked = walk(route, facts, seen, cards.delivery("web-wide"))
    small = preview_plan(walked, 480, 270)
    (box,), (whole,) = small.overlays[0].boxes, walked.draft.overlays[0].boxes
    assert np.array(box) * walked.draft.raster[0] / small.raster[0] == pytest.approx(np.array(whole))
    pictures = []
    for plan in (small, small.at_size(240, 136)):
        planes = tuple(np.zeros(plan.raster[::-1], plan.target.format.dtype) for _ in range(3))
        with opened(facts.sources) as reader, Processor(plan) as processor:
            processor.run([reader.frame(0).planes], planes, 1.0)
        pictures.append(planes[0].astype(float))
    h = pictures[1].shape[0]
    large = pictures[0][: 2 * h].reshape(h, 2, 240, 2).mean(axis=(1, 3))
    assert np.median(np.abs(large - pictures[1])) < 6 and np.corrcoef(large.ravel(), pictures[1].ravel())[0, 1] > 0.96


def test_what_is_gone_changed_or_no_picture_is_said(tmp_path, badge):
    file, _ = badge
    facts, seen = read_file(CLIPS / "sails-ground.mov")
    route = Route().with_("read", curve="bt709").with_("deliver", over=[to_plain(told(f"{file},x=0.2,from=0.1,nearer=0.3"))])
    assert (route.deliver.over[0].x, route.deliver.over[0].start, route.deliver.over[0].nearer) == (0.2, 0.1, 0.3)
    order = freeze("x", facts, route, "archive", tmp_path / "x.mkv", 0, 4, seen)
    file.write_bytes((tmp_path / "badge.png").read_bytes() + b" ")
    with pytest.raises(UnreadableError, match=r"badge.png has changed"):
        render(order)
    assert compile_order(order).pixels.overlays and not (tmp_path / "x.mkv").exists()
    file.unlink()
    with pytest.raises(Stopped, match=r"badge.png, which is laid over it, is not there"):
        freeze("x", facts, route, "archive", tmp_path / "x.mkv", 0, 4, seen)
    fix = next(f.fix for f in walk(route, facts, seen).findings if f.code == "overlay-missing")
    assert route.mended(fix).deliver.over == ()
    (tmp_path / "no.png").write_bytes(b"\x89PNG\r\n\x1a\nno")
    for text, words in ((f"{tmp_path}/no.png", "not a picture"), (f"{tmp_path}/gone.png", "is not there")):
        with pytest.raises(AdzerError, match=words):
            told(text)
    with pytest.raises(AdzerError, match="What is laid over"):
        told(f"{CLIPS}/sails-ground.mov,x=5")
    for wrong in ("a.png,y", "a.png,z=1", "a.png,x=left"):
        with pytest.raises(AdzerError, match="NAME=NUMBER"):
            told(wrong)
