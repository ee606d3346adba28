"""Played fast and slowly: what is counted in masters, light averaged, frames made between; with other libraries and films that are not ours."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from itertools import pairwise, product

import av
import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage
from scipy.spatial.transform import Rotation, Slerp
from typer.testing import CliRunner

from adzer.cli.main import app
from adzer.core import cards, shutter
from adzer.core.errors import AdzerError
from adzer.core.intake.take import facts_of
from adzer.core.light.samples import Samples
from adzer.core.look.between import TRUSTED, Moves, seen
from adzer.core.look.chosen import chosen, packed, unpacked
from adzer.core.media.formats import PixelFormat
from adzer.core.media.probe import FrameIndex
from adzer.core.pace import Pace
from adzer.core.plan import Input, Panel, Patch
from adzer.core.route import Route, walk
from adzer.core.run import pacing, steadied, steadying
from adzer.core.run.frames import Inputs, Prepared
from adzer.core.run.pixels import Processor
from adzer.core.shape.advise import USUAL_RATES, cadence, invented, pace_text
from adzer.core.sim import camera as cameras
from adzer.core.sim.camera import Pose
from adzer.core.space.looks import SphereLook, Turning
from adzer.core.space.sphere import Equirect
from adzer.core.steady import solve
from tests import foreign
from tests.masters import run

DECLARED = ("--curve", "bt709", "--primaries", "bt709", "--range", "limited", "--card", "archive")


def written(path, lumas, rate):
    """Lossless 10-bit limited luma, grey besides."""
    with av.open(str(path), "w") as out:
        h, w = lumas[0].shape
        stream = out.add_stream("ffv1", rate=rate)
        stream.width, stream.height, stream.pix_fmt = w, h, "yuv420p10le"
        for n, luma in enumerate(lumas):
            frame = av.VideoFrame(w, h, "yuv420p10le")
            for k, plane in enumerate(frame.planes):
                codes = np.full((plane.height, plane.line_size // 2), 512, np.uint16)
                if k == 0:
                    codes[:, :w] = luma
                plane.update(codes.tobytes())
            frame.pts = n
            out.mux(stream.encode(frame))
        out.mux(stream.encode())


def codes(path):
    with av.open(str(path)) as held:
        frames = list(held.decode(video=0))
    return np.array([np.frombuffer(f.planes[0], np.uint16).reshape(f.height, -1)[:, : f.width] for f in frames]).astype(float)


def light(signal):
    """BT.709-6, item 1.2, turned round."""
    return np.where(signal < 0.081, signal / 4.5, ((np.maximum(signal, 0.081) + 0.099) / 1.099) ** (1 / 0.45))


def signal(level):
    return np.where(level < 0.018, level * 4.5, 1.099 * np.maximum(level, 0.018) ** 0.45 - 0.099)


@pytest.mark.parametrize("speed, degrees, opens", [("4", 180, 2), ("4", 360, 4), ("3", 360, 3), ("8", 90, 2), ("4", 0, 1)])
def test_light_is_averaged_over_the_shutter(tmp_path, speed, degrees, opens):
    blocks = np.random.default_rng(3).integers(64, 941, (24, 4, 6))
    written(tmp_path / "a.mkv", [np.kron(b, np.ones((30, 30))) for b in blocks], 25)
    run("convert", tmp_path / "a.mkv", *DECLARED, "--speed", speed, "--shutter", degrees, "--out", tmp_path / "b.mkv")
    got = codes(tmp_path / "b.mkv")[:, 15::30, 15::30]
    assert len(got) == 24 // int(speed)
    for k, found in enumerate(got):
        taken = blocks[int(speed) * k : int(speed) * k + opens]
        wanted = 64 + 876 * signal(light((taken - 64) / 876).mean(axis=0))
        assert np.abs(found - wanted).max() < 1.6, k  # a code of dither, and half of one of rounding


def test_what_is_held_is_averaged_where_each_frame_is_held(tmp_path):
    """A photograph that jumps about, held: averaged over four frames it stays as sharp as one."""
    photo = foreign.photograph("camera")[..., 0][100:400, 60:460]
    rng, (h, w) = np.random.default_rng(5), (240, 320)
    jumps = rng.integers(0, 40, (16, 2))
    frames = [64 + 876.0 * photo[y : y + h, x : x + w] / 255 for x, y in jumps]
    written(tmp_path / "a.mkv", frames, 25)
    facts = facts_of(tmp_path / "a.mkv")
    route = Route().with_("read", curve="bt709", primaries="bt709", range="limited").with_("shape", speed="4", shutter=360.0)
    plain = walk(route.with_("shape", shutter=0.0), facts, None, cards.delivery("archive"))
    shifts = np.array([[[1, 0, -x], [0, 1, -y], [0, 0, 1]] for x, y in jumps], float)  # from the photograph's places to each frame's
    draft = plain.draft
    (patch,) = draft.panels[0].patches
    held = replace(draft.panels[0], patches=(replace(patch, turning=Turning(np.arange(16) / 25, shifts)),))
    opened = shutter.exposed(draft.with_(panels=(held,)), shutter.moments(Fraction(25), Fraction(4), Fraction(25), 360.0))
    assert [len(p.patches) for p in opened.panels] == [4] and len(opened.inputs) == 4
    made = tuple(np.zeros((h, w if k == 0 else w // 2), np.uint16) for k in range(3))
    with Inputs(opened.inputs, facts) as inputs, Processor(opened.frozen()) as processor:
        numbers = np.arange(0, 16, 4)
        for n, planes in zip(numbers, inputs.along(numbers, numbers / 25), strict=True):
            processor.run(planes, made, n / 25)
            inside = slice(40, 200), slice(40, 280)
            assert np.abs(made[0][inside] - (64 + 876.0 * photo[:h, :w] / 255)[inside]).max() < 3, n


def test_no_more_is_held_than_what_is_gathered(tmp_path, monkeypatch):
    """Four inputs of one recording, each a frame later, and one that stands at its beginning: every frame is decoded once, few are kept."""
    written(tmp_path / "a.mkv", [np.full((36, 64), 64 + 10 * n) for n in range(60)], 25)
    facts, most = facts_of(tmp_path / "a.mkv"), []
    held = walk(Route(), facts, None).draft.inputs[0]
    inputs = tuple(held.later(n / 25) for n in range(4)) + (held.stopped_at(0.0), held.stopped_at(1.0))
    real, decoded = Prepared.at, []
    monkeypatch.setattr(Prepared, "at", lambda self, *a: most.append(len(self._kept[0])) or real(self, *a))
    monkeypatch.setattr(Prepared, "_decoded", lambda self, n, real=Prepared._decoded: decoded.append(n) or real(self, n))
    with Inputs(inputs, facts) as opened:
        numbers = np.arange(50)
        for n, planes in zip(numbers, opened.along(numbers, numbers / 25), strict=True):
            assert [int(p[0][5, 5]) for p in planes] == [64 + 10 * k for k in (n, n + 1, n + 2, n + 3, 0, 25)]
    assert max(most) <= 5 and sorted(decoded) == sorted([*range(53), 0, 25])


def test_on_a_sphere_each_frame_is_turned_by_its_own_moment():
    """Against another library's rotations: what a look at a moment shows is where the camera, so much later, recorded it."""
    turns = Rotation.random(9, random_state=4)
    turns = Slerp(np.arange(9.0), turns)(np.linspace(3.0, 3.4, 9))  # a few degrees a frame
    own, times = Rotation.from_euler("x", 3, degrees=True), np.arange(9) / 25
    look = SphereLook((64, 32), held=Turning(times, turns.as_matrix()))
    patch = Patch(Equirect((64, 32)), (0, 0, 64, 32), turning=Turning.fixed(own.as_matrix()))
    draft = walk(Route(), facts_of(foreign.clip("bikes")), None).draft.with_(
        inputs=(Input(Samples(PixelFormat(8, "4:2:0"), "bt709", True), (64, 32)),), panels=(Panel(look, (patch,)),)
    )
    opened = shutter.exposed(draft, (0.0, 0.04, 0.08))
    world = np.random.default_rng(1).normal(size=(20, 3))
    for n in range(6):
        seen_at = turns[n].apply(world)  # where the look looks
        for k, made in enumerate(opened.panels[0].patches):
            wanted = own.apply(turns[n + k].apply(world))
            assert np.allclose(made.held(seen_at, n / 25), wanted, atol=1e-6), (n, k)


