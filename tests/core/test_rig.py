"""Two round lenses calibrated and made a sphere: against photographs laid round by other means, and the simulated world's own sphere."""

from __future__ import annotations

import json
from dataclasses import replace

import av
import numpy as np
import pytest
from scipy.ndimage import gaussian_filter, map_coordinates, shift
from scipy.optimize import fsolve
from scipy.spatial.transform import Rotation

from adzer.core import cards
from adzer.core.compile import freeze, preview_plan
from adzer.core.errors import AdzerError
from adzer.core.intake.take import read_file
from adzer.core.join import rig
from adzer.core.join.along import PLACES, Overlap, measured
from adzer.core.join.eyes import answers as eyes_answers
from adzer.core.join.measure import Light, light_of
from adzer.core.join.settings import JoinSettings
from adzer.core.light.curves import STANDARD, gamma_curve
from adzer.core.light.samples import Samples
from adzer.core.media.formats import PixelFormat
from adzer.core.media.told import told
from adzer.core.plan import Draft, Foot, Input, Panel, Patch, Rig
from adzer.core.records import from_json, to_json
from adzer.core.route import Route, walk
from adzer.core.run.frames import Inputs
from adzer.core.run.matching import along_seam, depth_at, look_at_eyes
from adzer.core.run.pixels import Processor
from adzer.core.run.render import render
from adzer.core.shape import seam
from adzer.core.shape.view import _covered, through_two
from adzer.core.shutter import exposed
from adzer.core.sim import camera as cameras
from adzer.core.sim import pairs, player
from adzer.core.sim.optics import Disc, Sphere, eyes
from adzer.core.space.looks import SphereLook, ViewLook
from adzer.core.space.meeting import Around, Below, Meeting
from adzer.core.space.path import Key, ViewPath
from adzer.core.space.sphere import Lens, Round

from ..foreign import photograph
from .test_cli import adzer
from .test_join import AT, FRONT, both, lens_over, shot_pair
from .test_shutter import written

N = 640
BACK = np.diag([-1.0, -1.0, 1.0])


def held(direction, x, y, radius, across=200.0):
    """Where that lens records directions of its own: (n, 2) pixels."""
    angle = np.degrees(np.arctan2(np.hypot(direction[:, 0], direction[:, 2]), direction[:, 1]))
    side = np.maximum(np.hypot(direction[:, 0], direction[:, 2]), 1e-9)
    r = angle / (across / 2) * radius
    return np.stack([(x + r * direction[:, 0] / side) * N, (y - r * direction[:, 2] / side) * N], -1)


FIRST, SECOND = (0.502, 0.4985, 0.4848), (0.4983, 0.5021, 0.4752)


def apart(found, turn):
    """Degrees by which the two fitted lenses disagree on what lies where both see; ``turn``: of the second, from the first's directions
    seen backwards."""
    rng = np.random.default_rng(1)
    around, height = rng.uniform(0, 2 * np.pi, 2000), np.radians(rng.uniform(-7, 7, 2000))
    d = np.stack([np.cos(height) * np.sin(around), np.sin(height), np.cos(height) * np.cos(around)], -1)
    lenses = [Lens(v.x * N, v.y * N, v.radius * N, v.across, 180.0 * n, v.bend) for n, v in enumerate(found.lenses)]
    one = Round((2 * N, N), (lenses[0],)).direction(held(d, *FIRST))
    seen = d @ (BACK @ turn).T
    two = Round((2 * N, N), (lenses[1],)).direction(held(seen, *SECOND) + [N, 0])
    heading, tilt, roll = np.radians(found.turn)
    fit = Rotation.from_euler("ZXY", [-heading, tilt, roll]).as_matrix()
    cross = np.linalg.norm(np.cross(one, two @ fit), axis=1)
    return np.degrees(np.arcsin(np.clip(cross, 0, 1)))


@pytest.mark.parametrize("name, known", [("astronaut", True), ("coffee", False)])
def test_lenses_are_found_as_photographs_not_ours_show_them(name, known):
    """Off by 6 pixels of 2880 and 1 % of the radius from what they are taken for, and turned by a degree and more."""
    photo = photograph(name)
    turn = Rotation.from_rotvec(np.radians([0.9, -0.7, 1.1])).as_matrix()
    both_ = np.hstack([lens_over(photo, t, gain, N, *where) for t, gain, where in ((np.eye(3), 1.0, FIRST), (BACK @ turn, 0.8, SECOND))])
    form, power = Samples(PixelFormat(8, "4:4:4"), "rgb", False), gamma_curve("power", 2.2)
    planes = tuple(np.ascontiguousarray(both_[..., c]) for c in range(3))
    taken = Round((2 * N, N), tuple(Lens((0.5 + n) * N, 0.5 * N, 0.48 * N, 200.0, 180.0 * n) for n in (0, 1)))
    if not known:
        taken = rig.seeing([planes], form, taken, (0, 0), power)
    found = rig.calibrate([planes], form, taken, (0, 0), power, rig.USUAL if known else rig.GUESSED)
    off = apart(found, turn)
    assert np.median(off) < 0.06 and np.quantile(off, 0.95) < 0.15, (np.median(off), np.quantile(off, 0.95))
    assert np.median(off) < found.error < 1.0 and np.abs(np.array(found.light.gain) * 0.8 - 1).max() < 0.02
    assert found.light.falls == 0 and np.abs(found.light.black).max() < 0.002
    if not known:
        twice = np.hstack([both_[:, :N], both_[:, :N]])
        same = [tuple(np.ascontiguousarray(twice[..., c]) for c in range(3))]
        with pytest.raises(AdzerError, match="does not go together|too little|Nothing was found"):
            rig.calibrate(same, form, rig.seeing(same, form, taken, (0, 0), power), (0, 0), power, rig.GUESSED)
    if known:
        other = np.hstack([both_[:, :N], lens_over(photograph("rocket"), np.eye(3), 1.0, N, *SECOND)])
        with pytest.raises(AdzerError, match="too little to match"):
            rig.calibrate([tuple(np.ascontiguousarray(other[..., c]) for c in range(3))], form, taken, (0, 0), power)
        sky = np.full((N, 2 * N), 180, np.uint8)
        with pytest.raises(AdzerError, match="Nothing was found that both lenses see"):
            rig.seeing([(sky, sky, sky)], form, taken, (0, 0), power)


