"""Polyphase resampling weights along one axis: Lanczos-3, widened when reducing so that nothing aliases."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

LOBES = 3.0


@dataclass(frozen=True)
class AxisFilter:
    """``out[i] = Σₖ weights[i, k] · source[start[i] + k]``; each row of weights sums to 1 and stays inside the source."""

    start: NDArray[np.int32]
    weights: NDArray[np.float32]

    @property
    def span(self) -> tuple[int, int]:
        """First source sample that is needed, and how many."""
        first = int(self.start.min())
        return first, int(self.start.max()) + self.weights.shape[1] - first


def lanczos(x: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.where(np.abs(x) < LOBES, np.sinc(x) * np.sinc(x / LOBES), 0.0)


def axis_filter(count: int, scale: float, offset: float, size: int) -> AxisFilter:
    """Filter for ``count`` outputs whose centres lie at source index ``i·scale + offset`` of a line of ``size`` samples.

    scale > 1 reduces; the kernel is then ``scale`` times as wide. Beyond both ends the end sample is repeated.
    """
    centre = np.arange(count) * scale + offset
    if abs(scale - 1) < 1e-12 and abs(offset - round(offset)) < 1e-9:
        nearest = np.rint(centre).astype(np.int64)
        if nearest.min() >= 0 and nearest.max() < size:
            return AxisFilter(nearest.astype(np.int32), np.ones((count, 1), np.float32))
    stretch = max(scale, 1.0)
    reach = LOBES * stretch
    taps = int(np.ceil(2 * reach)) + 1
    first = np.ceil(centre - reach).astype(np.int64)
    index = first[:, None] + np.arange(taps)
    weights = _true_to_ramps(lanczos((index - centre[:, None]) / stretch), (index - centre[:, None]) / reach)
    return _folded(index, weights, size)


def _true_to_ramps(weights: NDArray[np.float64], away: NDArray[np.float64]) -> NDArray[np.float64]:
    """Makes each row sum to 1 with its centre of gravity at 0, so that levels and straight ramps come out exact.

    A windowed sinc alone moves a ramp by up to 0.035 samples. What is missing is added in the shape of a parabola
    (``away``: distance from the centre over the kernel's reach).
    """
    weights = weights / weights.sum(axis=1, keepdims=True)
    bump = np.maximum(1 - away**2, 0)
    b0, b1, b2 = ((bump * away**k).sum(axis=1, keepdims=True) for k in (0, 1, 2))
    moment = (weights * away).sum(axis=1, keepdims=True)
    slope = -moment / (b2 - b1 * b1 / b0)
    return weights + bump * slope * (away - b1 / b0)


def patch_weights(phases: int, widths: int) -> NDArray[np.float32]:
    """(widths + 1, phases, 8) weights of samples −3 … 4 about a place; width k is for 1 + k/widths samples to a pixel.

    A windowed sinc that reaches three samples, so that the outer two of the eight weigh nothing: Lanczos-3 at 1; wider ones
    lose lobes, not pass band, and are as near to the world (measured) as those of eight samples.
    """
    scale = 1 + np.arange(widths + 1)[:, None, None] / widths
    away = np.arange(-3, 5) - ((np.arange(phases) + 0.5) / phases)[:, None]
    weights = np.where(np.abs(away) < LOBES, np.sinc(away / scale) * np.sinc(away / LOBES), 0.0)
    return np.ascontiguousarray(weights / weights.sum(axis=-1, keepdims=True), dtype=np.float32)


def narrow_weights(phases: int) -> NDArray[np.float32]:
    """(phases, 8) weights of samples −1 … 2, and four that are 0: the interpolating cubic (Keys 1981, a = −½), for planes that
    are enlarged."""
    t = (np.arange(phases) + 0.5) / phases
    away = np.abs(np.arange(-1, 3) - t[:, None])
    near = (1.5 * away - 2.5) * away**2 + 1
    far = ((-0.5 * away + 2.5) * away - 4) * away + 2
    return np.pad(np.where(away <= 1, near, far), ((0, 0), (0, 4))).astype(np.float32)


def halving_taps() -> NDArray[np.float32]:
    """Eight weights about the middle of a pair: Lanczos-2, widened twice."""
    away = np.arange(8) - 3.5
    weights = np.sinc(away / 2) * np.sinc(away / 4)
    return np.asarray(weights / weights.sum(), dtype=np.float32)


# Halves of symmetric kernels from the middle outwards. Solved by linear programming: least of what lies above 0.36 cycles a
# sample, so that after the interpolation of ``axis_filter`` at least 0.975 of chroma is left at a quarter cycle a chroma sample
# and 0.86 at 0.45, with steps that overshoot by less than 1.8 % (by less than 8 and 6 %, where there was nothing to interpolate).
_ON_SAMPLE = (0.6241, 0.2680, -0.0662, -0.0532, 0.0394)
_BETWEEN = (0.5051, 0.0549, -0.1029, 0.0429)


def chroma_reduction(count: int, sub: int, cosited: bool, size: int) -> AxisFilter:
    """From every sample to every ``sub``-th, on a sample or midway between two; made for the way back through the
    interpolation that it follows, and sharp: see above."""
    if sub == 1:
        return AxisFilter(np.arange(count, dtype=np.int32), np.ones((count, 1), np.float32))
    half = np.array(_ON_SAMPLE if cosited else _BETWEEN)
    weights = np.concatenate([half[:0:-1], half] if cosited else [half[::-1], half])
    first = 1 - len(half) if not cosited else -(len(half) - 1)
    index = np.arange(count)[:, None] * sub + first + np.arange(len(weights))
    return _folded(index, np.broadcast_to(weights / weights.sum(), index.shape), size)


def simple_reduction(count: int, sub: int, cosited: bool, size: int) -> AxisFilter:
    """What cameras do: (1 2 1)/4 on a co-sited sample, (1 3 3 1)/8 about a place between two."""
    if sub == 1:
        return chroma_reduction(count, sub, cosited, size)
    at = np.arange(count)[:, None] * sub
    if cosited:
        index, weights = at + np.array([-1, 0, 1]), np.array([0.25, 0.5, 0.25])
    else:
        index, weights = at + np.array([-1, 0, 1, 2]), np.array([0.125, 0.375, 0.375, 0.125])
    return _folded(index, np.broadcast_to(weights, index.shape), size)


def _folded(index: NDArray[np.int64], weights: NDArray[np.float64], size: int) -> AxisFilter:
    """Adds the weight of samples beyond the ends to the end samples, so that loops need no edge case."""
    taps = min(index.shape[1], size)
    start = np.clip(index[:, 0], 0, size - taps)
    place = np.clip(index, 0, size - 1) - start[:, None]
    folded = np.zeros((len(start), taps))
    np.add.at(folded, (np.arange(len(start))[:, None], place), weights)
    used = np.flatnonzero(np.any(folded != 0, axis=0))
    low, high = int(used[0]), int(used[-1]) + 1
    return AxisFilter((start + low).astype(np.int32), np.ascontiguousarray(folded[:, low:high], dtype=np.float32))


def dither_tile(size: int = 64, seed: int = 7) -> NDArray[np.float32]:
    """A tile of offsets in 0–1, evenly spread, with its energy at high frequencies where the eye is weak."""
    rng = np.random.default_rng(seed)
    ranks = rng.permutation(size * size).astype(np.float64).reshape(size, size)
    f = np.fft.fftfreq(size)
    low = np.exp(-(f[:, None] ** 2 + f[None, :] ** 2) * 2 * np.pi**2 * 1.5**2)
    for _ in range(30):
        rough = ranks - np.fft.ifft2(np.fft.fft2(ranks) * low).real
        ranks = np.argsort(np.argsort(rough, axis=None, kind="stable"), kind="stable").astype(np.float64)
        ranks = ranks.reshape(size, size)
    return ((ranks + 0.5) / (size * size)).astype(np.float32)
