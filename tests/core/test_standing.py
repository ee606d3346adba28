"""Spheres: how the camera turned, told from photographs turned by another library; and masters that stand still and level."""

from __future__ import annotations

import json
from dataclasses import replace
from fractions import Fraction

import av
import msgspec
import numpy as np
import pytest
import scipy.ndimage
from scipy.spatial.transform import Rotation

from adzer.core import records
from adzer.core.cards import delivery
from adzer.core.errors import AdzerError
from adzer.core.finding import Level
from adzer.core.intake.take import facts_of
from adzer.core.look import turns, upright
from adzer.core.media.encode import VideoSpec, VideoTags, Writer
from adzer.core.plan import Foot
from adzer.core.route import Route, walk
from adzer.core.run import analysing, steadying, trying
from adzer.core.shape.view import _covered
from adzer.core.sim import camera as cameras
from adzer.core.sim.bodies import BODIES
from adzer.core.sim.camera import Pose
from adzer.core.space.looks import SphereLook, Turning
from adzer.core.space.sphere import Equirect
from adzer.core.steady import sidecar, standing
from adzer.core.steady.measure import Turned, turned

from ..foreign import photograph
from ..masters import lumas, run

SIZE, RATE, FRAMES = (960, 480), 25.0, 26
SAYS = Route().with_("read", projection="equirectangular", coverage="360", eyes="one")


def _world() -> np.ndarray:
    """A sphere of photographs side by side, (480, 960) in 8 bits."""
    parts = []
    for name in ("astronaut", "coffee", "rocket", "chelsea"):
        photo = photograph(name).mean(axis=2)
        parts.append(scipy.ndimage.zoom(photo, (480 / photo.shape[0], 240 / photo.shape[1]), order=1)[:480, :240])
    return np.clip(scipy.ndimage.gaussian_filter(np.concatenate(parts, axis=1), 0.8, mode="wrap"), 40, 220)


