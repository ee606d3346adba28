"""Follows a marked thing over a sphere or a flat picture, says when it is not there, and finds it when it comes back.

Each frame is looked at through a small straight view about where the thing should be, so that seam, poles and lens do not
matter. Where in that view it lies is answered by two correlation filters over luma, both colour differences and the
directions of edges; they are taught under a mask of what belongs to the thing, so that the ground behind it is not learnt
(Lukežič et al., Discriminative Correlation Filter with Channel and Spatial Reliability, 2017). The first is what was marked
and never changes, the second learns. Whether it is the thing at all is asked apart from that: what lies there is held
against all that the thing was seen to look like and against all that was seen around it (the relative likeness of Kalal
et al., Tracking-Learning-Detection, 2012). Where that says no, the thing is hidden, nothing is learnt, and it is looked for
in ever wider circles until it comes back.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..errors import AdzerError
from ..space.sphere import Array, Equirect, Round, Straight, direction, heading_tilt, rotation
from .alike import bilinear, vertex

SIDE = 72  # samples of the small view
AROUND = 3.0  # times the thing's size that the small view is wide
EDGES = 6  # directions of edges that are told apart
LEARNS = 0.05  # share of every other frame that the second filter takes in
LOST = 0.3  # sure at or below which nobody should believe the place
BACK = 0.95  # sure that a place must be for what was hidden to be taken as back
KEPT = 16, 120  # looks of the thing, and of what is around it, that are remembered
SCALES = (1.04, 1 / 1.04)  # other sizes, tried in turn
AGAIN = (1.0, 0.88, 1.14)  # sizes at which what was hidden may come back
PENALTY = 0.97  # another size must be clearly better
WIDE = 4  # times as wide a view is searched while the thing is hidden
LOOKS = 6  # places in it that are looked at
SUDDEN = 0.5  # of its own size by which a thing that was hidden may have gone in every frame, beyond how it was seen to go
RIVAL = 0.6  # how sure a second place may be beside the first
LEAP = 0.75  # of its own size, and three times its fastest, beyond which a thing that goes on in one frame is another one
NEAR = 2.0  # of its own size from where it was hidden, or was on its way to, within which it needs no further proof
SEARCHED = 40.0  # degrees about where it was last seen beyond which it is not looked for

Planes = tuple[NDArray[np.generic], ...]
Recording = Equirect | Round | Straight  # what a thing can be followed over
Spectra = NDArray[np.complex128]


class Point(msgspec.Struct, frozen=True):
    """The thing at one frame: degrees of heading and tilt in the recording, degrees across and high, 0–1 how sure."""

    frame: int
    heading: float
    tilt: float
    across: float
    high: float
    sure: float


@dataclass(frozen=True)
class Source:
    """What a thing is followed over. ``region``: where that lies in the picture (x, y, width, height in recorded pixels);
    ``sub``: chroma subsampling across and down."""

    lens: Recording
    region: tuple[int, int, int, int]
    sub: tuple[int, int]

    def box(self, point: Point) -> tuple[float, float, float, float]:
        """(x, y, width, height) of a point in recorded pixels; left, top. Over the seam of a whole sphere it goes on to the right
        of its last column."""
        turn = rotation(point.heading, point.tilt)
        bx, by = np.tan(np.radians(point.across) / 2), np.tan(np.radians(point.high) / 2)
        edges = np.array([[-bx, 1, 0], [bx, 1, 0], [0, 1, by], [0, 1, -by]]) @ turn.T
        left, right, top, bottom = self.lens.place(edges)
        middle = self.lens.place(turn[:, 1])
        wide, high = abs(float(right[0] - left[0])), abs(float(bottom[1] - top[1]))
        around = self.lens.size[0]
        if self.whole:
            wide = min(wide, around - wide)
        x = float(middle[0]) - wide / 2
        return (x % around if self.whole else x) + self.region[0], float(middle[1]) - high / 2 + self.region[1], wide, high

    @property
    def whole(self) -> bool:
        """It goes on from its last column to its first."""
        return isinstance(self.lens, Equirect) and self.lens.whole

    def marked(self, x: float, y: float, w: float, h: float) -> Marked:
        """A thing in a box of recorded pixels (left, top, width, height)."""
        across, down = (
            np.array([x, x + w / 2, x + w]) - self.region[0],
            np.array([y, y + h / 2, y + h]) - self.region[1],
        )
        middle = self.lens.direction(np.array([across[1], down[1]]))
        heading, tilt = (float(v) for v in heading_tilt(middle))
        turned = rotation(heading, tilt)

        def apart(a: tuple[float, float], b: tuple[float, float], axis: int) -> float:
            ends = np.stack([self.lens.direction(np.array(p)) for p in (a, b)]) @ turned
            return float(np.degrees(abs(np.diff(np.arctan2(ends[:, axis], ends[:, 1]))[0])))

        return Marked(
            self, heading, tilt,
            apart((across[0], down[1]), (across[2], down[1]), 0), apart((across[1], down[0]), (across[1], down[2]), 2),
        )  # fmt: skip


def over_flat(raster: tuple[int, int], sub: tuple[int, int], squeeze: float = 1.0) -> Source:
    """A flat picture, followed over as if its lens kept lines straight."""
    return Source(Straight(raster, squeeze), (0, 0, *raster), sub)


@dataclass(frozen=True)
class Marked:
    """A thing so many degrees across and high that was marked at a direction, before its frame has been looked at."""

    source: Source
    heading: float
    tilt: float
    across: float
    high: float

    def start(self, planes: Planes) -> Follower:
        return start(planes, self)


@dataclass(frozen=True)
class Looks:
    """What was seen: rows are looks (see ``_look``)."""

    thing: Array
    around: Array

    def like(self, looks: Array) -> tuple[Array, Array]:
        """Of each look: how near it is to the thing rather than to what is around it (0–1, ½ undecided), and how near to the
        thing at all."""
        thing, around = (looks @ self.thing.T).max(axis=1), (looks @ self.around.T).max(axis=1)
        near, far = 1 - np.clip(thing, -1, 1), 1 - np.clip(around, -1, 1)
        return far / np.maximum(near + far, 1e-6), thing

    def with_thing(self, look: Array) -> Looks:
        rows = np.vstack([self.thing, look])
        return replace(self, thing=rows if len(rows) <= KEPT[0] else np.vstack([rows[:1], rows[2:]]))

    def with_around(self, looks: Array) -> Looks:
        rows = np.vstack([self.around, looks])
        return replace(self, around=rows[-KEPT[1] :])


@dataclass(frozen=True)
class Follower:
    """What is known of the thing after a frame. ``bounds``: tangents of half its width and height; ``hidden``: frames since
    it was last seen; ``fastest``: radians that it was seen to go in a frame; ``doubtful``: it may be another of its kind that is followed
    since. ``first`` and ``now``: filters (channels, n, n) in the frequency domain."""

    source: Source
    first: Spectra
    now: Spectra
    mask: Array
    looks: Looks
    at: Array
    drift: Array
    bounds: tuple[float, float]
    hidden: int = 0
    fastest: float = 0.0
    doubtful: bool = False

    def point(self, frame: int, sure: float = 1.0) -> Point:
        """Where it is; taken as sure on the frame on which it was marked."""
        heading, tilt = heading_tilt(self.at)
        across, high = (2 * float(np.degrees(np.arctan(b))) for b in self.bounds)
        return Point(frame, float(heading), float(tilt), across, high, sure)

    @property
    def cells(self) -> tuple[int, int]:
        """Samples of the small view that the thing is wide and high."""
        wide = SIDE / AROUND * np.sqrt(self.bounds[0] / self.bounds[1])
        high = SIDE / AROUND * np.sqrt(self.bounds[1] / self.bounds[0])
        return int(np.clip(round(wide), 6, SIDE - 8)), int(np.clip(round(high), 6, SIDE - 8))


_WINDOW = np.outer(np.hanning(SIDE + 2)[1:-1], np.hanning(SIDE + 2)[1:-1])
_PLACE = (np.arange(SIDE) + 0.5) / SIDE * 2 - 1
_AWAY = np.arange(SIDE) - SIDE // 2  # from the sample that stands for no shift at all


def _wanted(cells: tuple[int, int]) -> Spectra:
    """The answer that the filters are taught: one peak in the middle, a tenth of the thing wide."""
    sx, sy = (max(1.0, 0.09 * c) for c in cells)
    peak = np.exp(-0.5 * ((_AWAY[None] / sx) ** 2 + (_AWAY[:, None] / sy) ** 2))
    return np.fft.rfft2(np.fft.ifftshift(peak))


# --- looking --------------------------------------------------------------------------------------------------------------
def _half(bounds: tuple[float, float], scale: float = 1.0) -> float:
    """Tangent of half the small view."""
    return float(min(AROUND * np.sqrt(bounds[0] * bounds[1]) * scale, 3.7))


def _seen(source: Source, planes: Planes, centre: Array, half: float, side: int = SIDE) -> Array:
    """(3, side, side): a straight view about a direction, ``half``: tangent of half its width; luma and colour differences."""
    turn = rotation(*heading_tilt(centre))
    x0, y0, w, h = source.region
    wraps = isinstance(source.lens, Equirect) and source.lens.whole
    out = np.zeros((3, side, side))
    for first, sub, which in ((0, (1, 1), planes[:1]), (1, source.sub, planes[1:3])):
        sx, sy = sub
        finer = int(np.clip(round(2 * half / side * source.lens.density / max(sub)), 1, 4))  # pixels in a sample
        place = (np.arange(side * finer) + 0.5) / (side * finer) * 2 - 1
        local = np.stack(np.broadcast_arrays(place[None] * half, 1.0, -place[:, None] * half), axis=-1)
        spot = source.lens.place(local @ turn.T)
        parts = [p[y0 // sy : (y0 + h) // sy, x0 // sx : (x0 + w) // sx] for p in which]
        for c, values in enumerate(bilinear(parts, spot[..., 0] / sx, spot[..., 1] / sy, wraps), first):
            out[c] = values.reshape(side, finer, side, finer).mean(axis=(1, 3))
    return out


def _features(seen: Array) -> Array:
    """(3 + EDGES, n, n): luma and colours about their mean by luma's spread, and how strongly edges run each way."""
    from scipy.ndimage import (  # here, as they load slowly and the window opens without them
        gaussian_filter,
        uniform_filter,
    )

    luma, wide = seen[0], seen.shape[1] > SIDE
    spread = max(float(luma.std()), 1e-3)
    gy, gx = np.gradient(gaussian_filter(luma, 0.7))
    strength = np.hypot(gx, gy)
    strength = strength / (np.sqrt(np.maximum(uniform_filter(strength**2, 15), 0)) + 0.05 * spread)
    way = (np.arctan2(gy, gx) % np.pi) / np.pi * EDGES
    low = np.floor(way).astype(int) % EDGES
    share = way - np.floor(way)
    edges = np.zeros((EDGES, *luma.shape))
    for n in range(EDGES):
        edges[n] = uniform_filter(strength * ((low == n) * (1 - share) + ((low + 1) % EDGES == n) * share), 3)
    values = np.concatenate([seen, edges])
    values -= uniform_filter(values, (0, SIDE, SIDE)) if wide else values.mean(axis=(1, 2), keepdims=True)
    values[0] /= spread
    values[1:3] /= max(spread / 2, 2.0)
    return values


