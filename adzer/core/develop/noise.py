"""Noise as a number before it is a choice: how wide at every level, what of it will be seen, and where.

Neighbouring frames are laid over each other block by block; where little is drawn, they differ by noise alone, twice over.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import msgspec
import numpy as np
from numpy.typing import NDArray

from .. import records
from ..errors import UnreadableError
from ..light.chain import ColourChain
from ..light.curves import Curve
from ..light.samples import Samples
from ..media.decode import Reader
from ..media.probe import FileFacts
from ..plan import Planes, Prepare
from . import cleaning
from .grain import Array, Floats, Grain

VERSION = 1
PLACES, RUN = 6, 3  # of the recording that are looked at; frames there that follow each other
BLOCK, MOST = 16, 9000  # a side; blocks that are compared of a pair of frames
BINS = 16
PLAIN, FEW = 0.35, 24  # share of a bin's blocks that count, those with the least drawn on them; fewer than which a bin says nothing
STAYS = 1.15  # times as unlike, up to which a block is taken as not having moved
ODD = 1.4  # times as wide as what is known of other levels, from which on a level is not believed
DRIFTED, WHITE = 0.7, 0.12  # share of a block's variance that its second differences say, below which what is drawn has moved in it; how far
# neighbours may agree for that to be believed: noise that was smoothed says as little
STILL = 0.9  # of the noise that frames two apart differ by, below which those beside each other were smoothed over time
SEEN = 0.8 / 219  # of the delivered signal: noise below this is not seen
CLIPPED = 0.002

Box = tuple[int, int, int, int]


class Noise(msgspec.Struct, frozen=True):
    """Measured on the frames ``sampled``.

    grain        in recorded codes; of every plane
    planes       what these are called
    counts       blocks behind each level of the first
    model        of sensor values, by cell: a and b of σ² = a·light + b, light 0 black to 1 full; of others of their light, by luma: one pair
    still        share of the blocks that did not move
    within       could only one frame be looked at, in itself? Then fine structure may count as noise
    beside       how far neighbours agree, to the right and downwards, −1 … 1: 0 the camera has not smoothed
    stepped      share of the picture that is smooth and lies in single steps of a code, without noise over them
    blocks       in plain parts, by how much steps on a grid of eight are larger than others; 1: no more
    stops        from where signal equals noise up to full
    """

    sampled: tuple[int, ...]
    grain: Grain
    planes: tuple[str, ...]
    counts: tuple[int, ...]
    model: tuple[tuple[float, float], ...]
    still: float
    within: bool
    beside: tuple[float, float]
    stops: float
    worst: tuple[tuple[int, Box], ...] = ()
    stepped: float = 0.0
    blocks: float = 1.0
    version: int = VERSION

    @property
    def saw(self) -> str:
        """In a few words."""
        known = [s for s, n in zip(self.grain.sigma[0], self.counts, strict=True) if n]
        if not known:
            return "nothing in it can be compared from frame to frame"
        over = " in one frame alone" if self.within else ""
        return f"its noise is {min(known):.1f} to {max(known):.1f} codes wide{over}"


class Seen(msgspec.Struct, frozen=True):
    """Noise as it is delivered: by level of the recording, the delivered luma there and its standard deviation, 1 white."""

    levels: tuple[float, ...]
    sigma: tuple[float, ...]

    @property
    def most(self) -> float:
        return max(self.sigma, default=0.0)

    @property
    def needed(self) -> bool:
        return self.most > SEEN


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


def frames_of(facts: FileFacts) -> list[list[tuple[int, Planes]]]:
    """Runs of frames all over a recording. UnreadableError if none can be decoded."""
    runs: list[list[tuple[int, Planes]]] = []
    with Reader(facts.source, print_=facts.fingerprint) as reader:
        n = len(reader)
        for start in sorted({max(0, min(int((i + 0.5) * n / PLACES), n - RUN)) for i in range(PLACES)}):
            runs.append([(f.number, f.planes) for f in reader.frames(start, min(start + RUN, n))])
    return runs


def measured(kind: Kind, runs: Sequence[Sequence[tuple[int, Planes]]]) -> Noise:
    """Of runs of neighbouring frames, with their numbers."""
    pairs: list[_Pair] = []
    for run in runs:
        planes = [kind.planes(f) for _, f in run]
        for k, gap in ((0, 1), (0, 2)):
            if k + gap < len(run) and (pair := _compared(kind, planes[k], planes[k + gap], gap, run[k][0])) is not None:
                pairs.append(pair)
    within = not any(p.gap == 1 for p in pairs)
    if within:
        pairs = [p for run in runs for n, f in run[:1] if (p := _alone(kind, kind.planes(f), n)) is not None]
    pairs = pairs or [_nothing(kind)]
    near, far = [p for p in pairs if p.gap <= 1], [p for p in pairs if p.gap == 2]
    edges = _edges(kind)
    sigma, counts = [], np.zeros(BINS, int)
    for plane in range(len(kind.names)):
        found, many = _by_level(near, plane, edges)
        sigma.append(found)
        counts = many if plane == 0 else counts
    keep = _kept(near, far, edges)
    centres = (edges[:-1] + edges[1:]) / 2
    beyond = _photons_of_all(kind, centres, sigma) if kind.values else None
    lines = [_whole(kind, centres, s, beyond, i) / np.sqrt(keep) for i, s in enumerate(sigma)]
    shape = _shape(near)
    grain = Grain(
        tuple(np.round(centres, 3).tolist()), tuple(tuple(np.round(line, 4).tolist()) for line in lines), round(keep, 3),
        tuple(np.round(shape, 3).tolist()),
    )  # fmt: skip
    model, stops = _model(kind, beyond)
    numbers = tuple(sorted({p.number for p in pairs}))
    still = float(np.mean([p.still for p in near]))
    beside = tuple(round(float(np.mean([p.beside[i] for p in near])), 3) for i in (0, 1))
    return Noise(
        numbers, grain, kind.names, tuple(counts.tolist()), model, round(still, 3), within, (beside[0], beside[1]), stops,
        _worst(kind, near[0], grain), *_coarse(kind, runs),
    )  # fmt: skip


# --- blocks -------------------------------------------------------------------------------------------------------
@dataclass(frozen=True)
class _Pair:
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


def _compared(kind: Kind, a: list[Floats], b: list[Floats], gap: int, number: int) -> _Pair | None:
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
) -> _Pair:
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
    return _Pair(gap, number, variance, level, drawn, cosines, same, beside, at, tuple(kind.sub(p) for p in range(len(a))))


def _cut(plane: Floats, at: NDArray[np.int64], sub: tuple[int, int]) -> Floats:
    h, w = BLOCK // sub[0], BLOCK // sub[1]
    y = np.clip(at[:, 0] // sub[0], 0, plane.shape[0] - h)
    x = np.clip(at[:, 1] // sub[1], 0, plane.shape[1] - w)
    return np.asarray(plane[y[:, None, None] + np.arange(h)[:, None], x[:, None, None] + np.arange(w)])


def _alone(kind: Kind, planes: list[Floats], number: int) -> _Pair | None:
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
    return _Pair(0, number, found.variance, found.level, found.drawn, np.zeros((8, 8)), 1.0, (0.0, 0.0), at, found.sub)


def _nothing(kind: Kind) -> _Pair:
    """Of a recording in which nothing can be compared: black, or all of it full."""
    none = [np.zeros(0)] * len(kind.names)
    return _Pair(0, 0, none, none, none, np.zeros((8, 8)), 1.0, (0.0, 0.0), np.zeros((0, 2), np.int64), ((1, 1),) * len(kind.names))


# --- from blocks to levels ----------------------------------------------------------------------------------------
def _edges(kind: Kind) -> Array:
    """Of sensor values evenly by square roots, as most of them are dark; of others evenly."""
    low, high = kind.black[0], kind.full[0]
    places = np.linspace(0, 1, BINS + 1)
    return np.asarray(low + (high - low) * (places**2 if kind.values else places))


def _by_level(pairs: list[_Pair], plane: int, edges: Array) -> tuple[Array, NDArray[np.int64]]:
    """σ in the middle of each level, NaN where too little is known. Colour goes by how bright luma is."""
    by = 0 if plane and len(pairs[0].level) == 3 and pairs[0].level[0].shape == pairs[0].level[plane].shape else plane
    variance = np.concatenate([p.variance[plane] for p in pairs])
    level = np.concatenate([p.level[by] for p in pairs])
    drawn = np.concatenate([p.drawn[plane] for p in pairs])
    wide, at, counts = np.full(BINS, np.nan), np.full(BINS, np.nan), np.zeros(BINS, np.int64)
    sx, sy = pairs[0].sub[plane]
    size = BLOCK * BLOCK // (sx * sy)
    index = np.clip(np.searchsorted(edges, level, side="right") - 1, 0, BINS - 1)
    for k in range(BINS):
        mine = np.flatnonzero((index == k) & np.isfinite(variance))
        if len(mine) < FEW:
            continue
        calm = mine[np.argsort(drawn[mine])[: max(FEW, int(PLAIN * len(mine)))]]
        wide[k], at[k] = max(_of_noise(variance[calm], size), 1e-6), float(np.median(level[calm]))
        counts[k] = len(mine)
    known = counts > 0
    if known.sum() > 1:  # where the plain blocks of a level lie is seldom its middle
        order = np.argsort(at[known])
        wide[known] = np.interp((edges[:-1] + edges[1:])[known] / 2, at[known][order], wide[known][order])
    return np.sqrt(wide), counts


def _of_noise(variance: Array, size: int) -> float:
    """Of blocks' variances, what noise alone would have: the median, unless the least tenth lies so far below it that what is drawn in the
    others has moved. ``size``: values in a block."""
    least, middle = np.quantile(variance, [0.1, 0.5])
    tenth = 1 - 1.2816 * np.sqrt(2 / size)  # of the median, as variances of so many values of white noise scatter
    return float(middle if least > 0.9 * tenth * middle else least / tenth)


def _photons_of_all(kind: Kind, centres: Array, sigma: list[Array]) -> tuple[float, float] | None:
    """a, b of all cells of a filter together: a value has the same electrons behind it under each."""
    known = [np.isfinite(s) for s in sigma]
    if sum(int(k.sum()) for k in known) < 3:
        return None
    x = np.concatenate([centres[k] - kind.black[i] for i, k in enumerate(known)])
    variance = np.concatenate([s[k] ** 2 for s, k in zip(sigma, known, strict=True)])
    a, b = _photons(x, variance)
    for _ in range(8):  # without what something that moves has made too large
        near = variance < ODD**2 * np.maximum(a * x + b, 1e-9)
        near &= variance > np.maximum(a * x + b, 1e-9) / ODD**2
        if near.sum() < max(3, len(x) // 2):
            near = variance <= np.median(variance / np.maximum(x, 1.0)) * np.maximum(x, 1.0) * ODD
        a, b = _photons(x[near], variance[near])
    return a, b


def _whole(kind: Kind, centres: Array, sigma: Array, beyond: tuple[float, float] | None, plane: int) -> Array:
    """Levels that nothing was seen of, from those beside them; beyond them, of sensor values by photons' own rule."""
    known = np.isfinite(sigma)
    if not known.any():
        return np.full(BINS, 0.05)
    made = np.interp(centres, centres[known], sigma[known])
    if beyond is not None:
        model = np.sqrt(np.maximum(beyond[0] * (centres - kind.black[plane]) + beyond[1], 0.01))
        odd = (centres < centres[known][0]) | (centres > centres[known][-1]) | (made > ODD * model) | (made < model / ODD)
        return np.where(odd, model, made)
    places = np.flatnonzero(known)
    for k in places[np.argsort(-made[places])]:  # a level far above the four nearest: something moved there
        near = sorted(places[places != k], key=lambda n: abs(n - k))[:4]
        if near and made[k] > ODD * np.median(made[near]):
            made[k] = float(np.median(made[near]))
    return np.asarray(np.interp(centres, centres[known], made[known]))


