"""Two lenses made one: against how the simulated cameras were really held, and against a camera that needs no joining."""

from __future__ import annotations

import json
from dataclasses import replace
from fractions import Fraction

import numpy as np
import pytest
from scipy.ndimage import map_coordinates
from scipy.spatial.transform import Rotation

from adzer.core.errors import AdzerError
from adzer.core.intake.take import read_file
from adzer.core.job import Job
from adzer.core.join.measure import answers, match
from adzer.core.light.curves import STANDARD, gamma_curve
from adzer.core.light.samples import Samples
from adzer.core.media.decode import opened
from adzer.core.media.formats import PixelFormat
from adzer.core.route import Route, walk
from adzer.core.run.matching import calibrate_lenses, match_lenses
from adzer.core.run.pixels import Processor
from adzer.core.sim import camera as cameras
from adzer.core.sim import pairs
from adzer.core.sim.cameras import lens_pair
from adzer.core.space import sphere
from adzer.core.space.sphere import Lens, Round
from adzer.core.steady.step import lens_of

from ..foreign import photograph
from .test_cli import adzer

FRONT = replace(lens_pair.CAMERA, sound=False)
AT = FRONT.pose(0.0)


def shot_pair(folder, heading=0.0, tilt=0.0, roll=0.0, exposure=0.0, apart=0.0, frames=3):
    """Files of both lenses, and the turn of the second: what the first sees in direction d it holds in turn·d. ``apart``: metres."""
    front, rear = pairs.lenses(pairs.Held(apart, heading, tilt, roll, stops=exposure))
    files = pairs.shoot((front, rear), frames, (folder / "front.mp4", folder / "rear.mp4"))
    return files, rear.pose(0.0).rotation().T @ AT.rotation()


@pytest.fixture(scope="module")
def leaning(tmp_path_factory):
    return shot_pair(tmp_path_factory.mktemp("pair"), 0.9, -0.7, 1.4, -0.5)


def both(files, turn=0.0):
    facts, seen = read_file(files[0], rear=files[1])
    route = Route().with_("read", projection="fisheye").with_("shape", across=200.0)
    return facts, seen, route


def test_the_second_lens_is_found_where_it_was_held_and_as_dark_as_it_was(leaning):
    files, turn = leaning
    facts, seen, route = both(files)
    assert len(seen.discs) == 2 and facts.beside
    found = match_lenses(facts, route, seen)
    off = np.degrees(np.linalg.norm(sphere.turned_about(sphere.rotation(*found.turn) @ turn.T)))
    assert off < 0.2 and off < found.error < 0.6, (off, found)
    assert np.abs(np.array(found.gain) / 2**0.5 - 1).max() < 0.06 and found.pieces > found.looked / 2


def test_two_lenses_are_asked_about_once_and_offered_what_they_are(leaning):
    """Not two eyes first, and no second question about eyes; one fix settles it."""
    facts, seen = read_file(leaning[0][0], rear=leaning[0][1])
    asked = [f for f in walk(Route(), facts, seen)["read"].findings if f.level.weight == 2 or f.code.startswith(("projection", "eyes"))]
    assert [f.code for f in asked] == ["two-pictures"] and asked[0].fix.answers == {"projection": "fisheye", "eyes": "one"}
    mended = walk(Route().mended(asked[0].fix), facts, seen)
    assert mended.draft.rig is not None and "two-pictures" not in [f.code for f in mended.findings]


@pytest.mark.parametrize("across", [184.0, 190.0, 230.0])
def test_a_wrong_declared_angle_is_named_by_the_refusal(leaning, across):
    """They see 200°. Not the sky, nor which file is which, is what is wrong."""
    facts, seen, route = both(leaning[0])
    with pytest.raises(AdzerError, match=f"declared to see {across:g}° and taken as equidistant, which does not fit what both see"):
        calibrate_lenses(facts, route.with_("shape", across=across), seen)