def _spectra(features: Array) -> Spectra:
    return np.fft.rfft2(features * _WINDOW)


def _taught(spectra: Spectra, mask: Array, wanted: Spectra) -> Spectra:
    """The filter that answers ``wanted`` and is nought outside the mask: four turns of alternating directions."""
    cross, own = spectra * np.conj(wanted), (np.abs(spectra) ** 2)
    mu, least = 5.0, 1e-2 * float(own.mean()) + 1e-9
    filter_ = _within(cross / (own + least), mask)
    own_, cross_ = own / own.mean(), cross / own.mean()
    pull = np.zeros_like(filter_)
    for _ in range(4):
        free = (cross_ + mu * filter_ - pull) / (own_ + mu)
        filter_ = _within((mu * free + pull) / (mu * 1.01), mask)
        pull = pull + mu * (free - filter_)
        mu *= 3
    return filter_


def _within(spectra: Spectra, mask: Array) -> Spectra:
    return np.fft.rfft2(mask * np.fft.irfft2(spectra, s=(SIDE, SIDE)))


def _answer(f: Follower, spectra: Spectra) -> Array:
    """How well the thing fits at each shift, both filters together, by their own greatest answer where taught."""
    both = np.conj(0.5 * f.first + 0.5 * f.now)
    return np.asarray(np.fft.fftshift(np.fft.irfft2((both * spectra).sum(axis=0), s=(SIDE, SIDE))))


