"""The kernels against the plain NumPy reference, and the filters against what they promise."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from adzer.core.light import names as colour_cards
from adzer.core.light.chain import ColourChain
from adzer.core.light.primaries import rgb_to_rgb
from adzer.core.light.samples import Samples, chroma_offset
from adzer.core.media.formats import PixelFormat
from adzer.core.plan import Plan, on_axes
from adzer.core.run import reference
from adzer.core.run.filters import axis_filter, chroma_reduction, dither_tile
from adzer.core.run.pixels import Processor

CHROMAS = ("4:2:0", "4:2:2", "4:4:4")


@st.composite
def plans(draw):
    bits, chroma = draw(st.sampled_from((8, 10, 12, 16))), draw(st.sampled_from((*CHROMAS, "4:0:0")))
    rgb = chroma == "4:4:4" and draw(st.booleans())
    matrix = "rgb" if rgb else draw(st.sampled_from(("bt709", "bt2020", "bt601")))
    source = Samples(
        PixelFormat(bits, chroma, rgb),
        matrix,
        draw(st.booleans()),
        draw(st.sampled_from(("left", "center", "topleft"))),
    )
    w, h = draw(st.integers(20, 150)), draw(st.integers(20, 47))
    picture = (draw(st.integers(4, 75)) * 2, draw(st.integers(4, 24)) * 2)
    scale = tuple(
        draw(
            st.sampled_from((Fraction(1), Fraction(1, 2), Fraction(8, 5)))
            | st.fractions(Fraction(3, 10), Fraction(3), max_denominator=50)
        )
        for _ in range(2)
    )
    picture = tuple(max(2, min(picture[i], int(((w, h)[i] - 2) / scale[i]) // 2 * 2)) for i in (0, 1))
    offset = tuple(
        draw(st.sampled_from((Fraction(0), Fraction(1, 2), Fraction(37, 100), Fraction(1))))
        * ((w, h)[i] - picture[i] * scale[i])
        for i in (0, 1)
    )
    place = tuple(draw(st.integers(0, 3)) * 2 for _ in range(2))
    raster = tuple(picture[i] + place[i] + 2 * draw(st.integers(0, 2)) for i in (0, 1))
    target = Samples(PixelFormat(10, draw(st.sampled_from(CHROMAS))), draw(st.sampled_from(("bt709", "bt2020"))), draw(st.booleans()),
                     draw(st.sampled_from(("left", "topleft"))))  # fmt: skip
    chain = None
    if draw(st.integers(0, 4)):
        curve = colour_cards.curve(
            draw(st.sampled_from(("fen-log", "reed-log", "tar-toe", "brick-table", "bt709", "acescct", "hlg")))
        )
        m = rgb_to_rgb(
            colour_cards.primaries(draw(st.sampled_from(("bt2020", "ap1", "bt709")))), colour_cards.primaries("bt709")
        )
        chain = ColourChain(
            curve, m * 2.0 ** draw(st.floats(-2, 2)), colour_cards.curve("bt709"), draw(st.sampled_from(("let go", "roll off", "keep all"))),
            contrast=draw(st.floats(0.6, 1.8)), black=draw(st.floats(-0.05, 0.05)), saturation=draw(st.floats(0, 1.5)),
            peak=draw(st.floats(0.5, 40)), gather=draw(st.integers(0, 4)) == 0,
        )  # fmt: skip
    return Plan.single(source, (w, h), on_axes(picture, scale, offset, (w, h), place), chain, target, raster)


def recorded(plan, seed):
    """Random planes with the padding that decoders leave, and the same without it."""
    rng = np.random.default_rng(seed)
    padded, plain = [], []
    for i in range(plan.source.format.planes):
        w, h = plan.source.format.plane_size(plan.inputs[0].raster, i)
        smooth = rng.integers(0, plan.source.top + 1, (h // 4 + 2, w // 4 + 2))
        plane = np.kron(smooth, np.ones((4, 4), np.int64))[:h, :w]
        plane[rng.random(plane.shape) < 0.2] = rng.integers(0, plan.source.top + 1)
        whole = np.full((h, w + 13), 77, plan.source.format.dtype)
        whole[:, :w] = plane
        padded.append(whole)
        plain.append(plane.astype(plan.source.format.dtype))
    return tuple(padded), tuple(plain)


def run(plan, planes):
    out = [
        np.zeros((h, w + 6), np.uint16)
        for w, h in (plan.target.format.plane_size(plan.raster, i) for i in range(3))
    ]
    with Processor(plan, 2) as processor:
        processor.run([planes], tuple(out))
    return [o[:, :-6] for o in out]


@settings(max_examples=100)
@given(plans(), st.integers(0, 10**6))
def test_kernels_stay_within_one_code_of_the_reference(plan, seed):
    padded, plain = recorded(plan, seed)
    for ours, theirs in zip(run(plan, padded), reference.deliver(plan, [plain]), strict=True):
        assert np.abs(ours.astype(np.int64) - theirs).max() <= 1


def test_tetrahedral_interpolation_is_exact_for_planes_and_at_lattice_points():
    rng = np.random.default_rng(0)
    axis = np.arange(5.0)
    grid = np.stack(np.meshgrid(axis, axis, axis, indexing="ij"), axis=-1)
    m = rng.random((3, 3))
    points = rng.random((500, 3)) * 4
    assert np.allclose(reference.tetrahedral(points, (grid @ m).astype(np.float64)), points @ m)


def test_a_picture_that_needs_nothing_is_not_touched():
    form = Samples(PixelFormat(10, "4:4:4"), "bt709", True)
    plan = Plan.single(form, (48, 32), on_axes((48, 32), (Fraction(1),) * 2, (Fraction(0),) * 2, (48, 32)), None, form)
    rng = np.random.default_rng(1)
    planes = tuple(rng.integers(4, 1020, (32, 48)).astype(np.uint16) for _ in range(3))
    out = [np.zeros((32, 48), np.uint16) for _ in range(3)]
    with Processor(plan, 2) as processor:
        processor.run([planes], tuple(out))
    for a, b in zip(planes, out, strict=True):
        assert np.array_equal(a, b)


@given(st.integers(2, 80), st.floats(0.2, 6.0), st.integers(8, 200))
def test_filters_keep_level_and_place(count, scale, size):
    offset = max(0.0, (size - count * scale) / 2) + scale / 2 - 0.5
    made = axis_filter(count, scale, offset, size)
    assert np.allclose(made.weights.sum(axis=1), 1, atol=1e-5)
    assert made.start.min() >= 0 and made.span[1] + made.span[0] <= size
    ramp = np.arange(size, dtype=np.float64)
    index = made.start[:, None] + np.arange(made.weights.shape[1])
    out = (ramp[index] * made.weights).sum(axis=1)
    centre = np.arange(count) * scale + offset
    inner = (centre > 3 * max(scale, 1) + 1) & (centre < size - 2 - 3 * max(scale, 1))
    assert np.all(np.abs(out - centre)[inner] < 1e-3)


def test_reducing_does_not_alias():
    size, count = 4000, 1000
    phase = np.pi * np.arange(size) ** 2 / size / 2  # a sweep up to half the source's sampling rate
    out_filter = axis_filter(count, size / count, size / count / 2 - 0.5, size)
    index = out_filter.start[:, None] + np.arange(out_filter.weights.shape[1])
    out = (np.cos(phase)[index] * out_filter.weights).sum(axis=1)
    kept, gone = out[: int(count * 0.2)], out[int(count * 0.35) :]
    assert np.abs(kept).max() > 0.9 and np.sqrt((gone[:-20] ** 2).mean()) < 0.01


@pytest.mark.parametrize("chroma", ["4:2:0", "4:2:2"])
@pytest.mark.parametrize("siting", ["left", "center", "topleft"])
def test_chroma_lands_where_its_siting_says(chroma, siting):
    """A ramp in chroma, sampled at its true places, comes back as the same ramp at every luma place."""
    form = PixelFormat(16, chroma)
    source, target = Samples(form, "bt709", True, siting), Samples(PixelFormat(16, "4:4:4"), "bt709", True)
    (sx, sy), (w, h) = form.sub, (64, 48)
    cw, ch = form.plane_size((w, h), 1)
    x = np.arange(cw) * sx + chroma_offset(siting, 0, sx)
    y = np.arange(ch) * sy + chroma_offset(siting, 1, sy)
    ramp = (20000 + 200 * x[None, :] + 150 * y[:, None]).astype(np.uint16)
    plan = Plan.single(source, (w, h), on_axes((w, h), (Fraction(1),) * 2, (Fraction(0),) * 2, (w, h)), None, target)
    out = reference.delivered_444(plan, plan.panels[0], [(np.full((h, w), 30000, np.uint16), ramp, ramp)])
    expected = 20000 + 200 * (np.arange(w) + 0.5)[None, :] + 150 * (np.arange(h) + 0.5)[:, None]
    assert np.abs(out[..., 1] - expected)[8:-8, 8:-8].max() < 1


@given(st.sampled_from((1, 2)), st.booleans())
def test_chroma_reduction_keeps_a_ramp(sub, on):
    made = chroma_reduction(16, sub, on, 16 * sub)
    index = made.start[:, None] + np.arange(made.weights.shape[1])
    out = ((np.arange(16 * sub) + 0.5)[index] * made.weights).sum(axis=1)
    expected = np.arange(16) * sub + (0.5 if on or sub == 1 else sub / 2)
    assert np.allclose(out[4:-4], expected[4:-4], atol=1e-5)


def test_dither_is_even_and_high():
    tile = dither_tile()
    assert np.allclose(np.sort(tile.ravel()), (np.arange(tile.size) + 0.5) / tile.size)
    power = np.abs(np.fft.fft2(tile - 0.5)) ** 2
    f = np.fft.fftfreq(64)
    radius = np.hypot(f[:, None], f[None, :])
    assert power[(radius > 0) & (radius < 0.1)].mean() < 0.1 * power[radius > 0.3].mean()


def test_no_filter_reads_what_lay_in_its_memory_before():
    """Memory that is taken anew may hold anything, and nothing times what is no number is still none."""
    from adzer.core.kernels import bands

    none, plane = np.full(64, np.nan, np.float32), np.full((16, 80), 7, np.uint8)
    out = none.copy()
    bands.filter_rows(plane, 2, np.full(9, 1 / 9, np.float32), 0, out)
    assert np.allclose(out, 7)
    row, starts, weights = np.full(80, 3, np.float32), np.arange(64, dtype=np.uint64), np.full((6, 64), 1 / 6, np.float32)
    out = none.copy()
    bands.filter_columns(row, starts, weights, 0, 64, out)
    assert np.allclose(out, 3)
    out, phases = none.copy(), np.full((2, 32), np.nan, np.float32)
    bands.filter_doubling(row, starts // 2, weights, 0, 64, phases, out)
    assert np.allclose(out, 3)
