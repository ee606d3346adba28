"""The way on which two lenses meet, moment by moment: where they differ least, how far what stands there lies apart, how bright each is.

The overlap of both is unrolled, rows by height over the plane between them. What stands near lies lower in the one and higher in the
other, by the distance between the lenses over its own: nowhere else does it look. So nearness is one number for each place of the way.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..light.curves import Curve
from ..light.samples import Samples
from ..look.alike import vertex
from ..media.formats import Plane
from ..space.meeting import CLOSES, Fall
from ..space.sphere import Array, Round
from . import measure
from .met import Along, Met

PLACES = 120  # round the axis
COLUMNS = 720  # that are looked at
NEAREST = 5.0  # degrees
WINDOW = 2.0  # degrees of height to either side of the way, by which nearness is told
ABOUT = 10  # columns to either side that stand as near
PLAINER = 0.005  # signal that a picture has to vary by for nearness to be told there
STEEP, CALM = 0.004, 0.01  # cost, in signal, of a row up or down; of a degree from moment to moment
JUMP, LASTS, FAR = 0.01, 0.05, 0.01  # the same of nearness, in likeness; and of a degree by itself
ALIKE = 0.4  # from which on a likeness begins to count, fully at its double
STAYS = 1.3  # times as much difference as a way that moves has, which a way that stands still may have
BENT = 0.1  # degrees from which on a bend is said
KEEPS, BRIGHT = 0.08, 0.03  # degrees, and share of light, that may change over a take before it is followed

Floats = NDArray[np.float32]


@dataclass(frozen=True)
class _Band:
    """Of one moment: (rows, COLUMNS, 3) signal of either lens, the second's as bright as the first's."""

    time: float
    one: Floats
    two: Floats


@dataclass(frozen=True)
class Overlap:
    """Where both see, by what is known of them. ``heights``: degrees of its rows."""

    lens: Round
    corner: tuple[int, int]
    turn: Array
    samples: Samples
    curve: Curve | None
    light: measure.Light

    @property
    def half(self) -> float:
        return min(v.across for v in self.lens.lenses) / 2 - 90 - measure.RIM

    @property
    def step(self) -> float:
        return float(np.clip(np.degrees(1 / self.lens.density), 0.05, 0.3))

    @property
    def heights(self) -> Array:
        n = int(self.half / self.step)
        return np.asarray(np.arange(-n, n + 1) * self.step, np.float64)

    def both(self, planes: tuple[Plane, ...]) -> tuple[Floats, Floats]:
        """(rows, COLUMNS, 3) signal of what both see all round."""
        turned, heights = np.meshgrid(np.arange(COLUMNS) * 360 / COLUMNS, self.heights)
        return self.at(planes, turned, heights)

    def at(self, planes: tuple[Plane, ...], turned: Array, heights: Array, apart: Array | float = 0.0) -> tuple[Floats, Floats]:
        """(…, 3) signal of either, the second's light as the first's: degrees round the axis and over the plane between them, of what stands
        ``apart`` degrees apart."""
        made = []
        for n, turn in enumerate((np.eye(3), self.turn)):
            d = measure.direction(self.lens, turned, heights + apart * (n - 0.5))
            signal = measure.seen(planes, self.samples, self.lens, n, self.corner, d @ turn.T)
            light = signal if self.curve is None else self.curve.decode(np.clip(signal, 0, 1))
            light = light * np.array(self.light.gain) + np.array(self.light.black) if n else light
            if self.light.falls:
                light = light * Fall.of(self.lens.lenses[n], self.light.falls).undone(d)[..., None]
            made.append(np.asarray(light if self.curve is None else self.curve.encode(light), np.float32))
        return made[0], made[1]

    def apart_at(self, planes: tuple[Plane, ...], turned: float, height: float) -> float | None:
        """Degrees that what stands there lies apart in the two; None if it cannot be told."""
        near = _near(_Band(0.0, *self.both(planes)), self.heights, self.step, np.full(COLUMNS, height), None, np.nan)
        value = float(near[round(turned / 360 * COLUMNS) % COLUMNS])
        return None if np.isnan(value) else value


def measured(moments: Iterable[tuple[float, tuple[Plane, ...]]], overlap: Overlap, blend: float) -> Along:
    """``moments``: seconds, and planes of a recorded frame, upright and without padding, in order. ``blend``: degrees over which one lens
    passes into the other. Lenses that hardly overlap meet halfway."""
    held = [_Band(t, *overlap.both(planes)) for t, planes in moments] if overlap.half - blend / 2 >= 0.5 else []
    if not held:
        return Along((), (0.0, 0.0), 0.0, ())
    heights, step = overlap.heights, overlap.step
    ways, aparts, differs = _ways(held, heights, step, overlap.half - blend / 2, blend)
    apart = _calm(np.array(aparts), KEEPS)
    each = zip(held, ways, apart, strict=True)
    tones = _calm(np.array([_tones(band, heights, step, way, near, overlap.curve) for band, way, near in each]), BRIGHT)
    plain = float(np.mean([np.abs(b.one - b.two)[len(heights) // 2].mean() for b in held]))
    bent = float(np.sin(CLOSES) * (np.abs(apart) > BENT).mean())  # of the sphere so much lies so near to the plane between the lenses
    tears = tuple((round(b.time, 3), _most(a), _most(near - a)) for b, a, near in zip(held, apart, aparts, strict=True))
    met = []
    for band, where, tone, near in zip(held, ways, tones, apart, strict=True):
        red, green, blue = (_placed(v) for v in tone)
        met.append(Met(round(band.time, 3), _placed(where), (red, green, blue), _placed(near)))
    if all(msgspec.structs.replace(m, t=met[0].t) == met[0] for m in met):
        met = [msgspec.structs.replace(met[0], t=0.0)]
    return Along(tuple(met), (round(differs, 4), round(plain, 4)), round(bent, 4), tears)


def _ways(held: list[_Band], heights: Array, step: float, limit: float, blend: float) -> tuple[list[Array], list[Array], float]:
    """Of each moment the degrees (COLUMNS,) by which the way lies high, and that what stands on it lies apart; and how much of the signal
    differs there. The way that stands still is taken while it does nearly as well."""
    columns, limits = np.arange(COLUMNS), (limit, heights)
    ways: list[NDArray[np.int64]] = []
    aparts, costs = [], []
    seam, near = np.zeros(COLUMNS), None
    for band in held:  # nearness is told along the way, and the way goes where what is brought together differs least
        near = _near(band, heights, step, seam, near)
        cost = _differs(band, heights, step, near, blend)
        way = _way_round(cost + CALM * np.abs(heights[:, None] - seam) if ways else cost, *limits)
        seam = heights[way]
        near = _near(band, heights, step, seam, near)
        costs.append(_differs(band, heights, step, near, blend))
        ways.append(way)
        aparts.append(near)
    still = _way_round(np.mean(costs, axis=0), *limits)
    moves, stays = (float(np.mean([c[w, columns] for c, w in zip(costs, each, strict=True)])) for each in (ways, [still] * len(held)))
    if stays > STAYS * moves + 0.002:
        return [heights[w] for w in ways], aparts, moves
    return [heights[still]] * len(held), [_near(b, heights, step, heights[still], n) for b, n in zip(held, aparts, strict=True)], stays


def _most(values: Array) -> float:
    return round(float(np.quantile(np.abs(values), 0.95)), 3)


def _placed(values: Array) -> tuple[float, ...]:
    """Of columns those at ``PLACES``, of what lies about each."""
    from scipy import ndimage

    each = COLUMNS // PLACES
    mean = ndimage.uniform_filter1d(values, each - 1, mode="wrap")
    return tuple(round(float(v), 3) for v in mean[::each])


def _calm(values: Array, keeps: float) -> Array:
    """Moments (n, …) smoothed over time; all alike where they hardly change."""
    from scipy import ndimage

    calm = ndimage.gaussian_filter1d(ndimage.median_filter(values, (3, *(1,) * (values.ndim - 1)), mode="nearest"), 0.7, axis=0, mode="nearest")
    if float(np.quantile(np.abs(calm - np.median(values, axis=0)), 0.95)) <= keeps:
        return np.asarray(np.broadcast_to(np.median(values, axis=0), values.shape))
    return np.asarray(calm)


def _shifted(picture: Floats, rows: Array) -> Array:
    """(rows, COLUMNS, …) each column moved by ``rows`` of it."""
    at = np.arange(len(picture))[:, None] + rows
    low = np.clip(np.floor(at).astype(int), 0, len(picture) - 2)
    part = np.clip(at - low, 0.0, 1.0).reshape(*at.shape, *(1,) * (picture.ndim - 2))
    columns = np.arange(picture.shape[1])
    return np.asarray(picture[low, columns] * (1 - part) + picture[low + 1, columns] * part)


def _differs(band: _Band, heights: Array, step: float, near: Array, blend: float) -> Array:
    """(rows, COLUMNS) how much of the signal differs where both are brought together by ``near`` degrees, over a way ``blend`` wide."""
    from scipy import ndimage

    one, two = (_shifted(v, sign * near / 2 / step) for v, sign in ((band.one, -1), (band.two, 1)))
    off = np.abs(one - two).mean(axis=-1)
    return np.asarray(ndimage.uniform_filter(off, (max(1, round(blend / step)), 5), mode=("nearest", "wrap"))) + 0.001 * np.abs(heights)[:, None]


def _way_round(cost: Array, limit: float, heights: Array) -> NDArray[np.int64]:
    from scipy import ndimage

    inside = np.flatnonzero(np.abs(heights) <= limit + 1e-9)
    way = round_way(cost[inside], STEEP) + inside[0]
    smooth = ndimage.gaussian_filter1d(way.astype(float), 4, mode="wrap")
    return np.asarray(np.round(smooth), np.int64)


def _near(band: _Band, heights: Array, step: float, seam: Array, before: Array | None, unsure: float = 0.0) -> Array:
    """(COLUMNS,) degrees that what stands on the way lies apart, smooth round it; ``before``: a moment ago; ``unsure``: where nothing tells."""
    from scipy import ndimage

    one, two = (measure.luma(v) for v in (band.one, band.two))
    tried = np.arange(-3, round(NEAREST / step) + 1)
    window = round(WINDOW / step)
    columns, cost, last = np.arange(COLUMNS), np.empty((len(tried), COLUMNS)), len(heights) - 1
    rows = np.round(seam / step).astype(int) + len(heights) // 2 + np.arange(-window, window + 1)[:, None]
    for n, k in enumerate(tried):
        lower, upper = rows - (k - k // 2), rows + k // 2
        there = (np.minimum(lower, upper) >= 0) & (np.maximum(lower, upper) <= last)
        a, b = one[np.clip(lower, 0, last), columns], two[np.clip(upper, 0, last), columns]
        count, sa, sb, saa, sbb, sab = (_over(np.where(there, v, 0.0)) for v in (1.0, a, b, a * a, b * b, a * b))
        count = np.maximum(count, 1e-9)
        spread = np.sqrt(np.maximum(saa - sa**2 / count, 0.0) * np.maximum(sbb - sb**2 / count, 0.0))
        alike = (sab - sa * sb / count) / (spread + PLAINER**2 * count)
        cost[n] = np.where(there.sum(axis=0) > window, 1 - alike, 1.0)
    cost = cost + FAR * np.abs(tried * step)[:, None]
    if before is not None:
        cost = cost + LASTS * np.abs(tried[:, None] * step - before)
    way = round_way(cost, JUMP)
    about = np.clip(way + np.arange(-2, 3)[:, None], 1, len(tried) - 2)
    here = about[cost[about, columns].argmin(axis=0), columns]
    low, at, high = (-cost[here + i, columns] for i in (-1, 0, 1))
    found = (tried[here] + vertex(low, at, high)) * step
    sure = np.clip((1 + at) / ALIKE - 1, 0.0, 1.0)
    told, weight = (ndimage.gaussian_filter1d(v, 5, mode="wrap") for v in (found * sure, sure))
    return np.where(weight > 0.02, told / (weight + 0.02), unsure)


def _over(values: Array) -> Array:
    """(COLUMNS,) sums over the rows, and over columns round about."""
    from scipy import ndimage

    return np.asarray(ndimage.uniform_filter1d(values.sum(axis=0), 2 * ABOUT + 1, mode="wrap") * (2 * ABOUT + 1))


def _tones(band: _Band, heights: Array, step: float, seam: Array, near: Array, curve: Curve | None) -> Array:
    """(3, COLUMNS) how many times as red, green and blue the first recorded what both see about the way, as a logarithm; 0 where nothing
    can be compared."""
    from scipy import ndimage

    one, two = (_shifted(v, sign * near / 2 / step) for v, sign in ((band.one, -1), (band.two, 1)))
    usable = np.all([(v > 0.03) & (v < 0.99) for v in (one, two)], axis=(0, 3))
    light = [np.maximum(v if curve is None else curve.decode(np.clip(v, 0, 1)), 1e-4) for v in (one, two)]
    usable &= np.abs(heights[:, None] - seam) <= 2.0
    count = ndimage.uniform_filter1d(usable.sum(axis=0).astype(float), 21, mode="wrap")
    first, second = (ndimage.uniform_filter1d(np.where(usable[..., None], v, 0.0).sum(axis=0), 21, axis=0, mode="wrap").T for v in light)
    told = np.where(count > 2, np.log(np.maximum(first, 1e-6) / np.maximum(second, 1e-6)), 0.0)
    return np.clip(ndimage.gaussian_filter1d(told, 15, axis=1, mode="wrap"), -0.7, 0.7)


def round_way(cost: Array, steep: float) -> NDArray[np.int64]:
    """Rows of the cheapest closed way through the columns, a row up or down from one to the next at most, each at ``steep``."""
    columns = cost.shape[1]
    start = int(_way(np.concatenate([cost, cost], axis=1), None, steep)[columns])  # where it passes if it need not close
    return _way(np.append(cost, cost[:, :1], axis=1), start, steep)[:-1]


def _way(cost: Array, through: int | None, steep: float) -> NDArray[np.int64]:
    """The cheapest way from the first column to the last; ``through``: the row of both its ends."""
    rows, columns = cost.shape
    total, came = cost[:, 0].copy(), np.zeros((columns, rows), np.int64)
    if through is not None:
        total = np.where(np.arange(rows) == through, total, np.inf)
    for c in range(1, columns):
        ways = np.stack([np.append(np.inf, total[:-1]) + steep, total, np.append(total[1:], np.inf) + steep])
        best = ways.argmin(axis=0)
        total, came[c] = ways[best, np.arange(rows)] + cost[:, c], np.arange(rows) + best - 1
    made = np.empty(columns, np.int64)
    made[-1] = int(total.argmin()) if through is None else through
    for c in range(columns - 1, 0, -1):
        made[c - 1] = came[c, made[c]]
    return made