def _mask(seen: Array, cells: tuple[int, int]) -> Array:
    """0–1: what belongs to the thing, by its colours against those around it (Bayes over coarse histograms), in its box."""
    from scipy.ndimage import gaussian_filter

    wide, high = cells
    ax, ay = np.abs(_AWAY + 0.5) / (wide / 2), np.abs(_AWAY + 0.5) / (high / 2)
    inside = np.maximum(ax[None], ay[:, None])
    box, ring = inside <= 1, (inside > 1.1) & (inside < 2.0)
    weight = np.clip(1 - 0.5 * (ax[None] ** 2 + ay[:, None] ** 2), 0.05, None) * box
    low, top = seen.min(axis=(1, 2), keepdims=True), seen.max(axis=(1, 2), keepdims=True)
    steps: Array = np.array([12, 8, 8])[:, None, None]
    index = np.minimum(((seen - low) / np.maximum(top - low, 1e-6) * steps).astype(int), steps - 1)
    flat = (index[0] * 8 + index[1]) * 8 + index[2]
    mine = np.bincount(flat.ravel(), weight.ravel(), minlength=768).reshape(12, 8, 8)
    other = np.bincount(flat.ravel(), ring.ravel().astype(float), minlength=768).reshape(12, 8, 8)
    mine, other = (gaussian_filter(v / max(v.sum(), 1e-9), 0.6, mode="nearest").ravel() for v in (mine, other))
    mine_here, other_here = mine[flat], other[flat]
    share = gaussian_filter(mine_here / np.maximum(mine_here + other_here, 1e-9), 1.0)
    held = np.clip((share - 0.35) / 0.3, 0, 1) * box
    if not 0.15 < held.sum() / box.sum() < 0.97:  # its colours do not tell it from what is around it
        held = np.clip(1.2 - 0.4 * (ax[None] ** 2 + ay[:, None] ** 2), 0, 1) * box
    return np.asarray(gaussian_filter(held, 0.8) * box)