def decibels(a, b):
    return -10 * np.log10(max(float(((a.astype(float) - b) ** 2).mean()) / 255**2, 1e-10))


@pytest.mark.parametrize("name, least", [("bikes", 8), ("bigbuckbunny", 14)])
def test_made_between_they_are_right_or_refused(name, least):
    """Every second frame of a film that nobody of us made is left out, and made again from those beside it."""
    with av.open(str(foreign.clip(name))) as held:
        film = [f.to_ndarray(format="gray") for _, f in zip(range(41), held.decode(video=0), strict=False)]
    trusted, worst = 0, 99.0
    for a, middle, b in zip(film[:-2:2], film[1:-1:2], film[2::2], strict=True):
        moves = Moves.of(seen(a, 255), seen(b, 255))
        if moves.agree >= TRUSTED:
            trusted, worst = trusted + 1, min(worst, decibels(moves.at(0.5).made(a, b, 255), middle))
    assert trusted >= least and worst >= 29.5


def test_a_burnt_in_figure_is_not_mixed_and_the_rest_is_made():
    """A time code that changes with every frame: shown as in the nearer frame, to the pixel, and all around it is made as without it."""
    rng, counted = np.random.default_rng(2), 0
    for name in ("camera", "coins", "gravel"):
        photo = foreign.photograph(name)[..., 0].astype(np.uint8)
        for shift in (1, 3):
            a, middle, b = (np.ascontiguousarray(photo[:280, 20 + k : 340 + k]) for k in (0, shift, 2 * shift))
            assert Moves.of(seen(a, 255), seen(b, 255)).agree >= 35
            for picture in (a, b):
                picture[236:252, 20:100] = np.kron(rng.choice([16, 235], (4, 20)), np.ones((4, 4)))
            moves = Moves.of(seen(a, 255), seen(b, 255))
            assert moves.agree < TRUSTED and moves.trusted and 0 < moves.share < 0.12, (name, moves.agree, moves.share)
            made, early = moves.at(0.5).made(a, b, 255), moves.at(0.25).made(a, b, 255)
            assert (early[238:250, 24:96] == a[238:250, 24:96]).all()
            assert decibels(made[20:200, 20:-20], middle[20:200, 20:-20]) > 33, name
            counted += 1
    assert counted == 6