def _photons(x: Array, variance: Array) -> tuple[float, float]:
    """a, b of variance = a·x + b, none below zero, each point weighed by how exactly it is known (its variance is as its square)."""
    weight = 1 / np.maximum(variance, 1e-12)
    m = np.stack([x, np.ones_like(x)], axis=1) * weight[:, None]
    (a, b), *_ = np.linalg.lstsq(m, variance * weight, rcond=None)
    if b < 0:
        a, b = float((x * weight) @ (variance * weight) / max(float((x * weight) @ (x * weight)), 1e-12)), 0.0
    if a < 0:
        a, b = 0.0, float(np.average(variance, weights=weight**2))
    return float(a), float(b)


def _kept(near: list[_Pair], far: list[_Pair], edges: Array) -> float:
    """How much less frames beside each other differ than frames two apart: what the camera, or the codec, has smoothed over time."""
    if not far or not near or near[0].gap == 0:
        return 1.0
    one, two = _by_level(near, 0, edges)[0], _by_level(far, 0, edges)[0]
    both = np.isfinite(one) & np.isfinite(two)
    if not both.any() or np.mean([p.still for p in far]) < 0.5:
        return 1.0
    ratio = float(np.median(one[both] ** 2 / two[both] ** 2))
    return float(np.clip(ratio, 0.2, 1.0)) if ratio < STILL else 1.0


