"""Follows a marked thing over the sphere, and makes a view that follows it.

Each frame is looked at through a small straight view about where the thing should be, so that seam, poles and lens do not
matter. A correlation filter with three channels (luma and both colour differences) is taught on the marked frame and
learns as the thing changes (Danelljan et al., Discriminative Scale Space Tracking, 2017, the translation part). Where its
answer has no clear peak the thing is hidden: it is expected to go on as it went, and given up when it has not come back
for ``PATIENCE`` seconds.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..errors import AdzerError
from ..media.clock import Clock
from .crop import CropPath, few_keys
from .path import Key, ViewPath, smooth
from .sphere import Array, Equirect, Flat, Round, Straight, direction, heading_tilt, rotation

SIDE = 64  # pixels of the small view
AROUND = 3.0  # times the thing's size that the small view is wide
LEARNS = 0.045  # share of each frame that the filter takes in: enough for what turns, too little to drift away
CLEAR = 6.0  # peak over side lobes below which nothing was found
PATIENCE = 0.6
SCALES = (1.0, 1.04, 1 / 1.04)
PENALTY = 0.88  # another size must be clearly better

Planes = tuple[NDArray[np.generic], ...]
Recording = Equirect | Round | Straight  # what a thing can be followed over


class Point(msgspec.Struct, frozen=True):
    """The thing at one frame: degrees of heading and tilt in the recording, degrees across, 0–1 how sure."""

    frame: int
    heading: float
    tilt: float
    size: float
    sure: float


@dataclass(frozen=True)
class Filter:
    """Numerators (3, n, n) and denominator (n, n) of a correlation filter in the frequency domain."""

    top: NDArray[np.complex128]
    bottom: Array

    def answer(self, seen: NDArray[np.complex128]) -> Array:
        share = (np.conj(self.top) * seen).sum(axis=0) / (self.bottom + 1e-2 * self.bottom.mean())
        return np.asarray(np.fft.fftshift(np.fft.ifft2(share).real))

    def towards(self, other: Filter, share: float) -> Filter:
        return Filter(self.top + share * (other.top - self.top), self.bottom + share * (other.bottom - self.bottom))


@dataclass(frozen=True)
class Follower:
    """What is known of the thing after a frame. ``hidden``: frames since it was last seen; ``gone``: it was given up."""

    lens: Recording
    region: tuple[int, int, int, int]
    sub: tuple[int, int]
    rate: float
    now: Filter
    at: Array
    drift: Array
    size: float
    hidden: int = 0
    gone: bool = False

    def point(self, frame: int) -> Point:
        """Where it is, taken as sure: the frame on which it was marked."""
        heading, tilt = heading_tilt(self.at)
        return Point(frame, float(heading), float(tilt), self.size, 1.0)


@dataclass(frozen=True)
class Marked:
    """A thing of ``size`` degrees across that was marked at a direction, before its frame has been looked at."""

    lens: Recording
    region: tuple[int, int, int, int]
    sub: tuple[int, int]
    rate: float
    heading: float
    tilt: float
    size: float

    def start(self, planes: Planes) -> Follower:
        return start(planes, self.lens, self.region, self.sub, self.rate, self.heading, self.tilt, self.size)


_WINDOW = np.outer(np.hanning(SIDE + 2)[1:-1], np.hanning(SIDE + 2)[1:-1])
_PLACE = (np.arange(SIDE) + 0.5) / SIDE * 2 - 1
_AWAY = (np.arange(SIDE) - SIDE // 2) / (SIDE / 2)  # from the sample that stands for no shift at all
_PEAK = np.exp(-0.5 * (_AWAY[None] ** 2 + _AWAY[:, None] ** 2) / (0.055 * 2 / AROUND * 1.5) ** 2)
_WANTED = np.fft.fft2(np.fft.ifftshift(_PEAK))


def _looked(f: Follower, planes: Planes, centre: Array, size: float) -> NDArray[np.complex128]:
    """The small view about a direction, ``size`` degrees being a ``AROUND``-th of it, as spectra (3, n, n)."""
    half = np.tan(np.radians(min(size * AROUND, 150.0)) / 2)
    heading, tilt = heading_tilt(centre)
    local = np.stack(np.broadcast_arrays(_PLACE[None] * half, 1.0, -_PLACE[:, None] * half), axis=-1)
    place = f.lens.place(local @ rotation(heading, tilt).T)
    x0, y0, w, h = f.region
    wraps = isinstance(f.lens, Equirect) and f.lens.whole
    out = np.empty((3, SIDE, SIDE))
    for c in range(3):
        plane = planes[min(c, len(planes) - 1)]
        sx, sy = f.sub if c else (1, 1)
        part = plane[y0 // sy : (y0 + h) // sy, x0 // sx : (x0 + w) // sx]
        values = bilinear(part, place[..., 0] / sx, place[..., 1] / sy, wraps)
        values = values - values.mean()
        spread = float(values.std())
        out[c] = values / max(spread, 1e-3) if c == 0 or spread > 0.5 else 0.0
    return np.fft.fft2(out * _WINDOW)


def bilinear(plane: NDArray[np.generic], x: Array, y: Array, wraps: bool = False) -> Array:
    """Values at places (0 the edge), straight between samples; beyond the edges they repeat, or go round sideways."""
    h, w = plane.shape
    u, v = x - 0.5, np.clip(y - 0.5, 0, h - 1)
    u = u % w if wraps else np.clip(u, 0, w - 1)
    i, j = np.floor(u).astype(int), np.minimum(v.astype(int), h - 1)
    right, low = (i + 1) % w if wraps else np.minimum(i + 1, w - 1), np.minimum(j + 1, h - 1)
    i = i % w
    fu, fv = u - np.floor(u), v - j
    top = plane[j, i] * (1 - fu) + plane[j, right] * fu
    return np.asarray(top * (1 - fv) + (plane[low, i] * (1 - fu) + plane[low, right] * fu) * fv)


def _taught(seen: NDArray[np.complex128]) -> Filter:
    return Filter(seen * np.conj(_WANTED), (np.abs(seen) ** 2).sum(axis=0))


def start(
    planes: Planes, lens: Recording, region: tuple[int, int, int, int], sub: tuple[int, int], rate: float,
    heading: float, tilt: float, size: float,
) -> Follower:  # fmt: skip
    """Learns a thing of ``size`` degrees across at a direction. AdzerError if it is too small, too large or featureless."""
    if not 0.5 <= size <= 60:
        raise AdzerError(f"A thing {size:.1f}° across cannot be followed; mark one of half a degree to 60°.")
    if np.radians(size) * lens.density < 5:
        raise AdzerError("The thing is less than five recorded pixels across. Mark something larger.")
    if float(lens.margin(direction(heading, tilt))) <= 0:
        raise AdzerError("There is no picture where the mark lies. Mark a thing inside.")
    nothing = Filter(np.zeros((3, SIDE, SIDE), complex), np.zeros((SIDE, SIDE)))
    f = Follower(lens, region, sub, rate, nothing, direction(heading, tilt), np.zeros(3), size)
    seen = _looked(f, planes, f.at, size)
    if float(np.abs(np.fft.ifft2(seen).real).max()) < 1e-6:
        raise AdzerError("Nothing stands out where the mark lies. Mark something with an edge.")
    return replace(f, now=_taught(seen))


def _peak(answer: Array) -> tuple[float, float, float]:
    """(x, y) of the peak, −1 … 1 of the small view, and how far it stands over everything else, in their spread."""
    j, i = np.unravel_index(int(answer.argmax()), answer.shape)
    top = float(answer[j, i])
    rest = np.ones(answer.shape, bool)
    rest[max(0, j - 5) : j + 6, max(0, i - 5) : i + 6] = False
    clear = (top - float(answer[rest].mean())) / max(float(answer[rest].std()), 1e-12)

    def fine(before: float, after: float) -> float:
        bend = before - 2 * top + after
        return float(np.clip(0.5 * (before - after) / bend, -0.5, 0.5)) if abs(bend) > 1e-12 else 0.0

    x = i + fine(float(answer[j, i - 1]), float(answer[j, (i + 1) % SIDE])) - SIDE / 2
    y = j + fine(float(answer[j - 1, i]), float(answer[(j + 1) % SIDE, i])) - SIDE / 2
    return x / (SIDE / 2), y / (SIDE / 2), clear


def step(f: Follower, planes: Planes, frame: int) -> tuple[Follower, Point]:
    """The thing in the next frame."""
    expected = f.at + f.drift
    expected /= np.linalg.norm(expected)
    best: tuple[float, float, float, float, NDArray[np.complex128]] | None = None
    for scale in SCALES if f.hidden == 0 else SCALES[:1]:
        seen = _looked(f, planes, expected, f.size * scale)
        x, y, clear = _peak(f.now.answer(seen))
        clear *= 1.0 if scale == 1.0 else PENALTY
        if best is None or clear > best[2]:
            best = (x, y, clear, scale, seen)
    assert best is not None
    x, y, clear, scale, seen = best
    heading, tilt = heading_tilt(expected)
    sure = float(np.clip((clear - CLEAR + 2) / 10, 0, 1))
    if clear < CLEAR:
        hidden = f.hidden + 1
        lost = replace(f, at=expected, drift=f.drift * 0.96, hidden=hidden, gone=hidden > PATIENCE * f.rate)
        return lost, Point(frame, float(heading), float(tilt), f.size, min(sure, 0.2))
    size = f.size * (1 + 0.5 * (scale - 1))
    half = np.tan(np.radians(min(f.size * scale * AROUND, 150.0)) / 2)
    at = rotation(heading, tilt) @ np.array([x * half, 1.0, -y * half])
    at /= np.linalg.norm(at)
    drift = f.drift + 0.4 * ((at - f.at) - f.drift) if f.hidden == 0 else f.drift
    now = f.now.towards(_taught(_looked(f, planes, at, size)), LEARNS)
    heading, tilt = heading_tilt(at)
    found = replace(f, at=at, drift=drift, size=size, now=now, hidden=0)
    return found, Point(frame, float(heading), float(tilt), float(size), sure)


@dataclass(frozen=True)
class Manner:
    """How a picture follows a thing. ``slack`` 0–1: share of the half width that it may wander before the picture moves;
    ``place`` −1 … 1: where in the picture it is kept, (−1/3, 0) on the left third; ``lead`` 0–1: room left before it in the
    way it moves, of the half width."""

    slack: float = 0.2
    place: tuple[float, float] = (0.0, 0.0)
    lead: float = 0.0


def _seen(points: Sequence[Point]) -> list[Point]:
    seen = [p for p in points if p.sure > 0.2]
    if len(seen) < 2:
        raise AdzerError("The thing was not seen for long enough to follow it. Mark it again where it is clear.")
    return seen


def _held(way: Array, half: Array, times: Array, rate: float, manner: Manner) -> Array:
    """Where the middle of the picture goes, (n, 2), for a thing that goes ``way``; ``half``: half the picture, both ways."""
    room = manner.slack * half[0] * 0.6
    held = way.copy()
    for n in range(1, len(way)):  # the picture waits until the thing leaves its room
        off = way[n] - held[n - 1]
        held[n] = held[n - 1] + np.sign(off) * np.maximum(np.abs(off) - room, 0)
    held = _softened(held, max(1.0, 0.35 * rate))
    speed = np.gradient(held, times, axis=0) if len(times) > 2 else np.zeros_like(held)
    ahead = _softened(np.tanh(speed / half[0] * 5.6) * manner.lead * half[0], max(1.0, 0.5 * rate))
    return held + ahead - np.array(manner.place) * half


def _picks(seen: Sequence[Point], rate: float) -> list[int]:
    """About six a second: what a path is made of before its needless keys are taken out."""
    return sorted({*range(0, len(seen), max(1, round(rate / 6))), len(seen) - 1})


def follow(points: Sequence[Point], clock: Clock, fov: float, manner: Manner, base: ViewPath | None = None) -> ViewPath:
    """A view that keeps the thing in its picture: few keyframes on one smooth curve."""
    seen = _seen(points)
    rate, times = clock.rate, np.array([clock.time(p.frame) for p in seen])
    way = np.stack([np.unwrap([p.heading for p in seen], period=360), [p.tilt for p in seen]], axis=-1)
    half = np.array([fov / 2, -fov / 2 * 9 / 16])  # tilt grows upwards, the picture's y downwards
    shown = _held(way, half, times, rate, manner)
    headings, tilts = (shown[:, 0] + 180) % 360 - 180, np.clip(shown[:, 1], -90, 90)
    keys = tuple(
        Key(round(float(times[n]), 4), round(float(headings[n]), 3), round(float(tilts[n]), 3), 0.0, fov, "linear")
        for n in _picks(seen, rate)
    )
    path = msgspec.structs.replace(base or ViewPath(), keys=keys)
    return smooth(path, max(0.25, 0.006 * fov))


def follow_crop(
    points: Sequence[Point], clock: Clock, lens: Straight, flat: Flat, shares: tuple[float, float], enlarged: float,
    manner: Manner,
) -> CropPath:  # fmt: skip
    """The same for a crop of a flat picture that was followed over ``lens``, bent as ``flat`` says; ``shares`` of the recorded
    width and height that it takes while not enlarged."""
    seen = _seen(points)
    rate, times = clock.rate, np.array([clock.time(p.frame) for p in seen])
    recorded = lens.place(direction([p.heading for p in seen], [p.tilt for p in seen]))
    way = flat.straightened(recorded) / np.array(lens.size)
    half = np.array(shares) / 2 / enlarged
    shown = np.clip(_held(way, half, times, rate, manner), half, 1 - half)  # further it cannot go
    return few_keys(times, shown, enlarged, _picks(seen, rate), 0.012 * half[0])


def _softened(values: Array, width: float) -> Array:
    """A Gaussian mean over time, the ends held."""
    reach = int(np.ceil(3 * width))
    weights = np.exp(-0.5 * (np.arange(-reach, reach + 1) / width) ** 2)
    padded = np.pad(values, ((reach, reach), (0, 0)), mode="edge")
    return np.stack(
        [np.convolve(padded[:, c], weights / weights.sum(), mode="valid") for c in range(values.shape[1])], axis=-1
    )


def through(f: Follower, frames: Iterable[tuple[int, Planes]]) -> tuple[Follower, list[Point]]:
    """Follows over frames in order, until they end or the thing is given up."""
    points = []
    for number, planes in frames:
        f, point = step(f, planes, number)
        points.append(point)
        if f.gone:
            break
    return f, points
