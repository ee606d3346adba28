"""What round lenses do to angles, told by points that are followed while the camera turns: photographs on the walls of a box, drawn through
lenses by the published formulas, which share nothing with what is tested."""

from __future__ import annotations

from functools import lru_cache

import av
import numpy as np
import pytest
from scipy.ndimage import map_coordinates
from scipy.spatial.transform import Rotation

from adzer.core.intake.take import read_file
from adzer.core.join import rig, selfcalibration
from adzer.core.light.samples import Samples
from adzer.core.look.turns import Turns
from adzer.core.media.formats import PixelFormat
from adzer.core.route import Route, walk
from adzer.core.run import matching
from adzer.core.run.matching import calibrate_lenses
from adzer.core.space.sphere import Lens, Round

from ..foreign import photograph

N = 320
RADIUS = 0.482
FORM = Samples(PixelFormat(8, "4:2:0"), "bt709", False)
LAWS = {  # r / f of an angle, and degrees across
    "equidistant": (lambda a: a, 200.0),
    "equisolid": (lambda a: 2 * np.sin(a / 2), 200.0),
    "stereographic": (lambda a: 2 * np.tan(a / 2), 190.0),
    "none of them": (lambda a: a - 0.05 * a**3 + 0.004 * a**5, 195.0),
}


@lru_cache(maxsize=1)
def photographs():
    return [photograph(n).mean(axis=2).astype(np.float32) for n in ("astronaut", "coffee", "chelsea", "brick", "gravel", "grass")]


def box(origin, rays, half):
    """Grey (n,) of what rays from within a box of photographs meet."""
    with np.errstate(divide="ignore", invalid="ignore"):
        far = np.concatenate([(s * half - origin) / rays for s in (1, -1)], axis=1)
    far[~(far > 1e-6)] = np.inf
    face = far.argmin(axis=1)
    met = origin + rays * far[np.arange(len(rays)), face][:, None]
    grey = np.empty(len(rays), np.float32)
    for n, wall in enumerate(photographs()):
        mine = face == n
        u, v = (i for i in range(3) if i != n % 3)
        at = [(1 - met[mine, v] / half[v]) / 2 * (wall.shape[0] - 1), (1 + met[mine, u] / half[u]) / 2 * (wall.shape[1] - 1)]
        grey[mine] = map_coordinates(wall, at, order=1, mode="reflect")
    return grey


def rays(law, which, places):
    """Unit directions (n, 3) in the camera that lens ``which`` of two records at pixels of its own square."""
    r_of, across = LAWS[law]
    angles = np.radians(np.linspace(0, across / 2 * 1.03, 4000))
    x, y = places[:, 0] - N / 2, N / 2 - places[:, 1]
    r = np.hypot(x, y)
    angle = np.interp(r / (RADIUS * N) * r_of(np.radians(across / 2)), r_of(angles), angles)
    side = np.sin(angle) / np.maximum(r, 1e-9)
    return np.stack([x * side, np.cos(angle), y * side], axis=-1) * ([1, 1, 1] if which == 0 else [-1, -1, 1])


def shot(law, turned, place, half):
    """Both lenses' picture, 2N×N, each pixel of four rays; the lenses stand 3 cm from each other."""
    y, x = (np.mgrid[0 : 2 * N, 0 : 2 * N] + 0.5) / 2
    at = np.stack([x.ravel(), y.ravel()], axis=-1)
    lit = np.hypot(*(at - N / 2).T) < RADIUS * N
    made = []
    for which in (0, 1):
        grey = np.zeros(len(at), np.float32)
        grey[lit] = box(place + turned @ [0, 0.015 * (1 - 2 * which), 0], rays(law, which, at[lit]) @ turned.T, half)
        made.append(grey.reshape(N, 2, N, 2).mean(axis=(1, 3)))
    noise = np.random.default_rng(int(1e6 * abs(place[0]))).normal(0, 1, (N, 2 * N))
    return np.clip(np.hstack(made) + noise + 0.5, 0, 255).astype(np.uint8)


def pairs(law, near, count, step=7.0, seed=0):
    """So many pairs of pictures between which a hand turned the camera by about ``step`` degrees, and carried it a little."""
    rng, half = np.random.default_rng(seed), np.array([2.5, 3.0, 1.6]) if near else np.full(3, 4000.0)
    for _ in range(count):
        before = Rotation.from_euler("ZXY", rng.uniform(-1, 1, 3) * [180, 25, 15], degrees=True)
        axis = rng.normal(size=3) * [0.5, 0.5, 1]
        after = before * Rotation.from_rotvec(np.radians(step * rng.uniform(0.6, 1.5)) * axis / np.linalg.norm(axis))
        place = rng.uniform(-0.5, 0.5, 3)
        moved = rng.normal(size=3) * [1, 1, 0.2] * (0.1 if near else 0.0)
        yield shot(law, before.as_matrix(), place, half), shot(law, after.as_matrix(), place + moved, half)


def solve(law, near, count):
    taken = Round((2 * N, N), tuple(Lens((0.5 + n) * N, 0.5 * N, RADIUS * N, 196.0, 180.0 * n) for n in (0, 1)))
    found = selfcalibration.by_turning(list(pairs(law, near, count)), Turns(FORM, taken, (0, 0, 2 * N, N)), np.eye(3))
    assert found is not None
    return found


