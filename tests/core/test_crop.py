"""Crops of flat footage that move, what must stay in them, and lenses that bend straight lines."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from adzer.core import cards
from adzer.core.light.samples import Samples
from adzer.core.media.formats import PixelFormat
from adzer.core.picture import Picture
from adzer.core.plan import Panel, Patch, Plan
from adzer.core.records import from_plain
from adzer.core.run.pixels import Processor
from adzer.core.run.warp import BOUND
from adzer.core.run.warp import grid as grid_of
from adzer.core.shape import cuts
from adzer.core.shape.geometry import inside
from adzer.core.shape.settings import ShapeSettings
from adzer.core.shape.step import cut_off, shaped
from adzer.core.space import crop
from adzer.core.space.crop import CropKey, CropPath, crops_at
from adzer.core.space.looks import CropLook
from adzer.core.space.path import Key, Sides, ViewPath, retimed
from adzer.core.space.sphere import PROJECTIONS, Flat

SHARE = st.floats(0, 1)
BENDS = ((), (-0.12,), (0.08, 0.02), (-0.2, 0.05))
FORM = PixelFormat(10, "4:2:0")


def paths():
    ease = st.sampled_from(("hold", "linear", "ease", "through", Sides(0.1, 0.7)))
    key = st.tuples(SHARE, SHARE, st.floats(1, 6), ease)
    return st.lists(key, min_size=1, max_size=5).map(
        lambda rows: CropPath(tuple(CropKey(1.5 * n, *row) for n, row in enumerate(rows)))
    )


@given(
    paths(),
    st.sampled_from(("web-upright", "web-square", "web-wide")),
    st.tuples(SHARE, SHARE, SHARE, SHARE).map(lambda k: (*np.minimum(k[:2], k[2:]), *np.maximum(k[:2], k[2:]))),
    st.sampled_from(((1440, 1080), (640, 480), (321, 1999))),
    st.floats(-0.1, 8),
)
def test_moving_crops_stay_inside_and_hold_what_must_stay_in(path, card, keep, raster, time):
    """Whatever the keys, the shape and the nudge: inside the recording, of the delivered shape, nothing kept that fits lost."""
    keep = tuple(float(v) for v in keep)
    asked = ShapeSettings(moves=path, keep=keep, squeeze=Fraction(8, 5), shape=Fraction(239, 100))
    made = shaped(Picture(raster), asked, cards.delivery(card))
    x, y, w, h = made.moving.crop(time)
    assert x >= 0 and y >= 0 and x + w <= raster[0] + 1e-6 and y + h <= raster[1] + 1e-6
    wide, high = made.fitted.picture
    assert wide % 2 == high % 2 == 0
    assert w * 1.6 / h == pytest.approx(made.framing.size[0] / made.framing.size[1], rel=2e-3)
    if (keep[2] - keep[0]) * raster[0] <= w and (keep[3] - keep[1]) * raster[1] <= h:
        assert x <= keep[0] * raster[0] + 1e-6 and x + w >= keep[2] * raster[0] - 1e-6
        assert y <= keep[1] * raster[1] + 1e-6 and y + h >= keep[3] * raster[1] - 1e-6
    assert 0 <= cut_off(asked, made, raster) <= 1


@given(st.floats(0, 100), st.floats(1, 100), st.floats(0, 90), st.floats(0, 10))
def test_a_crop_with_something_to_keep_is_as_near_to_its_centre_as_can_be(centre, part, low, more):
    """Against a search over every place."""
    keep = (low, min(low + more, 100.0))
    at = inside(centre, part, 100.0, keep)
    places = np.linspace(0, 100 - part, 4001)
    holds = places[(places <= keep[0] + 1e-9) & (places + part >= keep[1] - 1e-9)]
    if len(holds):
        assert abs(at + part / 2 - centre) <= np.abs(holds + part / 2 - centre).min() + 0.03


def _smooth(x, y, size, seed=3):
    rng = np.random.default_rng(seed)
    a, b, c, d = rng.uniform(6, 14, 4)
    return 0.5 + 0.35 * np.sin(a * x / size[0] + b * y / size[1]) * np.cos(c * x / size[0] - d * y / size[1])


def _painted(size, unbent):
    """10-bit 4:2:0 planes that hold a smooth picture at the straightened places of their samples."""
    planes = []
    for i in range(3):
        w, h = FORM.plane_size(size, i)
        k = 2 if i else 1
        x, y = np.meshgrid((np.arange(w) + 0.5) * k - (0.5 if i else 0), (np.arange(h) + 0.5) * k)
        planes.append(np.round(_smooth(*unbent(x, y), size, i) * 1023).astype(np.uint16))
    return tuple(planes)


def _unbent(lens):
    """By fixed point, knowing nothing of how the warp does it."""
    w, h = lens.size

    def back(x, y):
        half = np.hypot(w * lens.aspect, h) / 2
        u0, v0 = (x - w / 2) * lens.aspect / half, (y - h / 2) / half
        u, v = u0, v0
        for _ in range(60):
            square = u * u + v * v
            grown = 1 + sum(k * square ** (n + 1) for n, k in enumerate(lens.bend))
            u, v = u0 / grown, v0 / grown
        k = lens.enlarged
        return w / 2 + u / k * half / lens.aspect, h / 2 + v / k * half

    return back


@pytest.mark.parametrize("bend", BENDS)
def test_a_bent_lens_is_straightened_in_the_same_resample(bend):
    """The delivered picture is the straight one, to the code; nothing from outside the recording is needed."""
    lens = Flat((960, 720), 1.5, bend)
    path = CropPath((CropKey(0, 0.5, 0.5, 1.0), CropKey(2, 0.62, 0.4, 2.5, "linear")))
    look = CropLook((640, 270), lens, path, (900.0, 570.0))
    panel = Panel(look, (Patch(lens, (0, 0, *lens.size)),))
    target = Samples(PixelFormat(16, "4:4:4"), "bt709", True)
    planes = _painted(lens.size, _unbent(lens))
    for time in (0.0, 1.3):
        out = tuple(np.zeros((270, 640), np.uint16) for _ in range(3))
        with Processor(Plan.single(Samples(FORM, "bt709", True), lens.size, panel, None, target), 2) as processor:
            processor.run([planes], out, time)
        left, top, w, h = look.crop(time)
        x, y = np.meshgrid(left + (np.arange(640) + 0.5) * w / 640, top + (np.arange(270) + 0.5) * h / 270)
        for c in range(3):
            off = np.abs(out[c] / 64.0 - _smooth(x, y, lens.size, c) * 1023)
            assert off.max() < 3.0 and off.mean() < 0.5, (c, off.max(), off.mean())


@given(st.sampled_from(BENDS), paths(), st.floats(0, 6))
@settings(max_examples=30)
def test_the_grid_of_a_bent_lens_keeps_within_its_bound(bend, path, time):
    look = CropLook((320, 180), Flat((1440, 1080), 1.6, bend), path, (1400.0, 1000.0))
    panel = Panel(look, (Patch(look.lens, (0, 0, 1440, 1080)),))
    grid = grid_of(look, panel.patches[0], time)
    places = panel.recorded(np.arange(321.0)[None], np.arange(181.0)[:, None], time)
    back = look.lens.straightened(places)
    assert np.abs(look.lens.straight(back[..., 0], back[..., 1])[..., :2] - places).max() < 1e-3
    assert places.min() >= -1e-6 and places[..., 0].max() <= 1440 + 1e-6 and places[..., 1].max() <= 1080 + 1e-6
    x, y = np.meshgrid(np.arange(320) + 0.5, np.arange(180) + 0.5)
    g, r = (
        np.minimum((v // grid.step).astype(int), n - 2) for v, n in ((x, grid.nodes.shape[1]), (y, grid.nodes.shape[0]))
    )
    u, v = (x / grid.step - g)[..., None], (y / grid.step - r)[..., None]
    n = grid.nodes.astype(np.float64)
    drawn = (n[r, g] * (1 - u) + n[r, g + 1] * u) * (1 - v) + (n[r + 1, g] * (1 - u) + n[r + 1, g + 1] * u) * v
    span = max(1.0, look.crop(time)[2] / 320)
    assert np.abs(drawn - look.directions(x, y, time))[..., :2].max() <= BOUND * span + 2e-4


def test_a_still_crop_of_the_general_map_is_what_the_plain_one_delivers():
    asked = ShapeSettings(shape=Fraction(16, 9), centre=(0.3, 0.6), enlarged=1.25)
    card = cards.delivery("web-square")
    plain = shaped(Picture((960, 720)), asked, card)
    x, y, w, h = (float(v) for v in plain.framing.crop)
    keyed = replace(plain, panel=shaped(Picture((960, 720)), ShapeSettings(
        shape=Fraction(16, 9), moves=CropPath((CropKey(0, (x + w / 2) / 960, (y + h / 2) / 720, 1.25),))), card).panel)  # fmt: skip
    planes = _painted((960, 720), lambda x, y: (x, y))
    made = []
    for one in (plain, keyed):
        target = Samples(PixelFormat(10, "4:2:0"), "bt709", True)
        size = one.fitted.raster
        out = tuple(np.zeros(target.format.plane_size(size, i)[::-1], np.uint16) for i in range(3))
        with Processor(Plan.single(Samples(FORM, "bt709", True), (960, 720), one.panel, None, target), 2) as processor:
            processor.run([planes], out)
        made.append(out)
    for a, b in zip(*made, strict=True):
        assert np.abs(a.astype(int) - b).max() <= 2


def test_a_punch_in_takes_less_of_the_recording_for_the_same_raster():
    plain, closer = (
        shaped(Picture((1920, 1080)), ShapeSettings(shape=Fraction(16, 9), enlarged=e), cards.delivery("web-wide"))
        for e in (1.0, 1.2)
    )
    assert closer.fitted == plain.fitted
    assert closer.framing.crop[2] == plain.framing.crop[2] / Fraction(6, 5)
    assert closer.scale == (Fraction(5, 6), Fraction(5, 6))
    assert (closer.framing.crop[0], closer.framing.crop[1]) == (160, 90)


@given(st.floats(1, 4), st.floats(1, 4))
def test_the_smallest_step_that_reads_as_a_cut(before, now):
    one, other = ShapeSettings(enlarged=before), ShapeSettings(enlarged=now)
    factor = cuts.step(one, other, 0.0)
    ratio = max(now / before, before / now)
    assert (factor is None) == (ratio >= cuts.SMALLEST_CUT * 0.999)
    if factor is not None:
        made = msgspec.structs.replace(other, **cuts.enlarged(other, factor))
        assert max(made.enlarged / before, before / made.enlarged) == pytest.approx(cuts.SMALLEST_CUT, 1e-3)
        assert made.enlarged >= 1 and cuts.step(one, made, 0.0) is None


@given(
    st.sampled_from(sorted(PROJECTIONS)), st.floats(20, 130), st.floats(0.85, 1.15), st.floats(-20, 20), st.booleans()
)
def test_a_cut_between_views_is_seen_by_size_or_by_looking_elsewhere(name, fov, wider, turned, moving):
    def looking(heading, width):
        keys = (Key(0, heading, 0, 0, width), Key(8, heading + 30, 0, 0, width * 0.9))
        return ShapeSettings(view=ViewPath(projection=name, keys=keys if moving else keys[:1]))

    one, other = looking(10, fov), looking(10 + turned, fov * wider)
    factor = cuts.step(one, other, 0.0)
    if name == "straight":
        larger = np.tan(np.radians(fov / 2)) / np.tan(np.radians(fov * wider / 2))
        alike = max(larger, 1 / larger) < cuts.SMALLEST_CUT * 0.999
        assert (factor is not None) == (alike and abs(turned) < 0.5 * min(fov, fov * wider))
    if factor is not None:
        view = from_plain(cuts.enlarged(other, factor)["view"], ViewPath)
        made = msgspec.structs.replace(other, view=view)
        ratio = cuts.size(made, 0.0) / cuts.size(one, 0.0)
        assert max(ratio, 1 / ratio) == pytest.approx(cuts.SMALLEST_CUT, 2e-3) and cuts.step(one, made, 0.0) is None
        assert len(view.keys) == len(other.view.keys) and view.keys[0].heading == other.view.keys[0].heading
        grown = [cuts.size(s, 8.0) for s in (other, made)]
        assert grown[1] / grown[0] == pytest.approx(factor, 5e-3), "all of the take grows alike"


def test_a_crop_moves_evenly_and_what_strobes_is_told():
    path = CropPath((CropKey(0, 0.2, 0.5, 1.0, "linear"), CropKey(4, 0.8, 0.5, 4.0, "hold"), CropKey(6, 0.5, 0.5, 1.0)))
    at = crops_at(path, [2.0, 5.0, 9.0])
    assert at[0] == pytest.approx([0.5, 0.5, 2.0]) and at[1] == pytest.approx([0.8, 0.5, 4.0])
    assert at[2] == pytest.approx([0.5, 0.5, 1.0])
    found = crop.check_moves(path, (0.5, 1.0), 12.0, 25.0)
    assert [m.n for m in found] == [0] and found[0].needs > 4
    slow = CropPath(
        (path.keys[0], replace_t(path.keys[1], found[0].needs), replace_t(path.keys[2], found[0].needs + 2))
    )
    assert crop.check_moves(slow, (0.5, 1.0), 90.0, 25.0) == []
    assert retimed(path, 1, 9.0, 0.04).keys[1].t == pytest.approx(5.96)


def replace_t(key, t):
    return CropKey(t, key.x, key.y, key.enlarged, key.ease)


@pytest.mark.parametrize(
    "keys, word",
    [
        ((), "no keyframe"),
        ((CropKey(1.0), CropKey(1.0)), "1 and 2 are both at 1 s"),
        ((CropKey(2.0), CropKey(1.0)), "2 at 1 s comes after one at 2 s"),
        ((CropKey(9.0),), "outside the shot"),
        ((CropKey(float("nan")),), "not a number"),
    ],
)
def test_unusable_crops_get_a_sentence(keys, word):
    assert word in crop.trouble(CropPath(keys), 4.0)


def test_the_squeeze_of_a_card_goes_with_the_focus():
    card = cards.LensCard("test", 2.0, focus=((1.0, 1.8), (4.0, 1.95)))
    assert card.squeeze_at(None) == 2.0 and card.squeeze_at(1e9) == pytest.approx(2.0)
    assert card.squeeze_at(1.0) == card.squeeze_at(0.4) == pytest.approx(1.8)
    assert card.squeeze_at(2.0) == pytest.approx(1.8 + (1.95 - 1.8) * (1 - 0.5) / 0.75)


def test_the_command_line_takes_lens_card_moving_crop_and_speed(tmp_path, scope_clip):
    from typer.testing import CliRunner

    from adzer.cli.main import app
    from adzer.core.media import probe

    moves = tmp_path / "crop.json"
    moves.write_text('{"keys": [{"t": 0, "x": 0.4}, {"t": 0.4, "x": 0.6, "enlarged": 1.5, "ease": "hold"}]}')
    asked = ["convert", str(scope_clip), "--card", "web-wide", "--lens", "scope-160", "--shape", "2.39", "--curve", "fen-log",
             "--from", "10:14:22:00", "--to", "10:14:22:10", "--speed", "2"]  # fmt: skip
    out = tmp_path / "m.mp4"
    done = CliRunner().invoke(app, [*asked, "--moves", str(moves), "--out", str(out)])
    assert done.exit_code == 0, (done.output, done.exception)
    made = probe.probe(out)
    assert made.frames == 5 and made.raster == (1440, 810)
    moves.write_text('{"keys": [{"t": 2}, {"t": 1}]}')
    done = CliRunner().invoke(app, [*asked, "--moves", str(moves), "--out", str(tmp_path / "x.mp4")])
    assert "comes after one at 2 s" in str(done.exception) and not (tmp_path / "x.mp4").exists()
