"""The simulated world and cameras: is the ground truth true?"""

from __future__ import annotations

import json
from dataclasses import replace

import numpy as np
import pytest

from adzer.core.errors import AdzerError
from adzer.core.light import names as colour_cards
from adzer.core.sim import camera as cameras
from adzer.core.sim import demo, world


def toward(point, origin=(0, 0, 1.7)):
    d = np.array(point, float) - np.array(origin)
    return d / np.linalg.norm(d)


def seen(directions, t=0.0):
    return world.trace(np.array([0, 0, 1.7]), np.ascontiguousarray(directions), t)


def test_the_world_holds_fourteen_stops():
    door = toward((world.MILL_X - 0.2, world.MILL_Y - 4.2, 1.0))
    dark, _ = seen(np.array([toward((x, 33.8, 1.2)) for x in np.linspace(4, 8, 400)]))
    sun, depth = seen(np.array([world.SUN]))
    assert np.isinf(depth[0]) and door.shape == (3,)
    assert np.log2(sun[0, 1] / dark[:, 1].min()) > 14


def test_patches_have_the_reflectances_that_are_written_on_them():
    centres = [
        (world.BOARD_X[0] + (i + 0.5) * world.PATCH, world.BOARD_Y, world.BOARD_Z[0] + world.PATCH / 2)
        for i in range(6)
    ]
    light, depth = seen(np.array([toward(c) for c in centres]))
    assert np.allclose(light, np.array(world.GREYS)[:, None])
    assert np.allclose(depth, [np.linalg.norm(np.array(c) - (0, 0, 1.7)) for c in centres])


def test_the_cartwheel_is_round():
    angles = np.linspace(0, 2 * np.pi, 90, endpoint=False)
    for r, inside in ((0.998, True), (1.002, False)):
        rim = [
            (
                world.WHEEL_X + r * world.WHEEL_R * np.cos(a),
                world.WHEEL_Y,
                world.WHEEL_Z + r * world.WHEEL_R * np.sin(a),
            )
            for a in angles
        ]
        _, depth = seen(np.array([toward(p) for p in rim]))
        on = np.abs(depth - [np.linalg.norm(np.array(p) - (0, 0, 1.7)) for p in rim]) < 1e-6
        assert on.all() if inside else not on.any()


def test_sails_and_pennant_move_and_the_board_does_not():
    camera = cameras.load("scope-lens").sized((240, 180))
    still = replace(camera, pose=lambda _: camera.pose(0.0))
    a, b = still.light(0.0, 1), still.light(0.4, 1)
    moved = np.abs(a - b).max(axis=-1) > 0.02
    x, y = (
        camera.project(np.array([[-2.0, 12.0, 1.3], [world.MILL_X, world.HUB_Y, world.HUB_Z - 3]]), 0.0).astype(int).T
    )
    assert not moved[y[0] - 3 : y[0] + 3, x[0] - 5 : x[0] + 5].any()
    assert moved[: y[1] + 20].mean() > 0.02


@pytest.mark.parametrize("name", cameras.known())
def test_what_a_camera_projects_its_rays_hit(name):
    camera = cameras.load(name)
    points = np.array([[-2.0, 12, 1.2], [4.0, 12.5, 2.0], [6, 33, 10]])
    for t in (0.0, 1.3):
        places = camera.project(points, t)
        origin, directions = camera.rays(places[:, 0], places[:, 1], t)
        for p, o, d in zip(points, np.broadcast_to(origin, (3, 3)), directions, strict=True):
            assert np.allclose(np.cross(p - o, d), 0, atol=1e-9) and (p - o) @ d > 0


def test_recorded_codes_are_what_curve_and_reflectance_say():
    camera = cameras.load("scope-lens").sized((480, 360))
    r = camera.recorder
    planes = cameras.record(camera, camera.light(0.0, 1), 0)
    truth = cameras.truth(camera, 1)
    curve = colour_cards.curve(r.curve)
    for patch in truth["grey_patches"]:
        x, y = (int(v) for v in patch["place"])
        code = planes[0][y - 3 : y + 4, x - 3 : x + 4].mean()
        expected = curve.encode(np.array([patch["reflectance"] * 2**r.exposure]))[0] * 876 + 64
        assert abs(code - expected) < 1.0


def test_a_shot_is_the_same_every_time_and_its_truth_lies_beside_it(tmp_path):
    camera = cameras.load("phone").sized((96, 64))
    made = [cameras.shoot(camera, 4, tmp_path / f"{n}.mp4", samples=1) for n in (1, 2)]
    assert made[0].read_text() == made[1].read_text()
    assert json.loads(made[0].read_text())["stamps"] == camera.stamps(4)
    assert np.array_equal(*(cameras.record(camera, camera.light(0.0, 1), 3)[0] for _ in range(2)))
    with pytest.raises(AdzerError, match="scope-lens"):
        cameras.load("nothing")


def test_committed_clips_are_small_and_tell_the_truth():
    assert sum(p.stat().st_size for p in demo.CLIPS.rglob("*") if p.is_file()) < 25e6
    for _, kind, name, count in demo.SHOTS:
        if kind == "raw-body":
            frames = sorted((demo.CLIPS / name).iterdir())
            assert len(frames) == count and sum(p.stat().st_size for p in frames) < 4e6
            continue
        told = json.loads((demo.CLIPS / f"{name}.json").read_text())
        assert (demo.CLIPS / name).stat().st_size < 4e6
        fresh = json.loads(json.dumps(cameras.truth(cameras.load(kind), count)))
        assert told == fresh
