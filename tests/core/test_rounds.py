"""Round lenses whose rows are read out one after another while they turn: told and undone, against photographs turned by another library."""

from __future__ import annotations

from fractions import Fraction

import av
import cv2
import numpy as np
import pytest
import scipy.ndimage
from scipy.spatial.transform import Rotation

from adzer.core.intake.take import facts_of
from adzer.core.join.settings import Align
from adzer.core.look import turns
from adzer.core.media.encode import VideoSpec, VideoTags, Writer
from adzer.core.picture import Picture
from adzer.core.plan import Draft, Foot, Input, Panel, Patch, Rig
from adzer.core.route import Route, walk
from adzer.core.run import steadying
from adzer.core.shape import view
from adzer.core.shape.geometry import Fitted
from adzer.core.shape.settings import ShapeSettings
from adzer.core.shutter import exposed
from adzer.core.space.looks import SphereLook, Turning
from adzer.core.space.sphere import Lens, Round
from adzer.core.steady import standing

from ..foreign import clip
from ..masters import delivered
from .test_standing import _off, _world

SIDE, RATE, ACROSS, FRAMES = 480, 25.0, 190.0, 26
SAYS = Route().with_("read", projection="fisheye", coverage="180", eyes="one", curve="bt709").with_("shape", across=ACROSS)


def _stood(t, much=1.0):
    """How the camera stands at moments t: shaken at three speeds, and turning on by 30° a second."""
    angles = [much * a * np.sin(2 * np.pi * hz * t + p) for a, hz, p in ((2.0, 3.1, 0.3), (1.5, 4.3, 1.9), (2.5, 2.3, 4.0))]
    angles[2] = angles[2] - 30 * t
    return Rotation.from_euler("xyz", np.stack(angles, axis=-1), degrees=True)


def _recorded(world, frame, readout, much=1.0):
    """A disc that fills the picture, as far from its middle as from the axis, each row at its own moment."""
    v, u = np.mgrid[:SIDE, :SIDE]
    x, y = (u + 0.5) / SIDE * 2 - 1, 1 - (v + 0.5) / SIDE * 2
    r = np.hypot(x, y)
    angle = np.radians(r * ACROSS / 2)
    k = np.sin(angle) / np.maximum(r, 1e-9)
    rays = np.stack([x * k, np.cos(angle), y * k], axis=-1)
    moments = frame / RATE + readout * ((np.arange(SIDE) + 0.5) / SIDE - 0.5)
    d = np.stack([c.apply(row) for c, row in zip(_stood(moments, much), rays, strict=True)])
    px = (np.arctan2(d[..., 0], d[..., 1]) / (2 * np.pi) + 0.5) * 960 - 0.5
    py = (0.5 - np.arcsin(np.clip(d[..., 2], -1, 1)) / np.pi) * 480 - 0.5
    return np.where(r < 1, scipy.ndimage.map_coordinates(world, [py, px], order=3, mode="grid-wrap"), 16)


def _written(path, pictures):
    high, wide = pictures[0].shape
    spec = VideoSpec("ffv1", (wide, high), 8, "4:2:0", Fraction(25), Fraction(1, 25), VideoTags("bt709", "bt709", "bt709", "limited"), 1, {})
    with Writer(path, spec) as writer:
        for n, picture in enumerate(pictures):
            frame, target = writer.blank()
            target[0][:high, :wide] = np.clip(np.rint(picture), 16, 235)
            target[1][:], target[2][:] = 128, 128
            writer.write(frame, n)


@pytest.fixture(scope="module", params=(0.016, -0.010))
def read_out(tmp_path_factory, request):
    path, world = tmp_path_factory.mktemp("rounds") / "round.mkv", _world()
    _written(path, [_recorded(world, n, request.param) for n in range(FRAMES)])
    facts = facts_of(path)
    return facts, steadying.rows_of(facts, SAYS), request.param


def _answered(facts, rows, **says):
    route = steadying.as_it_shows(rows, facts, SAYS.with_("steady", method="level", **says).with_("steady", lean=(0.1, 0.0)))
    wide = {"keys": [{"t": 0, "heading": 0, "tilt": 0, "fov": 120}]}
    return route.with_("steady", **steadying.answers(rows, facts, route)).with_("shape", view=wide)