def test_a_seam_is_the_same_way_for_both_and_shares_make_one():
    rng = np.random.default_rng(2)
    seam = tuple(np.radians(rng.uniform(-5, 5, 24)).tolist())
    meeting = Meeting((0.0, 1.0, 0.0), (0.0, -1.0, 0.0), 0.05, Around((0.0, 2.0), (seam, (0.0,) * 24)))
    d = rng.normal(size=(4000, 3))
    for time in (0.0, 1.3):
        assert np.allclose(meeting.at(d, time) + meeting.turned.at(d, time), 1.0, atol=1e-9)
    a, b = meeting.at(d, 0.0), meeting.turned.at(d, 0.0)
    assert np.allclose(a + b, 1.0, atol=1e-9) and 0 < ((a > 0) & (a < 1)).mean() < 0.1
    for n in (0, 5, 17):  # from straight up on to the right, nearer to the first lens by so much
        t = 2 * np.pi * n / 24
        at = np.cos(seam[n]) * np.array([np.sin(t), 0, np.cos(t)]) + np.sin(seam[n]) * np.array([0, 1, 0])
        assert meeting.at(at, 0.0) == meeting.at(at, -9.0) == pytest.approx(0.5, abs=1e-6)


def test_the_seam_goes_round_what_differs():
    """A thing that only one lens sees, on the middle of the overlap: the way passes beside it."""
    lens = Round((2 * N, N), tuple(Lens((0.5 + n) * N, 0.5 * N, 0.48 * N, 200.0, 180.0 * n) for n in (0, 1)))
    grey = np.full((N, 2 * N), 100, np.uint8)
    around = np.radians(np.arange(80, 100, 0.05))
    for height in np.radians(np.arange(-1.0, 3.0, 0.05)):
        d = np.stack([np.cos(height) * np.sin(around), np.full_like(around, np.sin(height)), np.cos(height) * np.cos(around)], -1)
        x, y = (lens.place(d, np.zeros(len(around), int)).astype(int)).T
        grey[y, x] = 220
    form = Samples(PixelFormat(8, "4:4:4"), "rgb", False)
    found = measured([(0.0, (grey, grey, grey))], Overlap(lens, (0, 0), np.eye(3), form, None, Light()), 1.0)
    (met,), (there, middle) = found.met, found.differs
    at = {round(360 * i / len(met.seam)): v for i, v in enumerate(met.seam)}
    assert all(at[a] < -1.0 or at[a] > 3.0 for a in (84, 90, 96)) and abs(at[270]) < 0.5 and there < middle


@pytest.fixture(scope="module")
def near(tmp_path_factory):
    """Two files, what is known of them, and the rig that the command line measures and writes as ``mill.toml`` beside them."""
    folder = tmp_path_factory.mktemp("rig")
    files, _ = shot_pair(folder, 0.7, -0.7, 0.7, -0.3, 0.03, 2)
    made = adzer("rig", *files, "--across", "200", "--out", folder / "mill.toml", "--base", "0.03", "--json")
    assert made.returncode == 0 and json.loads(made.stdout)["base"] == 0.03, made.stderr
    return *((files, *both(files))), from_json(made.stdout, rig.Rigged, "the rig")


def test_near_things_stand_apart_as_far_as_the_lenses_do(near):
    """Arithmetic: three centimetres over the way to the ground, whose height is known."""
    *_, found = near
    straight = np.degrees(0.03 / AT.place[2])
    assert found.ground == pytest.approx(straight, rel=0.2)
    below = [n for n in found.near if 120 < n.turned < 240]
    wanted = np.array([straight * -np.cos(np.radians(n.turned)) for n in below])
    off = np.abs(np.array([n.apart for n in below]) - wanted)
    assert len(below) > 30 and np.median(off) < 0.2 * np.median(wanted), np.median(off)
    above = [n.apart for n in found.near if n.turned < 80 or n.turned > 280]
    assert np.median(above) < 0.12


def signal_of(path):
    with av.open(str(path)) as container:
        frame = next(container.decode(video=0))
        return frame.to_ndarray(format="rgb24", src_colorspace=1, dst_colorspace=1) / 255.0


