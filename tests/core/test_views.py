"""Views of spheres and round lenses: geometry against the simulated world, pixels against what the sphere holds."""

from __future__ import annotations

import json
import math
import os
from dataclasses import replace
from fractions import Fraction

import av
import msgspec
import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from scipy.ndimage import gaussian_filter, zoom

from adzer.core.errors import AdzerError
from adzer.core.intake.take import read_file
from adzer.core.light.samples import Samples
from adzer.core.media import probe
from adzer.core.media.formats import PixelFormat
from adzer.core.plan import Panel, Patch, Plan
from adzer.core.route import Route, walk
from adzer.core.run.filters import simple_reduction
from adzer.core.run.pixels import Processor
from adzer.core.run.warp import BOUND
from adzer.core.run.warp import grid as grid_of
from adzer.core.shape import measure
from adzer.core.shape.view import filled_from, left, pace
from adzer.core.sim import camera as cameras
from adzer.core.sim.camera import Camera, Pose
from adzer.core.sim.demo import CLIPS
from adzer.core.sim.optics import Disc, RoundLens
from adzer.core.space import path, sphere
from adzer.core.space.level import level_through
from adzer.core.space.looks import ViewLook
from adzer.core.space.path import Key, Sides, ViewPath
from adzer.core.space.sphere import Equirect, Lens, Round

from ..foreign import photograph

ANGLES = st.tuples(st.floats(-180, 180), st.floats(-89, 89), st.floats(-179, 179))
KINDS = tuple(sphere.PROJECTIONS)


def panel_of(lens, key=None, size=(96, 54), projection="straight", keys=(), fov=90.0, amount=1.0):
    held = ViewPath(projection, tuple(keys) or (key or Key(fov=fov),), amount)
    return Panel(ViewLook(size, held, (1.0, size[1] / size[0])), (Patch(lens, (0, 0, *lens.size)),))


@given(ANGLES)
def test_orientations_agree_with_the_simulated_camera(angles):
    heading, tilt, roll = angles
    turn = sphere.rotation(heading, tilt, roll)
    assert np.allclose(turn, Pose(heading=heading, tilt=tilt, roll=roll).rotation(), atol=1e-12)
    assert np.allclose(np.array(sphere.angles(turn)), np.array(angles), atol=1e-6)


@given(st.sampled_from(KINDS), st.floats(5, 340), st.floats(0, 1), st.integers(0, 9))
def test_projections_are_undone_and_show_their_field_of_view(kind, fov, amount, seed):
    assume(fov <= sphere.PROJECTIONS[kind].widest(amount))
    x, y = np.random.default_rng(seed).uniform(-1, 1, (2, 50)) * 0.7
    d = sphere.view_directions(kind, fov, amount, x, y)
    back = sphere.view_places(kind, fov, amount, d * 3)
    assert np.allclose(back[0], x, atol=1e-9) and np.allclose(back[1], y, atol=1e-9)
    if kind != "planet":
        edge = sphere.view_directions(kind, fov, amount, np.array([1.0]), np.array([0.0]))
        assert sphere.between(edge, np.array([[0.0, 1.0, 0.0]]))[0] == pytest.approx(fov / 2, abs=1e-6)


@pytest.mark.parametrize("lens_pair", [False, True])
@given(view=ANGLES, seed=st.integers(0, 99))
@settings(max_examples=25)
def test_known_things_of_the_world_land_where_they_are_recorded(lens_pair, view, seed):
    """A world point's place through a flat camera, sent through the warp, is its place in the recording."""
    recorder = cameras.load("sphere").recorder
    at = Pose(place=(0.4, 2.0, 2.1), heading=20.0, tilt=3.0, roll=-2.0)
    if lens_pair:
        discs = (Disc(0.5, 0.5, 0.48), Disc(1.5, 0.5, 0.48, facing=180.0))
        recorded = RoundLens("pair", (1280, 640), Fraction(25), recorder, "mp4", 200.0, pose=lambda _: at, discs=discs)
        lens = Round((1280, 640), tuple(Lens(640 * d.x, 320, 640 * d.radius, 200.0, d.facing) for d in discs))
    else:
        recorded = replace(cameras.load("sphere"), raster=(1536, 768), pose=lambda _: at)
        lens = Equirect((1536, 768))
    turn = at.rotation() @ sphere.rotation(*view)
    heading, tilt, roll = (float(v) for v in sphere.angles(turn))
    flat = Camera(
        "flat",
        (640, 360),
        Fraction(25),
        recorder,
        "mp4",
        80.0,
        pose=lambda _: replace(at, heading=heading, tilt=tilt, roll=roll),
    )
    rng = np.random.default_rng(seed)
    local = np.column_stack([rng.uniform(-0.8, 0.8, 30), np.ones(30), rng.uniform(-0.45, 0.45, 30)]) * rng.uniform(
        2, 90, (30, 1)
    )
    points = local @ turn.T + np.array(at.place)
    place = flat.project(points, 0.0)
    panel = panel_of(lens, Key(0.0, *view, 80.0), (640, 360))
    found, truth = panel.recorded(place[:, 0], place[:, 1], 0.0), recorded.project(points, 0.0)
    if lens_pair:  # where both lenses see it alike, either may be taken
        clear = np.abs(sphere.heading_tilt((points - np.array(at.place)) @ at.rotation())[0]) % 180
        found, truth = (v[np.abs(clear - 90) > 1] for v in (found, truth))
    off = np.abs(found - truth)
    off[:, 0] = np.minimum(off[:, 0], np.abs(lens.size[0] - off[:, 0]))
    assert off.max(initial=0) < 0.05