def _place(d, radius=SIDE / 2):
    """Where the lens draws a direction (n, 3), and radians from its axis."""
    side = np.hypot(d[:, 0], d[:, 2])
    angle = np.arctan2(side, d[:, 1])
    far = angle / np.radians(ACROSS / 2) * radius / np.maximum(side, 1e-12)
    return np.stack([radius + d[:, 0] * far, radius - d[:, 2] * far], axis=1), angle


def _by_rows(at):
    """Where it is drawn, row by row at its own moment; ``at``: directions in the lens by shares of the height from the middle row (n,)."""
    rows = np.zeros(len(at(np.zeros(1))))
    for _ in range(30):
        place, angle = _place(at(rows))
        rows = place[:, 1] / SIDE - 0.5
    return place, angle


def test_the_readout_of_a_round_lens_is_told(read_out):
    facts, rows, readout = read_out
    route = _answered(facts, rows)
    assert route.steady.readout == pytest.approx(1000 * readout, abs=0.7)
    truth = _stood(np.arange(FRAMES) / RATE)
    assert _off(turns.stood(rows), truth[0].inv() * truth).max() < 0.2


def _off_their_rows(facts, route, readout, eye=0, lies=lambda d: d, stands=lambda u, v: (u, v)):
    """(n,) recorded pixels by which what a panel looks at lies off where its rows truly were. Of pictures that were turned: how an upright direction
    ``lies`` in the camera's axes, and where a place of its ``stands``."""
    panel, off = walk(route, facts).draft.panels[eye], []
    x, y = (np.ravel(v) for v in np.meshgrid(np.linspace(0.05, 0.95, 5) * panel.size[0], np.linspace(0.02, 0.98, 7) * panel.size[1]))
    for n in range(3, FRAMES - 3):
        looked = _stood(np.array(n / RATE)).apply(lies(panel.look.directions(x, y, n / RATE)))
        place, angle = _by_rows(lambda rows, n=n, d=looked: _stood(n / RATE + readout * np.broadcast_to(rows, len(d))).inv().apply(d))
        off.append(np.hypot(*((panel.recorded(x, y, n / RATE) - panel.region[:2]).T - stands(*place.T)))[np.degrees(angle) < 90])
    return np.concatenate(off)


@pytest.mark.parametrize("heading", ["world", "vehicle"])
def test_each_row_is_put_where_it_belongs(read_out, heading):
    """What a view looks at lies where the camera's true course says that its row was; a tenth is left of how far it was off. Headed as it rides,
    the view turns on itself, by which no row goes anywhere."""
    facts, rows, readout = read_out
    routes = [_answered(facts, rows, readout=says, heading=heading) for says in (None, 0.0)]
    left = [np.sqrt((_off_their_rows(facts, route, readout) ** 2).mean()) for route in routes]
    assert left[1] > 0.15 and left[0] < 0.12 * left[1], left
    codes = [[f.code for f in walk(r, facts).findings] for r in (routes[0], routes[0].with_("shape", across=180.0))]
    assert "steadied-otherwise" not in codes[0] and "steadied-otherwise" in codes[1]


@pytest.mark.parametrize("read_out", [0.016], indirect=True)
@pytest.mark.parametrize(("turn", "lies"), [
    (90, lambda d: np.stack([-d[..., 2], d[..., 1], d[..., 0]], axis=-1)), (180, lambda d: d * (-1, 1, -1)),
    (270, lambda d: np.stack([d[..., 2], d[..., 1], -d[..., 0]], axis=-1)),
])  # fmt: skip
def test_a_camera_that_lay_on_its_side_or_upside_down_stands(read_out, turn, lies):
    """``lies``: a direction of the upright picture in the axes of the camera as it lay."""
    facts, _, readout = read_out
    says = SAYS.with_("read", turn=turn)
    rows = steadying.rows_of(facts, says)
    truth, found = _stood(np.arange(FRAMES) / RATE), turns.stood(rows)
    axes = lies(np.eye(3)).T  # from upright axes to those of the camera
    assert _off(axes @ found @ axes.T, truth[0].inv() * truth).max() < 0.2
    route = steadying.as_it_shows(rows, facts, says.with_("steady", method="level", lean=(0.1, 0.0)))
    assert route.steady.readout == pytest.approx(1000 * readout, abs=0.7)
    left = []
    for ms in (route.steady.readout, 0.0):
        made = route.with_("steady", readout=ms).with_("shape", view={"keys": [{"t": 0, "fov": 120}]})
        made = made.with_("steady", **steadying.answers(rows, facts, made))
        upright = {90: lambda u, v: (SIDE - v, u), 180: lambda u, v: (SIDE - u, SIDE - v), 270: lambda u, v: (v, SIDE - u)}[turn]
        left.append(np.sqrt((_off_their_rows(facts, made, readout, 0, lies, upright) ** 2).mean()))
    assert left[1] > 0.1 and left[0] < 0.15 * left[1], left