def torn(made, truth, column, rows=slice(226, 258), near=8, far=44):
    """Pixels by which what lies right of a column is aside of what lies left of it, against the truth moved by a spline."""
    aside, steps = [], np.arange(-4, 4.01, 0.1)
    for first, last in ((column - far, column - near), (column + near, column + far)):
        one, two = (gaussian_filter(v[rows, first - 10 : last + 10, 1], 0.7) for v in (truth, made))
        off = [np.mean((shift(one, (0, s), order=3)[:, 10:-10] - two[:, 10:-10]) ** 2) for s in steps]
        aside.append(steps[int(np.argmin(off))])
    return aside[1] - aside[0]


def test_the_sphere_is_the_one_that_a_camera_without_a_seam_sees(near, tmp_path):
    files, *_ = near
    card = files[0].with_name("mill.toml")
    assert cards.read_card(card, "rigs").base == 0.03
    assert adzer("rig", *files, "--out", card).returncode == 2
    tears = {}
    ways = (("near", 0.015, ("--no-close", "--distance", "2.5")), ("far", 0.0, ("--no-close",)), ("closed", 0.015, ()))
    for name, behind, words in ways:  # it is looked from the middle of both, or from the first
        out, place = tmp_path / f"{name}.mp4", tuple(np.array(AT.place) - behind * AT.rotation()[:, 1])
        sphere = Sphere("truth", (640, 320), FRONT.rate, FRONT.recorder, "mp4", 360.0, pose=lambda _, place=place: replace(AT, place=place))
        truth = STANDARD["bt709"].encode(np.clip(sphere.light(0.0, 3), 0, 1))
        words = (*words, "--blend", "1", "--size", "640x320", "--card", "web-sphere")
        done = adzer("stitch", *files, "--rig", card, *words, "--out", out, "--json")
        assert done.returncode == 0, done.stderr
        made = signal_of(out)
        ahead = player.shown(out, heading=20.0, tilt=-5.0, wide=320)
        pose = replace(AT, place=place, heading=AT.heading + 20, tilt=-5.0)
        flat = cameras.Camera("flat", (320, 180), FRONT.rate, FRONT.recorder, "mp4", 90.0, pose=lambda _, pose=pose: pose)
        off = np.abs(ahead["left"] / 255.0 - STANDARD["bt709"].encode(np.clip(flat.light(0.0, 2), 0, 1)))[100:].mean()
        assert off < 0.03 and np.array_equal(ahead["left"], ahead["right"]), "who looks around in it sees the place"
        tears[name] = [torn(made, truth, seam) for seam in (160, 480)]
        tears[name + " there"] = [torn(made, truth, seam, near=2, far=10) for seam in (160, 480)]
        said = told(out)
        assert said.projection == "equirectangular" and said.eyes == "one" and out.with_name(out.name + ".txt").exists()
    # Ground 46° down is 2.5 m away; along the axis a heading is longer there by one over the cosine.
    predicted = np.degrees(0.03 / 2.5) / 360 * 640 / np.cos(np.radians(46))
    assert abs(np.abs(tears["far"]).mean() - predicted) < 0.25 * predicted, (tears, predicted)
    assert np.abs(tears["near"]).max() < 0.25 * predicted, (tears, predicted)
    assert np.abs(tears["closed there"]).mean() < 0.4 * np.abs(tears["far there"]).mean(), tears
    asked = adzer("stitch", *files, "--rig", card, "--size", "640x480", "--card", "web-sphere", "--out", tmp_path / "x.mp4")
    assert asked.returncode == 2 and "twice as wide" in asked.stderr
    alone = adzer("stitch", files[0], "--card", "web-sphere", "--out", tmp_path / "x.mp4")
    assert alone.returncode == 2 and "Give the rear lens's file" in alone.stderr


def test_a_card_that_shows_spheres_gets_one_and_what_is_not_known_is_asked(near):
    _, facts, seen, route, found = near
    route = route.with_("join", **rig.answers(found))
    sphere = cards.delivery("web-sphere")
    walked = walk(route, facts, seen, sphere)
    assert walked["shape"].after.projection == "equirectangular" and walked.stopped is None
    w, h = walked["shape"].after.raster
    assert w == 2 * h and len(walked.draft.inputs) == 2
    flat = walk(route, facts, seen, cards.delivery("web-wide"))
    assert flat.stopped.code == "projection-needs-metadata"
    asked = walk(route.with_("join", distance=2.0), facts, seen, sphere)
    assert asked.stopped.code == "rig-base-unknown" and walk(route.mended(asked.stopped.fix).with_("join", distance=None), facts, seen, sphere)
    known = walk(route.with_("join", distance=2.0, base=0.03), facts, seen, sphere)
    assert known.stopped is None and known.draft.panels[0].patches[0].away.apart == pytest.approx(0.0075)
    along = along_seam(facts, route.with_("join", distance=2.0, base=0.03), seen)
    assert {len(v) for v in (along.met[0].seam, along.met[0].apart, *along.met[0].tones)} == {PLACES}