def _look(features: Array, mask: Array, cells: tuple[int, int], x: float = 0.0, y: float = 0.0) -> Array:
    """One row of length 1: what lies in the box about a place (−1 … 1 of the small view), so that the product of two rows is
    their likeness, −1 … 1."""
    wide, high = cells
    i = int(np.clip(round(x * SIDE / 2 + SIDE / 2 - wide / 2), 0, SIDE - wide))
    j = int(np.clip(round(y * SIDE / 2 + SIDE / 2 - high / 2), 0, SIDE - high))
    part = features[:, j : j + high, i : i + wide]
    mi, mj = SIDE // 2 - wide // 2, SIDE // 2 - high // 2
    weight = 0.15 + 0.85 * mask[mj : mj + high, mi : mi + wide]
    weight = weight / weight.sum()
    luma, colours, edges = part[:1], part[1:3], part[3:]
    groups = []
    for group, centred in ((luma, True), (edges, True), (colours, False)):
        values = group - (group * weight).sum(axis=(1, 2), keepdims=True) if centred else group
        values = values * np.sqrt(weight)
        length = float(np.sqrt((values**2).sum()))
        groups.append(values.ravel() / max(length, 0.35 if not centred else 0.05))
    row = np.concatenate([groups[0] * 0.75, groups[1] * 1.0, groups[2] * 0.75])
    return np.asarray(row / max(float(np.linalg.norm(row)), 1e-9))


