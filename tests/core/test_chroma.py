"""What becomes of chroma: measured with sine waves, steps and noise laid straight into the planes."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest

from adzer.core.light.chain import ColourChain
from adzer.core.light.curves import STANDARD
from adzer.core.light.samples import Samples
from adzer.core.media.formats import PixelFormat
from adzer.core.plan import Plan, on_axes
from adzer.core.run.pixels import Processor, apart

SIZE = (480, 320)
ONE, NONE = (Fraction(1), Fraction(1)), (Fraction(0), Fraction(0))
LINEAR = ColourChain(STANDARD["linear"], np.eye(3), STANDARD["linear"])  # a chain, so that the pair of filters is at work


def plan(source="4:2:0", target="4:2:0", sitings=("left", "left"), chain=None, bits=(10, 10), picture=SIZE, offset=NONE, scale=ONE,
         matrices=("bt709", "bt709")):  # fmt: skip
    inner = Samples(PixelFormat(bits[0], source), matrices[0], True, sitings[0])
    outer = Samples(PixelFormat(bits[1], target), matrices[1], True, sitings[1])
    return Plan.single(inner, SIZE, on_axes(picture, scale, offset, SIZE), chain, outer)


def run(made, planes):
    sizes = [made.target.format.plane_size(made.raster, i)[::-1] for i in range(3)]
    out = tuple(np.zeros(s, made.target.format.dtype) for s in sizes)
    with Processor(made, 2) as processor:
        processor.run([tuple(np.ascontiguousarray(p, made.source.format.dtype) for p in planes)], out)
    return [o.astype(float) for o in out]


def grey(made, chroma):
    h, w = made.source.format.plane_size(SIZE, 0)[::-1]
    return [np.full((h, w), 500), chroma, np.full_like(chroma, 512)]


def kept(made, cycles, axis):
    """Amplitude that is left of a wave in Cb, measured over the middle of the plane by least squares."""
    h, w = made.source.format.plane_size(SIZE, 1)[::-1]
    place = np.arange(w)[None, :] if axis == 0 else np.arange(h)[:, None]
    wave = np.broadcast_to(512 + 60 * np.cos(2 * np.pi * cycles * place + 0.4), (h, w))
    out = run(made, grey(made, wave))[1]
    line = out[h // 2, 20 : w - 20] if axis == 0 else out[20 : h - 20, w // 2]
    t = np.arange(20, 20 + len(line))
    basis = np.stack([np.cos(2 * np.pi * cycles * t), np.sin(2 * np.pi * cycles * t), np.ones(len(t))], axis=1)
    (a, b, _), *_ = np.linalg.lstsq(basis, line, rcond=None)
    rest = line - basis @ np.linalg.lstsq(basis, line, rcond=None)[0]
    return float(np.hypot(a, b)) / 60, float(np.abs(rest).max()) / 60


@pytest.mark.parametrize("siting", ["left", "center", "topleft"])
@pytest.mark.parametrize("form", ["4:2:0", "4:2:2"])
def test_with_colour_the_pair_of_filters_keeps_chroma_and_makes_none(form, siting):
    if form == "4:2:2" and siting != "left":
        pytest.skip("4:2:2 is co-sited")
    made = plan(form, form, (siting, siting), LINEAR)
    assert not apart(made, made.panels[0])
    for axis in (0, 1):
        for cycles, least in ((0.05, 0.985), (0.25, 0.97), (0.45, 0.85)):
            share, rest = kept(made, cycles, axis)
            assert least <= share <= 1.02 and rest < 0.03, (form, siting, axis, cycles, share, rest)
        h, w = made.source.format.plane_size(SIZE, 1)[::-1]
        step = np.where(np.indices((h, w))[1 - axis] < (w, h)[axis] // 2, 450, 570)
        out = run(made, grey(made, step))
        assert out[1].min() >= 450 - 0.02 * 120 - 1 and out[1].max() <= 570 + 0.02 * 120 + 1
        assert np.abs(out[2] - 512).max() <= 1  # nothing comes into the other


def test_fine_luma_alone_makes_no_colour():
    """A zone plate, through a real curve, has no chroma to begin with and none after."""
    curve = ColourChain(STANDARD["hlg"], np.eye(3) * 0.8, STANDARD["bt709"], contrast=1.2)
    made = plan(chain=curve)
    y, x = np.indices(SIZE[::-1])
    luma = 500 + 300 * np.cos(np.pi * (x**2 / SIZE[0] + y**2 / SIZE[1]) / 2)
    h, w = made.source.format.plane_size(SIZE, 1)[::-1]
    out = run(made, [luma, np.full((h, w), 512), np.full((h, w), 512)])
    assert np.abs(out[1] - 512).max() <= 1 and np.abs(out[2] - 512).max() <= 1


@pytest.mark.parametrize("form", ["4:2:0", "4:2:2", "4:4:4"])
@pytest.mark.parametrize("siting", ["left", "center", "topleft"])
def test_what_is_left_alone_comes_out_bit_for_bit(form, siting):
    rng = np.random.default_rng(3)
    for bits in ((10, 10), (8, 8), (8, 10)):
        for offset in (NONE, (Fraction(8), Fraction(4))):
            made = plan(form, form, (siting, siting), bits=bits, picture=(SIZE[0] - 40, SIZE[1] - 20), offset=offset)
            planes = [rng.integers(4, (255 << (bits[0] - 8)) - 1, made.source.format.plane_size(SIZE, i)[::-1]) for i in range(3)]
            for i, out in enumerate(run(made, planes)):
                sx, sy = made.source.format.sub if i else (1, 1)
                x, y = int(offset[0]) // sx, int(offset[1]) // sy
                cut = planes[i][y : y + out.shape[0], x : x + out.shape[1]]
                assert np.array_equal(out, cut << (bits[1] - bits[0]))


def test_moved_or_scaled_without_colour_chroma_goes_through_one_filter():
    """Another siting is a shift of a quarter or half a sample; a picture twice as large holds the same wave twice as long."""
    share, _ = kept(plan(sitings=("center", "left")), 0.25, 0)
    assert share > 0.97
    made = plan(sitings=("center", "left"))
    h, w = made.source.format.plane_size(SIZE, 1)[::-1]
    ramp = np.broadcast_to(400 + np.arange(w)[None, :] * 0.8, (h, w))
    moved = run(made, grey(made, np.rint(ramp)))[1]
    # "left" lies a quarter chroma sample to the left of "center"
    assert abs(np.mean(moved[:, 30:-30] - ramp[:, 30:-30]) + 0.25 * 0.8) < 0.06
    half = plan(picture=(SIZE[0] // 2, SIZE[1] // 2), scale=(Fraction(2), Fraction(2)), target="4:4:4", sitings=("topleft", "left"))
    wave = np.broadcast_to(512 + 60 * np.cos(2 * np.pi * 0.2 * np.arange(w))[None, :], (h, w))
    out = run(half, grey(half, wave))[1]
    # delivered pixel i lies at luma 2i + ½ from the first sample's centre: chroma sample i + ¼
    wanted = 512 + 60 * np.cos(2 * np.pi * 0.2 * (np.arange(out.shape[1]) + 0.25))
    assert np.abs(out[:, 20:-20] - wanted[20:-20]).max() < 3