def test_both_eyes_of_round_lenses_stand_and_their_rows_too(tmp_path):
    world = _world()
    _written(tmp_path / "pair.mkv", [np.tile(_recorded(world, n, 0.016), 2) for n in range(FRAMES)])
    facts = facts_of(tmp_path / "pair.mkv")
    pair = SAYS.with_("read", eyes="side by side", first="left").with_("join", laid="beside")
    rows = steadying.rows_of(facts, pair)
    for says, least, most in ((None, 0.0, 0.1), (0.0, 0.15, 9.0)):
        route = steadying.as_it_shows(rows, facts, pair.with_("steady", method="level", readout=says, lean=(0.1, 0.0)))
        route = route.with_("steady", **steadying.answers(rows, facts, route))
        for eye in (0, 1):
            off = _off_their_rows(facts, route, 0.016, eye)
            assert len(off) > 100 and least < np.sqrt((off**2).mean()) < most
    # Brought in line, each eye's lens turns as its camera did, and is turned besides.
    lined = walk(route.with_("join", align=Align(1.5, 0.8, 0.0, 0.0)).with_("steady", readout=16.0, goes=route.steady.moves), facts).draft
    for panel in lined.panels:
        (patch,) = panel.patches
        assert not np.allclose(patch.turning.at(np.array(0.4)), np.eye(3), atol=1e-3)
        assert np.allclose(patch.stands.at(np.array(0.4)), patch.turning.at(np.array(0.4)) @ lined.stands.at(np.array(0.4)), atol=1e-6)


def test_each_of_two_lenses_turns_as_it_is_mounted_and_what_covers_their_foot_does_not():
    """By another library's rotations."""
    t = np.arange(20) / RATE
    camera, mounted = Rotation.concatenate([_stood(v).inv() for v in t]).as_matrix(), Rotation.from_euler("zxy", (2.0, -3.0, 5.0), degrees=True)
    lenses = Lens(240.0, 240.0, 240.0, ACROSS), Lens(720.0, 240.0, 240.0, ACROSS, 180.0)
    draft = Draft(
        (Input(None, (960, 480)),), rig=Rig(Turning.fixed(mounted.as_matrix()), lenses=lenses), held=Turning(t, camera, frames=t), readout=0.02,
        stands=Turning(t, camera, frames=t), foot=Foot(0.4, 0.2),
    )  # fmt: skip
    picture, look = Picture((960, 480), projection="fisheye", eyes="one"), SphereLook((400, 200), held=draft.held)
    laid = view._through(picture, ShapeSettings(), None, draft, Fitted((400, 200), (400, 200), (0, 0), Fraction(1)), look)
    first, second, *under = laid.drawn.patches
    assert np.allclose(first.stands.at(t), camera) and np.allclose(second.stands.at(t), mounted.as_matrix() @ camera)
    assert [p.readout for p in (first, second)] == [0.02, 0.02] and len(under) == 2 and not any(p.readout for p in under)


@pytest.mark.parametrize("read_out", [0.016], indirect=True)
def test_a_master_of_a_round_lens_stands_still(read_out, tmp_path):
    """Each delivered frame against the first, in what rows far from the middle show."""
    facts, rows, _ = read_out
    left = []
    for name, says in (("rows", None), ("none", 0.0)):
        frames = delivered(facts, _answered(facts, rows, readout=says), "web-wide", tmp_path / f"{name}.mp4")
        edges = [np.concatenate([f[:180], f[-180:]])[:, 200:-200] for f in frames]
        left.append(np.mean([np.abs(f - edges[0]).mean() for f in edges[4:12]]))
    assert left[0] < 0.8 * left[1], left


