"""Noise as a number before it is a choice: how wide at every level, what of it will be seen, and where.

Neighbouring frames are laid over each other block by block; where little is drawn, they differ by noise alone, twice over.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec
import numpy as np
from numpy.typing import NDArray

from .. import records
from ..light.chain import ColourChain
from ..light.curves import Curve
from ..media.decode import opened
from ..media.probe import FileFacts
from ..plan import Planes, Prepare
from .blocks import BLOCK, FEW, PLAIN, Kind, Pair, alone, compared, nothing
from .dots import Dot
from .dots import found as staying
from .grain import Array, Grain

VERSION = 2
FAR = 12  # frames from run to run, from which on they show other moments
PLACES, RUN = 6, 3  # of the recording that are looked at; frames there that follow each other
BINS = 16
ODD = 1.4  # times as wide as what is known of other levels, from which on a level is not believed
STILL = 0.9  # of the noise that frames two apart differ by, below which those beside each other were smoothed over time
SEEN = 0.8 / 219  # of the delivered signal: noise below this is not seen

Box = tuple[int, int, int, int]


class Noise(msgspec.Struct, frozen=True):
    """Measured on the frames ``sampled``.

    grain        in recorded codes; of every plane
    planes       what these are called
    counts       blocks behind each level of the first
    model        of sensor values, by cell: a and b of σ² = a·light + b, light 0 black to 1 full; empty of others
    still        share of the blocks that did not move
    within       could only one frame be looked at, in itself? Then fine structure may count as noise
    beside       how far neighbours agree, to the right and downwards, −1 … 1: 0 the camera has not smoothed
    stepped      share of the picture that is smooth and lies in single steps of a code, without noise over them
    blocks       in plain parts, by how much steps on a grid of eight are larger than others; 1: no more
    stops        from where signal equals noise up to full
    dots         that stay where they are, whatever the camera looks at (``dots.found``); none of sensor values
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
    dots: tuple[Dot, ...] = ()
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


def frames_of(facts: FileFacts) -> list[list[tuple[int, Planes]]]:
    """Runs of frames all over a recording. UnreadableError if none can be decoded."""
    runs: list[list[tuple[int, Planes]]] = []
    with opened(facts.sources, facts.fingerprint) as reader:
        n = len(reader)
        for start in sorted({max(0, min(int((i + 0.5) * n / PLACES), n - RUN)) for i in range(PLACES)}):
            runs.append([(f.number, f.planes) for f in reader.frames(start, min(start + RUN, n))])
    return runs


def measured(kind: Kind, runs: Sequence[Sequence[tuple[int, Planes]]]) -> Noise:
    """Of runs of neighbouring frames, with their numbers."""
    pairs: list[Pair] = []
    for run in runs:
        planes = [kind.planes(f) for _, f in run]
        for k, gap in ((0, 1), (0, 2)):
            if k + gap < len(run) and (pair := compared(kind, planes[k], planes[k + gap], gap, run[k][0])) is not None:
                pairs.append(pair)
    within = not any(p.gap == 1 for p in pairs)
    if within:
        pairs = [p for run in runs for n, f in run[:1] if (p := alone(kind, kind.planes(f), n)) is not None]
    pairs = pairs or [nothing(kind)]
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
        _worst(kind, near[0], grain), *_coarse(kind, runs), _dots(kind, runs),
    )  # fmt: skip


# --- from blocks to levels ----------------------------------------------------------------------------------------
def _edges(kind: Kind) -> Array:
    """Of sensor values evenly by square roots, as most of them are dark; of others evenly."""
    low, high = kind.black[0], kind.full[0]
    places = np.linspace(0, 1, BINS + 1)
    return np.asarray(low + (high - low) * (places**2 if kind.values else places))


def _by_level(pairs: list[Pair], plane: int, edges: Array) -> tuple[Array, NDArray[np.int64]]:
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


def _kept(near: list[Pair], far: list[Pair], edges: Array) -> float:
    """How much less frames beside each other differ than frames two apart: what the camera, or the codec, has smoothed over time."""
    if not far or not near or near[0].gap == 0:
        return 1.0
    one, two = _by_level(near, 0, edges)[0], _by_level(far, 0, edges)[0]
    both = np.isfinite(one) & np.isfinite(two)
    if not both.any() or np.mean([p.still for p in far]) < 0.5:
        return 1.0
    ratio = float(np.median(one[both] ** 2 / two[both] ** 2))
    return float(np.clip(ratio, 0.2, 1.0)) if ratio < STILL else 1.0


def _shape(pairs: list[Pair]) -> Array:
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


def _dots(kind: Kind, runs: Sequence[Sequence[tuple[int, Planes]]]) -> tuple[Dot, ...]:
    """Of a frame of each run that lies far from the one before."""
    if kind.values or kind.samples.format.rgb:
        return ()
    starts = [run[0] for run in runs if run]
    apart = [starts[n] for n in range(len(starts)) if n == 0 or starts[n][0] - starts[n - 1][0] >= FAR]
    return staying([kind.planes(planes)[0] for _, planes in apart], kind.full[0] - kind.black[0])


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


def _worst(kind: Kind, pair: Pair, grain: Grain) -> tuple[tuple[int, Box], ...]:
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
            planes = each.sized((wide, SIDE)).run([planes], 0)
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


# --- what is said -------------------------------------------------------------------------------------------------
def found(held: Mapping[str, bytes]) -> Noise | None:
    """What was measured, by this version's reckoning."""
    return records.of_version(held.get("noise"), Noise, VERSION)


def verdict(seen: Seen, within: bool = False) -> str:
    """In one sentence, with its numbers; ``within``: of single frames, whose fine structure counts as noise, too."""
    if not seen.sigma:
        return "Nothing in it can be compared from frame to frame: it is black, or full, or never the same."
    worst = int(np.argmax(seen.sigma))
    where = "shadows" if seen.levels[worst] < 0.3 else "middle tones" if seen.levels[worst] < 0.6 else "light tones"
    size = f"{seen.most * 100:.2f} % of white in its {where} as delivered"
    if not seen.needed:
        most = " at most" if within else ""
        return f"It needs none: its noise is {size}{most}, which nobody sees."
    if within:
        return (f"It may show in {where}: at most {size}. No two of its frames show the same under other noise, so that fine structure "
                "counts as noise, too. Look at a smooth part in the loupe, and decide there.")  # fmt: skip
    return f"These {where} will show it: {size}, {seen.most / SEEN:.1f} times what is just seen."