def _shape(pairs: list[_Pair]) -> Array:
    """(64) mean squared cosines of noise of 1, by coefficient; all 1 if it is white or not known."""
    found = [p.cosines for p in pairs if p.cosines.any()]
    if not found:
        return np.ones(64)
    mean = np.mean(found, axis=0)
    mean[0, 0] = (mean[0, 1] + mean[1, 0]) / 2  # the mean of each block was taken out
    mean = mean / mean.mean()
    if np.abs(mean - 1).max() < 0.25:
        return np.ones(64)
    return np.asarray(np.clip((mean + mean.T) / 2, 0.02, 20).ravel())


def _model(kind: Kind, beyond: tuple[float, float] | None) -> tuple[tuple[tuple[float, float], ...], float]:
    """σ² = a·light + b of sensor values by cell, and the stops from where light equals its noise up to full."""
    if beyond is None:
        return (), 0.0
    made, stops = [], []
    for black, full in zip(kind.black, kind.full, strict=True):
        span = full - black
        a, b = beyond[0] / span, max(beyond[1] - 1 / 12, 0.0) / span**2  # less what rounding to whole codes adds
        made.append((round(a, 9), round(b, 12)))
        darkest = (a + np.sqrt(a * a + 4 * b)) / 2  # x² = a·x + b
        stops.append(float(-np.log2(max(darkest, 1e-6))))
    return tuple(made), round(min(stops), 2)


