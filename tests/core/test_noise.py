"""Noise: what is measured, against many independent exposures of the same light; what is taken off, against pictures that are known."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from fractions import Fraction

import av
import numpy as np
import pytest
import scipy.ndimage
import skimage.data
from typer.testing import CliRunner

from adzer.cli.main import app
from adzer.core.develop import noise
from adzer.core.develop.cleaning import Cleaned, Evened
from adzer.core.develop.grain import Grain, Stabiliser
from adzer.core.errors import AdzerError
from adzer.core.light import names
from adzer.core.light.chain import ColourChain
from adzer.core.light.samples import Samples
from adzer.core.media.encode import VideoSpec, VideoTags, Writer
from adzer.core.media.formats import PixelFormat
from adzer.core.media.probe import probe
from adzer.core.plan import Input, Plan, on_axes
from adzer.core.run import developing
from adzer.core.run.frames import Inputs
from adzer.core.run.pixels import Processor
from adzer.core.sim import camera as cameras

from .test_develop import mosaic_of

YUV = Samples(PixelFormat(8, "4:2:0"), "bt709", True)
GREY = Samples(PixelFormat(8, "4:0:0"), "bt709", True)


# --- measured -----------------------------------------------------------------------------------------------------
@pytest.fixture(scope="module")
def pans():
    """Light of three neighbouring frames, still and panned by parts of pixels; sails turn and reeds bend in both."""

    def light(speed):
        pose = lambda t: cameras.Pose(place=(0.5, 2.0, 1.6), heading=9.0 + t * 25 * 0.3 * speed, tilt=4.0 + t * 25 * 0.16 * speed)  # noqa: E731
        camera = replace(cameras.load("log-body"), raster=(640, 360), pose=pose)
        return [np.maximum(camera.light(1 + i / 25, 2), 0) for i in range(3)]

    return {"still": light(0), "pan": light(1)}


def _sensor(light, well, seed):
    electrons = np.empty(light.shape[:2])
    for y, x, c in ((0, 0, 0), (0, 1, 1), (1, 0, 1), (1, 1, 2)):
        electrons[y::2, x::2] = light[y::2, x::2, c] * well
    electrons += np.random.default_rng(seed).standard_normal(electrons.shape) * np.sqrt(electrons + 16)
    return (np.clip(256 + electrons / well * 3839, 0, 4095).astype(np.uint16),)


def _recorded(curve, well):
    recorder = replace(
        cameras.load("log-body").recorder, curve=curve, full_well=well, read_noise=4, bits=10, chroma="4:2:0", primaries="bt709"
    )
    camera = replace(cameras.load("log-body"), recorder=recorder, raster=(640, 360))
    return recorder.samples, lambda light, seed: tuple(p.astype(np.uint16) for p in cameras.record(camera, light, seed))


def _ways(curve, well):
    if curve == "values":
        samples = Samples(PixelFormat(12, "4:0:0"), "bt709", False)
        kind = noise.Kind(samples, (640, 360), True, (256.0,) * 4, (4075.0,) * 4)
        return kind, lambda light, seed: _sensor(light, well, seed)
    samples, shoot = _recorded(curve, well)
    return noise.Kind(samples, (640, 360), False, (64.0,) * 3, (940.0, 960.0, 960.0)), shoot


@pytest.mark.parametrize("curve, well, moving", [
    ("fen-log", 800, "still"), ("fen-log", 30000, "pan"), ("bt709", 800, "pan"), ("values", 800, "still"),
])  # fmt: skip
def test_noise_is_measured_at_every_level(pans, curve, well, moving):
    kind, shoot = _ways(curve, well)
    light = pans[moving]
    made = noise.measured(kind, [[(3 * k + i, shoot(v, 3 * k + i)) for i, v in enumerate(light)] for k in range(4)])
    many = np.stack([kind.planes(shoot(light[0], 100 + k))[0] for k in range(16)])
    truth, level = many.var(axis=0, ddof=1), many.mean(axis=0)
    edges = noise._edges(kind)
    ratios = []
    for k in range(noise.BINS):
        mine = (level >= edges[k]) & (level < edges[k + 1]) & (level > kind.black[0] + 8) & (level < 0.95 * kind.full[0])
        if mine.sum() > 800 and made.counts[k]:
            ratios.append(np.sqrt((made.grain.of(0, level[mine]) ** 2).mean() / truth[mine].mean()))
    assert len(ratios) >= 5
    close = np.abs(np.array(ratios) - 1) < 0.12
    assert abs(np.median(ratios) - 1) < (0.06 if moving == "still" else 0.12), np.round(ratios, 2)
    assert close.mean() >= (0.75 if moving == "still" else 0.35) and max(ratios) < 1.8, np.round(ratios, 2)
    assert made.grain.keep == 1.0 and max(map(abs, made.beside)) < 0.05
    if curve == "values":
        assert made.model[0][0] * well == pytest.approx(1, rel=0.08 if moving == "still" else 0.2)


def _flat(levels, sigma, count, seed=0):
    rng = np.random.default_rng(seed)
    light = np.repeat(np.repeat(np.array(levels, float), 64)[None], 256, axis=0)
    return light, [(np.clip(np.rint(light + sigma * rng.standard_normal(light.shape)), 0, 255).astype(np.uint8),) for _ in range(count)]


def test_doubled_frames_cuts_and_single_frames_do_not_deceive():
    kind = noise.Kind(GREY, (384, 256), False, (16.0,) * 3, (235.0,) * 3)
    _, a = _flat((40, 70, 100, 130, 160, 190), 3.0, 6)
    _, b = _flat((190, 40, 160, 70, 130, 100), 3.0, 2, 1)

    def sigma(*runs):
        made = noise.measured(kind, [[(i, f) for i, f in enumerate(run)] for run in runs])
        return made, np.array(made.grain.sigma[0])[np.array(made.counts) > 0]

    assert sigma(a[:3], a[3:])[1] == pytest.approx(3.0, rel=0.08)
    assert sigma([a[0], a[0], a[1]], [a[2], a[2], a[3]])[1] == pytest.approx(3.0, rel=0.15)  # every frame twice
    assert sigma([a[0], b[0], b[1]], a[1:4])[1] == pytest.approx(3.0, rel=0.15)  # a cut in it
    made, alone = sigma(a[:1])
    assert made.within and alone == pytest.approx(3.0, rel=0.15)
    black = noise.measured(kind, [[(0, (np.full((256, 384), 16, np.uint8),))] * 3])
    assert not any(black.counts) and "Nothing" in noise.verdict(noise.Seen((), ()))
    grass = (np.clip(skimage.data.grass()[:256, :384], 16, 235),)
    same, _ = sigma([grass] * 3)  # a photograph without any noise: what is fine in it is no noise for sure
    assert same.within and "at most" in noise.verdict(noise.Seen((0.5,), (0.02,)), same.within)
    assert "will show it" in noise.verdict(noise.Seen((0.5,), (0.02,)), sigma(a[:3])[0].within)


def test_a_simulated_camera_that_smooths_its_noise_leaves_it_as_arithmetic_says():
    """A Gaussian of s pixels: neighbours agree by exp(−1/4s²), and its square shrinks to 1/4πs². Half of the frame before's: neighbouring frames
    agree by 0.5/(1 + 0.25), those two apart not at all."""
    light = np.broadcast_to(np.repeat(np.linspace(0.1, 0.8, 10), 64)[None, :, None], (360, 640, 3))
    recorder = replace(cameras.load("log-body").recorder, curve="bt709", full_well=800, read_noise=4, bits=10, chroma="4:4:4", primaries="bt709")
    samples, sigma = replace(recorder, bits=10, chroma="4:4:4").samples, {}
    kind = noise.Kind(samples, (640, 360), False, (64.0,) * 3, (940.0, 960.0, 960.0))
    for smooths, mixes in ((0.0, 0.0), (0.9, 0.0), (0.0, 0.5)):
        camera = replace(cameras.load("log-body"), recorder=replace(recorder, smooths=smooths, mixes=mixes), raster=(640, 360))
        shot = [tuple(p.astype(np.uint16) for p in cameras.record(camera, light, n)) for n in range(12)]
        made = noise.measured(kind, [[(n, shot[n]) for n in range(3 * k, 3 * k + 3)] for k in range(4)])
        sigma[smooths] = np.array(made.grain.sigma[0])[np.array(made.counts) > 0] if not mixes else sigma[smooths]
        assert made.beside == pytest.approx((np.exp(-1 / (4 * smooths**2)),) * 2 if smooths else (0.0, 0.0), abs=0.05)
        assert made.grain.keep == pytest.approx(1 - 0.4 if mixes else 1.0, abs=0.06)
    assert np.median(sigma[0.9] / sigma[0.0]) == pytest.approx(np.sqrt(1 / (4 * np.pi * 0.81)), rel=0.12)


def test_what_the_camera_has_smoothed_is_found():
    kind = noise.Kind(GREY, (384, 256), False, (16.0,) * 3, (235.0,) * 3)
    light, _ = _flat((40, 70, 100, 130, 160, 190), 0, 1)
    rng = np.random.default_rng(2)
    runs, runs_of_time = [], []
    for _ in range(4):
        soft = [scipy.ndimage.gaussian_filter(rng.standard_normal(light.shape), 0.7) for _ in range(3)]
        runs.append([(i, (np.rint(light + 4 * s / s.std()).astype(np.uint8),)) for i, s in enumerate(soft)])
        held, frames = rng.standard_normal(light.shape), []
        for _ in range(3):
            held = 0.6 * held + 0.8 * rng.standard_normal(light.shape)
            frames.append(np.rint(light + 4 * held).astype(np.uint8))
        runs_of_time.append([(i, (f,)) for i, f in enumerate(frames)])
    made = noise.measured(kind, runs)
    beside = float(np.mean([np.corrcoef(s[:, 1:].ravel(), s[:, :-1].ravel())[0, 1] for s in soft]))
    assert made.beside[0] == pytest.approx(beside, abs=0.06)
    shape = np.array(made.grain.shape).reshape(8, 8)
    assert shape[1, 1] > 2 and shape[7, 7] < 0.3  # most of it is coarse
    in_time = noise.measured(kind, runs_of_time)
    assert in_time.grain.keep == pytest.approx(0.4 / (1 - 0.36), rel=0.12)  # 1 − 0.6 beside each other, 1 − 0.36 two apart
    assert noise.measured(kind, [[(i, f) for i, f in enumerate(_flat((40, 90, 150), 3, 3)[1])]] * 3).grain.keep == 1.0


@pytest.mark.parametrize("smaller", [1, 2])
def test_noise_as_delivered_is_that_of_a_render(smaller):
    """Grey patches with noise, through the very loops that render them."""
    log, curve = Samples(PixelFormat(10, "4:4:4"), "bt709", True), names.curve("fen-log")
    chain = ColourChain(curve, np.eye(3) * 2.0, names.curve("bt709"), whites="roll off", peak=8.0)
    levels = np.arange(200, 640, 40)
    sigma = ((8.0, 3.0), (4.0, 2.0), (4.0, 2.0))
    grain = Grain((64.0, 940.0), sigma)
    held = noise.Noise((0,), Grain(tuple(map(float, levels)), tuple(tuple(grain.of(i, levels).tolist()) for i in range(3))),
                       ("luma", "Cb", "Cr"), (99,) * len(levels), (), 1.0, False, (0.0, 0.0), 0.0)  # fmt: skip
    kind = noise.Kind(log, (64, 64), False, (64.0,) * 3, (940.0, 960.0, 960.0))
    rng = np.random.default_rng(3)
    w, h = 96 * len(levels), 96
    light = np.repeat(levels, 96)[None].repeat(h, 0).astype(float)
    planes = [np.clip(np.rint((light if c == 0 else 512) + grain.of(c, light) * rng.standard_normal(light.shape)), 0, 1023) for c in range(3)]
    size = (w // smaller, h // smaller)
    target = Samples(PixelFormat(10, "4:4:4"), "bt709", True)
    panel = on_axes(size, (Fraction(smaller),) * 2, (Fraction(0),) * 2, (w, h))
    plan = Plan.single(log, (w, h), panel, chain, target)
    seen = noise.delivered(held, kind, (), chain, developing.left_of_noise(panel, log, target))
    out = tuple(np.zeros(size[::-1], np.uint16) for _ in range(3))
    with Processor(plan, 2) as processor:
        processor.run([tuple(p.astype(np.uint16) for p in planes)], out)
    each = 96 // smaller
    rendered = [(out[0][8:-8, i * each + 8 : (i + 1) * each - 8].std()) / 876 for i in range(len(levels))]
    assert np.array(seen.sigma) == pytest.approx(np.array(rendered), rel=0.16)


# --- taken off ----------------------------------------------------------------------------------------------------
def _planes(rgb, sigma, rng):
    """R′G′B′ with noise → 8-bit 4:2:0, its chroma averaged."""
    v = rgb + sigma * rng.standard_normal(rgb.shape)
    y = v @ [0.2126, 0.7152, 0.0722]
    whole = [16 + 219 * y, *(128 + 224 * (v[..., c] - y) / k for c, k in ((2, 1.8556), (0, 1.5748)))]
    less = [whole[0], *(p.reshape(p.shape[0] // 2, 2, p.shape[1] // 2, 2).mean((1, 3)) for p in whole[1:])]
    return tuple(np.clip(np.rint(p), 0, 255).astype(np.uint8) for p in less)


def _photograph(speed):
    """Seven frames of a photograph that moves by parts of pixels."""
    a = np.tile(skimage.data.astronaut() / 255.0, (2, 2, 1))
    moved = [np.stack([scipy.ndimage.shift(a[:420, :480, c], (-1.4 * i * speed, -2.3 * i * speed), order=3) for c in range(3)], -1) for i in range(7)]
    return [np.clip(m[40:296, 40:360], 0, 1) for m in moved]


def _decibels(a, b):
    return float(-10 * np.log10(((a - b)[8:-8, 8:-8] ** 2).mean() / 219**2))


def _by_library(frames, name, options):
    """Luma of the middle frame as a filter of libavfilter makes it."""
    h, w = frames[0][0].shape
    graph = av.filter.Graph()
    source, last = graph.add_buffer(width=w, height=h, format="gray", time_base="1/25"), graph.add(name, options)
    sink = graph.add("buffersink")
    source.link_to(last)
    last.link_to(sink)
    graph.configure()
    out = []
    for n, planes in enumerate(frames):
        frame = av.VideoFrame.from_ndarray(planes[0], format="gray")
        frame.pts = n
        source.push(frame)
        out.append(sink.pull().to_ndarray().astype(float))
    return out[len(frames) // 2]


@pytest.mark.parametrize("speed, gain", [(0, 6.0), (1, 3.5)])
def test_cleaning_gains_more_than_others(speed, gain):
    rng = np.random.default_rng(4)
    light = _photograph(speed)
    clean = [_planes(v, 0.0, rng) for v in light]
    noisy = [_planes(v, 0.02, rng) for v in light]
    wide = [float(np.concatenate([(a[c].astype(float) - b[c]).ravel() for a, b in zip(noisy, clean, strict=True)]).std()) for c in range(3)]
    raster = (320, 256)
    made = Cleaned(YUV, raster, Grain((0.0, 255.0), tuple((s, s) for s in wide))).run(noisy[1:6], 2)
    truth = clean[3][0].astype(float)
    ours, before = _decibels(made[0] / 256.0, truth), _decibels(noisy[3][0].astype(float), truth)
    assert ours - before >= gain
    theirs = max(_decibels(_by_library(noisy, "nlmeans", f"s={s}:p=7:r=15"), truth) for s in (2, 3, 4, 6))
    assert ours >= theirs + 1.0
    for c in (1, 2):
        left, was = (((p[c] / k - clean[3][c]) ** 2).mean() for p, k in ((made, 256.0), (noisy[3], 1.0)))
        assert left < (0.2 if speed == 0 else 0.4) * was  # of its energy


def test_fine_texture_stays_and_nothing_trails():
    rng = np.random.default_rng(5)
    n, sigma = 256, 4.4
    frequency = np.hypot(np.fft.fftfreq(n)[:, None], np.fft.rfftfreq(n)[None])
    band = (frequency > 0.25) & (frequency < 0.5)
    drawn = np.fft.irfft2(np.fft.rfft2(rng.standard_normal((n, n))) * band, s=(n, n))
    drawn *= 9.0 / drawn.std()
    one = Cleaned(GREY, (n, n), Grain((0.0, 255.0), ((sigma, sigma),)))

    def noisy(picture):
        return (np.clip(np.rint(picture + sigma * rng.standard_normal(picture.shape)), 0, 255).astype(np.uint8),)

    for speed in (0, 3):
        out = one.run([noisy(120 + np.roll(drawn, speed * k, 1)) for k in range(-2, 3)], 2)[0] / 256.0
        kept = (np.abs(np.fft.rfft2(out - out.mean()) * band) ** 2).sum() / (np.abs(np.fft.rfft2(drawn) * band) ** 2).sum()
        assert kept > 0.85
    wall = skimage.data.camera()[100:356, 100:356] * 0.6 + 40
    went = []
    for k in range(5):
        went.append(wall.copy())
        went[-1][100:140, 60 + 9 * k : 100 + 9 * k] = 25
    mean = np.mean([one.run([noisy(p) for p in went], 2)[0] / 256.0 for _ in range(8)], axis=0)
    assert np.abs(mean - went[2])[98:142, 40:76].max() < 1.5 * sigma  # where it was before


@pytest.mark.parametrize("form", ["yuv", "rgb", "values"])
def test_a_marked_tone_is_made_smoother_and_no_other(form):
    """Two walls, one of skin's tone and one bluish, with pores drawn on both: by how much of them is left on each."""
    rng, n = np.random.default_rng(12), 192
    pores = rng.standard_normal((n, n))
    pores = 5.0 * (pores - (np.roll(pores, 1, 0) + np.roll(pores, -1, 0) + np.roll(pores, 1, 1) + np.roll(pores, -1, 1)) / 4)
    skin = np.arange(n)[None] < n // 2
    yuv = [120 + pores, np.where(skin, 108.0, 140.0) + 0 * pores, np.where(skin, 152.0, 116.0) + 0 * pores]
    if form == "rgb":  # G, B, R
        yuv = [np.where(skin, 110.0, 130.0) + pores, np.where(skin, 90.0, 160.0) + pores, np.where(skin, 160.0, 90.0) + pores]
    if form == "values":
        colours = np.where(skin[..., None], [160.0, 110.0, 90.0], [90.0, 130.0, 160.0]) + pores[..., None]
        yuv = [mosaic_of(np.broadcast_to(colours, (n, n, 3)) / 256, "rggb", 0, 256).astype(float)]
    samples = {"yuv": YUV, "rgb": Samples(PixelFormat(8, "4:4:4", rgb=True), "rgb", False), "values": GREY}[form]
    across, down = samples.format.sub

    def shot():
        noisy = [p + 4 * rng.standard_normal(p.shape) for p in yuv]
        noisy = [p if i == 0 else p[::down, ::across] for i, p in enumerate(noisy)]
        return tuple(np.clip(np.rint(p), 0, 255).astype(np.uint8) for p in noisy)

    frames = [shot() for _ in range(5)]
    plain = Cleaned(samples, (n, n), Grain((0.0, 255.0), ((4.0, 4.0),) * (4 if form == "values" else 3)), values=form == "values")
    marked = replace(plain, smooth=plain.tone_at(frames[2], 40.0, 90.0))
    scale = 1.0 if form == "values" else 256.0
    was, now = (one.run(frames, 2)[0].astype(float) / scale for one in (plain, marked))
    left, right = (slice(8, -8), slice(8, n // 2 - 28)), (slice(8, -8), slice(n // 2 + 28, -8))

    def drawn(made, part):
        return float((made[part] * pores[part]).mean() / (pores[part] ** 2).mean())

    assert drawn(now, left) < {"yuv": 0.7, "rgb": 0.9, "values": 0.9}[form] * drawn(was, left) and drawn(was, left) > 0.2
    assert np.array_equal(now[right], was[right])
    with pytest.raises(AdzerError, match="no colours"):
        Cleaned(GREY, (n, n), Grain((0.0, 255.0), ((4.0, 4.0),))).tone_at((frames[0][0],), 3.0, 3.0)


def test_of_a_photograph_the_face_is_made_smoother_and_the_suit_is_not():
    rng, photo = np.random.default_rng(1), skimage.data.astronaut()[:, :320] / 255.0
    frames = [_planes(photo, 0.02, rng) for _ in range(5)]
    plain = Cleaned(YUV, (320, 512), Grain((0.0, 255.0), ((4.4, 4.4), (2.5, 2.5), (2.5, 2.5))))
    was, now = (one.run(frames, 2)[0].astype(float) for one in (plain, replace(plain, smooth=plain.tone_at(frames[2], 225.0, 115.0))))
    face, suit = (slice(80, 150), slice(190, 260)), (slice(350, 500), slice(60, 160))
    fine = [[np.abs(np.diff(p[part], axis=1)).mean() for p in (was, now)] for part in (face, suit)]
    assert fine[0][1] < 0.93 * fine[0][0] and fine[1][1] > 0.99 * fine[1][0]


@pytest.mark.parametrize("lost", ["cut", "doubled", "alone"])
def test_other_pictures_are_not_mixed_in_and_copies_not_believed(lost):
    rng = np.random.default_rng(6)
    here, there = skimage.data.camera()[:256, :256].astype(float), skimage.data.coins()[:256, :256].astype(float)
    frames = [(np.clip(np.rint(v + 4.4 * rng.standard_normal(v.shape)), 0, 255).astype(np.uint8),) for v in (there, there, here, here, here)]
    if lost == "doubled":
        frames[2:] = [frames[2]] * 3
    grain = Grain((0.0, 255.0), ((4.4, 4.4),))
    alone = Cleaned(GREY, (256, 256), grain).run([frames[2]], 0)[0] / 256.0
    window = {"cut": frames, "doubled": frames, "alone": [frames[2]]}[lost]
    out = Cleaned(GREY, (256, 256), grain).run(window, 0 if lost == "alone" else 2)[0] / 256.0
    gains = [_decibels(v, here) - _decibels(frames[2][0].astype(float), here) for v in (out, alone)]
    assert gains[1] > 1.5
    assert gains[0] >= gains[1] - (0.1 if lost != "cut" else -1.5)  # two more frames after a cut do help


@pytest.mark.parametrize("level", [20, 60, 150, 225])
def test_flat_fields_keep_their_mean(level):
    """Of luma, and of sensor values whose noise grows with light, down to black."""
    rng = np.random.default_rng(level)
    frames = [(np.clip(np.rint(level + 3 * rng.standard_normal((256, 256))), 0, 255).astype(np.uint8),) for _ in range(5)]
    made = Cleaned(GREY, (256, 256), Grain((0.0, 255.0), ((3.0, 3.0),))).run(frames, 2)[0] / 256.0
    assert abs(made.mean() - np.mean([f[0].mean() for f in frames])) < 0.1 and made.std() < 0.3  # 20 dB
    values, levels = Samples(PixelFormat(12, "4:0:0"), "bt709", False), np.linspace(0, 4095, 64)
    wide = np.sqrt(4.0 + 2.0 * np.maximum(levels - 256, 0))
    grain = Grain(tuple(levels.tolist()), (tuple(wide.tolist()),) * 4)
    mean = 256 + 16 * (level - 20)
    wide_there = np.sqrt(4 + 2 * (mean - 256))
    sensor = [(np.clip(np.rint(mean + wide_there * rng.standard_normal((256, 256))), 0, 4095).astype(np.uint16),) for _ in range(5)]
    out = Cleaned(values, (256, 256), grain, values=True).run(sensor, 2)[0]
    assert abs(out.mean() - np.mean([f[0].mean() for f in sensor])) < max(0.1, 0.01 * np.sqrt(4 + 2 * (mean - 256)))


def test_stabilised_noise_is_one_and_comes_back_unbiased():
    levels = np.linspace(0, 1023, 40)
    stable = Stabiliser(Grain(tuple(levels.tolist()), (tuple(np.sqrt(4 + levels / 8).tolist()),)), 0, 1023)
    rng = np.random.default_rng(8)
    for level in (60, 200, 500, 900):
        codes = np.clip(np.rint(level + np.sqrt(4 + level / 8) * rng.standard_normal(200_000)), 0, 1023).astype(np.uint16)
        there = stable.there(codes)
        assert there.std() == pytest.approx(1.0, abs=0.03)
        assert float(stable.back(np.array([there.mean()], np.float32))[0]) == pytest.approx(level, abs=0.1)


# --- from a file --------------------------------------------------------------------------------------------------
def _clip(path, sigma):
    light = _photograph(0)[0]
    rng = np.random.default_rng(9)
    spec = VideoSpec("ffv1", (320, 256), 8, "4:2:0", Fraction(25), Fraction(1, 25), VideoTags("bt709", "bt709", "bt709", "limited"), 1, {})
    with Writer(path, spec) as writer:
        for n in range(8):
            frame, target = writer.blank()
            for plane, codes in zip(target, _planes(light, sigma, rng), strict=True):
                plane[: codes.shape[0], : codes.shape[1]] = codes
            writer.write(frame, n)
    return _planes(light, 0.0, rng)


def _run(*words):
    made = CliRunner().invoke(app, [str(w) for w in words])
    assert made.exit_code == 0, made.output
    return json.loads(made.stdout)


def test_the_command_line_measures_and_cleans(tmp_path):
    truth = _clip(tmp_path / "a.mkv", 0.02)
    _clip(tmp_path / "b.mkv", 0.0005)
    told = _run("noise", tmp_path / "a.mkv", "--json")
    assert told["needed"] and "show it" in told["verdict"]
    known = np.array(told["counts"]) > 0
    expected = 219 * 0.02 * np.hypot(np.hypot(0.2126, 0.7152), 0.0722)
    assert np.median(np.array(told["grain"]["sigma"][0])[known]) == pytest.approx(expected, rel=0.1)
    assert not _run("noise", tmp_path / "b.mkv", "--json")["needed"]
    made = _run("clean", tmp_path / "a.mkv", "--card", "archive", "--out", tmp_path / "c.mkv", "--json")
    words = ["clean", str(tmp_path / "a.mkv"), "--card", "archive", "--out", str(tmp_path / "d.mkv")]
    marked = CliRunner().invoke(app, [*words, "--smooth", "999,3"])
    assert marked.exit_code != 0 and "320×256" in str(marked.exception)
    _run(*words, "--amount", made["amount"], "--smooth", "150,100", "--json")
    lumas = []
    for name in ("c", "d"):
        with av.open(str(tmp_path / f"{name}.mkv")) as held:
            lumas.append(np.concatenate([f.to_ndarray(format="gray16le") for f in held.decode(video=0)]).astype(float))
    assert 0.02 < (lumas[0] != lumas[1]).mean() < 0.95
    assert made["amount"] in developing.AMOUNTS and len(made["tried"]) == len(developing.AMOUNTS)
    with av.open(str(tmp_path / "c.mkv")) as held:
        luma = list(held.decode(video=0))[4].planes[0]
        frame = np.frombuffer(luma, np.uint16).reshape(256, -1)[:, :320] / 4.0
    with av.open(str(tmp_path / "a.mkv")) as held:
        before = list(held.decode(video=0))[4].to_ndarray()[:256].astype(float)
    assert _decibels(frame, truth[0].astype(float)) - _decibels(before, truth[0].astype(float)) > 4


@pytest.mark.parametrize("speed", [0, 1])
def test_the_amount_that_shows_no_structure_is_nearly_the_best(speed):
    """What is said of the removed picture rises with the amount, and the amount that it leads to is within 0.8 dB of the best there is."""
    rng = np.random.default_rng(11)
    light = _photograph(speed)[:5]
    truth, noisy = _planes(light[2], 0.0, rng), [_planes(v, 0.02, rng) for v in light]
    grain = Grain((0.0, 255.0), ((3.3, 3.3), (1.6, 1.6), (1.6, 1.6)))
    found, gains = [], {}
    for amount in (*developing.AMOUNTS, 2.5):
        one = Cleaned(YUV, (320, 256), grain, amount, amount)
        share, sigma = developing._structure(one, noisy, 2)
        gains[amount] = _decibels(one.run(noisy, 2)[0] / 256.0, truth[0].astype(float))
        found.append(developing.Taken(amount, share, sigma, 0.0))
    shares = [t.structure for t in found]
    assert shares == sorted(shares) and shares[-1] > developing.STRUCTURE
    assert gains[developing.best(tuple(found[:-1]))] > max(gains.values()) - 0.8


def test_hot_values_are_found_and_healed(tmp_path):
    """Ten values that are nearly full whatever the light, in six frames; a lamp that is larger than one value is none."""
    from adzer.core.develop import measure, values
    from adzer.core.develop.settings import DevelopSettings
    from adzer.core.intake.take import facts_of
    from adzer.core.sim.dng import Writing, write

    rng = np.random.default_rng(12)
    y, x = np.mgrid[0:120, 0:160]
    light = 300 + 1500 * np.exp(-((x - 40) ** 2 + (y - 50) ** 2) / 6.0) + 400 * x / 160
    hot = sorted({(int(a), int(b)) for a, b in zip(rng.integers(60, 156, 10), rng.integers(4, 116, 10), strict=True)})
    for n in range(6):
        codes = np.rint(light + 8 * rng.standard_normal(light.shape))
        for a, b in hot:
            codes[b, a] = 3900
        write(tmp_path / f"a.{n:03d}.dng", np.clip(codes, 0, 4095).astype(np.uint16), Writing())
    facts = facts_of(tmp_path)
    found = measure.held(facts, DevelopSettings())
    assert sorted(found.hot) == hot
    sensor = values.sensor_of(facts, DevelopSettings(hot=found.hot))
    healed = values.healed(np.rint(light).astype(np.uint16), sensor.dead)
    assert max(abs(int(healed[b, a]) - light[b, a]) for a, b in hot) < 30


@pytest.mark.parametrize("well", [1000, 20000])
def test_the_range_of_a_test_recording_is_that_of_arithmetic(well):
    """A wedge from black to full, on a sensor and through a log curve: stops from full to where light is k times its noise."""
    wedge = np.repeat(np.linspace(0, 1, 48) ** 3, 20)[None].repeat(256, 0)
    rng = np.random.default_rng(well)

    def shot():
        electrons = wedge * well
        return (electrons + np.sqrt(electrons + 9) * rng.standard_normal(wedge.shape)) / well

    values = noise.Kind(Samples(PixelFormat(12, "4:0:0"), "bt709", False), (960, 256), True, (256.0,) * 4, (4095.0,) * 4)
    curve = names.curve("fen-log")
    log = noise.Kind(Samples(PixelFormat(12, "4:0:0"), "bt709", False), (960, 256), False, (0.0,) * 3, (4095.0,) * 3)
    ways = {
        "values": (values, lambda v: (np.clip(np.rint(256 + v * 3839), 0, 4095).astype(np.uint16),)),
        "log": (log, lambda v: (np.clip(np.rint(curve.encode(v) * 4095), 0, 4095).astype(np.uint16),)),
    }
    for k in (1.0, 2.0):
        darkest = (k * k + np.sqrt(k**4 + 4 * k * k * 9)) / 2 / well  # light² = k²·(light + 9) in electrons
        for name, (kind, coded) in ways.items():
            made = noise.measured(kind, [[(i, coded(shot())) for i in range(3)] for _ in range(3)])
            stops, _ = noise.range_of(made, kind, curve, k)
            full = 1.0 if name == "values" else float(curve.decode(np.array([1.0]))[0])
            assert stops == pytest.approx(np.log2(full / darkest), abs=0.5), name


def test_raw_or_log_is_answered_by_what_each_holds():
    def held(raw, stops, megabits, plays=True):
        return developing.Range(stops, stops - 1, True, megabits, 30.0, plays, raw)

    log = held(False, 11.0, 200.0)
    assert developing.either([log, log]) == ("", "") == developing.either([held(True, 14.0, 900.0)])
    short, text = developing.either([held(True, 9.0, 500.0), log, held(True, 12.3, 900.0, False)])
    assert short == "RAW, by 1.3 stops" and "1.3 stops more, but is 4.5 times as large and does not play here" in text and "11 stops" in text
    assert developing.either([log, held(True, 11.2, 100.0)])[0] == "log" and "50% as large" in developing.either([log, held(True, 11.2, 100.0)])[1]
    assert "2.0 stops less" in developing.either([log, held(True, 9.0, 900.0)])[1]


def test_bare_steps_and_blocks_are_found_and_made_even():
    """A ramp in 8 bits without noise is nearer to the ramp that it was, and nowhere half a code from what was recorded; edges stay."""
    y, x = np.mgrid[0:128, 0:512]
    ramp = 60 + x / 24.0 + y / 40.0
    ramp[40:60, 100:160] = 180.0
    stored = np.rint(ramp).astype(np.uint8)
    kind = noise.Kind(GREY, (512, 128), False, (16.0,) * 3, (235.0,) * 3)
    held = noise.measured(kind, [[(0, (stored,))]])
    assert held.stepped > 0.5 and held.blocks == 1.0
    out = Evened(GREY, (512, 128)).run([(stored,)], 0)[0] / 256.0
    assert np.abs(out - stored).max() <= 0.51
    assert np.sqrt(((out - ramp)[8:-8, 20:-20] ** 2).mean()) < 0.6 * np.sqrt(((stored - ramp)[8:-8, 20:-20] ** 2).mean())
    assert np.array_equal(out[45:55, 110:150], stored[45:55, 110:150])
    _, noisy = _flat((40, 70, 100, 130, 160, 190), 2.0, 1)
    assert noise.measured(kind, [[(0, noisy[0])]]).stepped == 0.0
    rng = np.random.default_rng(3)
    blocky = np.kron(100 + 3 * rng.standard_normal((16, 64)), np.ones((8, 8)))
    blocky = np.rint(blocky + 0.6 * rng.standard_normal(blocky.shape)).astype(np.uint8)
    assert noise.measured(kind, [[(0, (blocky,))]]).blocks > 1.6


def test_two_lenses_are_cleaned_each_for_itself(tmp_path):
    """A pair of files looked through as one: what prepares them is of the size of what it gets, and the frame comes out."""
    from adzer.core.cards import delivery
    from adzer.core.compile import pixel_plan
    from adzer.core.intake.take import read_file
    from adzer.core.route import Route, walk
    from adzer.core.run.frames import Inputs
    from tests.core.test_join import shot_pair

    files, _ = shot_pair(tmp_path, 0.0, 0.0, 0.0, 0.0)
    facts, seen = read_file(files[0], rear=files[1])
    view = {"keys": [{"heading": 90, "fov": 100}]}
    route = Route().with_("read", projection="fisheye").with_("shape", across=200.0, view=view)
    grain = {"levels": [0.0, 1023.0], "sigma": [[2.0, 2.0]] * 3}
    frames = {}
    for clean in (None, 1.0):
        plan = pixel_plan(walk(route.with_("develop", noise=grain, clean=clean), facts, seen, delivery("web-wide")))
        assert all(len(i.prepares) == (clean is not None) and all(p.raster == i.raster for p in i.prepares) for i in plan.inputs)
        out = tuple(np.zeros(plan.target.format.plane_size(plan.raster, i)[::-1], plan.target.format.dtype) for i in range(3))
        with Inputs(plan.inputs, facts) as inputs, Processor(plan, 2) as processor:
            processor.run(next(inputs.along(np.array([1]), np.array([1 / 25]))), out)
        frames[clean] = out[0].astype(float)
    away = np.abs(frames[None] - frames[1.0])
    assert 0.05 < away.mean() < 4.0 * (1 << (plan.target.format.bits - 8))


@pytest.mark.parametrize("laid", ["left", "beside", "over"])
def test_both_eyes_of_a_pair_are_cleaned(laid):
    """What Join has taken apart is cleaned in the order in which it is delivered, too."""
    from adzer.core.intake.take import facts_of
    from adzer.core.route import Route, walk
    from adzer.core.sim.demo import CLIPS

    route = Route().with_("read", eyes="side by side", first="right").with_("join", laid=laid)
    grain = {"levels": [0.0, 255.0], "sigma": [[2.0, 2.0]] * 3}
    draft = walk(route.with_("develop", noise=grain, clean=1.0), facts_of(CLIPS / "cartwheel-eyes.mp4")).draft
    assert draft.pair is not None and draft.panels
    used = {draft.inputs[p.input] for panel in draft.panels for p in panel.patches}
    assert used and all([type(p) for p in i.prepares] == [Cleaned] for i in used)


@pytest.mark.parametrize("name, sigma", [("bikes", 2.0), ("bikes", 5.0), ("carphone_pristine", 3.0)])
def test_noise_put_into_footage_that_is_not_ours_is_found_and_taken_off(name, sigma):
    """Clips of another package, which move as they like: what was put in is measured at every level, and most of it goes again."""
    from adzer.core.intake.take import facts_of
    from adzer.core.route import Route
    from tests import foreign

    facts = facts_of(foreign.clip(name))
    kind, runs = developing.kind(facts, Route()), noise.frames_of(facts)
    (w, h), rng = facts.raster, np.random.default_rng(13)

    def put(planes):
        luma = planes[0][:h, :w] + sigma * rng.standard_normal((h, w))
        return (np.clip(np.rint(luma), 0, 255).astype(np.uint8), *planes[1:])

    noisy = [[(n, put(planes)) for n, planes in run] for run in runs]
    before, made = noise.measured(kind, runs), noise.measured(kind, noisy)
    known = np.array(made.counts) > 0
    own = before.grain.of(0, np.array(made.grain.levels)[known])
    ratio = np.array(made.grain.sigma[0])[known] / np.hypot(sigma, own)
    assert known.sum() >= 6 and np.abs(np.median(ratio) - 1) < 0.05 and np.abs(ratio - 1).max() < 0.15, np.round(ratio, 2)
    assert not noise.delivered(before, kind, (), None).needed and noise.delivered(made, kind, (), None).needed
    window = [planes for _, planes in noisy[3]]
    out = Cleaned(kind.samples, (w, h), made.grain).run(window, 1)[0] / 256.0
    truth = runs[3][1][1][0][:h, :w].astype(float)
    assert _decibels(out, truth) - _decibels(window[1][0].astype(float), truth) > 3.0


def test_a_frame_that_is_prepared_with_its_neighbours_is_that_frame(tmp_path):
    """Whatever neighbours it has, at the ends, too, and after another that looks at some: by the level that each was written at."""

    @dataclass(frozen=True)
    class Named:
        reach: tuple[int, int]
        samples: Samples

        def run(self, window, middle):
            return tuple(p.copy() for p in window[middle])

    spec = VideoSpec("ffv1", (32, 32), 8, "4:2:0", Fraction(25), Fraction(1, 25), VideoTags("bt709", "bt709", "bt709", "limited"), 1, {})
    with Writer(tmp_path / "a.mkv", spec) as writer:
        for n in range(9):
            frame, target = writer.blank()
            for plane in target:
                plane[:] = 40 + 10 * n
            writer.write(frame, n)
    samples = Samples(PixelFormat(8, "4:2:0"), "bt709", True)
    for reaches in (((2, 2),), ((1, 0), (0, 2)), ((0, 0), (2, 1))):
        held = Input(samples, (32, 32), prepares=tuple(Named(r, samples) for r in reaches))
        wanted = np.array([0, 1, 4, 4, 7, 8])
        with Inputs((held,), probe(tmp_path / "a.mkv")) as inputs:
            seen = [int(planes[0][0][5, 5]) for planes in inputs.along(wanted, wanted / 25)]
        assert seen == [40 + 10 * n for n in wanted]