@given(
    st.sampled_from(KINDS),
    ANGLES,
    st.floats(20, 320),
    st.sampled_from(((192, 108), (108, 192), (640, 360))),
    st.booleans(),
)
@settings(max_examples=60)
def test_the_coarse_grid_keeps_within_its_bound(kind, view, fov, size, round_):
    fov = min(
        fov, sphere.PROJECTIONS[kind].widest(1.0) - 5, 170.0 if kind == "equidistant" else 360.0
    )  # else it goes round twice
    lens = Round((960, 960), (Lens(480, 480, 470, 200.0, 0.0, (0.03, -0.01)),)) if round_ else Equirect((1920, 960))
    panel = panel_of(lens, Key(0.0, *view, fov), size, kind)
    grid = grid_of(panel.look, panel.patches[0], 0.0)
    rng = np.random.default_rng(1)
    x, y = rng.uniform(0, size[0], 400), rng.uniform(0, size[1], 400)
    g, r = (
        np.minimum((x // grid.step).astype(int), grid.nodes.shape[1] - 2),
        np.minimum((y // grid.step).astype(int), grid.nodes.shape[0] - 2),
    )
    u, v = (x / grid.step - g)[:, None], (y / grid.step - r)[:, None]
    n = grid.nodes.astype(np.float64)
    d = (n[r, g] * (1 - u) + n[r, g + 1] * u) * (1 - v) + (n[r + 1, g] * (1 - u) + n[r + 1, g + 1] * u) * v
    exact = panel.directions(x, y, 0.0)
    step = np.linalg.norm(
        panel.directions(x + 0.5, y, 0.0) - panel.directions(x - 0.5, y, 0.0), axis=-1
    ) / np.linalg.norm(exact, axis=-1)
    span = step * lens.density
    off = np.radians(sphere.between(d, exact)) * lens.density / np.maximum(span, 1.0)
    assert off.max() <= BOUND


def _painted(form, size, normals, lens, siting="left"):
    """Planes whose codes are a smooth function of direction, each plane its own, sampled where the plane's samples lie."""
    top = 1 << form.bits
    planes = []
    for i in range(3):
        w, h = form.plane_size(size, i)
        sx, sy = form.sub if i else (1, 1)
        x, y = np.meshgrid((np.arange(w) + 0.5) * sx, (np.arange(h) + 0.5) * sy)
        if i and sx > 1 and siting in ("left", "topleft"):
            x -= 0.5
        if i and sy > 1 and siting == "topleft":
            y -= 0.5
        planes.append(np.round(_hue(lens.direction(np.stack([x, y], -1)), normals[i]) * top).astype(form.dtype))
    return tuple(planes)


def _hue(d, normal):
    return 0.5 + 0.35 * np.sin(2.0 * (d / np.linalg.norm(d, axis=-1, keepdims=True)) @ normal)


@pytest.mark.parametrize(
    "bits, chroma, siting",
    [(8, "4:2:0", "left"), (10, "4:2:2", "left"), (10, "4:2:0", "topleft"), (16, "4:4:4", "left")],
)
@pytest.mark.parametrize(
    "lens",
    [
        Equirect((720, 360)),
        Equirect((360, 360), 180.0),
        Round((720, 360), (Lens(180, 180, 172, 210.0), Lens(540, 180, 172, 210.0, 180.0))),
    ],
)
@pytest.mark.parametrize("view", [Key(0, 20, 10, 5, 90), Key(0, 175, -70, 30, 120), Key(0, -95, 88, 0, 60)])
def test_delivered_pixels_are_what_lies_in_their_direction(bits, chroma, siting, lens, view):
    """Across the seam, over the poles, from lens to lens: every pixel holds what the sphere holds there, chroma siting and all."""
    rng = np.random.default_rng(5)
    normals = rng.normal(size=(3, 3))
    form = PixelFormat(bits, chroma)
    panel = panel_of(lens, view, (160, 90))
    target = Samples(PixelFormat(16, "4:4:4"), "bt709", True)
    source = Samples(form, "bt709", True, siting)
    out = tuple(np.zeros((90, 160), np.uint16) for _ in range(3))
    with Processor(Plan.single(source, lens.size, panel, None, target), 2) as processor:
        processor.run([_painted(form, lens.size, normals, lens, siting)], out)
    x, y = np.meshgrid(np.arange(160) + 0.5, np.arange(90) + 0.5)
    d = panel.directions(x, y, 0.0)
    # Seams between lenses are left out: a smooth function there is smooth on the sphere, not in the two discs.
    sure = lens.margin(d) > 4
    if isinstance(lens, Round):
        sure &= np.abs(sphere.heading_tilt(d)[0] % 180 - 90) > 12
        sure &= np.abs(sphere.heading_tilt(d)[1]) < 75
    assert sure.mean() > 0.15 or lens.size == (360, 360) or isinstance(lens, Round)
    unit = 1 << (16 - bits)
    for c in range(3):
        off = np.abs(out[c] / unit - _hue(d, normals[c]) * (1 << bits))[sure]
        assert off.max(initial=0) < 1.5 + 0.002 * (1 << bits), (c, off.max())
    outside = lens.margin(d) < -1.5
    assert all(
        np.all(np.abs(out[c][outside].astype(int) - (black << 8)) <= 1) for c, black in enumerate((16, 128, 128))
    )


def test_a_zone_plate_does_not_alias_when_it_is_reduced():
    """Fine rings vanish into grey instead of coming back as false ones; coarse ones stay."""
    size, out_size = (2048, 1024), (128, 72)
    lens = Equirect(size)
    x, y = np.meshgrid(np.arange(size[0]) + 0.5, np.arange(size[1]) + 0.5)
    d = lens.direction(np.stack([x, y], -1))
    r = np.radians(sphere.between(d, np.broadcast_to(np.array([0.0, 1.0, 0.0]), d.shape)))
    k = 520.0  # phase k·r²: 2·k·r radians a radian
    luma = np.round(512 + 400 * np.cos(k * r**2)).astype(np.uint16)
    grey = np.full((512, 1024), 512, np.uint16)
    panel = panel_of(lens, Key(fov=90), out_size)
    source, target = Samples(PixelFormat(10, "4:2:0"), "bt709", True), Samples(PixelFormat(16, "4:4:4"), "bt709", True)
    planes = tuple(np.zeros(out_size[::-1], np.uint16) for _ in range(3))
    with Processor(Plan.single(source, size, panel, None, target), 2) as processor:
        processor.run([(luma, grey, grey)], planes)
    got = planes[0] / 64.0 - 512
    u, v = np.meshgrid(np.arange(out_size[0]) + 0.5, np.arange(out_size[1]) + 0.5)
    away = panel.directions(u, v, 0.0)
    angle = np.radians(sphere.between(away, np.broadcast_to(np.array([0.0, 1.0, 0.0]), away.shape)))
    cycles = 2 * k * angle / (2 * np.pi) * (2 / out_size[0]) * np.cos(angle) ** 2  # a delivered pixel, along the radius
    assert np.abs(got[cycles > 0.85]).max() < 400 * 0.08 and (cycles > 0.85).sum() > 300
    assert np.abs(got[(cycles > 0.02) & (cycles < 0.2)]).max() > 400 * 0.85


@pytest.mark.parametrize("heading", [10.0, 175.0])
def test_chroma_that_is_delivered_at_half_is_what_all_of_it_comes_to(heading):
    """Sampled at every second pixel, over the seam too, it is the same as every pixel's brought to half afterwards."""
    size, out_size = (2048, 1024), (640, 360)
    lens = Equirect(size)
    x, y = np.meshgrid(np.arange(size[0] // 2) * 2 + 0.5, np.arange(size[1] // 2) * 2 + 1.0)  # on the left of each pair
    around, up = (np.radians(v) for v in sphere.heading_tilt(lens.direction(np.stack([x, y], -1))))
    chroma = [np.round(512 + 300 * np.sin(k * around) * np.cos(up) ** 2).astype(np.uint16) for k in (7, 9)]
    luma = np.full(size[::-1], 600, np.uint16)
    panel = panel_of(lens, Key(heading=heading, fov=110), out_size)
    assert grid_of(panel.look, panel.patches[0], 0.0, (2, 2), True).sparse and not grid_of(panel.look, panel.patches[0], 0.0, (2, 2), False).sparse
    source, made = Samples(PixelFormat(10, "4:2:0"), "bt709", True), []
    for form in (PixelFormat(16, "4:2:0"), PixelFormat(16, "4:4:4")):
        target = Samples(form, "bt709", True)
        planes = tuple(np.zeros(form.plane_size(out_size, i)[::-1], np.uint16) for i in range(3))
        with Processor(Plan.single(source, size, panel, None, target), 2) as processor:
            processor.run([(luma, *chroma)], planes)
        made.append(planes)
    columns, rows = simple_reduction(320, 2, True, 640), simple_reduction(180, 2, False, 360)
    for half, whole in zip(made[0][1:], made[1][1:], strict=True):
        across = (whole[:, columns.start[:, None] + np.arange(3)] * columns.weights[:, :3]).sum(-1)
        want = (across[rows.start[:, None] + np.arange(4)] * rows.weights[:, :4, None]).sum(1)
        assert np.abs(half - want)[1:-1, 1:-1].max() / 64 < 1.0 and np.ptp(want) / 64 > 300


# ---- paths -----------------------------------------------------------------------------------------------------------


def test_a_move_takes_the_shortest_arc_and_eases_at_both_ends():
    keys = (Key(1.0, 170, 0, 0, 90), Key(3.0, -170, 10, 0, 60))
    turns, fovs = path.views_at(ViewPath(keys=keys), np.linspace(0, 4, 401))
    heading, tilt, _ = sphere.angles(turns)
    assert np.all(np.abs(heading[:101] - 170) < 1e-9) and np.all(np.abs(heading[-100:] + 170) < 1e-9)
    assert np.all((heading > 169.9) | (heading < -169.9)) and abs(tilt[200] - 5) < 0.2
    assert fovs[0] == 90 and fovs[-1] == pytest.approx(60) and np.all(np.diff(fovs) <= 1e-12)
    step = sphere.between(turns[:-1, :, 1], turns[1:, :, 1])
    assert step[101] < 0.02 < step[200] and step[298] < 0.02  # gathers speed and loses it
    assert np.abs(np.diff(step)).max() < 0.01  # and never jerks


@given(st.floats(0, 1), st.floats(0, 1))
def test_easing_goes_from_nothing_to_all_without_turning_back(start, end):
    s = np.linspace(0, 1, 301)
    way = path.eased(s, start, end)
    assert way[0] == pytest.approx(0, abs=1e-9) and way[-1] == pytest.approx(1, abs=1e-9)
    assert np.all(np.diff(way) >= -1e-9)
    if start > 0.1:
        assert way[1] < 1 / 300  # slower than even at the start


def test_hold_cuts_and_through_does_not_stop():
    keys = (
        Key(0, 0, 0, 0, 90, "hold"),
        Key(1, 90, 0, 0, 90, "through"),
        Key(2, 120, 5, 0, 90, "through"),
        Key(3, 150, 0, 0, 80),
    )
    held = ViewPath(keys=keys)
    turns, _ = path.views_at(held, [0.0, 0.999, 1.0, 2.0, 3.0])
    assert np.allclose(sphere.angles(turns)[0], [0, 0, 90, 120, 150])
    moved, _ = path.views_at(held, [1.98, 2.0, 2.02])
    before, after = sphere.between(moved[0, :, 1], moved[1, :, 1]), sphere.between(moved[1, :, 1], moved[2, :, 1])
    assert before == pytest.approx(after, rel=0.05) and before > 0.3
    assert pace(held, 0, 3, 25).speed.max() < 60  # the cut is no move
    key = path.key_at(held, 1.5)
    with_it = path.with_key(held, key)
    assert len(with_it.keys) == 5 and path.without_key(with_it, 1.5) == held
    assert path.without_key(ViewPath(), 0.0) == ViewPath()  # the last one stays


@pytest.mark.parametrize(
    "change, word",
    [
        ([Key(1), Key(0.5)], "order of time"),
        ([Key(1), Key(1)], "both at 1 s"),
        ([Key(0, math.nan)], "usable number"),
        ([Key(0), Key(9)], "outside the shot"),
        ([Key(fov=0)], "field of view of 0°"),
        ([Key(fov=180)], "Take another projection"),
        ([Key(fov=360)], "360°"),
        ([Key(tilt=91)], "tilt of 91°"),
        ([], "no keyframe"),
    ],
)
def test_unusable_paths_get_a_sentence(change, word):
    problem = path.trouble(ViewPath(keys=tuple(change)), 5.0)
    assert problem is not None and word in problem


def test_keyframes_are_read_from_json():
    text = '{"projection": "compromise", "amount": 0.5, "keys": [{"t": 0, "heading": 5, "fov": 120, "ease": {"start": 0.2, "end": 0.6}}, {"t": 2.5}]}'
    held = path.load(text, "x.json")
    assert held.keys[0].ease == Sides(0.2, 0.6) and held.keys[1].fov == 90 and held.amount == 0.5
    for broken in (
        "{",
        "[]",
        '{"keys": [{"t": "soon"}]}',
        '{"keys": [{"t": 0, "ease": "fast"}]}',
        '{"keys": [{"t": 2}, {"t": 1}]}',
    ):
        with pytest.raises(AdzerError, match="x.json"):
            path.load(broken, "x.json")
    assert msgspec.json.decode(msgspec.json.encode(held.keys), type=tuple[Key, ...]) == held.keys


def test_what_is_left_of_a_sphere_is_told():
    """A sphere 7680 across leaves about 2100 pixels of a 100° view, a little more in its middle by the tangent's stretch."""
    wide = left(panel_of(Equirect((7680, 3840)), Key(fov=100), (3840, 2160)), 0, 1)
    assert wide.middle == pytest.approx(7680 / (2 * np.pi) * 2 * np.tan(np.radians(50)) / 3840, rel=0.01)
    assert wide.least == pytest.approx(wide.middle * np.cos(np.radians(50)) ** 1.5, rel=0.2) and wide.bare == 0
    assert 2800 < wide.worth[0] < 2930
    half = left(panel_of(Equirect((2000, 2000), 180.0), Key(heading=80, fov=90), (640, 360)), 0, 1)
    assert 0.3 < half.bare < 0.6


def test_the_width_from_which_a_raster_is_filled_is_that_of_the_formula():
    """On the horizon a straight view has W/2π · 2·tan(fov/2)/w recorded pixels behind each of its own in the middle."""
    panel = panel_of(Equirect((7680, 3840)), Key(fov=60), (1920, 1080))
    for width in (1280, 1920, 3840):
        found = filled_from(panel, Key(heading=20, fov=60), width)
        assert found == pytest.approx(2 * math.degrees(math.atan(width * math.pi / 7680)), abs=0.05)
    assert filled_from(panel_of(Equirect((960, 480)), Key(fov=60), (1920, 1080)), Key(), 3840) is None


def test_the_horizon_is_levelled_by_two_marks_on_it():
    lean = sphere.rotation(0, 7.0, -4.0)
    marks = [sphere.direction(h, 0.0) @ lean for h in (10.0, 130.0)]
    tilt, roll = level_through(marks[0], marks[1])
    assert all(abs(sphere.heading_tilt(m @ sphere.rotation(0.0, tilt, roll))[1]) < 1e-6 for m in marks)
    with pytest.raises(AdzerError, match="less than 5°"):
        level_through(marks[0], marks[0])


# ---- squeeze -----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("squeeze", ["1.33", "1.6", "2"])
def test_the_squeeze_is_measured_on_the_cartwheel(tmp_path, squeeze):
    camera = replace(
        cameras.load("scope-lens"), squeeze=Fraction(squeeze), raster=(720, 540), sound=False,
        pose=lambda _: Pose(place=(4.1, 7.0, 1.3), roll=0.4),
    )  # fmt: skip
    clip = tmp_path / "wheel.mov"
    truth = json.loads(cameras.shoot(camera, 1, clip).read_text())
    rim = np.array(truth["wheel_rim"])
    centre, half = rim.mean(axis=0), np.ptp(rim, axis=0) / 2
    facts, _ = read_file(clip)
    rough = measure.Ellipse(centre[0] + 3, centre[1] - 2, half[0] * 1.06, half[1] * 0.96)
    found = measure.measure_squeeze(facts, [rough])
    assert found.squeeze == pytest.approx(float(Fraction(squeeze)), rel=0.005)
    assert 0 < found.error < 0.02 and abs(found.squeeze - float(Fraction(squeeze))) < 4 * found.error
    both = measure.measure_squeeze(facts, [rough, measure.Lengths(half[0], half[1], 1.0, 1.0)])
    assert both.squeeze == pytest.approx(float(Fraction(squeeze)), rel=0.005) and len(both.each) == 2


def _laid_over(photo: str, squeeze: float, seed: int):
    """A round thing drawn three times finer over a photograph, then squeezed: luma, its centre, its half axes."""
    w, h, fine, rng = 480, 360, 3, np.random.default_rng(seed)
    y, x = (np.mgrid[0 : h * fine, 0 : w * fine] + 0.5) / fine
    (cx, cy), b = (rng.uniform(180, 300), rng.uniform(140, 220)), rng.uniform(55, 80)
    u, v = (x - cx) / (b / squeeze), (y - cy) / b
    r, turn = np.hypot(u, v), np.arctan2(v, u) / (2 * np.pi)
    wall = photograph(photo).astype(float).mean(axis=-1)
    out = zoom(wall, (h * fine / wall.shape[0], w * fine / wall.shape[1]), order=1)[: h * fine, : w * fine]
    if photo == "brick":  # a wheel with spokes, the wall between them
        out[((r < 1) & (r > 0.86)) | ((np.abs((turn * 10 + 0.2) % 1 - 0.5) < 0.06) & (r < 0.9)) | (r < 0.15)] = 40
    elif photo == "grass":  # a plate with a ring
        out[r < 1] = 215
        out[(r < 0.8) & (r > 0.76)] = 120
    elif photo == "astronaut":  # a dial
        out[r < 1] = 30
        out[r < 0.9] = 230
        out[(np.abs(turn * 12 % 1 - 0.5) < 0.05) & (r > 0.7) & (r < 0.85)] = 20
        out[(np.abs(u) < 0.03) & (v < 0) & (v > -0.7)] = 10
    else:  # a barrel's end, lit from a side, a plank across it
        out[r < 1] = (120 + 60 * u)[r < 1]
        out[(r < 1) & (r > 0.93)] = 50
        out[(np.abs(u + 0.3 * v) < 0.08) & (r < 1.4)] = 150
    seen = gaussian_filter(out.reshape(h, fine, w, fine).mean(axis=(1, 3)), 0.6)
    return seen + rng.normal(0, 1.5, seen.shape), (cx, cy), (b / squeeze, b), rng


@pytest.mark.parametrize("photo", ["brick", "astronaut", "coins"])
def test_a_loose_box_around_a_round_thing_is_measured_within_what_it_says_or_refused(photo):
    known = 0
    for seed, squeeze in enumerate((1.33, 1.6, 2.0)):
        luma, centre, half, rng = _laid_over(photo, squeeze, seed)
        left, right, top, bottom = 1 + rng.uniform(-0.25, 0.25, 4)
        box = measure.Ellipse(
            centre[0] + half[0] * (right - left) / 2, centre[1] + half[1] * (bottom - top) / 2,
            half[0] * (left + right) / 2, half[1] * (top + bottom) / 2,
        )  # fmt: skip
        try:
            found, error, _ = measure.found_round(luma, box)
        except AdzerError as refused:
            assert "round thing" in str(refused)
            continue
        known += 1
        assert abs(math.log(found.half_height / found.half_width / squeeze)) <= 2 * error < 0.06
    assert known >= 2
    with pytest.raises(AdzerError, match="round thing"):
        measure.found_round(photograph(photo).astype(float).mean(axis=-1)[:250, :250], measure.Ellipse(120, 120, 60, 80))


def test_marks_that_cannot_be_are_refused(tmp_path):
    clip = tmp_path / "wheel.mov"
    cameras.shoot(replace(cameras.load("scope-lens"), raster=(720, 540), sound=False), 1, clip, samples=1)
    facts, _ = read_file(clip)
    for mark, word in (
        (None, "Nothing is outlined"),
        (measure.Ellipse(100, 100, 40, 0), "a line or a dot"),
        (measure.Ellipse(100, 100, 90, 5), "so thin"),
        (measure.Ellipse(900, 100, 30, 30), "outside the picture"),
        (measure.Ellipse(math.nan, 100, 30, 30), "not a number"),
        (measure.Lengths(10, 10, 0, 1), "more than nothing"),
    ):
        with pytest.raises(AdzerError, match=word):
            measure.measure_squeeze(facts, [mark] if mark else [])


# ---- from file to file ---------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def round_clip(tmp_path_factory):
    clip = tmp_path_factory.mktemp("sphere") / "round.mp4"
    camera = replace(
        cameras.load("sphere"), raster=(768, 384), sound=False, pose=lambda t: Pose(place=(0.4, 2.0, 2.1), heading=20.0)
    )
    cameras.shoot(camera, 6, clip, samples=3)
    return clip


def run_cli(*args):
    from typer.testing import CliRunner

    from adzer.cli.main import app

    return CliRunner().invoke(app, [str(a) for a in args])


def test_reframe_delivers_the_world_seen_through_the_view(round_clip, tmp_path):
    """Straight lines, a moving view and a narrow shape: each nearer to the world rendered directly than 26 dB."""
    keys = tmp_path / "keys.json"
    keys.write_text(
        json.dumps(
            {
                "keys": [
                    {"t": 0, "heading": -30, "tilt": 4, "fov": 70, "ease": "linear"},
                    {"t": 0.2, "heading": -10, "tilt": 4, "fov": 70},
                ]
            }
        )
    )
    for args, size, frame, heading, fov in (
        (("--view", "-12,4,0,80"), (256, 144), 3, -12.0, 80.0),
        (("--keyframes", keys), (144, 180), 5, -10.0, 70.0),
    ):
        out = tmp_path / f"{size[0]}.mp4"
        done = run_cli(
            "reframe", round_clip, *args, "--size", f"{size[0]}x{size[1]}", "--card", "web-wide", "--out", out,
            "--projection", "equirectangular",
        )  # fmt: skip
        assert done.exit_code == 0, done.output
        with av.open(str(out)) as made:
            pictures = [f.to_ndarray(format="gray") for f in made.decode(video=0)]
        assert len(pictures) == 6 and pictures[0].shape == size[::-1]
        assert decibels(pictures[frame], frame / 25, heading, 4.0, fov) > 26


def decibels(picture, time, heading, tilt, fov, lean=20.0):
    """How near a delivered picture is to the world rendered straight through its view, without any noise."""
    flat = Camera("flat", picture.shape[::-1], Fraction(25), cameras.load("sphere").recorder, "mp4", fov,
                  pose=lambda _: Pose(place=(0.4, 2.0, 2.1), heading=lean + heading, tilt=tilt))  # fmt: skip
    truth = cameras.record(replace(flat, recorder=replace(flat.recorder, full_well=1e7)), flat.light(time, 4), 0)[0]
    got = picture * (219 / 255) + 16 if picture.max() > 240 else picture.astype(float)
    return 10 * np.log10(219**2 / np.mean((got - truth) ** 2))


def test_a_lens_pair_in_two_files_is_one_recording_and_is_reframed_without_stitching(tmp_path):
    """Both are found, shown side by side, and a view that looks backwards is of the rear lens."""
    from adzer.core.intake.take import join_files, look_at, source_problem, take
    from adzer.core.media.decode import Reader, opened
    from adzer.core.route import Route
    from adzer.core.sim.cameras.lens_pair import CAMERA, REAR

    def held(t):
        return Pose(place=(0.4, 2.0, 2.1), heading=20.0)

    files = []
    for name, lens, count in (("V0001_front.mp4", CAMERA, 6), ("V0001_rear.mp4", REAR, 5)):
        lens = replace(lens.sized((480, 480)), pose=held, sound=False)
        cameras.shoot(lens, count, tmp_path / name, samples=2)
        os.utime(tmp_path / name, (1.8e9, 1.8e9))  # both began at once
        files.append(tmp_path / name)
    (row,) = take(files, Fraction(25))
    facts = row.facts
    assert row.kind == "lens pair" and facts.raster == (960, 480) and facts.frames == 5 and facts.beside
    with opened(facts.sources) as both, Reader(files[1]) as rear:
        frame = both.frame(3)
        assert np.array_equal(frame.cropped(0)[:, 480:], rear.frame(3).cropped(0)) and len(both) == 5
    out = tmp_path / "back.mp4"
    done = run_cli(
        "reframe", files[0], "--rear", files[1], "--view", "150,4,0,70", "--across", "200", "--size", "256x144",
        "--card", "web-wide", "--out", out, "--projection", "fisheye",
    )  # fmt: skip
    assert done.exit_code == 0, done.output
    with av.open(str(out)) as made:
        pictures = [f.to_ndarray(format="gray") for f in made.decode(video=0)]
    assert len(pictures) == 5 and decibels(pictures[3], 3 / 25, 150.0, 4.0, 70.0) > 24
    assert source_problem(facts) is None
    seen = look_at(facts, Route())
    halved = seen.on((960, 480), (480, 240)).discs
    assert [d.x for d in halved] == pytest.approx([d.x / 2 for d in seen.discs]) and halved[1].radius < 121
    files[1].unlink()
    assert source_problem(facts).code == "source-missing"
    other = tmp_path / "other.mp4"
    cameras.shoot(replace(REAR.sized((320, 320)), sound=False), 2, other, samples=1)
    with pytest.raises(AdzerError, match="two lenses of one camera"):
        join_files(str(files[0]), str(other))


@pytest.mark.parametrize(
    "args, word",
    [
        (("--view", "0,0,0"), "four numbers"),
        (("--view", "0,0,0,181"), "field of view of 181"),
        (("--view", "0,0,0,nan"), "usable number"),
        ((), "either --view or --keyframes"),
        (("--keyframes", "none.json"), "cannot be read"),
        (("--view", "0,0,0,90", "--size", "0x0"), "WIDTHxHEIGHT"),
    ],
)
def test_reframe_says_what_is_wrong(round_clip, tmp_path, args, word):
    from adzer.cli.main import main  # noqa: F401 - its error handling is what turns errors into exit codes

    size = () if "--size" in args else ("--size", "128x72")
    done = run_cli("reframe", round_clip, *args, *size, "--card", "web-wide", "--out", tmp_path / "x.mp4")
    assert done.exit_code != 0 and word in str(done.exception or done.output)
    assert not (tmp_path / "x.mp4").exists()


def test_fast_moves_are_found_and_mended():
    fast = ViewPath(keys=(Key(1, 0, fov=90), Key(2, 100, fov=90), Key(8, 110, fov=90)))
    moves = path.check_moves(fast, 30.0, 25.0)
    assert [m.n for m in moves] == [0] and "makes people ill" in moves[0].text and moves[0].fits
    assert path.check_moves(path.longer(fast, moves[0]), 30.0, 25.0)[:1] != moves[:1]
    slower = fast
    for _ in range(6):
        found = path.check_moves(slower, 60.0, 25.0)
        if not found:
            break
        slower = path.longer(slower, found[0])
    assert not path.check_moves(slower, 60.0, 25.0) and slower.keys[-1].t > 15
    assert not path.check_moves(path.cut(fast, 0), 30.0, 25.0)
    assert not path.check_moves(fast, 8.0, 25.0)[0].fits
    pan = ViewPath(keys=(Key(0, 0, fov=60, ease="linear"), Key(4, 60, fov=60)))
    assert "crosses the picture" in path.check_moves(pan, 10, 25)[0].text and not path.check_moves(pan, 10, 50)


def test_smoothing_keeps_the_way_with_few_keys():
    t = np.linspace(0, 6, 61)
    rough = ViewPath(
        keys=tuple(Key(float(s), float(40 * np.sin(s / 2)), float(5 * np.cos(s / 3)), 0, 90, "linear") for s in t)
    )
    made = path.smooth(rough, 0.5)
    assert len(made.keys) <= 8 and all(k.ease == "through" for k in made.keys[:-1])
    want, _ = path.views_at(rough, t)
    got, _ = path.views_at(made, t)
    assert sphere.between(want[:, :, 1], got[:, :, 1]).max() < 0.6
    with_cut = path.cut(rough, 30)
    assert sum(k.ease == "hold" for k in path.smooth(with_cut, 0.5).keys) == 1


def test_a_take_says_what_it_delivers_and_not_what_lies_outside_it():
    """The view of a take of the middle of a recording: what its cell says is its first picture's, and no fix moves that."""
    facts = probe.probe(CLIPS / "all-round.mp4")
    seconds = float(facts.duration)
    keys = [{"t": t, "heading": h, "tilt": 0, "fov": 80} for t, h in ((0.0, 40), (0.25 * seconds, 40), (0.27 * seconds, -170), (seconds, -165))]
    route = Route().with_("read", projection="equirectangular").with_("shape", view={"keys": keys}, shape="16/9", hold="native")
    span = (0.6 * seconds, 0.9 * seconds)
    whole, take = walk(route, facts, None), walk(route, facts, None, span=span)
    look = take["shape"].result.viewed.look
    heading = float(sphere.heading_tilt(path.views_at(look.path, [span[0]])[0][0][:, 1])[0])
    assert whole["shape"].result.says.startswith("+40°") and take["shape"].result.says.startswith(f"{heading:+.0f}°".replace("-", "−"))
    codes = [{f.code for f in w["shape"].findings} for w in (whole, take)]
    assert "move-too-fast" in codes[0] and "move-too-fast" not in codes[1]
    late = walk(route, facts, None, span=(0.26 * seconds, seconds))
    assert [f.fix for f in late["shape"].findings if f.code == "move-too-fast"] == [None], "it begins before the first picture"