def test_both_pictures_count_where_both_show_it():
    """Where nothing moves, the noise of both is averaged."""
    ground = foreign.photograph("grass")[:240, :320, 0] * 0.5 + 60
    a, b = (np.clip(ground + k, 0, 255).astype(np.uint8) for k in np.random.default_rng(2).normal(0, 6, (2, *ground.shape)))
    made = Moves.of(seen(a, 255), seen(b, 255)).at(0.5).made(a, b, 255) - ground
    assert made[20:-20, 20:-20].std() < 0.8 * 6


def test_a_cut_is_never_passed_through(tmp_path):
    """Slowed down, nothing is made between two scenes, nor out of nothing; the master says how many were."""
    scenes = [foreign.photograph("camera")[..., 0][:240, :320], foreign.photograph("coins")[..., 0][:240, :320]]
    frames = [64 + 876.0 * np.roll(scenes[n >= 6], 2 * n, axis=1) / 255 for n in range(12)]
    written(tmp_path / "a.mkv", frames, 25)
    text = run("convert", tmp_path / "a.mkv", *DECLARED, "--speed", "1/2", "--between", "--out", tmp_path / "b.mkv")
    got = codes(tmp_path / "b.mkv")
    assert len(got) == 24 and "10 of 24 frames were made between two recorded ones, 1 shown again" in text
    for n in range(12):
        assert np.abs(got[2 * n] - frames[n]).max() < 1.6  # recorded ones are as they were
    assert min(np.abs(got[11] - frames[5]).max(), np.abs(got[11] - frames[6]).max()) < 1.6
    between = np.roll(scenes[0], 5, axis=1)[20:-20, 40:-40]  # what was moved by two pixels a frame, moved by one more
    assert decibels((got[5][20:-20, 40:-40] - 64) * 255 / 876, between) > 32