def _rays(w: int = 960) -> np.ndarray:
    """By the formula of the projection: x right, y ahead, z up of each pixel's middle."""
    a, t = np.meshgrid(((np.arange(w) + 0.5) / w - 0.5) * 2 * np.pi, (0.5 - (np.arange(w // 2) + 0.5) / (w // 2)) * np.pi)
    return np.stack([np.sin(a) * np.cos(t), np.cos(a) * np.cos(t), np.sin(t)], axis=-1)


def _seen(world: np.ndarray, camera: Rotation, rider: bool = False) -> np.ndarray:
    """What a camera that stands like this sees of it; ``rider``: three fifths of it go with the camera."""
    rays = _rays()
    d = camera.apply(rays.reshape(-1, 3)).reshape(rays.shape)
    x = (np.arctan2(d[..., 0], d[..., 1]) / (2 * np.pi) + 0.5) * 960 - 0.5
    y = (0.5 - np.arcsin(np.clip(d[..., 2], -1, 1)) / np.pi) * 480 - 0.5
    made = scipy.ndimage.map_coordinates(world, [y, x], order=3, mode="grid-wrap")
    return np.where((rays[..., 2] < 0.2) & rider, world[::-1], made) if rider else made


def _shaken(n: int) -> list[Rotation]:
    """Orientations of a camera that is shaken by up to 6° a frame, as it turns."""
    t = np.arange(n) / RATE
    rng = np.random.default_rng(5)
    angles = np.stack([4 * np.sin(2 * np.pi * hz * t + rng.uniform(0, 6)) for hz in (3.1, 4.3, 5.2)], axis=1)
    angles[:, 2] -= 40 * t
    made = [Rotation.from_euler("xyz", a, degrees=True) for a in angles]
    return [made[0].inv() * m for m in made]


@pytest.fixture(scope="module")
def shaken(tmp_path_factory):
    """A master of it, without loss, and how the camera stood."""
    path, world, stands = tmp_path_factory.mktemp("round") / "round.mkv", _world(), _shaken(FRAMES)
    _written(path, [_seen(world, s) for s in stands])
    return path, stands


def _written(path, pictures):
    spec = VideoSpec("ffv1", SIZE, 8, "4:2:0", Fraction(25), Fraction(1, 25), VideoTags("bt709", "bt709", "bt709", "limited"), 1, {})
    with Writer(path, spec) as writer:
        for n, picture in enumerate(pictures):
            frame, target = writer.blank()
            target[0][:480, :960] = np.clip(np.rint(picture), 16, 235)
            target[1][:], target[2][:] = 128, 128
            writer.write(frame, n)


def _off(found, truth):
    """Degrees, by another library's rotations."""
    return np.degrees([(Rotation.from_matrix(f).inv() * t).magnitude() for f, t in zip(found, truth, strict=True)])


def test_the_camera_is_known_to_a_fiftieth_of_a_degree(shaken):
    path, stands = shaken
    rows = steadying.rows_of(facts_of(path), SAYS)
    found = turns.stood(rows)
    assert (rows[:, turns.SURE] > 0.3).all() and not rows[:, turns.ALONG].any()  # it goes nowhere
    assert _off(found, stands).max() < 0.1
    # What is painted on walls has uprights, too, that point elsewhere at each moment: a camera drifts by far less in a second.
    assert (rows[:, turns.PLUMB] > 0).sum() >= 3 and _off(standing.stands(rows), stands).max() < 0.2
    steps = _off(np.swapaxes(found[:-1], 1, 2) @ found[1:], [a.inv() * b for a, b in zip(stands, stands[1:], strict=False)])
    assert np.sqrt((steps**2).mean()) < 0.02


def test_what_rides_along_is_not_taken_for_the_world():
    world, stands = _world(), _shaken(9)
    kind = turns.Turns(None, Equirect(SIZE), (0, 0, *SIZE))
    seen = [kind.looked(n, np.clip(_seen(world, s, rider=True), 0, 255).astype(np.uint8)) for n, s in enumerate(stands)]
    rows = np.array([kind.row(seen[: n + 1], n) for n in range(len(seen))], np.float32)
    assert _off(turns.stood(rows), stands).max() < 0.15


def test_a_master_stands_still_and_its_pixels_are_sampled_once(shaken, tmp_path):
    """Every delivered frame is the first one, but for what one interpolation costs; unheld, none is."""
    path, _ = shaken
    says = ("--projection", "equirectangular", "--coverage", "360", "--eyes", "one")
    how = ("--method", "level", "--lean", "0,0", "--card", "web-sphere", "--out", tmp_path / "b.mp4", "--json")
    told = json.loads(run("steady", path, *says, *how))
    assert told["method"] == "level"
    frames = lumas(tmp_path / "b.mp4")
    rough = lumas(path)
    band = slice(100, 380)  # poles are stretched
    left = [np.sqrt(((f - frames[0])[band] ** 2).mean()) for f in frames[1:]]
    was = [np.sqrt(((f - rough[0])[band] ** 2).mean()) for f in rough[1:]]
    assert max(left) < 0.25 * min(was[3:]), (max(left), min(was[3:]))


def test_a_sphere_that_is_shown_again_stands_as_when_it_was_recorded(shaken):
    """Where frames are repeated, what is shown between two of them is one of them."""
    facts, stands = facts_of(shaken[0]), shaken[1]
    rows = steadying.rows_of(facts, SAYS)
    route = SAYS.with_("steady", method="level")
    route = route.with_("steady", **steadying.answers(rows, facts, route)).with_("shape", view={"keys": [{"t": 0}]}, speed="1/4")
    look = walk(route, facts).draft.panels[0].look
    for between, nearest in ((10.2, 10), (10.8, 11)):
        made = look.directions(np.array([300.0]), np.array([200.0]), between / RATE)
        assert np.allclose(made, look.directions(np.array([300.0]), np.array([200.0]), nearest / RATE), atol=1e-9)
        seen = stands[nearest].apply(made), stands[5].apply(look.directions(np.array([300.0]), np.array([200.0]), 5 / RATE))
        one, other = (d / np.linalg.norm(d) for d in seen)
        assert np.degrees(np.linalg.norm(one - other)) < 0.2  # of the world it is the same


def test_every_way_leaves_what_it_says(shaken):
    """By another library: where the delivered sphere is headed, whether it leans, and what a ride's leaning kept is."""
    _, stands = shaken
    matrices = np.stack([s.as_matrix() for s in stands])
    along = np.zeros((FRAMES, 3))
    lean = (6.0, -3.0)

    def delivered(method, heading="world", level=1.0, cut=0.5, along=along):
        held = standing.held(matrices, along, RATE, method, heading, level, cut, lean)
        return Rotation.from_matrix(matrices @ held)  # from standing directions to the first frame's

    def up(made):
        return made.apply([0.0, 0.0, 1.0])

    still = delivered("level")
    assert np.allclose(up(still), up(still)[0], atol=1e-9) and np.degrees((still[0].inv() * still).magnitude()).max() < 1e-6
    for heading in ("vehicle", "free"):
        assert np.allclose(up(delivered("level", heading)), up(still)[0], atol=1e-9)
    goes = np.tile([0.6, 0.8, 0.0], (FRAMES, 1))  # always to the east of north, whatever the camera does
    seen = Rotation.from_matrix(matrices).inv().apply(still[0].apply(goes))
    ahead = delivered("level", "travel", along=seen)
    assert np.degrees(np.arccos(np.clip((ahead.apply([0.0, 1.0, 0.0]) * still[0].apply(goes)).sum(axis=1), -1, 1))).max() < 0.01
    locked = standing.held(matrices, seen, RATE, "lock", "world", 1.0, 0.5, lean, at=7)
    marks = np.einsum("nji,nj->ni", locked, seen)  # as they stand
    assert np.ptp(np.unwrap(np.arctan2(marks[:, 0], marks[:, 1]))) < 1e-6
    kept = delivered("level", level=0.0, cut=2.0)
    assert np.degrees(np.arccos(np.clip(up(kept) @ up(still)[0], -1, 1))).max() > 1.0
    steps = np.degrees((delivered("drift", cut=0.5)[:-1].inv() * delivered("drift", cut=0.5)[1:]).magnitude())
    rough = np.degrees((stands[0].inv() * Rotation.concatenate(stands)[:-1].inv() * Rotation.concatenate(stands)[1:]).magnitude())
    assert steps.max() < 0.5 * rough.max()


def test_a_walk_is_followed_while_near_things_pass_and_its_horizon_found():
    """Against the simulated pose: the ground passes by 2 m below, clouds drift, and the camera leans."""
    begun = Pose(place=(0.4, 2.0, 2.1), heading=20.0, tilt=7.0, roll=-5.0)
    pose = BODIES["walk"].pose(begun)
    camera = replace(cameras.load("sphere"), raster=SIZE, pose=pose)
    kind = turns.Turns(None, Equirect(SIZE), (0, 0, *SIZE))
    rng, seen = np.random.default_rng(3), []
    for n in range(17):
        code = np.clip(camera.light(n / RATE, 1) @ [0.2126, 0.7152, 0.0722], 0, 1) ** (1 / 2.2) * 255 + rng.normal(0, 1.2, SIZE[::-1])
        seen.append(kind.looked(n, np.clip(code, 0, 255).astype(np.uint8)))
    rows = np.array([kind.row(seen[: n + 1], n) for n in range(len(seen))], np.float32)
    truth = Rotation.from_matrix([pose(n / RATE).rotation() for n in range(17)])
    found = standing.stands(rows)
    steps = _off(np.swapaxes(found[:-1], 1, 2) @ found[1:], truth[:-1].inv() * truth[1:])
    assert np.sqrt((steps**2).mean()) < 0.02 and _off(found, truth[0].inv() * truth).max() < 0.15
    goes = truth[:-1].inv().apply(np.diff([pose(n / RATE).place for n in range(17)], axis=0))
    goes /= np.linalg.norm(goes, axis=1, keepdims=True)
    assert np.degrees(np.arccos(np.clip((rows[1:, turns.ALONG] * goes).sum(axis=1), -1, 1))).max() < 6
    tilt, roll, within = standing.leans(rows, found)
    up = Rotation.from_matrix(standing.rotation(0.0, tilt, roll)).apply([0.0, 0.0, 1.0])
    assert np.degrees(np.arccos(up @ truth[0].inv().apply([0.0, 0.0, 1.0]))) < max(0.3, 2 * within)


def test_what_small_errors_add_up_to_is_taken_back_by_the_horizon():
    """Turns that are each a fortieth of a degree wrong, and a horizon that is right to a tenth, by another library's rotations."""
    n, rng = 200, np.random.default_rng(4)
    truth = Rotation.from_euler("xyz", np.cumsum(rng.normal(0, 1.0, (n, 3)), axis=0), degrees=True)
    truth = truth[0].inv() * truth
    lean = Rotation.from_euler("xy", [5.0, -8.0], degrees=True)  # from level directions to the first frame's
    rows = np.zeros((n, len(turns.Turns.columns)), np.float32)
    wrong = Rotation.from_rotvec([0.02, 0.015, 0.0], degrees=True)
    rows[1:, turns.TURN] = (truth[:-1].inv() * truth[1:] * wrong).as_rotvec(degrees=True)
    rows[:, turns.SURE] = 1
    shown = truth.inv().apply(Rotation.from_rotvec(rng.normal(0, 0.05, (n, 3)), degrees=True).apply(lean.apply([0.0, 0.0, 1.0])))
    rows[:: turns.FAR, turns.UP], rows[:: turns.FAR, turns.PLUMB] = shown[:: turns.FAR], 1
    up = lean.apply([0.0, 0.0, 1.0])

    def off(stands):
        return np.degrees(np.arccos(np.clip((stands @ truth.inv().apply(up)[..., None])[..., 0] @ up, -1, 1)))

    assert off(turns.stood(rows))[-1] > 3.0 and off(standing.stands(rows)).max() < 0.3
    assert np.degrees(np.arccos(np.clip(standing.rotation(0.0, *standing.leans(rows, standing.stands(rows))[:2])[:, 2] @ up, -1, 1))) < 0.2


@pytest.mark.parametrize("lean", [(0.0, 0.0), (9.0, -14.0), (-20.0, 6.0)])
def test_uprights_say_where_up_is_where_no_horizon_shows(lean):
    """Posts of uneven widths and heights, drawn by arithmetic on the sphere; and things at random say nothing."""
    stood = Rotation.from_euler("xy", lean, degrees=True)  # from level directions to the camera's
    rng = np.random.default_rng(2)
    level = stood.inv().apply(_rays(1920).reshape(-1, 3)).reshape(960, 1920, 3)
    heading, tilt = np.degrees(np.arctan2(level[..., 0], level[..., 1])), np.degrees(np.arcsin(np.clip(level[..., 2], -1, 1)))
    picture, random = np.full((960, 1920), 120.0), np.full((960, 1920), 120.0)
    for _ in range(60):
        at, wide, low, high = rng.uniform(-180, 180), rng.uniform(1, 5), rng.uniform(-50, -10), rng.uniform(5, 45)
        picture[(np.abs((heading - at + 180) % 360 - 180) < wide) & (tilt > low) & (tilt < high)] = rng.uniform(40, 210)
        middle = rng.normal(size=3)
        random[level @ (middle / np.linalg.norm(middle)) > np.cos(rng.uniform(0.04, 0.2))] = rng.uniform(40, 210)
    kind = turns.Turns(None, Equirect(SIZE), (0, 0, *SIZE))
    found = [
        upright.uprights(kind.looked(0, p.reshape(480, 2, 960, 2).mean(axis=(1, 3)).astype(np.uint8)).views, turns._axes(), turns._grid())
        for p in (picture, random)
    ]
    assert found[1] is None and found[0] is not None
    assert np.degrees(np.arccos(np.clip(found[0].up @ stood.apply([0.0, 0.0, 1.0]), -1, 1))) < 0.5


def test_what_covers_the_ground_from_another_moment_is_taken_as_the_camera_stood_then(grey):
    times = np.arange(5) / RATE
    held = Rotation.from_euler("xyz", np.outer(np.arange(5), [4.0, -7.0, 11.0]), degrees=True)
    turning = Turning(times, held.as_matrix())
    look = SphereLook((400, 200), held=turning)
    walked = walk(SAYS.with_("shape", view={}), grey)
    patches, _ = _covered(walked.draft.panels[0].patches, walked.draft.inputs, Foot(0.5, times[1]), turning)
    d = np.array([0.3, 0.2, -0.9])
    seen = look.directions(np.array(310.0), np.array(140.0), times[3])
    level = held[3].inv().apply(seen)
    assert np.allclose(patches[-1].held(seen, times[3]), held[1].apply(level), atol=1e-9)
    assert np.allclose(patches[0].held(d, times[3]), d)


@pytest.fixture
def grey(tmp_path):
    _written(tmp_path / "grey.mkv", [np.full((480, 960), 120.0)] * 5)
    return facts_of(tmp_path / "grey.mkv")


def test_a_pair_of_eyes_stands_and_one_of_them_is_followed_again(shaken, tmp_path):
    """The same sphere over itself: both eyes are turned alike, and what is left is told of one."""
    source, _ = shaken
    with av.open(str(source)) as held:
        eyes = [f.to_ndarray(format="gray")[:480, :960] for f in held.decode(video=0)][:12]
    spec = VideoSpec("ffv1", (960, 960), 8, "4:2:0", Fraction(25), Fraction(1, 25), VideoTags("bt709", "bt709", "bt709", "limited"), 1, {})
    with Writer(tmp_path / "pair.mkv", spec) as writer:
        for n, eye in enumerate(eyes):
            frame, target = writer.blank()
            target[0][:960, :960] = np.concatenate([eye, eye])
            target[1][:], target[2][:] = 128, 128
            writer.write(frame, n)
    facts, route = facts_of(tmp_path / "pair.mkv"), SAYS.with_("read", eyes="over under", first="left", curve="bt709")
    rows = steadying.rows_of(facts, route)
    route = route.with_("steady", method="level")
    stands = route.with_("steady", **steadying.answers(rows, facts, route))
    stop = next(f for f in walk(stands, facts).findings if f.code == "pair-held")  # in one picture they cannot stand
    route, stands = route.mended(stop.fix), stands.mended(stop.fix)
    looks = {p.look.held is not None for p in walk(stands, facts).draft.panels}
    assert len(walk(stands, facts).draft.panels) == 2 and looks == {True}
    card = delivery("web-sphere")
    both = (trying.retracked(facts, None, r, card) for r in (route.with_("steady", method="off"), stands))
    left = [sum(sum(v[1:]) for v in trying.turns_left(again, RATE)[0].values()) for again in both]
    assert left[0] > 2 and left[1] < 0.05 * left[0], left
    for says in ({"projection": "equirectangular", "eyes": "one", "turn": 90}, {"projection": "flat", "eyes": "over under"}):
        with pytest.raises(AdzerError, match="cannot be held"):
            other = Route().with_("read", **says).with_("steady", method="hold")
            steadying.answers(np.ones((12, 10), np.float32), facts, other)


def test_a_sphere_is_followed_on_its_proxy(shaken):
    """Its master is not there; what is not known to be a sphere is not followed for it."""
    facts = facts_of(shaken[0])
    gone = msgspec.structs.replace(facts, path=str(shaken[0].with_name("gone.mkv")), fingerprint="gone", raster=tuple(2 * n for n in facts.raster))
    span = (0, 8)
    own = analysing.analyse("turns", facts, SAYS, span)
    assert np.array_equal(analysing.analyse("turns", gone, SAYS, span, None, (facts, SAYS)), own) and np.ptp(np.frombuffer(own, "<f4")) > 0.5
    with pytest.raises(AdzerError, match=r"gone\.mkv"):
        analysing.analyse("turns", gone, SAYS, span, None, (facts, Route()))


def test_a_horizon_that_leans_is_told():
    """By trigonometry: half of the frames lean by 3° to the side, half by 4° forward; what shows nothing does not count."""
    rows = np.zeros((40, 15), np.float32)
    rows[:20, turns.UP] = np.sin(np.radians(3)), 0, np.cos(np.radians(3))
    rows[20:, turns.UP] = 0, -np.sin(np.radians(4)), np.cos(np.radians(4))
    rows[::2, turns.PLUMB] = 1
    assert trying.horizon_off(rows) == pytest.approx(np.sqrt((9 + 16) / 2), abs=1e-3)
    rows[3:, turns.PLUMB] = 0
    assert trying.horizon_off(rows) is None


def test_what_cannot_stand_is_said(grey):
    facts = grey
    rows = steadying.rows_of(facts, SAYS)
    with pytest.raises(AdzerError, match=r"grey\.mkv.*nothing can be followed"):
        steadying.answers(rows, facts, SAYS.with_("steady", method="level"))
    sure = rows.copy()
    sure[:, turns.SURE] = 1.0
    with pytest.raises(AdzerError, match="keyframes of its view"):
        steadying.answers(sure, facts, SAYS.with_("steady", method="path"))
    with pytest.raises(AdzerError, match="says where it goes"):
        steadying.answers(sure, facts, SAYS.with_("steady", method="level", heading="travel"))
    stop = walk(SAYS.with_("steady", method="level", moves="none"), facts)["steady"].findings[0]
    assert stop.code == "moves-missing" and stop.level is Level.STOP
    fast = Turned(1.0, 0.5, None, 80.0, 1.0, 1.0)
    rides = SAYS.with_("steady", **steadying.answers(sure, facts, SAYS.with_("steady", method="level", heading="vehicle")))
    said = walk(rides, facts, measured={"turned": records.to_json(fast).encode()})["steady"]
    assert [f.code for f in said.findings] == ["turns-fast"] and "80° a second" in said.findings[0].text
    shakes = walk(SAYS, facts, measured={"turned": records.to_json(Turned(1.0, 0.5, 4.0, 8.0, 1.0, 1.0, None, 41.0)).encode()})["steady"]
    assert [f.code for f in shakes.findings] == ["shakes-viewers"] and "41° a second" in shakes.findings[0].text
    # Ahead of what opens elsewhere lies what lay there in the levelled sphere.
    held = [walk(rides.with_("steady", opens=opens), facts).draft.held.at(0.1) for opens in (0.0, 30.0)]
    assert np.allclose(held[1] @ [0, 1, 0], held[0] @ [0.5, np.sqrt(0.75), 0])


def _recorded(truth: Rotation, rate: float, offset: float, axes: Rotation, bias: np.ndarray, noise: float) -> np.ndarray:
    """(n, 4) what a recorder says of a camera that turns like this, ``rate`` samples a second: time, x, y, z; by another library."""
    rng = np.random.default_rng(8)
    t = np.arange(len(truth)) / rate
    speed = (truth[:-1].inv() * truth[1:]).as_rotvec(degrees=True) * rate
    return np.column_stack([(t[1:] + t[:-1]) / 2 + offset, axes.inv().apply(speed) + bias + rng.normal(0, noise, speed.shape)])


@pytest.fixture(scope="module")
def carried():
    """How a camera stands, 400 times a second for 4 s; 25 times a second, with what is followed of it; and a recorder's file's columns."""
    t = np.arange(1600) / 400
    angles = np.stack([3 * np.sin(2 * np.pi * 2.3 * t), 2 * np.sin(2 * np.pi * 3.1 * t + 1), 5 * np.sin(2 * np.pi * 1.1 * t) + 9 * t], axis=1)
    truth = Rotation.from_euler("xyz", angles, degrees=True)
    frames = truth[::16]
    rng, rows = np.random.default_rng(2), np.zeros((len(frames), len(turns.Turns.columns)), np.float32)
    rows[1:, turns.TURN] = (frames[:-1].inv() * frames[1:]).as_rotvec(degrees=True) + rng.normal(0, 0.02, (len(frames) - 1, 3))
    rows[:, turns.SURE] = 1
    rows[40:55, [0, 1, 2, turns.SURE]] = 0  # fog
    axes, bias = Rotation.from_euler("xyz", [90, 10, -35], degrees=True), np.array([1.5, -0.8, 0.4])
    return frames, rows, _recorded(truth, 400.0, 137.25, axes, bias, 0.5), axes, bias


def _csv(path, columns):
    path.write_text("# of the recorder\ntime,y,x,z,heat\n" + "\n".join(f"{t},{y},{x},{z},31" for t, x, y, z in columns))
    return path


def test_a_record_is_put_in_step_its_axes_found_and_used_through_fog(carried, tmp_path):
    frames, rows, columns, axes, bias = carried
    times = np.arange(len(frames)) / RATE
    rates = sidecar.load(_csv(tmp_path / "m.csv", columns))
    (tmp_path / "m.json").write_text(json.dumps(dict(zip(("time", "x", "y", "z"), columns.T.tolist(), strict=True))))
    assert np.allclose(sidecar.load(tmp_path / "m.json").rates, rates.rates)
    fit = sidecar.fitted(rates, rows, times, "m.csv")
    assert fit.offset == pytest.approx(137.25, abs=0.002) and np.allclose(fit.bias, bias, atol=0.3) and fit.told > 0.95
    assert np.degrees((Rotation.from_matrix(fit.axes).inv() * axes).magnitude()) < 0.5
    made = turns.stood(sidecar.used(rows, rates, fit, times))
    truth = frames[0].inv() * frames
    assert _off(turns.stood(rows), truth).max() > 2.0 and _off(made, truth).max() < 0.4
    short = sidecar.Rates(rates.times[:1100], rates.rates[:1100])  # it ends early, and the picture goes on
    fit = sidecar.fitted(short, rows, times, "m.csv")
    assert _off(turns.stood(sidecar.used(rows, short, fit, times)), truth).max() < 0.8


def test_what_is_no_record_of_it_is_said(carried, tmp_path):
    _, rows, columns, *_ = carried
    times = np.arange(len(rows)) / RATE
    broken = columns.copy()
    broken[7, 2] = np.nan
    cases = {
        "row 8 holds something": _csv(tmp_path / "nan.csv", broken),
        "does not go on": _csv(tmp_path / "back.csv", columns[::-1]),
        "at least 8": _csv(tmp_path / "few.csv", columns[:5]),
    }
    (tmp_path / "names.csv").write_text("t,a,b\n1,2,3\n")
    (tmp_path / "odd.json").write_text('{"time": [1, 2], "x": [1]}')
    (tmp_path / "picture.csv").write_bytes(bytes(range(256)))
    cases |= {"name the columns": tmp_path / "names.csv", "equally long": tmp_path / "odd.json", "as text": tmp_path / "picture.csv"}
    for words, path in cases.items():
        with pytest.raises(AdzerError, match=words) as said:
            sidecar.load(path)
        assert path.name in str(said.value)
    rng = np.random.default_rng(1)
    other = sidecar.Rates(columns[:, 0], rng.normal(0, 40, (len(columns), 3)))
    with pytest.raises(AdzerError, match="of another shot"):
        sidecar.fitted(other, rows, times, "m.csv")
    with pytest.raises(AdzerError, match="of another shot"):
        sidecar.fitted(sidecar.Rates(columns[:300, 0], columns[:300, 1:]), rows, times, "m.csv")


def test_cuts_and_frozen_frames_of_spheres_are_counted():
    world, stands = _world(), _shaken(14)
    shown = [_seen(world, s) for s in stands]
    shown[5] = shown[4]  # frozen
    shown[9:] = [_seen(world[::-1, ::-1] ** 0.9, s) for s in stands[9:]]  # cut
    kind = turns.Turns(None, Equirect(SIZE), (0, 0, *SIZE))
    seen = [kind.looked(n, np.clip(p, 0, 255).astype(np.uint8)) for n, p in enumerate(shown)]
    rows = np.array([kind.row(seen[max(0, n - turns.FAR) : n + 1], min(n, turns.FAR)) for n in range(14)], np.float32)
    found = turned(rows, RATE)[0]
    assert (found.cuts, found.frozen) == (1, 1) and (turned(rows[:5], RATE)[0].cuts, turned(rows[6:9], RATE)[0].frozen) == (0, 0)


def test_only_what_goes_one_way_travels():
    rng, rows = np.random.default_rng(4), np.zeros((200, 18), np.float32)
    astray = rng.normal(size=(200, 3))
    rows[:, turns.ALONG] = astray / np.linalg.norm(astray, axis=1, keepdims=True)
    rows[::2, turns.ALONG] = 0
    assert standing.travels(rows) < steadying.TRAVELS / 2
    t = np.arange(200) / 40
    rows[:, turns.ALONG] = np.stack([0.2 * np.sin(9 * t), np.cos(0.2 * np.sin(9 * t)), 0 * t], axis=1)  # ahead, and shaken
    assert standing.travels(rows) > 0.9
    rows[::10, turns.ALONG] = 0
    assert standing.travels(rows) > 0.8