def _beside(features: Array, mask: Array, cells: tuple[int, int]) -> Array:
    """Looks all around the thing, none that covers a third of it."""
    wide, high = cells
    across = np.arange(-(SIDE - wide) // 2, (SIDE - wide) // 2 + 1, max(3, wide // 3))
    down = np.arange(-(SIDE - high) // 2, (SIDE - high) // 2 + 1, max(3, high // 3))
    rows = []
    for dy in down.tolist():
        for dx in across.tolist():
            shared = max(0, wide - abs(dx)) * max(0, high - abs(dy))
            if shared / (2 * wide * high - shared) < 0.2:
                rows.append(_look(features, mask, cells, dx / (SIDE / 2), dy / (SIDE / 2)))
    return np.array(rows)


def start(planes: Planes, marked: Marked) -> Follower:
    """Learns a marked thing. AdzerError if it is too small, too large or featureless."""
    source, lens = marked.source, marked.source.lens
    large, small = max(marked.across, marked.high), min(marked.across, marked.high)
    if not (small >= 0.2 and large <= 60):
        raise AdzerError(
            f"A thing {marked.across:.1f}° across and {marked.high:.1f}° high cannot be followed; mark one of a fifth of a "
            "degree to 60°."
        )
    if np.radians(small) * lens.density < 5:
        raise AdzerError("The thing is less than five recorded pixels across. Mark something larger.")
    at = direction(marked.heading, marked.tilt)
    if float(lens.margin(at)) <= 0:
        raise AdzerError("There is no picture where the mark lies. Mark a thing inside.")
    bounds = (float(np.tan(np.radians(marked.across) / 2)), float(np.tan(np.radians(marked.high) / 2)))
    nothing = np.zeros((3 + EDGES, SIDE, SIDE // 2 + 1), complex)
    empty = Looks(np.zeros((0, 1)), np.zeros((0, 1)))
    f = Follower(source, nothing, nothing, np.zeros((SIDE, SIDE)), empty, at, np.zeros(3), bounds)
    seen = _seen(source, planes, at, _half(bounds))
    if float(seen.std(axis=(1, 2)).max()) < 1e-6:
        raise AdzerError("Nothing stands out where the mark lies. Mark something with an edge.")
    features, mask = _features(seen), _mask(seen, f.cells)
    taught = _taught(_spectra(features), mask, _wanted(f.cells))
    looks = Looks(_look(features, mask, f.cells)[None], _beside(features, mask, f.cells))
    return replace(f, first=taught, now=taught, mask=mask, looks=looks)


# --- the next frame -------------------------------------------------------------------------------------------------------
def _peaks(answer: Array, cells: tuple[int, int], most: int) -> list[tuple[float, float, float]]:
    """(x, y) −1 … 1 of the small view and height of the greatest peaks, half a thing apart at least."""
    left, side = answer.copy(), len(answer)
    found: list[tuple[float, float, float]] = []
    for _ in range(most):
        j, i = np.unravel_index(int(left.argmax()), left.shape)
        top = float(left[j, i])
        if top <= 0:
            break
        x = int(i) + float(vertex(answer[j, i - 1], top, answer[j, (i + 1) % side])) - side / 2
        y = int(j) + float(vertex(answer[j - 1, i], top, answer[(j + 1) % side, i])) - side / 2
        found.append((x / (side / 2), y / (side / 2), top))
        wide, high = cells[0] // 2, cells[1] // 2
        left[max(0, j - high) : j + high + 1, max(0, i - wide) : i + wide + 1] = -np.inf
    return found


def _aside(centre: Array, x: float, y: float, half: float) -> Array:
    """The direction at a place of the small view about ``centre``."""
    heading, tilt = heading_tilt(centre)
    at = rotation(heading, tilt) @ np.array([x * half, 1.0, -y * half])
    return np.asarray(at / np.linalg.norm(at))


@dataclass(frozen=True)
class Found:
    at: Array
    scale: float
    sure: float
    like: float


def _sure(relative: Array, like: Array) -> Array:
    """0–1 from the relative likeness and the likeness itself."""
    return np.clip((relative - 0.45) / 0.2, 0, 1) * np.clip((like - 0.38) / 0.25, 0, 1)


def _best(f: Follower, planes: Planes, centre: Array, scales: tuple[float, ...], most: int) -> Found | None:
    """The likeliest place about ``centre``: peaks of the filters, weighed by what lies there."""
    best: tuple[float, float, Array] | None = None
    for scale in scales:
        half = _half(f.bounds, scale)
        features = _features(_seen(f.source, planes, centre, half))
        peaks = _peaks(_answer(f, _spectra(features)), f.cells, most if scale == 1.0 else 1)
        if not peaks:
            continue
        looks = np.array([_look(features, f.mask, f.cells, x, y) for x, y, _ in peaks])
        relative, like = f.looks.like(looks)
        for (x, y, top), r in zip(peaks, relative, strict=True):
            worth = top * max(0.05, float(r) - 0.3) * (1.0 if scale == 1.0 else PENALTY)
            if best is None or worth > best[0]:
                best = (worth, scale, _aside(centre, x, y, half))
    if best is None:
        return None
    _, scale, at = best
    features = _features(_seen(f.source, planes, at, _half(f.bounds, scale)))
    relative, like = f.looks.like(_look(features, f.mask, f.cells)[None])
    return Found(at, scale, float(_sure(relative, like)[0]), float(like[0]))


def _candidates(f: Follower, planes: Planes, centre: Array) -> list[Array]:
    """Where in a view ``WIDE`` times as wide the filters answer best; each is yet to be looked at."""
    from scipy.signal import oaconvolve

    half, side = _half(f.bounds) * WIDE, SIDE * WIDE
    features = _features(_seen(f.source, planes, centre, half, side))
    taps = np.fft.irfft2(0.5 * f.first + 0.5 * f.now, s=(SIDE, SIDE))
    answer = oaconvolve(features, taps[:, ::-1, ::-1], mode="same", axes=(1, 2)).sum(axis=0)
    heading, tilt = heading_tilt(centre)
    found = [
        rotation(heading, tilt) @ np.array([x * half, 1.0, -y * half]) for x, y, _ in _peaks(answer, f.cells, LOOKS)
    ]
    spots = [d / np.linalg.norm(d) for d in found]
    return [d for d in spots if float(f.source.lens.margin(d)) > 0]


def _spots(f: Follower, expected: Array) -> list[Array]:
    """Where to look for what is hidden: about where it is expected, then all around where it was last seen, ever wider."""
    if f.hidden % 2:
        return [expected]
    step = float(np.arctan(_half(f.bounds) * WIDE)) * 1.2
    rings = int(min(np.radians(SEARCHED) / step, 1 + f.hidden // 12))
    around = [(0.0, 0.0)] + [(r * step, 2 * np.pi * k / (6 * r)) for r in range(1, rings + 1) for k in range(6 * r)]
    away, turn = around[(f.hidden // 2) % len(around)]
    far = np.tan(min(away, 1.4))
    spot = _aside(f.at, np.cos(turn) * far, np.sin(turn) * far, 1.0)
    return [spot] if float(f.source.lens.margin(spot)) > 0 else [f.at]


def step(f: Follower, planes: Planes, frame: int) -> tuple[Follower, Point]:
    """The thing in the next frame; where it is hidden, where it is expected."""
    expected = f.at + f.drift * 0.96**f.hidden
    expected = expected / np.linalg.norm(expected)
    if f.hidden == 0:
        found = _best(f, planes, expected, (1.0, SCALES[frame % 2]), 3)
        if found is not None and _between(found.at, expected) > max(LEAP * _size(f), 3 * f.fastest):
            found = None
    else:
        spots = [d for spot in _spots(f, expected) for d in _candidates(f, planes, spot)]
        tries = [b for d in spots if (b := _best(f, planes, d, AGAIN, 1)) is not None and _gone(f, b.at) <= _reach(f)]
        found = max(tries, key=lambda b: b.sure, default=None)
        if found is not None and any(b.sure > RIVAL * found.sure and _between(b.at, found.at) > _size(f) for b in tries):
            found = None  # two places that it could be at tell nothing
    needed = LOST if f.hidden == 0 else BACK
    if found is None or found.sure <= needed:
        lost = replace(f, hidden=f.hidden + 1)
        here = replace(f, at=expected)
        return lost, here.point(frame, min(0.9 * LOST, found.sure if found else 0.0))
    scale = 1 + 0.6 * (found.scale - 1) if f.hidden == 0 else found.scale
    bounds = (f.bounds[0] * scale, f.bounds[1] * scale)
    drift = f.drift + 0.4 * ((found.at - f.at) - f.drift) if f.hidden == 0 else np.zeros(3)
    gone = _gone(f, found.at)
    near = min(_between(found.at, expected), gone) < NEAR * _size(f)
    doubtful = f.doubtful or (f.hidden > 0 and not near)  # looks do not tell a thing from its likes
    fastest = max(0.9 * f.fastest, gone) if f.hidden == 0 else f.fastest
    now = replace(f, at=found.at, drift=drift, bounds=bounds, hidden=0, fastest=fastest, doubtful=doubtful)
    if doubtful:  # perhaps here: it is followed on, nothing is learnt of it, and nobody is told that it is sure
        return now, now.point(frame, min(found.sure, 0.9 * LOST))
    if found.sure > 0.6 and frame % 2 == 0:
        now = _learnt(now, planes, found.like)
    return now, now.point(frame, found.sure)


def _between(a: Array, b: Array) -> float:
    """Radians from one direction to another."""
    return float(np.arccos(np.clip(np.dot(a, b) / (np.linalg.norm(a) * np.linalg.norm(b)), -1, 1)))


def _size(f: Follower) -> float:
    """Radians across, between its width and its height."""
    return 2 * float(np.arctan(np.sqrt(f.bounds[0] * f.bounds[1])))


def _gone(f: Follower, at: Array) -> float:
    """Radians from where it was last seen."""
    return _between(at, f.at)


def _reach(f: Follower) -> float:
    """Radians that it could have gone since it was last seen: as fast as it was seen to go and somewhat faster, in each frame since."""
    return _size(f) + (f.hidden + 1) * (1.5 * f.fastest + SUDDEN * _size(f))


def _learnt(f: Follower, planes: Planes, like: float) -> Follower:
    features = _features(_seen(f.source, planes, f.at, _half(f.bounds)))
    taught = _taught(_spectra(features), f.mask, _wanted(f.cells))
    looks = f.looks.with_around(_beside(features, f.mask, f.cells)[::5])
    if like < 0.8:
        looks = looks.with_thing(_look(features, f.mask, f.cells))
    return replace(f, now=f.now + LEARNS * (taught - f.now), looks=looks)


def through(f: Follower | Marked, frames: Iterable[tuple[int, Planes]]) -> tuple[Follower, list[Point]]:
    """Follows over frames in order, to their end; a mark lies on the first of them. AdzerError if there is none."""
    points = []
    for number, planes in frames:
        if isinstance(f, Marked):
            f, point = (begun := f.start(planes)), begun.point(number)
        else:
            f, point = step(f, planes, number)
        points.append(point)
    if isinstance(f, Marked):
        raise AdzerError("There is no frame where the mark lies. Mark it within the clip.")
    return f, points