NAMED = {"once": "1", "twice": "2", "each": "1"}


def test_cadence_is_what_can_be_counted():
    """Over eleven rates and twenty speeds: how often each recorded frame comes."""
    rates = [*USUAL_RATES, Fraction(100), Fraction(120)]
    words = "1/16 1/10 1/8 1/5 1/4 1/3 2/5 1/2 3/5 2/3 3/4 4/5 1 1001/1000 5/4 3/2 2 5/2 3 4"
    speeds = [Fraction(v) for v in words.split()]
    facts = facts_of(foreign.clip("bikes"))
    for recorded in rates:
        base, count = 1 / recorded, 1200
        index = FrameIndex(np.arange(count), np.zeros(count, bool), 0)
        held = msgspec.structs.replace(facts, rate=recorded, time_base=base, frames=count, duration=count * base, constant_rate=True)
        for speed in speeds:
            for delivered in (Fraction(25), Fraction(24000, 1001)):
                made = Pace(held, delivered, speed).over(index, 0, count)
                each = recorded * speed / delivered
                times = np.bincount(made.frames, minlength=count)[2 : made.frames[-1] - 1]
                said = {NAMED.get(w, w.rstrip("stndrh ime")) for w in (p.split(" ", p.startswith("e"))[-1] for p in cadence(each).split(" or "))}
                counted = set(times.tolist()) if each <= 1 else set(np.diff(made.frames[1:-1]).tolist())
                assert {int(n) for n in said} == counted, (recorded, speed, delivered)
                uneven = pace_text(recorded, speed, delivered)
                assert bool(uneven) == (len(set(times.tolist())) > 1 if each > 1 and each.denominator > 1 else each.denominator > 1)


@pytest.mark.parametrize("speed, gathered", [("2", 2), ("5/2", 3), ("3", 2), ("8", 4)])
def test_what_is_left_out_is_said_and_its_mend_averages_it(speed, gathered):
    """One press, and nothing is left to be mended."""
    facts = facts_of(foreign.clip("bikes"))
    route = Route().with_("read", curve="bt709", primaries="bt709", range="limited").with_("shape", speed=speed)
    (found,) = [f for f in walk(route, facts, None)["shape"].findings if f.code == "frames-left-out"]
    mended = walk(route.mended(found.fix), facts, None)
    assert not any(f.code == "frames-left-out" for f in mended.findings)
    assert [len(p.patches) for p in mended.draft.panels] == [gathered] and f"{gathered} frames in one" in mended["shape"].result.says
    slow = walk(route.with_("shape", speed="1/2"), facts, None)
    (uneven,) = [f for f in slow["shape"].findings if f.code == "uneven-pace"]
    made = walk(route.with_("shape", speed="1/2").mended(uneven.fix), facts, None)
    assert made.draft.pace.between and "50% of its frames made between" in made["shape"].result.says


def test_a_master_in_which_others_were_made_than_ordered_fails_its_check(tmp_path, monkeypatch):
    """A renderer that shows frames again and says nothing of it."""
    written(tmp_path / "a.mkv", [np.full((36, 64), 64 + 10 * n) for n in range(8)], 25)
    args = ("convert", tmp_path / "a.mkv", *DECLARED, "--speed", "1/2", "--between", "--out", tmp_path / "b.mkv")
    monkeypatch.setattr(Prepared, "at", lambda self, number, part: self.planes(number))
    made = CliRunner().invoke(app, [str(a) for a in args])
    assert made.exit_code == 1 and not (tmp_path / "b.mkv").exists()
    fast = walk(Route().with_("shape", speed="2", between=True), facts_of(tmp_path / "a.mkv"), None)
    assert not fast.draft.pace.between and not any(f.code == "frames-made" for f in fast.findings)


def test_thirds_of_octaves_hold_all_of_a_swing():
    """A sine of 3 pixels at 2 Hz is 2.1 pixels rms, in its own third and those beside it; what goes straight is in none."""
    t = np.arange(500) / 25
    way = np.stack([3 * np.sin(2 * np.pi * 2 * t) + 7 * t, 40 - 2 * t], axis=1)
    hz = steadied.thirds(25.0)
    found = steadied.in_thirds(way, 25.0, hz)
    assert np.sqrt((found**2).sum()) == pytest.approx(3 / np.sqrt(2), rel=0.02)
    assert hz[found.argmax()] == pytest.approx(2.0) and found[np.abs(np.log2(hz / 2)) > 0.7].max() < 0.05