def off(law, lenses):
    """Degrees by which directions all over both lenses are off, each lens turned so that they fit best."""
    rng, made = np.random.default_rng(5), []
    for which, lens in enumerate(lenses.lenses):
        r, turn = np.sqrt(rng.uniform(0, 0.97**2, 3000)) * RADIUS * N, rng.uniform(0, 2 * np.pi, 3000)
        at = N / 2 + np.stack([r * np.cos(turn), r * np.sin(turn)], axis=-1)
        true, seen = rays(law, which, at), Round(lenses.size, (lens,)).direction(at + [which * N, 0])
        fit, _ = Rotation.align_vectors(true, seen)
        made.append(np.degrees(np.linalg.norm(fit.apply(seen) - true, axis=1)))
    return np.concatenate(made)


@pytest.mark.parametrize(("law", "near"), [("equisolid", True), ("none of them", False)])
def test_a_law_is_told_over_the_whole_lens_and_its_error_is_honest(law, near):
    """From lenses taken as equidistant, which are up to 3° wrong between middle and rim."""
    lenses, found = solve(law, near, 10 if near else 5)
    error = off(law, lenses)
    assert np.median(error) < (0.25 if near else 0.1), np.median(error)
    assert np.quantile(error, 0.95) < 2 * found.error and found.error < 1.0, (np.quantile(error, 0.95), found.error)
    if law != "none of them":
        assert found.nearest == law and found.nearest_off < 0.3
    assert [e.angle for e in found.by_angle] == sorted(e.angle for e in found.by_angle) and found.turned > 30


def test_a_recording_in_which_the_camera_turns_is_calibrated_over_the_whole_of_its_lenses(tmp_path):
    """Two lenses by the equisolid law, through the whole program; neither their law nor their angle is declared."""
    half, path = np.array([25.0, 30.0, 16.0]), tmp_path / "turning.mkv"
    with av.open(str(path), "w") as out:
        stream = out.add_stream("ffv1", rate=5)
        stream.width, stream.height, stream.pix_fmt = 2 * N, N, "yuv420p"
        for n in range(9):
            turned = Rotation.from_euler("ZXY", [9.0 * n, 6 * np.sin(n), 5 * np.cos(1.3 * n)], degrees=True)
            grey = shot("equisolid", turned.as_matrix(), np.array([0.02 * n, 0, 0]), half)
            planes = np.concatenate([(16 + grey.astype(float) * 219 / 255).astype(np.uint8), np.full((N // 2, 2 * N), 128, np.uint8)])
            out.mux(stream.encode(av.VideoFrame.from_ndarray(planes, format="yuv420p")))
        out.mux(stream.encode(None))
    facts, seen = read_file(path)
    assert seen is not None and len(seen.discs) == 2
    route = Route().with_("read", projection="fisheye", curve="bt709")
    found = calibrate_lenses(facts, route, seen)
    assert found.law is not None and found.law.nearest == "equisolid" and found.law.error < 0.6, found.law
    lenses = tuple(Lens(v.x * N, v.y * N, v.radius * N, v.across, 180.0 * n, v.bend) for n, v in enumerate(found.lenses))
    error = off("equisolid", Round((2 * N, N), lenses))
    assert np.median(error) < 0.25 and np.quantile(error, 0.95) < 2.5 * found.law.error, (np.median(error), np.quantile(error, 0.95))
    settled = route.with_("join", **rig.answers(found))
    assert settled.join.whole == found.law.error
    codes = [f.code for f in walk(settled, facts, seen)["join"].result.findings]
    assert "lens-law-unknown" not in codes
    assert "lens-law-unknown" in [f.code for f in walk(settled.with_("join", whole=None), facts, seen)["join"].result.findings]
    declared = route.with_("shape", across=200.0, bend=list(selfcalibration.bend_of("equisolid", 200.0)))
    assert np.median(off("equisolid", matching._lenses(facts, declared, seen)[1])) < 0.15  # said, and not measured
    card = rig.card_of(found, "Mill lenses")
    assert rig.by_card(card)["whole"] == found.law.error and "whole = " in rig.text(card)


def test_a_camera_that_stands_tells_nothing():
    taken = Round((2 * N, N), tuple(Lens((0.5 + n) * N, 0.5 * N, RADIUS * N, 200.0, 180.0 * n) for n in (0, 1)))
    shots = list(pairs("equidistant", False, 2, step=0.3))
    assert not selfcalibration.enough(selfcalibration.tracks(shots, Turns(FORM, taken, (0, 0, 2 * N, N)), taken), 2)


@pytest.mark.parametrize("law", ["equisolid", "stereographic", "orthographic"])
def test_a_declared_law_is_drawn_by_its_polynomial(law):
    across = 176.0
    formula = {"equisolid": lambda a: 2 * np.sin(a / 2), "stereographic": lambda a: 2 * np.tan(a / 2), "orthographic": np.sin}[law]
    lens = Lens(0.0, 0.0, 1.0, across, bend=selfcalibration.bend_of(law, across))
    angle = np.radians(np.linspace(0, across / 2, 40))
    drawn = lens.grown(angle) / lens.rim
    assert np.abs(drawn - formula(angle) / formula(angle[-1])).max() < 2e-3