def test_a_rig_card_says_it_all_again(near, tmp_path):
    *_, found = near
    path = tmp_path / "rigs" / "mill.toml"
    path.parent.mkdir()
    path.write_text(rig.text(rig.card_of(found, "mill", "under water", 0.03)))
    card = cards.read_card(path)
    told_again = rig.by_card(card, "mill")
    first = rig.answers(found)
    assert np.allclose(told_again["turn"], first["turn"], atol=1e-4) and told_again["base"] == 0.03
    for a, b in zip(told_again["lenses"], first["lenses"], strict=True):
        assert a["x"] == pytest.approx(b["x"], abs=1e-5) and a["bend"] == pytest.approx(b["bend"], abs=1e-5)


def test_two_eyes_of_round_lenses_leave_as_two_half_spheres(tmp_path):
    """Against the world's own half spheres, each eye where it stands; moved aside to fit best by not even half a pixel."""
    one = replace(FRONT.sized((320, 320)), field_of_view=190.0, discs=(Disc(0.5, 0.5, 0.47),))
    camera = replace(eyes("round eyes", one), sound=False)
    cameras.shoot(camera, 2, tmp_path / "round.mp4", samples=2)
    facts, seen = read_file(tmp_path / "round.mp4")
    route = Route().with_("read", projection="fisheye", eyes="side by side", first="left", curve="bt709").with_("shape", across=190.0)
    report = render(freeze("x", facts, route.with_("join", laid="beside"), "web-sphere", tmp_path / "half.mp4", seen=seen))
    said, (w, h) = told(tmp_path / "half.mp4"), report.raster
    assert report.passed and w == 2 * h and said.bounds == (0.0, 0.0, 0.25, 0.25) and (said.eyes, said.first) == ("side by side", "left")
    made, steps = signal_of(tmp_path / "half.mp4"), np.arange(-3, 3.01, 0.25)
    for n, which in enumerate(("left", "right")):
        sphere = Sphere("truth", (h, h), FRONT.rate, FRONT.recorder, "mp4", 180.0, pose=camera.eye(which).pose)
        truth = gaussian_filter(STANDARD["bt709"].encode(np.clip(sphere.light(0.0, 3), 0, 1))[..., 1], 0.7)
        mine = gaussian_filter(made[:, n * h : (n + 1) * h, 1], 0.7)
        part = slice(h // 2, h * 3 // 4), slice(h // 4, h * 3 // 4)
        for axis in (0, 1):
            off = [np.mean((shift(truth, (s, 0) if axis == 0 else (0, s), order=3)[part] - mine[part]) ** 2) for s in steps]
            assert abs(steps[int(np.argmin(off))]) <= 0.25, (which, axis)
    view = route.with_("shape", view={"keys": [{"heading": 10.0, "fov": 70.0}]}).with_("join", laid="over")
    walked = walk(view, facts, seen, cards.delivery("native-wide"))
    assert walked["shape"].after.eyes == "over under" and [p.patches[0].region[0] for p in walked.draft.panels] == [0, 320]


def test_what_is_pinned_lies_in_one_direction_for_both_round_eyes(tmp_path):
    """A photograph two metres ahead, drawn as lenses of 190° see it from 10 cm to the left and to the right: a place on it stands apart by what
    arithmetic says, and pinned lies at one heading in both planned half spheres; what is far then stands behind it by as much."""
    n, wide = 640, 190.0
    lens = Round((n, n), (Lens(n / 2, n / 2, 0.47 * n, wide),))
    picture = gaussian_filter(photograph("astronaut").mean(-1), 0.8)
    y, x = np.mgrid[0:n, 0:n] + 0.5
    d = lens.direction(np.stack([x, y], -1))
    ahead = np.maximum(d[..., 1:2], 1e-3)
    eyes_ = []
    for aside in (-0.1, 0.1):  # the photograph is 3 m wide; beyond it, it is repeated as in a mirror
        at = (np.array([aside, 0.0]) + 2.0 * d[..., ::2] / ahead) / 3.0 * picture.shape[1] * [1, -1] + np.array(picture.shape[::-1]) / 2
        seen_there = 200 + 2.8 * map_coordinates(picture, [at[..., 1], at[..., 0]], order=1, mode="mirror")
        eyes_.append(np.where(lens.margin(d) > 0, np.where(d[..., 1] > 0.1, seen_there, 500), 64))
    written(tmp_path / "pair.mkv", [np.round(np.hstack(eyes_))] * 3, 25)
    facts, seen = read_file(tmp_path / "pair.mkv")
    route = Route().with_("read", projection="fisheye", eyes="side by side", first="left", curve="bt709").with_("shape", across=wide)
    route = route.with_("join", laid="beside")
    card = cards.delivery("web-sphere")

    def heading(eye, place, route):  # of a place in metres, as its half sphere shows it
        panel = walk(route, facts, seen, card).draft.panels[eye]
        way = np.array(place) - [(-0.1, 0.1)[eye], 0.0, 0.0]
        recorded = lens.place(way / np.linalg.norm(way))
        w, h = panel.size
        return fsolve(lambda v: panel.patches[0].lens.place(panel.patches[0].held(panel.look.directions(*v[:, None], 0.0), 0.0))[0] - recorded,
                      [w / 2, h * 0.6])[0] / w * 180 - 90  # fmt: skip

    for place in ((0.15, 2.0, -0.2), (-0.5, 2.0, 0.35)):
        inside = lens.place(np.array(place) + [0.1, 0.0, 0.0]) / n
        pinned = route.with_("join", pin=round(-depth_at(facts, route, seen, *inside), 4))
        apart = np.degrees(np.arctan2(place[0] - 0.1, 2.0) - np.arctan2(place[0] + 0.1, 2.0))
        assert heading(1, place, route) - heading(0, place, route) == pytest.approx(apart, abs=0.01) and apart < -5
        pixel = 180 / walk(route, facts, seen, card).draft.panels[0].size[0]
        assert abs(heading(1, place, pinned) - heading(0, place, pinned)) < 0.25 * pixel
        far = np.array([0.0, 1e5, 0.0])
        assert heading(1, far, pinned) - heading(0, far, pinned) == pytest.approx(-apart, abs=0.1)
    keyed = route.with_("join", pins=[[0.0, 0.0], [1.0, pinned.join.pin]])  # halfway in time, half of it
    turned = [p.patches[0].turning.at(np.array(0.5)) @ [0.0, 1.0, 0.0] for p in walk(keyed, facts, seen, card).draft.panels]
    assert abs(np.degrees(np.arctan2(*turned[1][:2]) - np.arctan2(*turned[0][:2]))) == pytest.approx(-apart / 2, abs=0.1)


def test_a_rim_that_is_barer_than_half_a_sphere_fades(tmp_path):
    """White, seen by lenses of 170°: straight ahead white, black from 85° on, and in between evenly less over 4°; by 190°, white to the edge."""
    for name, across in (("bare", 170.0), ("whole", 190.0)):
        n = 320
        y, x = np.mgrid[0:n, 0:n] + 0.5
        disc = np.where(np.hypot(x - n / 2, y - n / 2) < 0.47 * n, 940, 64)
        written(tmp_path / f"{name}.mkv", [np.hstack([disc, disc])] * 2, 25)
        facts, seen = read_file(tmp_path / f"{name}.mkv")
        route = Route().with_("read", projection="fisheye", eyes="side by side", first="left", curve="bt709", range="limited")
        route = route.with_("shape", across=across).with_("join", laid="beside")
        walked = walk(route, facts, seen, cards.delivery("web-sphere"))
        plan = walked.draft.frozen()
        w, h = plan.panels[0].size
        out = tuple(np.zeros(plan.target.format.plane_size(plan.raster, i)[::-1], plan.target.format.dtype) for i in range(3))
        with Inputs(plan.inputs, facts) as inputs, Processor(plan, 2) as processor:
            (planes,) = inputs.along(np.array([0]), np.array([0.0]))
            processor.run(planes, out)
        row = out[0][h // 2, :w].astype(float)
        level = (row - plan.target.black()[0]) / (row[w // 2] - plan.target.black()[0])
        wanted = np.clip((across / 2 - np.abs((np.arange(w) + 0.5) / w * 180 - 90)) / 4, 0, 1) if across < 180 else np.ones(w)
        near = np.abs(np.abs((np.arange(w) + 0.5) / w * 180 - 90) - across / 2) > 1  # where the disc itself ends its edge is sampled
        assert np.abs(level - wanted)[near].max() < 0.03, (name, np.abs(level - wanted)[near].max())


def test_round_eyes_that_lean_are_brought_level(tmp_path):
    """One eye looks up by 0.8° and leans by 1.2° against the other: where the world's far things are recorded through what is planned."""
    one = replace(FRONT.sized((480, 480)), field_of_view=190.0, discs=(Disc(0.5, 0.5, 0.47),))
    held = pairs.Held(0.065, 0.0, 0.8, 1.2)
    both_ = [pairs._made(one, (share * held.apart, 0.0), held, share, share > 0) for share in (-0.5, 0.5)]
    files = pairs.shoot(both_, 2, (tmp_path / "a.mp4", tmp_path / "b.mp4"))
    facts, seen = read_file(files[0], rear=files[1])
    route = Route().with_("read", projection="fisheye", eyes="side by side", first="left", curve="bt709").with_("shape", across=190.0)
    found = look_at_eyes(facts, route, seen)
    route = route.with_("join", laid="beside", **eyes_answers(found))
    walked = walk(route, facts, seen, cards.delivery("web-sphere"))
    assert walked.stopped is None and not any(f.code == "eyes-not-in-line" for f in walked.findings)
    rng, off, before = np.random.default_rng(3), [], []
    at = AT.rotation()
    for _ in range(60):  # far things ahead: where both eyes hold them, the planned picture shows at one height
        d = np.array([rng.uniform(-0.7, 0.7), 1.0, rng.uniform(-0.4, 0.4)])
        heights = []
        for n, (camera, panel) in enumerate(zip(both_, walked.draft.panels, strict=True)):
            recorded = camera.project((np.array(camera.pose(0.0).place) + 1000 * at @ d)[None], 0.0)[0]

            def away(v, panel=panel, recorded=recorded):
                return panel.recorded(np.array(v[0]), np.array(v[1]), 0.0) - recorded - [0, 0]

            heights.append(fsolve(away, [panel.size[0] / 2, panel.size[1] / 2])[1] / panel.size[1] * 180)
            before.append(recorded[1]) if n == 0 else before.append(before.pop() - recorded[1])
        off.append(abs(heights[1] - heights[0]))
    assert np.quantile(off, 0.95) < 0.12 and np.abs(before).max() / 480 * 200 > 0.8, (np.quantile(off, 0.95), "degrees")


def test_a_view_that_crosses_the_seam_says_so_and_how_it_does_not(near):
    """The lenses face 0° and 180°: a view 60° wide that looks at 90° crosses, one at 0° does not; turned by 45° its edge stays 15° clear."""
    _, facts, seen, route, found = near
    route = route.with_("join", **rig.answers(found), close=False)
    measured = {"rig": to_json(found).encode()}

    def said(heading, fov=60.0, **join):
        view = {"keys": [{"heading": heading, "fov": fov}]}
        made = walk(route.with_("shape", view=view).with_("join", **join), facts, seen, cards.delivery("web-wide"), measured=measured)
        return next((f.text for f in made.findings if f.code == "view-crosses-seam"), None)

    assert said(0.0) is None and said(180.0) is None and said(45.0) is None
    assert "turned +45° they do not" in said(90.0) and "turned +20° they do not" in said(105.0) and "turned −10° they do not" in said(66.0)
    assert "turned +90° they do not" in said(90.0, 150.0)
    low = {"keys": [{"heading": 90.0, "tilt": -50.0, "fov": 60.0}]}
    made = walk(route.with_("shape", view=low), facts, seen, cards.delivery("web-wide"), measured=measured)
    text = next(f.text for f in made.findings if f.code == "view-crosses-seam")
    closed = walk(route.with_("shape", view=low).with_("join", close=True), facts, seen, cards.delivery("web-wide"), measured=measured)
    assert "tear" not in next(f.text for f in closed.findings if f.code == "view-crosses-seam")
    pixels = float(text.split("up to ")[1].split(" ")[0])
    nearest = np.degrees(0.03 / AT.place[2])  # straight below, which this view's lower edge nearly sees
    assert pixels == pytest.approx(nearest / 60 * walk(route.with_("shape", view=low), facts, seen)["shape"].after.raster[0], rel=0.35)


def test_light_that_falls_off_and_strays_is_told_from_a_lens_that_records_darker():
    """Falls off as another formula has it, half gone at the rim; a hundredth of white strays in the second, which is a quarter of a stop darker."""
    two = pairs.lenses(pairs.Held(0.0, 0.5, -0.4, 0.6, falls=0.5, veil=0.01), 360)
    rng = np.random.default_rng(4)
    light = np.hstack([camera.light(0.0, 2) * 0.5**stops for camera, stops in zip(two, (0.0, 0.25), strict=True)])
    signal = STANDARD["bt709"].encode(np.clip(light, 0, 1)) + rng.normal(0, 0.003, light.shape)
    form = Samples(PixelFormat(8, "4:4:4"), "rgb", False)
    planes = tuple(np.ascontiguousarray(np.clip(np.round(signal[..., c] * 255), 0, 255), np.uint8) for c in range(3))
    discs = [(c.discs[0], c.field_of_view) for c in two]
    lens = Round((720, 360), tuple(Lens(360 * (d.x + n), 360 * d.y, 360 * d.radius, across, 180.0 * n) for n, (d, across) in enumerate(discs)))
    turn = two[1].pose(0.0).rotation().T @ two[0].pose(0.0).rotation()
    found = light_of([planes], form, lens, (0, 0), turn, STANDARD["bt709"])
    for a, within in ((82.0, 0.08), (86.0, 0.04)):
        wanted = (1 - 0.5 * (a / 100) ** 4) / (1 - 0.5 * ((180 - a) / 100) ** 4)
        told = np.exp(found.falls * (((120 - a) / 40) ** 2 - ((a - 60) / 40) ** 2))
        assert told == pytest.approx(wanted, rel=within), (a, found)
    assert found.gain == pytest.approx((2**0.25,) * 3, rel=0.05) and found.black == pytest.approx((-0.01,) * 3, abs=0.004)
    turned, off = np.arange(0, 360, 3.0), {}
    for light in (found, Light(found.gain, found.black)):  # what both see 6° beside the middle: the one's rim, the other's nearer part
        both_ = Overlap(lens, (0, 0), turn, form, STANDARD["bt709"], light).at(planes, turned, np.full(len(turned), 6.0))
        one, two = (STANDARD["bt709"].decode(np.asarray(v, np.float64)) for v in both_)
        off[light.falls != 0] = abs(float(np.median(np.log(np.maximum(one, 1e-3) / np.maximum(two, 1e-3)))))
    assert off[True] < 0.06 < 0.2 < off[False], off


def test_each_lens_goes_halfway_in_light_and_its_rim_is_made_bright():
    """Arithmetic: what the first recorded a fifth brighter in red is to be as bright in both, and light lost at 90° by e^(−0.5·(30/40)²) is back."""
    lens = Round((2 * N, N), tuple(Lens((0.5 + n) * N, 0.5 * N, 0.48 * N, 200.0, 180.0 * n) for n in (0, 1)))
    told_of = (Around.still_at((float(np.log(1.2)),)), Around.still_at((0.0,)), Around.still_at((0.0,)))
    held = Input(Samples(PixelFormat(8, "4:4:4"), "rgb", False), (2 * N, N))
    patches, _ = through_two(lens, (0, 0, 2 * N, N), Draft(inputs=(held,), rig=Rig(tones=told_of, falls=0.5)))
    sides = np.array([[1.0, 0.0, 0.0], [0.0, 0.0, 1.0]])
    first, second = (p.tone.at(sides, 0.0) for p in patches)
    back = np.exp(0.5 * 0.75**2)
    assert np.allclose(first[:, 0] * 1.2, second[:, 0]) and np.allclose(first[:, 0] * second[:, 0], back**2)
    assert np.allclose(first[:, 1:], back) and np.allclose(second[:, 1:], back)
    assert np.allclose([p.tone.at(np.array([0.0, f, 0.0]), 0.0) for p, f in zip(patches, (1.0, -1.0), strict=True)], 1.0)
    # Detail passes over a third of the way of what is coarse; both ways make one, on either side of the same middle.
    off = np.radians(np.linspace(-8, 8, 65))
    ways = np.stack([np.cos(off), np.sin(off), 0 * off], axis=-1)
    for blend, third in ((12.0, 4.0), (6.0, np.degrees(8 / lens.density))):  # of no fewer than eight recorded pixels
        both, _ = through_two(lens, (0, 0, 2 * N, N), Draft(inputs=(held,), rig=Rig(blend=float(np.radians(blend)))))
        coarse, fine = (np.array([getattr(p, name).at(ways, 0.0) for p in both]) for name in ("share", "fine"))
        assert np.allclose(coarse.sum(axis=0), 1) and np.allclose(fine.sum(axis=0), 1)
        for shares, width in ((coarse, blend), (fine, third)):
            inside = np.degrees(np.abs(off)) < width / 2 - 0.01
            assert np.array_equal((shares[0] > 0) & (shares[0] < 1), inside), (blend, width)
    # Whatever shares them out further, over an open shutter or round a covered foot, all of it stays one.
    panel = Panel(SphereLook((400, 200)), both)
    (averaged,) = exposed(Draft(inputs=(held, held), raster=(400, 200), panels=(panel,)), (0.0, 0.02, 0.04)).panels
    covered, _ = _covered(both, (held, held), Foot(0.5, 0.1))
    everywhere = panel.look.directions(*np.meshgrid(np.arange(400) + 0.5, np.arange(200) + 0.5), 0.0)
    for patches in (averaged.patches, covered):
        assert len(patches) in (4, 6)
        for name in ("share", "fine"):
            assert np.allclose(sum(getattr(p, name).at(everywhere, 0.0) for p in patches), 1), name


def test_answers_of_an_older_form_meet_as_they_did():
    old = {"version": 3, "seam": [1.0, -2.0], "tones": [1.0, 2.0], "base": 0.03}
    made = from_json(json.dumps(JoinSettings.upgraded(old, "It")), JoinSettings, "It")
    (met,) = made.met
    assert met.seam == (1.0, -2.0) and met.tones[2] == (0.0, pytest.approx(np.log(2))) and made.base == 0.03 and met.apart == ()
    assert JoinSettings.upgraded({"version": 3}, "It") == {"version": 4}


def lens_near(photo, facing, apart, n=480):
    """As ``lens_over``, of a world in which what lies round a direction, degrees from straight up on to the right of who looks along the first
    lens, stands ``apart(…)`` degrees apart in the two. ``facing``: 1, −1."""
    down, across = (np.mgrid[0:n, 0:n] + 0.5) / n
    u, v = (across - 0.5) / 0.48, (0.5 - down) / 0.48
    r = np.hypot(u, v)
    k = np.sin(np.radians(100 * r)) / np.maximum(r, 1e-9)
    d = np.stack([u * k * facing, np.cos(np.radians(100 * r)) * facing, v * k], -1)
    height, turned = np.arcsin(np.clip(d[..., 1], -1, 1)), np.degrees(np.arctan2(d[..., 0], d[..., 2])) % 360
    height = height + facing * np.radians(apart(turned)) / 2  # the first sees it lower than it is, the second higher
    x, z = np.cos(height) * np.sin(np.radians(turned)), np.cos(height) * np.cos(np.radians(turned))
    heading, tilt = np.arctan2(x, np.sin(height)), np.arcsin(np.clip(z, -1, 1))
    h, w = photo.shape[:2]
    at = [(0.5 - tilt / np.pi) * (h - 1), np.abs((heading / np.pi + 1) * 1.5 % 2 - 1) * (w - 1)]
    world = np.stack([map_coordinates(photo[..., c] / 255.0, at, order=1) for c in range(3)], -1)
    return np.where(r[..., None] > 1, 0, np.round(255 * world)).astype(np.uint8)


def test_what_stands_near_at_the_seam_is_followed_over_the_take():
    """A photograph that is not ours; a third of the way round stands 1.2° apart, and goes away to 0.5°; the rest is far."""
    photo = photograph("coffee")
    lens = Round((960, 480), tuple(Lens(240 + 480 * n, 240, 230.4, 200.0, 180.0 * n) for n in (0, 1)))
    form = Samples(PixelFormat(8, "4:4:4"), "rgb", False)

    def moments(course):
        for n, most in enumerate(course):

            def apart(turned, most=most):
                return most * np.clip((70 - np.abs((turned - 180 + 180) % 360 - 180)) / 20, 0, 1)

            both_ = np.hstack([lens_near(photo, 1, apart), lens_near(photo, -1, apart)])
            yield n / 2, tuple(np.ascontiguousarray(both_[..., c]) for c in range(3))

    course = (1.2, 1.2, 1.0, 0.7, 0.5, 0.5)
    overlap = Overlap(lens, (0, 0), np.eye(3), form, None, Light())
    found = measured(moments(course), overlap, 3.0)
    assert len(found.met) == len(course)
    for met, most, (_, before, after) in zip(found.met, course, found.tears, strict=True):
        at = {round(360 * i / PLACES): v for i, v in enumerate(met.apart)}
        near = np.median([v for a, v in at.items() if abs(a - 180) < 45])
        far = np.median(np.abs([v for a, v in at.items() if abs(a - 180) > 100]))
        assert near == pytest.approx(most, abs=0.15) and far < 0.06 and after < 0.5 * before, (most, near, far)
    stays = measured(moments((0.8, 0.8, 0.8)), overlap, 3.0)
    assert len(stays.met) == 1 and stays.bent == pytest.approx(135 / 360 * np.sin(np.radians(15)), abs=0.015)  # of it so much lies within 15°


def test_the_seam_is_drawn_where_both_lenses_see_at_the_same_angle():
    """On a sphere and in views of it, against the angles by arithmetic; it wanders over time, and is nowhere where one lens alone is seen."""
    lens = Round((800, 400), (Lens(200, 200, 190, 200.0), Lens(600, 200, 190, 200.0, 180.0)))

    def drawn(look, nearer, time=0.0, covered=False):
        share = Meeting((0.0, 1.0, 0.0), (0.0, -1.0, 0.0), 0.05, Around((0.0, 2.0), tuple((float(np.radians(v)),) * 8 for v in nearer)))
        share = Below(0.4, 0.1, share, True) if covered else share
        return seam.way(Panel(look, (Patch(lens, (0, 0, 800, 400), share=share),)), time)

    for nearer, time, wanted in (((0.0, 0.0), 0.0, 0.0), ((4.0, 12.0), 0.5, 6.0), ((-9.0, -9.0), 1.0, -9.0)):
        ends = drawn(SphereLook((800, 400)), nearer, time).reshape(-1, 2)
        heading, tilt = (ends[:, 0] - 0.5) * 2 * np.pi, (0.5 - ends[:, 1]) * np.pi
        d = np.stack([np.sin(heading) * np.cos(tilt), np.cos(heading) * np.cos(tilt), np.sin(tilt)], axis=-1)
        assert np.abs(np.degrees(np.arcsin(d[:, 1])) - wanted).max() < 0.1
        round_ = np.sort(np.degrees(np.arctan2(d[:, 0], d[:, 2])))
        assert np.diff(round_, append=round_[0] + 360).max() < 4.5, "all the way round"

    def view(heading):
        return ViewLook((960, 540), ViewPath(keys=(Key(0.0, heading=heading, fov=90.0),)), (1.0, 540 / 960))

    assert not len(drawn(view(0.0), (0.0, 0.0)))
    assert np.array_equal(drawn(view(90.0), (3.0, 3.0), covered=True), drawn(view(90.0), (3.0, 3.0))), "though its foot is covered"
    x, y = np.moveaxis(drawn(view(90.0), (10.0, 10.0)), -1, 0)
    ahead, high = 1 - 2 * x, (1 - 2 * y) * 540 / 960  # who looks to the right has what lies ahead on the left
    assert ahead / np.sqrt(1 + ahead**2 + high**2) == pytest.approx(np.sin(np.radians(10.0)), abs=1e-3) and np.ptp(y) == pytest.approx(1.0)


@pytest.mark.parametrize("across", [200.0, 172.0])
def test_what_memory_held_before_is_never_read(near, monkeypatch, across):
    """Loops take for granted that all are numbers, and end the process where memory that nobody has written holds none: it holds none here.
    Small spheres, whose rows are worked on far from where detail is told apart, and lenses that leave a part of the sphere bare."""
    _, facts, seen, route, found = near
    join = rig.answers(found) | {"lenses": [lens | {"across": across} for lens in rig.answers(found)["lenses"]], "laid": "sphere"}
    walked = walk(route.with_("join", **join), facts, seen, cards.delivery("web-wide"))
    plan = preview_plan(walked, 534, 380)
    with Inputs(plan.inputs, facts) as inputs:
        (planes,) = inputs.along(np.array([0]), np.array([0.0]))
        frames = [tuple(p.copy() for p in each) for each in planes]

    def made():
        codes = [np.zeros(plan.raster[::-1], plan.target.format.dtype) for _ in range(3)]
        with Processor(plan) as processor:
            processor.run(frames, tuple(codes), 0.0)
        return np.stack(codes)

    plain, full = made(), np.full
    unwritten = lambda shape, dtype=float, *a, **k: full(shape, np.nan if np.issubdtype(dtype, np.floating) else 77, dtype)  # noqa: E731
    monkeypatch.setattr(np, "empty", unwritten)
    again = made()
    monkeypatch.undo()
    assert np.array_equal(plain, again) and plain[0].std() > 100