def test_what_was_followed_lies_where_the_upright_picture_shows_it(tmp_path):
    """A picture held on its side: what goes down in it as it was recorded goes to the left once it is turned clockwise."""
    photo = foreign.photograph("camera")[..., 0].astype(float)
    written(tmp_path / "a.mkv", [64 + 876.0 * photo[100 - 3 * n : 340 - 3 * n, 100:420] / 255 for n in range(6)], 25)
    facts = facts_of(tmp_path / "a.mkv")
    base = Route().with_("read", curve="bt709", primaries="bt709", range="limited")
    for turn, (right, down) in ((0, (0.0, 3 / 240)), (90, (-3 / 240, 0.0)), (180, (0.0, -3 / 240)), (270, (3 / 240, 0.0))):
        found = steadied.followed(facts, base.with_("read", turn=turn), None, 3)
        moved = np.median(found.strokes[:, 2:] - found.strokes[:, :2], axis=0)
        assert found.still.mean() > 0.9 and moved == pytest.approx((right, down), abs=5e-4), turn


def test_the_share_that_is_made_is_counted():
    for each in (Fraction(1, 2), Fraction(2, 5), Fraction(24, 25), Fraction(5, 8)):
        moments = [each * n for n in range(each.denominator * 3)]
        assert invented(each) == pytest.approx(np.mean([m.denominator != 1 for m in moments]))


def test_averaged_it_is_nearer_to_a_long_exposure_than_any_frame():
    """A simulated camera of 25 frames whose shutter is always open, and one of 100: four of its frames in one are 6 dB nearer than one of them."""
    def swung(t):
        return Pose((0.0, -6.0, 1.7), heading=40 * t)

    base = cameras.load("log-body").sized((160, 90))
    fast = replace(base, pose=swung, open=1 / 100)
    slow = replace(base, pose=swung, open=1 / 25)
    single = [fast.light(0.5 + n / 100, 2) for n in range(4)]
    truth, averaged = slow.light(0.5 + 1.5 / 100, 2), np.mean(single, axis=0)
    error = [float(((k - truth) ** 2).mean()) for k in (averaged, *single)]
    assert 10 * np.log10(min(error[1:]) / error[0]) > 6


# --- frames chosen for an even way ------------------------------------------------------------------------------------------
def _cost(places, frames, step, shake):
    """The formula anew, of one whole choice."""
    total = sum(0.02 * ((f - round(m * step)) / step) ** 2 for m, f in enumerate(frames))
    total += sum(0.3 * ((b - a - step) / step) ** 2 for a, b in pairwise(frames))
    turns = np.diff(places[list(frames)], 2, axis=0)
    return total + float((turns**2).sum()) / shake**2


@pytest.mark.parametrize("seed", range(6))
def test_the_choice_is_the_best_of_all(seed):
    """Against every choice that there is."""
    rng, step, n = np.random.default_rng(seed), 3, 17
    places = np.cumsum(rng.normal(0, 1, (n, 2)), axis=0)
    picked = chosen(places, step)
    smooth = np.stack([np.convolve(np.pad(places[:, c], 1, mode="edge"), np.ones(3) / 3, "valid") for c in (0, 1)], axis=1)
    shake = np.sqrt(((places - smooth) ** 2).sum(axis=1).mean())
    ticks = range(0, n, step)
    every = [f for f in product(*([t - 1, t, t + 1] for t in ticks)) if f[0] >= 0 and f[-1] < n]
    every = [f for f in every if all(abs(b - a - step) <= step / 2 for a, b in pairwise(f))]
    best = min(_cost(places, f, step, shake) for f in every)
    assert _cost(places, picked.tolist(), step, shake) == pytest.approx(best)


def test_where_nothing_moves_frames_come_on_time():
    for each in (3, 4.5, 8):
        picked = chosen(np.zeros((120, 2)), each)
        assert picked.tolist() == [round(m * each) for m in range(len(picked))]


