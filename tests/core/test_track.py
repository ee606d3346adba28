"""Following things: of the simulated world over the sphere, and cut out of photographs over footage that is not ours, with
their places known by arithmetic."""

from __future__ import annotations

import math
from dataclasses import replace

import av
import numpy as np
import pytest
from scipy.ndimage import gaussian_filter, zoom
from scipy.spatial.transform import Rotation

from adzer.core.errors import AdzerError
from adzer.core.look import track
from adzer.core.media.clock import Clock
from adzer.core.shape import pursue
from adzer.core.shape.pursue import Manner
from adzer.core.sim import camera as cameras
from adzer.core.sim import world
from adzer.core.sim.camera import Pose
from adzer.core.space import path, sphere
from adzer.core.space.crop import crops_at
from adzer.core.space.level import lean_of
from adzer.core.space.looks import Turning, ViewLook
from adzer.core.space.path import ViewPath
from adzer.core.space.sphere import Equirect, Flat, Straight

from ..foreign import clip, photograph

SIZE, FRAMES, RATE = (960, 480), 46, 25.0
LENS = Equirect(SIZE)
SOURCE = track.Source(LENS, (0, 0, *SIZE), (2, 2))
LOOK = ViewLook((640, 360), ViewPath(), (1.0, 9 / 16))


def _pose(t: float) -> Pose:
    """Turned so that the seam runs between pennant and mill at first, and passes over both; unsteady as on a pole."""
    return Pose(place=(0.4, 2.0, 2.1), heading=172.0 + 9 * t, tilt=1.5 * math.sin(2 * t), roll=math.sin(1.3 * t))


CAMERA = replace(cameras.load("sphere"), raster=SIZE, pose=_pose)


def _where(name: str, t: float):
    if name == "kite":
        return np.array([-15 + 2.5 * math.sin(0.5 * t), 60, 26.6 + 1.5 * math.cos(0.7 * t)])
    if name == "pennant":
        return np.array([-3.6, 20, 6.5])
    phi = world.SAIL_SPEED * t + 0.35 + math.pi / 2
    along, aside = world.SAIL_LENGTH - 0.8, 0.6
    x, z = along * math.cos(phi) - aside * math.sin(phi), along * math.sin(phi) + aside * math.cos(phi)
    return np.array([world.MILL_X + x, world.HUB_Y, world.HUB_Z + z])


def truth(name: str, frame: int):
    """Unit direction in the recording."""
    pose = CAMERA.pose(frame / RATE)
    d = (_where(name, frame / RATE) - np.array(pose.place)) @ pose.rotation()
    return d / np.linalg.norm(d)


@pytest.fixture(scope="module")
def footage():
    return [cameras.record(CAMERA, CAMERA.light(n / RATE, 1), n) for n in range(FRAMES)]


def begun(footage, name: str, size: float):
    heading, tilt = sphere.heading_tilt(truth(name, 0))
    return track.Marked(SOURCE, float(heading), float(tilt), size, size).start(footage[0])


def off(points, name):
    return np.array([sphere.between(sphere.direction(p.heading, p.tilt), truth(name, p.frame)) for p in points])


@pytest.mark.parametrize("name, size", [("kite", 4.0), ("pennant", 8.0), ("sail tip", 6.0)])
def test_things_are_followed_across_the_seam(footage, name, size):
    follower, points = track.through(begun(footage, name, size), ((n, footage[n]) for n in range(1, FRAMES)))
    assert len(points) == FRAMES - 1 and not follower.hidden
    assert np.median(off(points, name)) <= 0.11 * size and off(points, name).max() < 0.5 * size  # a waving cloth wanders
    assert np.median([p.sure for p in points]) > 0.6