def lens_over(photo, turn, gain=1.0, n=480, x=0.5, y=0.5, radius=0.48):
    """A 200° equidistant lens, its centre and radius shares of the picture's side, in a world that is a photograph, laid round by heading
    and tilt; written without the product's spheres. ``turn``: from the world to the camera."""
    down, across = (np.mgrid[0:n, 0:n] + 0.5) / n
    u, v = (across - x) / radius, (y - down) / radius
    r = np.hypot(u, v)
    k = np.sin(np.radians(100 * r)) / np.maximum(r, 1e-9)
    d = np.stack([u * k, np.cos(np.radians(100 * r)), v * k], -1) @ turn
    heading, tilt = np.arctan2(d[..., 0], d[..., 1]), np.arcsin(np.clip(d[..., 2], -1, 1))
    h, w = photo.shape[:2]
    at = [(0.5 - tilt / np.pi) * (h - 1), np.abs((heading / np.pi + 1) * 1.5 % 2 - 1) * (w - 1)]
    world = 0.7 * np.stack([map_coordinates(photo[..., c] / 255.0, at, order=1) for c in range(3)], -1)
    codes = np.where(r[..., None] > 1, 0, 255 * (world**2.2 * gain) ** (1 / 2.2))
    return np.clip(np.round(codes), 0, 255).astype(np.uint8)


@pytest.mark.parametrize("name", ["astronaut", "coffee", "grass", "brick"])
def test_photographs_that_are_not_ours_are_matched_and_what_is_no_pair_is_refused(name):
    photo, other = photograph(name), photograph("rocket" if name != "coffee" else "camera")
    back, turn = np.diag([-1.0, -1.0, 1.0]), Rotation.from_rotvec(np.radians([1.4, -0.9, 2.1])).as_matrix()
    lens = Round((960, 480), tuple(Lens(240 + 480 * n, 240, 230.4, 200.0, 180.0 * n) for n in (0, 1)))
    form, power = Samples(PixelFormat(8, "4:4:4"), "rgb", False), gamma_curve("power", 2.2)
    first = lens_over(photo, np.eye(3))

    def matched(second, front=first):
        both = np.hstack([front, second])
        return match([tuple(np.ascontiguousarray(both[..., c]) for c in range(3))], form, lens, (0, 0), power)

    found = matched(lens_over(photo, back @ turn, 0.8))
    off = np.degrees((Rotation.from_matrix(turn).inv() * Rotation.from_matrix(sphere.rotation(*found.turn))).magnitude())
    assert off < 0.1 and off < found.error < 0.4 and np.abs(np.array(found.gain) * 0.8 - 1).max() < 0.03, (off, found)
    whole = lens_over(photo, back)
    for wrong in (whole[:, ::-1], whole[::-1, ::-1], first, lens_over(other, back)):
        with pytest.raises(AdzerError, match="too little to match them by"):
            matched(wrong)
    dark = matched(lens_over(photo, back, 0.004), lens_over(photo, np.eye(3), 0.004)) if name == "astronaut" else None
    assert dark is None or (dark.compared == 0 and dark.gain == (1.0, 1.0, 1.0) and "too dark" in dark.saw)


def test_ground_that_is_near_is_not_taken_for_a_lens_that_leans(tmp_path):
    """Three centimetres between the lenses move the ground under them by a degree, and only there."""
    files, turn = shot_pair(tmp_path, -1.5, 1.0, -0.5, 0.3, apart=0.03)
    found = match_lenses(*(both(files)[i] for i in (0, 2, 1)))
    off = np.degrees(np.linalg.norm(sphere.turned_about(sphere.rotation(*found.turn) @ turn.T)))
    assert off < 0.35 and off < found.error, (off, found)


def delivered(facts, seen, route, heading):
    """A straight view, as signal, of the first frame."""
    view = {"keys": [{"heading": heading, "fov": 80.0}]}
    walked = walk(route.with_("shape", view=view, shape=Fraction(16, 9)), facts, seen)
    assert walked.draft.rig is not None
    plan = walked.draft.frozen(replace(walked.draft.target.samples, format=replace(walked.draft.target.samples.format, chroma="4:4:4")))
    plan = plan.at_size(480, 270)
    out = tuple(np.zeros(plan.raster[::-1], plan.target.format.dtype) for _ in range(3))
    readers = [opened(i.sources) for i in plan.inputs]
    with Processor(plan, 2) as processor:
        processor.run([r.frame(0).planes for r in readers], out)
    for reader in readers:
        reader.close()
    matrix = plan.target.to_signal()
    return np.stack(out, -1).astype(float) @ matrix[:, :3].T + matrix[:, 3], walked