@settings(max_examples=40, deadline=None)
@given(st.integers(3, 400), st.fractions(3, 16, max_denominator=1000), st.integers(0, 999))
def test_chosen_frames_rise_and_stay_near_their_moments(n, each, seed):
    places = np.cumsum(np.random.default_rng(seed).normal(0, 1, (n, 3)), axis=0)
    picked = chosen(places, float(each))
    assert len(picked) == int((n - 1) / float(each)) + 1 and picked[0] >= 0 and picked[-1] < n
    assert (np.abs(picked - np.arange(len(picked)) * float(each)) <= float(each) / 2 + 1).all()
    assert (np.diff(picked) >= float(each) / 2 - 1).all()
    if len(picked) > 0:
        text = packed(picked, each)
        assert unpacked(text, each, n) == tuple(picked.tolist()) and unpacked(text, each + 1, n) is None and unpacked(text[:-4], each, n) is None


def test_a_walker_played_fast_goes_an_even_way(tmp_path):
    """Frames of a photograph that sways at a gait: those that the master shows are found again by what is in them, and held they jolt less still."""
    photo, t = foreign.photograph("camera")[..., 0].astype(float), np.arange(160) / 25
    path = np.stack([9 * np.sin(2 * np.pi * 0.95 * t) + 2 * t, 7 * np.sin(2 * np.pi * 1.9 * t + 1)], axis=1)
    lumas = [64 + 876.0 * ndimage.shift(photo, (path[n, 1], path[n, 0]), order=1, mode="reflect")[120:360, 100:420] / 255 for n in range(160)]
    written(tmp_path / "a.mkv", lumas, 25)
    run("convert", tmp_path / "a.mkv", *DECLARED, "--speed", "8", "--even-way", "--out", tmp_path / "b.mkv")
    run("convert", tmp_path / "a.mkv", *DECLARED, "--speed", "8", "--out", tmp_path / "c.mkv")
    recorded, ways = codes(tmp_path / "a.mkv"), {}
    for name in "bc":
        got = codes(tmp_path / f"{name}.mkv")
        numbers = [int(np.abs(recorded[:, ::6, ::6] - f[::6, ::6]).mean(axis=(1, 2)).argmin()) for f in got]
        assert len(got) == 20 and all(np.abs(recorded[n] - f).max() < 1.6 for n, f in zip(numbers, got, strict=True))
        ways[name] = np.sqrt((np.diff(path[numbers], 2, axis=0) ** 2).sum(axis=1).mean())
    assert ways["b"] < 0.6 * ways["c"]
    facts = facts_of(tmp_path / "a.mkv")
    route = Route().with_("read", curve="bt709", primaries="bt709", range="limited").with_("shape", speed="8")
    rows = steadying.rows_of(facts, route)
    route = route.with_("shape", **pacing.evenly(rows, facts, route)[0]).with_("steady", method="drift", budget=0.35, cut=3.0)
    held = route.with_("steady", **steadying.answers(rows, facts, route))
    walked = walk(held, facts, None)
    # As they are shown, 25 a second, what is slower than 3 Hz stays: of their own way, by the formula anew.
    frames, size = np.array(walked.draft.pace.chosen), facts.raster
    moves, lies = solve.unpacked(held.steady.moves, facts.frames, size), steadying.upright_path(rows, 0)[frames, :2]
    bend = np.diff(np.eye(len(frames)), 2, axis=0)
    calm = np.linalg.solve(np.eye(len(frames)) + (2 * np.sin(np.pi * 3 / 25)) ** -4 * bend.T @ bend, lies)
    wanted = lies - calm
    assert 3 < np.abs(wanted).max() < 0.3 * min(size) / 2 and np.abs(moves[frames, :2] - wanted).max() < 0.3
    assert not walked.stopped and walked["shape"].result.says.endswith("on an even way") and walked.draft.pace.frames == 20
    # Played at another speed they are no answer any more, and that is said.
    other = walk(held.with_("shape", speed="5"), facts, None)
    assert any(f.code == "chosen-otherwise" for f in other.findings) and not other.draft.pace.chosen
    with pytest.raises(AdzerError, match="Play it faster"):
        pacing.evenly(rows, facts, route.with_("shape", speed="2"))