def _coarse(kind: Kind, runs: Sequence[Sequence[tuple[int, Planes]]]) -> tuple[float, float]:
    """``stepped`` and ``blocks`` of luma, on a frame of each run."""
    if kind.values or not runs:
        return 0.0, 1.0
    stepped, grid, others = [], [], []
    for run in runs:
        luma = kind.planes(run[0][1])[0]
        h, w = (v // BLOCK * BLOCK for v in luma.shape)
        blocks = luma[:h, :w].reshape(h // BLOCK, BLOCK, w // BLOCK, BLOCK).transpose(0, 2, 1, 3).reshape(-1, BLOCK, BLOCK)
        if not len(blocks):
            continue
        reach = blocks.max(axis=(1, 2)) - blocks.min(axis=(1, 2))
        across = np.abs(np.diff(blocks, axis=2))
        turns = (np.diff(np.sign(np.diff(blocks, axis=2)), axis=2) != 0).mean(axis=(1, 2))
        bare = (reach >= 1) & (reach <= 3) & (across.max(axis=(1, 2)) <= 1) & (turns < 0.25) & ((across > 0).mean(axis=(1, 2)) < 0.2)
        stepped.append(float(bare.mean()))
        plain = reach <= 12
        if plain.sum() >= FEW:
            grid.append(float(across[plain][:, :, 7].mean()))
            others.append(float(across[plain][:, :, [2, 3, 4, 10, 11, 12]].mean()))
    blocks_ = float(np.mean(grid)) / max(float(np.mean(others)), 0.02) if grid and float(np.mean(grid)) > 0.2 else 1.0
    return round(float(np.mean(stepped)) if stepped else 0.0, 4), round(max(blocks_, 1.0), 2)


def range_of(held: Noise, kind: Kind, curve: Curve, strong: float = 1.0) -> tuple[float, bool]:
    """Stops from full down to where light is ``strong`` times its noise; and was it seen down there, or only above, so that it is at least that
    many? Of sensor values by their model, of others by luma, through their curve."""
    if kind.values:
        a, b = held.model[0] if held.model else (0.0, 1.0)
        darkest = (a * strong**2 + np.sqrt(a * a * strong**4 + 4 * b * strong**2)) / 2
        seen = any(n for n in held.counts[: BINS // 4])
        return round(float(-np.log2(max(darkest, 1e-6))), 2), seen
    known = np.array(held.counts) > 0
    codes, sigma = np.array(held.grain.levels)[known], np.maximum(np.array(held.grain.sigma[0])[known], 12**-0.5)  # of a code's own step
    if len(codes) < 2:
        return 0.0, False
    matrix = kind.samples.to_signal()
    grey = np.stack([codes, *(np.full(len(codes), float(v)) for v in kind.samples.black()[1:])], axis=-1)
    signal = (grey @ matrix[:, :3].T + matrix[:, 3]).mean(axis=-1)
    step = float(np.abs(matrix[:, 0]).max())
    light = curve.decode(signal)
    wide = sigma * (curve.decode(signal + step) - curve.decode(signal - step)) / 2
    full = float(curve.decode(np.array([1.0]))[0])
    over = light - strong * wide  # rises from below nothing to far above it
    if over[0] >= 0:
        return round(float(np.log2(full / max(strong * wide[0], 1e-9))), 2), bool(light[0] < 4 * strong * wide[0])
    first = int(np.argmax(over > 0))
    if first == 0:
        return 0.0, True
    share = -over[first - 1] / (over[first] - over[first - 1])
    darkest = light[first - 1] + share * (light[first] - light[first - 1])
    return round(float(np.log2(full / max(darkest, 1e-9))), 2), True


def _worst(kind: Kind, pair: _Pair, grain: Grain) -> tuple[tuple[int, Box], ...]:
    """The three patches with the most noise for their light, apart from each other: frame, and x, y, width, height in recorded pixels."""
    if not len(pair.at):
        return ()
    k = 2 if kind.values else 1
    level = np.maximum(pair.level[0] - kind.black[0], 1.0)
    bad = np.where(np.isfinite(pair.variance[0]), grain.of(0, pair.level[0]) / level, 0.0)
    side = max(BLOCK * 2, round(kind.raster[1] / k / 9 / BLOCK) * BLOCK)
    made: list[tuple[int, Box]] = []
    for n in np.argsort(-bad):
        y, x = (int(v) for v in pair.at[n])
        y, x = max(0, min(y - side // 2, kind.raster[1] // k - side)), max(0, min(x - side // 2, kind.raster[0] // k - side))
        box = (x * k, y * k, side * k, side * k)
        if all(abs(box[0] - b[0]) >= box[2] or abs(box[1] - b[1]) >= box[3] for _, b in made):
            made.append((pair.number, box))
        if len(made) == 3 or bad[n] <= 0:
            break
    return tuple(made)


# --- as delivered -------------------------------------------------------------------------------------------------
SIDE = 64  # places a side of a patch on which it is tried


def delivered(noise: Noise, kind: Kind, prepares: Sequence[Prepare], chain: ColourChain | None, gain: float = 1.0, seed: int = 1) -> Seen:
    """Noise of grey patches at every level, sent through what prepares the recording, and its colour. ``gain``: what
    is left of white noise when the picture is brought to its delivered size."""
    levels = np.array(noise.grain.levels)
    rng = np.random.default_rng(seed)
    wide = SIDE * len(levels)
    if kind.values:
        frame = np.empty((SIDE, wide))
        for i in range(4):
            part = np.repeat(levels, SIDE // 2)[None].repeat(SIDE // 2, 0)
            frame[i // 2 :: 2, i % 2 :: 2] = part + noise.grain.of(i, part) * rng.standard_normal(part.shape)
        planes: Planes = (np.clip(np.rint(frame), 0, kind.samples.top).astype(np.uint16),)
        samples = kind.samples
        for each in prepares:
            planes = _patched(each, (wide, SIDE)).run([planes], 0)
            samples = each.samples
        codes = np.stack([p[:SIDE, :wide] for p in planes], axis=-1).astype(np.float64)
    else:
        samples = kind.samples
        part = np.repeat(levels, SIDE)[None].repeat(SIDE, 0)
        grey = samples.black()
        rgb = samples.format.rgb or samples.format.planes == 1
        plain = [part if rgb or c == 0 else np.full(part.shape, float(grey[c])) for c in range(3)]
        codes = np.stack([p + noise.grain.of(c, part) * gain * rng.standard_normal(part.shape) for c, p in enumerate(plain)], axis=-1)
    matrix = samples.to_signal()
    signal = codes @ matrix[:, :3].T + matrix[:, 3]
    out = chain.apply(signal) if chain is not None else np.clip(signal, 0, 1)
    luma = (out @ np.array([0.2126, 0.7152, 0.0722])).reshape(SIDE, len(levels), SIDE)
    edge = 4 if kind.values else 0
    luma = luma[edge : SIDE - edge, :, edge : SIDE - edge]
    mean, sigma = luma.mean(axis=(0, 2)), luma.std(axis=(0, 2)) * (gain if kind.values else 1.0)
    known = np.array(noise.counts) > 0
    return Seen(tuple(np.round(mean[known], 5).tolist()), tuple(np.round(sigma[known], 6).tolist()))


def _patched(each: Prepare, raster: tuple[int, int]) -> Prepare:
    """The same for a frame of another size."""
    from dataclasses import replace

    from .values import Developed

    if isinstance(each, Developed):
        sensor = msgspec.structs.replace(each.sensor, raster=raster, down=(), across=(), gains=(), dead=())
        return replace(each, sensor=sensor)
    return each


# --- what is said -------------------------------------------------------------------------------------------------
def found(held: Mapping[str, bytes]) -> Noise | None:
    """What was measured, by this version's reckoning."""
    body = held.get("noise")
    try:
        made = records.from_json(body, Noise, "What was measured of its noise") if body else None
    except UnreadableError:
        return None
    return made if made is not None and made.version == VERSION else None


def verdict(seen: Seen) -> str:
    """In one sentence, with its numbers."""
    if not seen.sigma:
        return "Nothing in it can be compared from frame to frame: it is black, or full, or never the same."
    worst = int(np.argmax(seen.sigma))
    where = "shadows" if seen.levels[worst] < 0.3 else "middle tones" if seen.levels[worst] < 0.6 else "light tones"
    size = f"{seen.most * 100:.2f} % of white in its {where} as delivered"
    if not seen.needed:
        return f"It needs none: its noise is {size}, which nobody sees (below {SEEN * 100:.2f} %)."
    return f"These {where} will show it: {size}, {seen.most / SEEN:.1f} times what is just seen."