def test_what_lies_over_the_seam_is_what_a_camera_without_one_sees(leaning):
    """A flat camera of the simulated world, that looks where the two lenses meet, is the truth; it shares nothing with the joining."""
    files, _ = leaning
    facts, seen, route = both(files)
    flat = cameras.Camera("flat", (480, 270), Fraction(25), FRONT.recorder, "mp4", 80.0, pose=lambda _: replace(AT, heading=AT.heading + 90))
    truth = STANDARD["bt709"].encode(np.clip(flat.light(0.0, 3), 0, 1))
    plain, walked = delivered(facts, seen, route, 90.0)
    assert any(f.code == "lenses-not-matched" for f in walked.findings) and len(walked.draft.inputs) == 2
    assert lens_of(walked["steady"].before, walked.draft) is None  # nobody knows how it turns
    matched, walked = delivered(facts, seen, route.with_("join", **answers(match_lenses(facts, route, seen))), 90.0)
    assert not any(f.code == "lenses-not-matched" for f in walked.findings)
    seen_through = lens_of(walked["steady"].before, walked.draft)
    assert seen_through is not None and [one.facing for one in seen_through.lenses] == [0.0, 180.0]
    ground = slice(150, 260)  # bright sky rolls off in such recorders, which is no matter of joining
    before, after = (np.abs(v - truth)[ground].mean() for v in (plain, matched))
    assert after < 0.6 * before and after < 0.03, (before, after)
    step = [abs(np.median(v[ground, 244:256]) - np.median(v[ground, 224:236])) for v in (plain, matched)]
    assert step[1] < 0.02 < 0.05 < step[0]


def test_far_from_the_seam_one_lens_alone_is_looked_through(leaning):
    files, _ = leaning
    facts, seen, route = both(files)
    plain, _ = delivered(facts, seen, route, 0.0)
    matched, _ = delivered(facts, seen, route.with_("join", turn=(3.0, 2.0, 1.0), gain=(2.0, 2.0, 2.0)), 0.0)
    assert np.array_equal(plain, matched)


def test_lenses_that_cannot_be_matched_are_refused_with_what_would_help(leaning):
    files, _ = leaning
    facts, seen, route = both(files)
    with pytest.raises(AdzerError, match="hardly overlap"):
        match_lenses(facts, route.with_("shape", across=180.0), seen)
    with pytest.raises(AdzerError, match="Say so on Read"):
        match_lenses(facts, Route(), seen)
    lens = Round((640, 320), tuple(Lens(160 + 320 * n, 160, 154, 200.0, 180.0 * n) for n in (0, 1)))
    sky = [(np.full((320, 640), 140, np.uint8), *(np.full((160, 320), 120, np.uint8),) * 2)]
    with pytest.raises(AdzerError, match="too little to match them by"):
        match(sky, FRONT.recorder.samples, lens, (0, 0), None)


def test_a_jobs_lenses_are_matched_by_command(leaning, tmp_path):
    facts, seen, route = both(leaning[0])
    path = tmp_path / "mill.adzer"
    with Job.create(path, "mill") as job:
        job.add_shot(facts, "court", "lens pair", Route(), seen=seen)
    nothing = adzer("lenses", path)
    assert nothing.returncode != 0 and "Say so on Read first" in nothing.stderr
    assert adzer("answer", path, "read.projection=fisheye", "shape.across=200").returncode == 0
    done = adzer("lenses", path, "--json")
    assert done.returncode == 0, done.stderr
    (row,) = json.loads(done.stdout)["lenses"]
    with Job.open(path) as job:
        (shot,) = job.shots()
        assert list(shot.route.join.turn) == row["turn"] and shot.route.join.error == row["error"] < 0.6 and row["pieces"] > 40
        assert job.undo() == "lenses matched" and job.shots()[0].route.join.error is None