def test_a_box_may_lie_over_the_seam(footage):
    """Marked in recorded pixels right over the last column; its boxes hold the thing, counted on from the left edge."""
    turned = [tuple(np.roll(p, -int(round(LENS.place(truth("pennant", 0))[0] / k)), axis=1) for p, k in zip(f, (1, 2, 2), strict=True))
              for f in footage]  # fmt: skip
    x, y = LENS.place(truth("pennant", 0))
    shift = 2 * round(float(x) / 2)
    _, points = track.through(SOURCE.marked(SIZE[0] - 11.0, float(y) - 11, 22, 22), ((n, turned[n]) for n in range(20)))
    over = 0
    for p in points:
        left, top, w, h = SOURCE.box(p)
        assert 0 <= left < SIZE[0] and w < 40
        at = (LENS.place(truth("pennant", p.frame))[0] - shift - left) % SIZE[0]
        assert -1 < at < w + 1 and top < LENS.place(truth("pennant", p.frame))[1] < top + h
        over += left + w > SIZE[0]
    assert over > 2


def _covered(planes, name, frame, size=7.0):
    """The frame with sky painted over the thing."""
    planes = tuple(p.copy() for p in planes)
    x, y = LENS.place(truth(name, frame))
    r = size / 360 * SIZE[0]
    for c, plane in enumerate(planes):
        k = 2 if c else 1
        rows, columns = np.mgrid[0 : plane.shape[0], 0 : plane.shape[1]]
        away = np.minimum(np.abs(columns * k - x), SIZE[0] - np.abs(columns * k - x))
        here = (away < r) & (np.abs(rows * k - y) < r)
        plane[here] = np.median(plane[: plane.shape[0] // 4])
    return planes


def test_what_is_hidden_for_a_moment_is_found_again(footage):
    hidden = range(16, 24)
    seen = [_covered(f, "kite", n) if n in hidden else f for n, f in enumerate(footage)]
    follower, points = track.through(begun(seen, "kite", 4.0), ((n, seen[n]) for n in range(1, FRAMES)))
    assert not follower.hidden and off(points[-10:], "kite").max() < 0.6
    assert np.mean([p.sure for p in points if p.frame in hidden]) < 0.3


def test_what_is_gone_is_said_to_be(footage):
    seen = [f if n < 12 else _covered(f, "kite", n, 11.0) for n, f in enumerate(footage)]
    follower, points = track.through(begun(seen, "kite", 4.0), ((n, seen[n]) for n in range(1, FRAMES)))
    assert follower.hidden == FRAMES - 12 and len(points) == FRAMES - 1
    assert all(p.sure <= track.LOST for p in points if p.frame >= 12)


def test_the_view_follows_with_few_keyframes(footage):
    _, points = track.through(begun(footage, "kite", 4.0), ((n, footage[n]) for n in range(1, FRAMES)))
    tight = pursue.follow(points, Clock(RATE), LOOK, 60.0, Manner(0.0))
    assert path.trouble(tight, FRAMES / RATE) is None and len(tight.keys) <= 6
    frames = np.array([p.frame for p in points])
    turns, _ = path.views_at(tight, frames / RATE)
    assert np.median(sphere.between(turns[:, :, 1], np.stack([truth("kite", n) for n in frames]))) < 2.0
    third = pursue.follow(points, Clock(RATE), LOOK, 60.0, Manner(0.0, (1 / 3, 0.0)))
    turns, _ = path.views_at(third, frames / RATE)
    local = np.einsum("nij,ni->nj", turns, np.stack([truth("kite", n) for n in frames]))
    x, _ = sphere.view_places("straight", 60.0, 1.0, local)
    assert 0.15 < np.median(x) < 0.5  # it lies on the right third
    slack = pursue.follow(points, Clock(RATE), LOOK, 60.0, Manner(1.0))
    far = [np.ptp([k.heading if k.heading > 0 else k.heading + 360 for k in p.keys]) for p in (tight, slack)]
    assert far[1] < far[0] and len(slack.keys) <= len(tight.keys) + 1


def test_what_is_followed_stays_in_the_middle_of_a_view_that_is_levelled_and_held():
    """By rotations of another library: a thing that stands still in the world, recorded leaning and turning."""
    times = np.arange(50) / RATE
    lean, shake = Rotation.from_euler("xy", [12.0, -9.0], degrees=True), Rotation.from_euler("z", 30 * np.sin(3 * times)[:, None], degrees=True)
    thing = Rotation.from_euler("z", -40.0, degrees=True).apply([0.0, np.cos(0.2), np.sin(0.2)])
    recorded = (shake * lean).apply(thing)
    heading, tilt = np.degrees(np.arctan2(recorded[:, 0], recorded[:, 1])), np.degrees(np.arcsin(recorded[:, 2]))
    points = [track.Point(n, h, t, 4.0, 4.0, 1.0) for n, (h, t) in enumerate(zip(heading, tilt, strict=True))]
    look = ViewLook((640, 360), ViewPath(), (1.0, 9 / 16), (0.0, 0.0), _lean(lean.as_matrix()), Turning(times, shake.as_matrix()))
    made = replace(look, path=pursue.follow(points, Clock(RATE), look, 60.0, Manner(0.0)))
    assert np.ptp([k.heading for k in made.path.keys]) < 0.1  # it stands still where it is held
    for n in (0, 20, 49):
        assert sphere.between(made.directions(np.array(320.0), np.array(180.0), times[n]), recorded[n]) < 0.5


def _lean(matrix):
    """(tilt, roll) of a lean that turns no heading."""
    return lean_of(matrix[:, 2])


def test_a_thing_in_flat_squeezed_footage_is_followed_and_the_crop_goes_with_it():
    """The sail tip through a squeezing lens that pans: the crop keeps it in its middle, within what was recorded."""
    camera = replace(cameras.load("scope-lens"), raster=(720, 540), pose=lambda t: Pose(heading=4.0 + 2 * t, tilt=16.0))
    seen = [cameras.record(camera, camera.light(n / RATE, 1), n) for n in range(30)]
    lens = Straight((720, 540), 1.6)

    def where(n):
        return camera.project(_where("sail tip", n / RATE)[None], n / RATE)[0]

    heading, tilt = sphere.heading_tilt(lens.direction(where(0)))
    first = track.Marked(track.over_flat((720, 540), (2, 1), 1.6), float(heading), float(tilt), 5.0, 5.0)
    follower, points = track.through(first, ((n, seen[n]) for n in range(30)))
    found = lens.place(sphere.direction([p.heading for p in points], [p.tilt for p in points]))
    away = np.hypot(*(found - np.stack([where(p.frame) for p in points])).T)
    assert not follower.hidden and np.median(away) < 6 and away.max() < 14
    shares = (0.5, 0.5)
    path = pursue.follow_crop(points, Clock(RATE), lens, Flat((720, 540), 1.6), shares, 1.5, Manner(0.0))
    assert len(path.keys) <= 6
    at = crops_at(path, [p.frame / RATE for p in points])
    assert np.abs(at[:, :2] * (720, 540) - found).max() < 40  # it is softened, not glued to it
    assert np.all(at[:, 0] * 720 >= 0.25 / 1.5 * 720 - 1)


def test_marks_that_cannot_be_followed_are_refused(footage):
    flat = tuple(np.full_like(p, 128) for p in footage[0])
    for planes, size, word in (
        (footage[0], 0.1, "fifth of a degree"),
        (footage[0], 90.0, "60°"),
        (footage[0], 1.0, "five recorded"),
        (flat, 8.0, "stands out"),
    ):
        with pytest.raises(AdzerError, match=word):
            track.Marked(SOURCE, 20.0, 5.0, size, size).start(planes)
    half = track.Source(Equirect((600, 600), 180.0), (0, 0, 600, 600), (2, 2))
    with pytest.raises(AdzerError, match="no picture"):
        track.Marked(half, 120.0, 0.0, 8.0, 8.0).start(footage[0])
    with pytest.raises(AdzerError, match="long enough"):
        pursue.follow([track.Point(0, 0, 0, 4, 4, 0.0)], Clock(RATE), LOOK, 60.0, Manner())


# --- over footage that is not ours ----------------------------------------------------------------------------------------
WIDE, HIGH = 640, 272  # of the clip
HIDDEN = (range(30, 42), range(64, 72))
PHOTOGRAPHS = {"astronaut": (370, 60, 130, 330), "coffee": (180, 60, 240, 260), "rocket": (290, 50, 70, 320)}


def _ground(name: str, frames: int) -> list[np.ndarray]:
    """R, G, B of a clip, or of a photograph over which the camera pans."""
    if name == "bikes":
        with av.open(str(clip(name))) as source:
            read = [f.to_ndarray(format="rgb24") for _, f in zip(range(frames), source.decode(video=0), strict=False)]
        return [f[:HIGH, :WIDE].astype(float) for f in read]
    picture = zoom(photograph(name).astype(float), (2, 2, 1), order=1)
    far = (picture.shape[1] - WIDE) / 2, (picture.shape[0] - HIGH) / 2
    at = [(far[0] * (1 + math.sin(n / 35)), far[1] * (1 + math.sin(n / 50 + 1))) for n in range(frames)]
    return [picture[int(y) : int(y) + HIGH, int(x) : int(x) + WIDE].copy() for x, y in at]


def _planted(ground: list[np.ndarray], thing: str) -> list[tuple[float, float, float, float] | None]:
    """An oval of a photograph laid into each frame, growing and fading; its boxes, None where it is not there."""
    x, y, w, h = PHOTOGRAPHS[thing]
    cut = photograph(thing)[y : y + h, x : x + w].astype(float)
    down, across = np.mgrid[-1 : 1 : h * 1j, -1 : 1 : w * 1j]
    oval = np.clip((1 - np.hypot(across, down)) * 12, 0, 1)
    noise = np.random.default_rng(3)
    boxes: list[tuple[float, float, float, float] | None] = []
    for n, frame in enumerate(ground):
        scale = 46 / math.sqrt(w * h) * (1 + 0.15 * math.sin(n / 25))
        if any(n in gap for gap in HIDDEN):
            boxes.append(None)
        else:
            small = zoom(gaussian_filter(cut, (0.4 / scale, 0.4 / scale, 0)), (scale, scale, 1), order=1)
            mask = zoom(oval, scale, order=1)[..., None]
            high, wide = small.shape[:2]
            left, top = round(270 + 180 * math.sin(n / 21)), round(90 + 60 * math.sin(n / 17 + 1))
            part = frame[top : top + high, left : left + wide]
            part[:] = part * (1 - mask) + small * (1 + 0.12 * math.sin(n / 15)) * mask
            boxes.append((left, top, wide, high))
        frame += noise.normal(0, 2, frame.shape)
    return boxes


def _recorded(rgb: np.ndarray) -> tuple[np.ndarray, ...]:
    """Limited-range planes by BT.709's own formula, chroma the mean of four."""
    luma = rgb @ (0.2126, 0.7152, 0.0722)
    both = [(rgb[..., 2] - luma) / 1.8556, (rgb[..., 0] - luma) / 1.5748]
    small = [c.reshape(HIGH // 2, 2, WIDE // 2, 2).mean(axis=(1, 3)) for c in both]
    planes = (16 + luma * 219 / 255, *(128 + c * 224 / 255 for c in small))
    return tuple(np.clip(np.round(p), 0, 255).astype(np.uint8) for p in planes)


def _overlap(a, b) -> float:
    across = max(0.0, min(a[0] + a[2], b[0] + b[2]) - max(a[0], b[0]))
    down = max(0.0, min(a[1] + a[3], b[1] + b[3]) - max(a[1], b[1]))
    return across * down / (a[2] * a[3] + b[2] * b[3] - across * down)


@pytest.mark.parametrize("ground, thing", [("bikes", "astronaut"), ("grass", "coffee")])
def test_a_thing_over_foreign_footage_is_held_its_loss_said_and_found_again(ground, thing):
    frames = _ground(ground, 90)
    truth = _planted(frames, thing)
    source = track.over_flat((WIDE, HIGH), (2, 2))
    _, points = track.through(source.marked(*truth[0]), ((n, _recorded(f)) for n, f in enumerate(frames)))
    believed = [p for p in points if p.sure > track.LOST]
    assert not [p.frame for p in believed if truth[p.frame] is None]
    overlaps = [_overlap(source.box(p), truth[p.frame]) for p in believed]
    assert min(overlaps) > 0.4 and np.mean(overlaps) > 0.8
    there = [n for n, t in enumerate(truth) if t is not None]
    assert len(believed) > 0.85 * len(there) and points[-1].sure > track.LOST


def test_boxes_of_recorded_pixels_come_back_as_they_were_given():
    flat = track.over_flat((1920, 1080), (2, 2), 1.5)
    ball = track.Source(Equirect((3840, 1920)), (0, 1920, 3840, 1920), (2, 2))
    for source, box in (
        (flat, (300.0, 200.0, 90.0, 220.0)),
        (ball, (1000.0, 2700.0, 120.0, 200.0)),
        (ball, (3780.0, 2800.0, 110.0, 60.0)),
    ):
        marked = source.marked(*box)
        point = track.Point(0, marked.heading, marked.tilt, marked.across, marked.high, 1.0)
        back = np.array(source.box(point))
        back[0] += 3840 * round((box[0] - back[0]) / 3840)  # the same place, once round
        assert np.abs(back - box).max() < 0.02 * max(box[2:])


def _twin(frames, thing, tint):
    """Another of its kind, somewhat darker and of another tint, that goes its own way at the other side of the picture all the time."""
    x, y, w, h = PHOTOGRAPHS[thing]
    cut = photograph(thing)[y : y + h, x : x + w].astype(float) * tint
    down, across = np.mgrid[-1 : 1 : h * 1j, -1 : 1 : w * 1j]
    scale = 46 / math.sqrt(w * h)
    small = zoom(gaussian_filter(cut, (0.4 / scale, 0.4 / scale, 0)), (scale, scale, 1), order=1)
    mask = zoom(np.clip((1 - np.hypot(across, down)) * 12, 0, 1), scale, order=1)[..., None]
    for n, frame in enumerate(frames):
        left, top = round(40 + n * 1.5), 185 + round(10 * math.sin(n / 9))
        part = frame[top : top + small.shape[0], left : left + small.shape[1]]
        part[:] = part * (1 - mask) + small * mask


@pytest.mark.parametrize("ground, thing, tint", [("bikes", "coffee", (1, 1, 1)), ("grass", "astronaut", (0.9, 0.92, 1.0))])
def test_what_is_lost_is_not_replaced_by_another_of_its_kind(ground, thing, tint):
    """The marked one goes away for good after 30 frames; its twin is seen from beginning to end, far away at first, nearer later."""
    frames = _ground(ground, 80)
    _twin(frames, thing, np.array(tint))
    gone = [f.copy() for f in frames]
    truth = _planted(frames, thing)
    seen = [frames[n] if n < 30 else gone[n] for n in range(80)]
    source = track.over_flat((WIDE, HIGH), (2, 2))
    _, points = track.through(source.marked(*truth[0]), ((n, _recorded(f)) for n, f in enumerate(seen)))
    assert np.mean([p.sure > track.LOST for p in points[:29]]) > 0.85
    wrong = [p.frame for p in points[31:] if p.sure > track.LOST]
    assert len(wrong) <= 2, wrong
