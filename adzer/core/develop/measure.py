"""What a recording's sensor values say: how far below full they stay, what is gone, and if its header tells the truth."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec
import numpy as np
from numpy.typing import NDArray

from .. import records
from ..media.decode import opened
from ..media.probe import FileFacts
from ..media.sensor import Sensor
from . import lines, values
from .settings import DevelopSettings

VERSION = 2
SPREAD = 9  # frames that are looked at
BINS, STOPS = 56, 14  # of a histogram, quarter stops down from full
SPIKE = 3e-4  # share of all values at one code, from which on they are held there
HOT = 0.06  # of the way from black to white that a hot value lies above all around it, at least
UNLIKE = 1.6  # times as unlike as the other two cells, from which on two are not both green

Three = tuple[float, float, float]


class Held(msgspec.Struct, frozen=True):
    """Measured on the frames ``sampled``; red, green, blue.

    headroom    stops from the brightest (one value in 10,000) up to full
    gone        shares of the picture in which one, two and all three are full, on average; ``over``: any of them, frame by frame
    levels      shares of values by quarter stops below full (``BINS``), the darkest first; what is at black or below counts as darkest
    ceiling     code at which values pile up, if that lies below what the file calls white; None
    floor       code of the darkest values, if these lie clearly below what the file calls black; None
    hot         places (left, top) of values far above all that lies around them, frame after frame
    rows, columns   codes by which each lies too high in every frame, none: no more than noise explains
    diagonal    do the two cells that the file calls green differ more than the other two?
    """

    sampled: tuple[int, ...]
    headroom: Three
    gone: Three
    over: tuple[float, ...]
    levels: tuple[tuple[float, ...], ...]
    ceiling: float | None = None
    floor: float | None = None
    diagonal: bool = False
    hot: tuple[tuple[int, int], ...] = ()
    rows: tuple[float, ...] = ()
    columns: tuple[float, ...] = ()
    version: int = VERSION

    @property
    def saw(self) -> str:
        return words(self)


def held(facts: FileFacts, settings: DevelopSettings) -> Held:
    """Looks at some frames. UnreadableError if they cannot be read."""
    sensor = values.sensor_of(facts, settings)
    assert sensor is not None
    with opened(facts.sources, facts.fingerprint) as reader:
        n = len(reader)
        numbers = sorted({int((i + 0.5) * n / SPREAD) for i in range(min(SPREAD, n))})
        frames = [np.asarray(reader.frame(k).cropped(0), np.uint16) for k in numbers]
    return of_frames(sensor, tuple(numbers), frames)


def cells(frame: NDArray[np.uint16]) -> list[NDArray[np.uint16]]:
    """The values under each cell of the filter, apart."""
    h, w = (v // 2 * 2 for v in frame.shape)
    return [frame[i // 2 : h : 2, i % 2 : w : 2] for i in range(4)]


def of_frames(sensor: Sensor, numbers: tuple[int, ...], frames: list[NDArray[np.uint16]]) -> Held:
    hot = _hot(sensor, frames)
    if hot:
        frames = [values.healed(f, hot) for f in frames]
    black, white = np.array(sensor.black), np.array(sensor.white)
    span, clip = np.maximum(white - black, 1.0), black + values.FULL * np.maximum(white - black, 1.0)
    apart = [cells(f) for f in frames]
    levels = np.zeros((3, BINS))
    headroom = [0.0, 0.0, 0.0]
    for colour in range(3):
        mine = [i for i, c in enumerate(sensor.cells) if c == colour]
        all_ = np.concatenate([((f[i].astype(np.float32) - black[i]) / span[i]).ravel() for f in apart for i in mine])
        stops = -np.log2(np.maximum(all_, 2.0**-STOPS))
        counts, _ = np.histogram(np.clip(STOPS - stops, 0, STOPS - 1e-6), BINS, (0, STOPS))
        levels[colour] = counts / max(len(all_), 1)
        top = float(np.quantile(all_, 0.9999))
        headroom[colour] = round(float(max(0.0, -np.log2(max(top, 1e-6)))), 3) if top < values.FULL else 0.0
    shares, over = np.zeros(3), []
    for f in apart:
        full = np.zeros((3, *f[0].shape), bool)
        for i, colour in enumerate(sensor.cells):
            full[colour] |= f[i] >= clip[i]
        many = full.sum(axis=0)
        shares += [float((many == k).mean()) for k in (1, 2, 3)]
        over.append(round(float((many > 0).mean()), 6))
    one, two, three = (shares / max(len(frames), 1)).tolist()
    return Held(
        numbers, (headroom[0], headroom[1], headroom[2]), (one, two, three), tuple(over), tuple(map(tuple, np.round(levels, 7).tolist())),
        _ceiling(frames, float(white.min()), float(black.max())), _floor(frames, float(black.min()), float(span.min())), _diagonal(sensor, apart),
        hot, *_fixed(sensor, frames),
    )  # fmt: skip


def _fixed(sensor: Sensor, frames: list[NDArray[np.uint16]]) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """Of rows and of columns, beside what the file says of their black."""
    h, w = frames[0].shape
    known = np.zeros((h, w), np.float32)
    if len(sensor.down) == h:
        known += np.array(sensor.down, np.float32)[:, None]
    if len(sensor.across) == w:
        known += np.array(sensor.across, np.float32)
    rows, columns = (lines.off((f - known).T if turned else f - known for f in frames) for turned in (False, True))
    return () if rows is None else tuple(rows.tolist()), () if columns is None else tuple(columns.tolist())


def _ceiling(frames: list[NDArray[np.uint16]], white: float, black: float) -> float | None:
    """Where values pile up at their very top, below white."""
    counts = np.bincount(np.concatenate([f.ravel() for f in frames]), minlength=2)
    top = int(np.flatnonzero(counts)[-1])
    near = slice(max(top - 8, 0), top + 1)
    pile = int(counts[near].argmax()) + near.start
    below = counts[max(pile - 200, 0) : max(pile - 20, 1)]
    held_there = len(below) > 0 and counts[pile] / counts.sum() > SPIKE and counts[pile] > 8 * max(float(below.mean()), 1.0)
    return float(pile) if held_there and black < pile < black + 0.985 * (white - black) else None


def _floor(frames: list[NDArray[np.uint16]], black: float, span: float) -> float | None:
    """One value in a thousand lies below: far more than noise about black would put there."""
    low = float(np.quantile(np.concatenate([f[::2, ::2].ravel() for f in frames]), 0.001))
    return low if low < black - max(0.02 * span, 16.0) else None


def _diagonal(sensor: Sensor, apart: list[list[NDArray[np.uint16]]]) -> bool:
    """Two greens see nearly the same, red and blue seldom do."""
    greens = [i for i, c in enumerate(sensor.cells) if c == 1]
    others = [i for i, c in enumerate(sensor.cells) if c != 1]

    def unlike(pair: list[int]) -> float:
        return float(np.mean([np.abs(f[pair[0]].astype(np.float32) - f[pair[1]]).mean() for f in apart]))

    return unlike(greens) > UNLIKE * unlike(others)


def _hot(sensor: Sensor, frames: list[NDArray[np.uint16]]) -> tuple[tuple[int, int], ...]:
    """Far above its own colour's eight nearest and the other colours' next to it, in every one of three frames or more: what a lens draws is
    never a single value wide."""
    if len(frames) < 3:
        return ()
    span = float(np.min(np.array(sensor.white) - np.array(sensor.black)))
    stays = np.ones(frames[0].shape, bool)
    for frame in frames:
        v = np.pad(frame.astype(np.float32), 2, mode="reflect")
        h, w = frame.shape
        about = [v[2 + dy : 2 + dy + h, 2 + dx : 2 + dx + w] for dy in (-2, 0, 2) for dx in (-2, 0, 2) if dy or dx]
        beside = [v[2 + dy : 2 + dy + h, 2 + dx : 2 + dx + w] for dy, dx in ((-1, 0), (1, 0), (0, -1), (0, 1))]
        most = np.maximum.reduce(about)
        stays &= frame > most + HOT * span + 0.25 * np.maximum(most - float(np.max(sensor.black)), 0)
        stays &= np.maximum.reduce(beside) < frame - HOT * span
    y, x = np.nonzero(stays)
    return tuple(zip(x.tolist(), y.tolist(), strict=True))[:5000]


def found(measured: Mapping[str, bytes]) -> Held | None:
    """What was measured, by this version's reckoning."""
    return records.of_version(measured.get("values"), Held, VERSION)


BRIGHT = 0.002  # share of the picture that may be full, as the sun is, and lamps
SPARE = 0.3  # stops that are better left free


def next_time(made: Held) -> str:
    """How to expose such a scene, from what its brightest left of the sensor's room: a sentence."""
    if sum(made.gone) > BRIGHT:
        return "Next time expose a stop less, and look again: how far beyond full it was, nothing tells."
    more = min(made.headroom) - SPARE
    if more < 0.5:
        return "It was exposed as far as the sensor goes."
    return f"Next time {more:.1f} stops more would have held all of it, and its shadows would be as much cleaner."


def words(made: Held) -> str:
    """One line for the person."""
    room = ", ".join(f"{name} {stops:.1f}" for name, stops in zip(("red", "green", "blue"), made.headroom, strict=True))
    if not any(made.gone):
        return f"nothing is full; stops left: {room}"
    gone = " · ".join(f"{share:.2%} in {n}" for n, share in zip(("one channel", "two", "all three"), made.gone, strict=True))
    return f"full: {gone}"
