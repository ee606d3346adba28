"""Blocks of two neighbouring frames laid over each other, by parts of a pixel: where little is drawn, they differ by noise alone, twice over."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..light.samples import Samples
from ..plan import Planes
from . import cleaning
from .grain import Array, Floats

BLOCK, MOST = 16, 9000  # a side; blocks that are compared of a pair of frames
PLAIN, FEW = 0.35, 24  # share of blocks that count, those with the least drawn on them; fewer than which say nothing
STAYS = 1.15  # times as unlike, up to which a block is taken as not having moved
DRIFTED, WHITE = 0.7, 0.12  # share of a block's variance that its second differences say, below which what is drawn has moved in it; how far
# neighbours may agree for that to be believed: noise that was smoothed says as little
CLIPPED = 0.002


@dataclass(frozen=True)
class Kind:
    """How a recording's noise is looked at. ``black``, ``full``: codes of each plane; ``light``: of luma codes, None: as they are."""

    samples: Samples
    raster: tuple[int, int]
    values: bool
    black: tuple[float, ...]
    full: tuple[float, ...]

    @property
    def names(self) -> tuple[str, ...]:
        if self.values:
            return ("cell 1", "cell 2", "cell 3", "cell 4")
        if self.samples.format.rgb:
            return ("red", "green", "blue")
        return ("luma", "Cb", "Cr")[: self.samples.format.planes]

    def planes(self, frame: Planes) -> list[Floats]:
        w, h = self.raster
        if self.values:
            whole = frame[0][: h // 2 * 2, : w // 2 * 2]
            return [whole[i // 2 :: 2, i % 2 :: 2].astype(np.float32) for i in range(4)]
        made = []
        for i in range(len(self.names)):
            pw, ph = self.samples.format.plane_size(self.raster, i)
            made.append(frame[i][:ph, :pw].astype(np.float32))
        return made

    def sub(self, plane: int) -> tuple[int, int]:
        return self.samples.format.sub if plane and not self.values else (1, 1)


@dataclass(frozen=True)
class Pair:
    """Blocks of two frames laid over each other: for each plane variance of noise, level, how much is drawn; of luma's (or the first's)
    differences the mean squared cosines; ``at``: their corners (down, right) in the first plane."""

    gap: int
    number: int
    variance: list[Array]
    level: list[Array]
    drawn: list[Array]
    cosines: Array
    still: float
    beside: tuple[float, float]
    at: NDArray[np.int64]
    sub: tuple[tuple[int, int], ...]


def compared(kind: Kind, a: list[Floats], b: list[Floats], gap: int, number: int) -> Pair | None:
    """None if it is the same frame again, or another picture."""
    shade = [np.asarray(sum(p), np.float32) if kind.values or kind.samples.format.rgb else p[0] for p in (a, b)]
    h, w = shade[0].shape
    if min(h, w) < 2 * BLOCK or np.array_equal(a[0], b[0]):
        return None
    cells = (h // BLOCK, w // BLOCK)
    small = [cleaning.shrunk(s[: cells[0] * BLOCK, : cells[1] * BLOCK]) for s in shade]
    moved = cleaning.flow(small[0], small[1], cells, (cells[0] * BLOCK, cells[1] * BLOCK))
    flow = np.floor(moved).astype(np.int64)
    ys, xs = np.mgrid[0 : cells[0], 0 : cells[1]] * BLOCK
    to_y, to_x = ys + flow[..., 0], xs + flow[..., 1]
    inside = (to_y >= 1) & (to_x >= 1) & (to_y + BLOCK + 2 < h) & (to_x + BLOCK + 2 < w)
    inside |= (np.abs(moved) < 0.5).all(axis=-1)
    chosen = np.flatnonzero(inside.ravel())
    if len(chosen) < FEW:
        return None
    chosen = chosen[:: max(1, len(chosen) // MOST)]
    at = np.stack([ys.ravel()[chosen], xs.ravel()[chosen]], axis=1)
    to = np.stack([to_y.ravel()[chosen], to_x.ravel()[chosen]], axis=1)
    part = (moved - flow).reshape(-1, 2)[chosen]
    stayed = _cut(shade[0], at, (1, 1))
    there = _between(shade[1], to, part)
    off = [((stayed - v) ** 2).mean(axis=(1, 2)) for v in (_cut(shade[1], at, (1, 1)), there)]
    stays = off[0] * (1 + _left(part)) / 2 <= off[1] * STAYS  # in plain places anything looks alike
    to, part = np.where(stays[:, None], at, to), np.where(stays[:, None], 0.0, part)
    return _blocks(kind, a, b, at, to, part, gap, number)


def _taps(part: Array) -> Array:
    """(…, 4) weights of a cubic between places (Catmull and Rom), ``part`` of the way from the second to the third."""
    t = part[..., None]
    powers = np.concatenate([np.ones_like(t), t, t**2, t**3], axis=-1)
    return np.asarray(powers @ np.array([[0, 2, 0, 0], [-1, 0, 1, 0], [2, -5, 4, -1], [-1, 3, -3, 1]]) / 2)


def _left(part: Array) -> Array:
    """What is left of white noise's variance between places, down and right."""
    return np.asarray((_taps(part) ** 2).sum(axis=-1).prod(axis=-1))


def _left_of_second(part: Array) -> Array:
    """The same of its second differences both ways: 36 where it lies on places."""
    bent = np.apply_along_axis(lambda w: np.convolve(w, [1.0, -2.0, 1.0]), -1, _taps(part))
    return np.asarray((bent**2).sum(axis=-1).prod(axis=-1))


def _between(plane: Floats, to: NDArray[np.int64], part: Array) -> Floats:
    """Blocks whose corners lie ``part`` of a place farther down and right than ``to``."""
    y, x = (to[:, i, None] - 1 + np.arange(BLOCK + 3) for i in (0, 1))
    whole = plane[np.clip(y, 0, plane.shape[0] - 1)[:, :, None], np.clip(x, 0, plane.shape[1] - 1)[:, None, :]]
    w = _taps(part).astype(np.float32)
    down = sum(w[:, 0, k, None, None] * whole[:, k : k + BLOCK] for k in range(4))
    return np.asarray(sum(w[:, 1, k, None, None] * down[:, :, k : k + BLOCK] for k in range(4)), np.float32)


def _blocks(
    kind: Kind, a: list[Floats], b: list[Floats], at: NDArray[np.int64], to: NDArray[np.int64], part: Array, gap: int, number: int
) -> Pair:
    variance, level, drawn = [], [], []
    cosines, beside = np.zeros((8, 8)), (0.0, 0.0)
    went, fines = (at != to).any(axis=1) | (part != 0).any(axis=1), []
    for plane in range(len(a)):
        sx, sy = kind.sub(plane)
        first, exact = _cut(a[plane], at, (sy, sx)), (sx, sy) == (1, 1)
        second = _between(b[plane], to, part) if exact else _cut(b[plane], np.rint(to + part).astype(np.int64), (sy, sx))
        both = 1 + _left(part) if exact else np.full(len(at), 2.0)
        d = first - second
        d -= d.mean(axis=(1, 2), keepdims=True)
        n = d.shape[1] * d.shape[2]
        v = (d * d).sum(axis=(1, 2)) / (n - 1) / both
        fine = d[:, :-2] - 2 * d[:, 1:-1] + d[:, 2:]
        fine = fine[:, :, :-2] - 2 * fine[:, :, 1:-1] + fine[:, :, 2:]  # where a block went by parts of a pixel, less of what is drawn is left
        fine = (fine * fine).mean(axis=(1, 2)) / (36 + (_left_of_second(part) if exact else 36))
        mean = (first + second) / 2
        small = mean.reshape(len(mean), 4, d.shape[1] // 4, 4, d.shape[2] // 4).mean(axis=(2, 4))
        top, low = kind.full[plane], 0.5 if kind.values or not kind.samples.limited else kind.samples.ends[0] + 0.5
        clipped = ((first >= top) | (second >= top)).mean(axis=(1, 2)) > CLIPPED
        clipped |= ((first <= low) | (second <= low)).mean(axis=(1, 2)) > CLIPPED
        fines.append(fine)
        variance.append(np.where(clipped | (v == 0), np.nan, v))
        level.append(mean.mean(axis=(1, 2)))
        drawn.append(small.var(axis=(1, 2)))
        if plane == 0:
            flat = drawn[0] <= np.quantile(drawn[0], PLAIN)
            calm = d[flat & ~clipped & (v > 0) & ~went]
            if len(calm) >= FEW:
                unit = calm / np.sqrt(np.maximum((calm**2).mean(axis=(1, 2), keepdims=True), 1e-9))
                across, down = unit[:, :, 1:] * unit[:, :, :-1], unit[:, 1:] * unit[:, :-1]
                right, below = (float(np.median(p.mean(axis=(1, 2)))) + 1 / n for p in (across, down))  # the mean of each was taken out
                beside = right, below
                basis = cleaning.cosines()
                parts = unit.reshape(len(unit), 2, 8, 2, 8).transpose(0, 1, 3, 2, 4).reshape(-1, 8, 8)
                cosines = np.mean((basis @ parts @ basis.T) ** 2, axis=0)
    same = float(np.mean(~went))
    for plane, v in enumerate(variance):  # colour that was made fewer is smooth, and so is its noise
        if gap and (kind.values or kind.samples.format.rgb or plane == 0):
            much = fines[plane] < DRIFTED * v
            variance[plane] = np.where(went | (much & (max(map(abs, beside)) < WHITE)), np.minimum(v, fines[plane]), v)
    return Pair(gap, number, variance, level, drawn, cosines, same, beside, at, tuple(kind.sub(p) for p in range(len(a))))


def _cut(plane: Floats, at: NDArray[np.int64], sub: tuple[int, int]) -> Floats:
    h, w = BLOCK // sub[0], BLOCK // sub[1]
    y = np.clip(at[:, 0] // sub[0], 0, plane.shape[0] - h)
    x = np.clip(at[:, 1] // sub[1], 0, plane.shape[1] - w)
    return np.asarray(plane[y[:, None, None] + np.arange(h)[:, None], x[:, None, None] + np.arange(w)])


def alone(kind: Kind, planes: list[Floats], number: int) -> Pair | None:
    """Of one frame: differences of second differences (Immerkær 1996), whose variance is 36 times the noise's where nothing is drawn."""
    made: list[Floats] = []
    for p in planes:
        across = p[:, :-2] - 2 * p[:, 1:-1] + p[:, 2:]
        fine = across[:-2] - 2 * across[1:-1] + across[2:]
        made.append(np.asarray(np.pad(fine / 6 * np.sqrt(2), 1), np.float32))
    h, w = planes[0].shape
    if min(h, w) < 2 * BLOCK:
        return None
    ys, xs = np.mgrid[0 : h // BLOCK, 0 : w // BLOCK] * BLOCK
    at = np.stack([ys.ravel(), xs.ravel()], axis=1)
    halves = [(np.asarray(p + m / 2, np.float32), np.asarray(p - m / 2, np.float32)) for p, m in zip(planes, made, strict=True)]
    found = _blocks(kind, [a for a, _ in halves], [b for _, b in halves], at, at, np.zeros((len(at), 2)), 0, number)
    return Pair(0, number, found.variance, found.level, found.drawn, np.zeros((8, 8)), 1.0, (0.0, 0.0), at, found.sub)


def nothing(kind: Kind) -> Pair:
    """Of a recording in which nothing can be compared: black, or all of it full."""
    none = [np.zeros(0)] * len(kind.names)
    return Pair(0, 0, none, none, none, np.zeros((8, 8)), 1.0, (0.0, 0.0), np.zeros((0, 2), np.int64), ((1, 1),) * len(kind.names))
