"""The view or crop that follows a thing: few keyframes on one smooth curve, made of the places where it was seen."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import msgspec
import numpy as np

from ..errors import AdzerError
from ..look.track import LOST, Point
from ..media.clock import Clock
from ..space.crop import CropPath, few_keys
from ..space.looks import Turning, ViewLook
from ..space.path import Key, ViewPath, smooth
from ..space.sphere import Array, Flat, Straight, direction, heading_tilt


@dataclass(frozen=True)
class Manner:
    """How a picture follows a thing. ``slack`` 0–1: share of the half width that it may wander before the picture moves;
    ``place`` −1 … 1: where in the picture it is kept, (−1/3, 0) on the left third; ``lead`` 0–1: room left before it in the
    way it moves, of the half width."""

    slack: float = 0.2
    place: tuple[float, float] = (0.0, 0.0)
    lead: float = 0.0


def _seen(points: Sequence[Point]) -> list[Point]:
    seen = [p for p in points if p.sure > LOST]
    if len(seen) < 2:
        raise AdzerError("The thing was not seen for long enough to follow it. Box it again where it is clear.")
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


def follow(points: Sequence[Point], clock: Clock, look: ViewLook, fov: float, manner: Manner) -> ViewPath:
    """A view that keeps the thing in its picture: few keyframes on one smooth curve. ``look``: of a recording as it is held and levelled."""
    seen = _seen(points)
    rate, times = clock.rate, np.array([clock.time(p.frame) for p in seen])
    recorded = direction([p.heading for p in seen], [p.tilt for p in seen])
    heading, tilt = heading_tilt(np.stack([d @ look.standing(float(t)) for d, t in zip(recorded, times, strict=True)]))
    way = np.stack([np.unwrap(heading, period=360), tilt], axis=-1)
    half = np.array([fov / 2, -fov / 2 * 9 / 16])  # tilt grows upwards, the picture's y downwards
    shown = _held(way, half, times, rate, manner)
    headings, tilts = (shown[:, 0] + 180) % 360 - 180, np.clip(shown[:, 1], -90, 90)
    keys = tuple(
        Key(round(float(times[n]), 4), round(float(headings[n]), 3), round(float(tilts[n]), 3), 0.0, fov, "linear")
        for n in _picks(seen, rate)
    )
    path = msgspec.structs.replace(look.path, keys=keys)
    return smooth(path, max(0.25, 0.006 * fov))


def follow_crop(
    points: Sequence[Point], clock: Clock, lens: Straight, flat: Flat, shares: tuple[float, float], enlarged: float,
    manner: Manner, held: Turning | None = None,
) -> CropPath:  # fmt: skip
    """The same for a crop of a flat picture that was followed over ``lens``, bent as ``flat`` says and ``held`` against the camera's shake;
    ``shares`` of the recorded width and height that it takes while not enlarged."""
    seen = _seen(points)
    rate, times = clock.rate, np.array([clock.time(p.frame) for p in seen])
    recorded = lens.place(direction([p.heading for p in seen], [p.tilt for p in seen]))
    if held is not None:
        recorded = held.back(recorded, times)
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