def test_a_second_lens_and_a_later_light_go_by_their_own_rows():
    """By another library: a lens that was turned in its mount, looked through some frames' time later than the picture that it is part of."""
    t = np.arange(30) / RATE
    world = Rotation.concatenate([_stood(v).inv() for v in t]).as_matrix()  # from the world's directions to the camera's
    mounted, lens = Rotation.from_euler("zxy", (178.0, 3.0, -5.0), degrees=True), Round((SIDE, SIDE), (Lens(240.0, 240.0, 240.0, ACROSS),))
    own, stands = Turning.fixed(mounted.as_matrix()), standing.by_rows(world, t)
    look = SphereLook((400, 200), held=Turning(t, world, frames=t))
    patch = Patch(lens, (0, 0, SIDE, SIDE), 0, own, 0.02, stands=stands.then(own))
    (panel,) = exposed(Draft((Input(None, (SIDE, SIDE)),), (400, 200), (Panel(look, (patch,)),)), (0.0, 0.08)).panels
    now = 10 / RATE
    d = np.random.default_rng(3).normal(size=(60, 3))
    looked = _stood(np.array(now)).apply(d)  # what the look's directions of this moment are of the world
    for part, later in zip(panel.patches, (0.0, 0.08), strict=True):
        place, angle = _by_rows(lambda rows, s=later: mounted.apply(_stood(now + s + 0.02 * np.broadcast_to(rows, len(d))).inv().apply(looked)))
        seen = np.degrees(angle) < 90
        assert np.hypot(*(lens.place(part.held(d, now)) - place)[seen].T).max() < 0.05
        assert np.hypot(*(lens.place(part.turning.turned(d, np.asarray(now))) - place)[seen].T).max() > 0.5


@pytest.mark.parametrize(("name", "cuts", "frozen"), [("bikes", 1, 0), ("bigbuckbunny", 0, 2)])
def test_footage_that_is_not_ours_is_told_no_readout(tmp_path, name, cuts, frozen):
    """Films drawn as a round lens draws what a flat one of 100° saw: all their rows go together; one has a cut, one two doubled frames."""
    with av.open(str(clip(name))) as held:
        film = [f.to_ndarray(format="gray") for _, f in zip(range(60), held.decode(video=0), strict=False)]
    (h, w), (v, u) = film[0].shape, np.mgrid[:SIDE, :SIDE]
    x, y = (u + 0.5) / SIDE * 2 - 1, 1 - (v + 0.5) / SIDE * 2
    r = np.hypot(x, y)
    far = np.tan(np.radians(np.minimum(r * ACROSS / 2, 80))) / np.maximum(r, 1e-9) * w / 2 / np.tan(np.radians(50))
    places = ((x * far + w / 2).astype(np.float32), (h / 2 - y * far).astype(np.float32))
    _written(tmp_path / "film.mkv", [cv2.remap(f, *places, cv2.INTER_LINEAR, borderValue=16) for f in film])
    facts = facts_of(tmp_path / "film.mkv")
    found = steadying.said(steadying.rows_of(facts, SAYS), facts, SAYS)
    assert found.leans is None and (found.cuts, found.frozen) == (cuts, frozen)


def test_near_things_that_pass_are_not_taken_for_rows():
    """By arithmetic: the ground two metres below a walker seems to lean; rows that do are told in spite of single corners that go astray."""
    rng, lens = np.random.default_rng(8), Round((SIDE, SIDE), (Lens(240.0, 240.0, 240.0, ACROSS),))
    kind, shaken = turns.Turns(None, lens, (0, 0, SIDE, SIDE)), Rotation.from_euler("xyz", (0.9, -0.6, 0.4), degrees=True)
    d = rng.normal(size=(500, 3))
    d = d / np.linalg.norm(d, axis=1, keepdims=True)
    d = d[(d[:, 1] > 0.15) & (np.abs(d[:, 2]) > 0.05)]
    far = np.where(d[:, 2] < 0, 2 / np.maximum(-d[:, 2], 1e-3), 300.0)
    near = shaken.apply(d * far[:, None] - (0.0, 0.06, 0.0))
    near = near / np.linalg.norm(near, axis=1, keepdims=True)
    turn, lean, same = kind._leaning(d, near, shaken.as_matrix())
    assert not lean.any() and same is near and np.allclose(turn, shaken.as_matrix())
    rows = lens.place(shaken.apply(d))[:, 1] / SIDE - 0.5
    b = Rotation.from_rotvec(np.radians(rows[:, None] * (1.2, -0.5, 0.3))).apply(shaken.apply(d))
    b[::9] = rng.normal(size=b[::9].shape)
    _, lean, undone = kind._leaning(d, b / np.linalg.norm(b, axis=1, keepdims=True), shaken.as_matrix())
    assert np.degrees(lean) == pytest.approx((1.2, -0.5, 0.3), abs=0.03)
    assert np.median(np.linalg.norm(undone - shaken.apply(d), axis=1)) < np.radians(0.02)
