"""Following things of the simulated world over the sphere: across its seam, past what hides them, until they are gone."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest

from adzer.core.errors import AdzerError
from adzer.core.media.clock import Clock
from adzer.core.shape import path, sphere, track
from adzer.core.shape.crop import crops_at
from adzer.core.shape.sphere import Equirect, Flat, Straight
from adzer.core.shape.track import Manner
from adzer.core.sim import camera as cameras
from adzer.core.sim import world
from adzer.core.sim.camera import Pose

SIZE, FRAMES, RATE = (960, 480), 46, 25.0
LENS = Equirect(SIZE)


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
    return track.start(footage[0], LENS, (0, 0, *SIZE), (2, 2), RATE, float(heading), float(tilt), size)


def off(points, name):
    return np.array([sphere.between(sphere.direction(p.heading, p.tilt), truth(name, p.frame)) for p in points])


@pytest.mark.parametrize("name, size", [("kite", 4.0), ("pennant", 8.0), ("sail tip", 6.0)])
def test_things_are_followed_across_the_seam(footage, name, size):
    follower, points = track.through(begun(footage, name, size), ((n, footage[n]) for n in range(1, FRAMES)))
    assert len(points) == FRAMES - 1 and not follower.gone
    assert np.median(off(points, name)) <= 0.5 and off(points, name).max() < 1.6
    assert np.median([p.sure for p in points]) > 0.6


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
    assert not follower.gone and off(points[-10:], "kite").max() < 0.6
    assert np.mean([p.sure for p in points if p.frame in hidden]) < 0.3


def test_what_is_gone_is_given_up_instead_of_wandering(footage):
    seen = [f if n < 12 else _covered(f, "kite", n, 11.0) for n, f in enumerate(footage)]
    follower, points = track.through(begun(seen, "kite", 4.0), ((n, seen[n]) for n in range(1, FRAMES)))
    assert follower.gone and 12 + track.PATIENCE * RATE <= points[-1].frame <= 12 + track.PATIENCE * RATE + 4
    assert all(p.sure <= 0.2 for p in points if p.frame >= 13)


def test_the_view_follows_with_few_keyframes(footage):
    _, points = track.through(begun(footage, "kite", 4.0), ((n, footage[n]) for n in range(1, FRAMES)))
    tight = track.follow(points, Clock(RATE), 60.0, Manner(0.0))
    assert path.trouble(tight, FRAMES / RATE) is None and len(tight.keys) <= 6
    frames = np.array([p.frame for p in points])
    turns, _ = path.views_at(tight, frames / RATE)
    assert np.median(sphere.between(turns[:, :, 1], np.stack([truth("kite", n) for n in frames]))) < 2.0
    third = track.follow(points, Clock(RATE), 60.0, Manner(0.0, (1 / 3, 0.0)))
    turns, _ = path.views_at(third, frames / RATE)
    local = np.einsum("nij,ni->nj", turns, np.stack([truth("kite", n) for n in frames]))
    x, _ = sphere.view_places("straight", 60.0, 1.0, local)
    assert 0.15 < np.median(x) < 0.5  # it lies on the right third
    slack = track.follow(points, Clock(RATE), 60.0, Manner(1.0))
    far = [np.ptp([k.heading if k.heading > 0 else k.heading + 360 for k in p.keys]) for p in (tight, slack)]
    assert far[1] < far[0] and len(slack.keys) <= len(tight.keys) + 1


def test_a_thing_in_flat_squeezed_footage_is_followed_and_the_crop_goes_with_it():
    """The sail tip through a squeezing lens that pans: the crop keeps it in its middle, within what was recorded."""
    camera = replace(cameras.load("scope-lens"), raster=(720, 540), pose=lambda t: Pose(heading=4.0 + 2 * t, tilt=16.0))
    seen = [cameras.record(camera, camera.light(n / RATE, 1), n) for n in range(30)]
    lens = Straight((720, 540), 1.6)

    def where(n):
        return camera.project(_where("sail tip", n / RATE)[None], n / RATE)[0]

    heading, tilt = sphere.heading_tilt(lens.direction(where(0)))
    first = track.start(seen[0], lens, (0, 0, 720, 540), (2, 1), RATE, float(heading), float(tilt), 5.0)
    follower, points = track.through(first, ((n, seen[n]) for n in range(1, 30)))
    found = lens.place(sphere.direction([p.heading for p in points], [p.tilt for p in points]))
    away = np.hypot(*(found - np.stack([where(p.frame) for p in points])).T)
    assert not follower.gone and np.median(away) < 6 and away.max() < 14
    shares = (0.5, 0.5)
    path = track.follow_crop(points, Clock(RATE), lens, Flat((720, 540), 1.6), shares, 1.5, Manner(0.0))
    assert len(path.keys) <= 6
    at = crops_at(path, [p.frame / RATE for p in points])
    assert np.abs(at[:, :2] * (720, 540) - found).max() < 40  # it is softened, not glued to it
    assert np.all(at[:, 0] * 720 >= 0.25 / 1.5 * 720 - 1)


def test_marks_that_cannot_be_followed_are_refused(footage):
    flat = tuple(np.full_like(p, 128) for p in footage[0])
    for planes, size, word in (
        (footage[0], 0.1, "half a degree"),
        (footage[0], 90.0, "60°"),
        (footage[0], 1.0, "five recorded"),
        (flat, 8.0, "stands out"),
    ):
        with pytest.raises(AdzerError, match=word):
            track.start(planes, LENS, (0, 0, *SIZE), (2, 2), RATE, 20.0, 5.0, size)
    half = Equirect((600, 600), 180.0)
    with pytest.raises(AdzerError, match="no picture"):
        track.start(footage[0], half, (0, 0, 600, 600), (2, 2), RATE, 120.0, 0.0, 8.0)
    with pytest.raises(AdzerError, match="long enough"):
        track.follow([track.Point(0, 0, 0, 4, 0.0)], Clock(RATE), 60.0, Manner())
