"""Sensor values of a frame made light: balanced, what is full told honestly, three colours a place, wide primaries, and a working curve.

All of it is one ``Prepare`` before the warp: the codes that it gives are of 16 bits, in a curve that loses nothing above white.
"""

from __future__ import annotations

import os
import queue
import sys
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, ClassVar

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..errors import AdzerError
from ..light import names as colour_cards
from ..light.curves import Curve
from ..light.primaries import adaptation, daylight, rgb_to_xyz
from ..light.samples import Samples
from ..media.formats import PixelFormat
from ..media.probe import FileFacts
from ..media.sensor import GainMap, Sensor, Three
from ..plan import Planes
from . import camera, lines
from .settings import DevelopSettings

MOST_GIVEN = 6  # frames whose memory is used again
Floats = NDArray[np.float32]
HOW = {"as is": 0, "neutral": 1, "rebuild": 2}
ALIKE = 0.4  # stops
FULL = 0.995  # of the way from black to white, from which on a value may be cut off: sensors' ceilings are not flat to the last code
CODES = Samples(PixelFormat(16, "4:4:4", rgb=True), "rgb", False)


def sensor_of(facts: FileFacts, settings: DevelopSettings) -> Sensor | None:
    """What a recording's values are: as its files say, and as the person knows better: a grey video may be values under a filter that nobody
    tagged. None: it holds none."""
    order = facts.mosaic or (settings.order if facts.chroma == "4:0:0" and not facts.floating else None)
    if order is None:
        return None
    top = float((1 << facts.bits) - 1)
    held = facts.sensor or Sensor(facts.raster, (0, 0), order, facts.bits, (0.0,) * 4, (top,) * 4)
    changed = msgspec.structs.replace
    if settings.order is not None:
        held = changed(held, order=settings.order)
    if settings.black is not None:
        held = changed(held, black=(settings.black,) * 4, down=(), across=())
    w, h = held.raster
    if settings.rows or settings.columns:
        held = changed(held, down=lines.added(held.down, settings.rows, h), across=lines.added(held.across, settings.columns, w))
    if settings.hot:
        held = changed(held, dead=(*held.dead, *(place for place in settings.hot if 0 <= place[0] < w and 0 <= place[1] < h)))
    if settings.white_level is not None:
        held = changed(held, white=(settings.white_level,) * 4)
    return held


def neutral_of(sensor: Sensor, settings: DevelopSettings) -> Three:
    """What the camera says of what was white, its largest value 1."""
    if settings.white == "light" and settings.kelvin is not None:
        return camera.neutral_of(sensor, daylight(settings.kelvin, settings.tint))
    if settings.white == "patch" and settings.neutral is not None:
        r, g, b = settings.neutral
        most = max(r, g, b)
        return (r / most, g / most, b / most)
    return as_shot(sensor)


def as_shot(sensor: Sensor) -> Three:
    """What was white in the camera; of D50 where it does not say."""
    if sensor.neutral is not None:
        r, g, b = sensor.neutral
        most = max(r, g, b)
        return (r / most, g / most, b / most)
    return camera.neutral_of(sensor, sensor.white_xy or camera.D50)


def curve_of(settings: DevelopSettings) -> Curve:
    """UnreadableError if there is no such card."""
    return colour_cards.curve("float-log" if settings.into == "light" else settings.into, 16, False)


@dataclass(frozen=True)
class Developed:
    """A ``Prepare`` of one frame's values. ``fine``: by gradients in four directions; else quickly, to be looked at.

    neutral   the camera's own white; ``exposure``: times as bright; ``how``: as of ``HOW``
    """

    sensor: Sensor
    neutral: Three
    exposure: float
    how: int
    curve: Curve
    primaries: str
    fine: bool = True
    reach: ClassVar[tuple[int, int]] = (0, 0)
    samples: ClassVar[Samples] = CODES

    def sized(self, raster: tuple[int, int], left: int = 0) -> Developed:
        """Without what is of single rows, columns and places."""
        return replace(self, sensor=msgspec.structs.replace(self.sensor, raster=raster, down=(), across=(), gains=(), dead=()))

    def quick(self) -> Developed:
        return replace(self, fine=False)

    @property
    def span(self) -> NDArray[np.float64]:
        """Of each cell, from black to white."""
        return np.maximum(np.array(self.sensor.white) - np.array(self.sensor.black), 1.0)

    @property
    def clip(self) -> Floats:
        return np.asarray(np.array(self.sensor.black) + FULL * self.span, np.float32)

    @property
    def ceiling(self) -> Floats:
        """Balanced light at which red, green and blue are full."""
        return np.asarray(1 / np.array(self.neutral), np.float32)

    @cached_property
    def matrix(self) -> Floats:
        """Balanced camera values → light of the primaries."""
        target = colour_cards.primaries(self.primaries)
        to_rgb = np.linalg.inv(rgb_to_xyz(target)) @ adaptation(camera.D50, target.white, "bradford")
        made = to_rgb @ camera.to_xyz(self.sensor, self.neutral)
        return np.asarray(made * self.exposure * 2.0**self.sensor.exposure, np.float32)

    @cached_property
    def table(self) -> Floats:
        """Cells of a float's own exponent: light + OFFSET → code, each as (value at 0, slope)."""
        from ..kernels import mosaic

        octaves = 27
        edges = mosaic.FLOOR * np.concatenate([2.0**k * (1 + np.arange(128) / 128) for k in range(octaves)] + [[2.0**octaves]])
        codes = np.clip(self.curve.encode(edges - mosaic.OFFSET), 0, 1) * 65535
        slope = np.diff(codes) / np.diff(edges)
        return np.stack([codes[:-1] - slope * edges[:-1], slope], axis=1).astype(np.float32)

    @cached_property
    def _levels(self) -> tuple[Floats, Floats, Floats, Floats]:
        """Black and scale by cell; more black by row and by column."""
        w, h = self.sensor.raster
        scale = 1 / (self.span * np.array(self.neutral)[list(self.sensor.cells)])
        down = np.array(self.sensor.down or (0.0,) * h, np.float32)
        across = np.array(self.sensor.across or (0.0,) * w, np.float32)
        return np.array(self.sensor.black, np.float32), scale.astype(np.float32), down, across

    @cached_property
    def _gain(self) -> Floats:
        return gains(self.sensor)

    @cached_property
    def _pool(self) -> ThreadPoolExecutor:
        return ThreadPoolExecutor(os.cpu_count() or 2, thread_name_prefix="develop")

    @cached_property
    def _rooms(self) -> queue.SimpleQueue[tuple[Floats, Floats]]:
        from ..kernels import mosaic

        made: queue.SimpleQueue[tuple[Floats, Floats]] = queue.SimpleQueue()
        h, w = (v + 2 * mosaic.HALO for v in mosaic.TILE)
        for _ in range(os.cpu_count() or 2):
            made.put((np.zeros((mosaic.ROOMS, h, w), np.float32), np.zeros((3, w), np.float32)))
        return made

    @cached_property
    def _given(self) -> list[NDArray[np.uint16]]:
        return []

    def _room(self, shape: tuple[int, int, int]) -> NDArray[np.uint16]:
        """For the planes of a frame: those of an earlier one that nobody holds any more, as fresh memory costs as much as a tenth of the work."""
        for held in self._given:
            if sys.getrefcount(held) <= 3:  # this list, this name, and the asking
                return held
        made = np.empty(shape, np.uint16)
        if len(self._given) < MOST_GIVEN:
            self._given.append(made)
        return made

    def run(self, window: list[Planes], middle: int) -> Planes:
        from ..kernels import mosaic

        w, h = self.sensor.raster
        values: Any = window[middle][0][:h, :w]
        if values.dtype != np.uint16:
            values = values.astype(np.uint16)
        dead = self.sensor.dead
        if self.sensor.dead_code is not None:
            y, x = np.nonzero(values == self.sensor.dead_code)
            dead = (*dead, *zip(x.tolist(), y.tolist(), strict=True))
        if dead:
            values = healed(values, dead)
        hue = self._hue(values)
        out = self._room((3, h, w))
        fixed = (np.array(self.sensor.cells), *self._levels, self._gain, self.matrix, self.table,
                 self.how, self.ceiling, hue, self.fine)  # fmt: skip

        def row(top: int) -> None:
            rooms, line = self._rooms.get()
            try:
                for left in range(0, w, mosaic.TILE[1]):
                    mosaic.develop_tile(values, *fixed, rooms, line, line.view(np.int32), out, top, left)
            finally:
                self._rooms.put((rooms, line))

        list(self._pool.map(row, range(0, h, mosaic.TILE[0])))
        return out[0], out[1], out[2]

    def _hue(self, values: NDArray[np.uint16]) -> Floats:
        """(rows/2, columns/2, 3) what ``around`` says where something has to be rebuilt."""
        if self.how != HOW["rebuild"]:
            return np.zeros((1, 1, 3), np.float32)
        black, scale, _, _ = self._levels
        h, w = values.shape
        cells = [values[i // 2 : h // 2 * 2 : 2, i % 2 : w // 2 * 2 : 2] for i in range(4)]
        full = np.any([c >= k for c, k in zip(cells, self.clip, strict=True)], axis=0)
        if not full.any():
            return np.zeros((1, 1, 3), np.float32)
        rgb = np.zeros((*full.shape, 3), np.float32)
        for i, colour in enumerate(self.sensor.cells):
            rgb[..., colour] += (cells[i] - black[i]) * scale[i] * (0.5 if colour == 1 else 1.0)
        return around(rgb, full)


def around(rgb: Floats, full: NDArray[np.bool_]) -> Floats:
    """Of light (rows, columns, 3), ``full`` where it says nothing, the logarithms of red and green over the mean of all three, and how sure
    that is, 0 … 1: where it is full as around it, bright places counting most (push and pull through ever smaller pictures, Gortler and
    others 1996). Where hues around it differ by more than ALIKE stops, nothing can tell which of them it had."""
    logs = np.log(np.maximum(rgb, 1e-4))
    level = logs.mean(axis=-1, keepdims=True)
    weight = np.where(full[..., None], np.float32(0), np.exp(2 * level)).astype(np.float32)
    hues = logs - level
    held = np.concatenate([hues[..., :2], (hues**2).sum(axis=-1, keepdims=True)], axis=-1)
    levels: list[tuple[Floats, Floats]] = [(held * weight, weight)]
    while min(levels[-1][1].shape[:2]) > 1:
        levels.append((_halved(levels[-1][0]), _halved(levels[-1][1])))
    sums, total = levels[-1]
    made: Floats = np.asarray(sums / np.maximum(total, np.float32(1e-9)), np.float32)
    for sums, total in reversed(levels[:-1]):
        h, w = total.shape[:2]
        wider = _doubled(made)[:h, :w]
        sure = total / (total + np.float32(1e-3))
        made = np.asarray(sure * sums / np.maximum(total, np.float32(1e-9)) + (1 - sure) * wider, np.float32)
    varies = np.maximum(made[..., 2] - made[..., 0] ** 2 - made[..., 1] ** 2 - (made[..., 0] + made[..., 1]) ** 2, 0.0)
    made[..., 2] = np.exp(-varies / (ALIKE * np.log(2.0)) ** 2)
    return np.ascontiguousarray(made, np.float32)


def _halved(picture: Floats) -> Floats:
    h, w = picture.shape[:2]
    padded = np.pad(picture, ((0, h % 2), (0, w % 2), (0, 0)))
    return np.asarray((padded[0::2, 0::2] + padded[1::2, 0::2] + padded[0::2, 1::2] + padded[1::2, 1::2]) / 4)


def _doubled(picture: Floats) -> Floats:
    """Twice as large, straight between the middles of its cells."""
    for axis in (0, 1):
        padded = np.take(picture, np.clip(np.arange(-1, picture.shape[axis] + 1), 0, picture.shape[axis] - 1), axis=axis)
        before, here, after = (np.take(padded, range(k, k + picture.shape[axis]), axis=axis) for k in (0, 1, 2))
        picture = np.stack([0.25 * before + 0.75 * here, 0.75 * here + 0.25 * after], axis=axis + 1)
        shape = list(before.shape)
        shape[axis] *= 2
        picture = picture.reshape(shape)
    return np.asarray(picture, np.float32)


def gains(sensor: Sensor) -> Floats:
    """(height, width) by how much values are multiplied, or (1, 1) of nothing."""
    if not sensor.gains:
        return np.ones((1, 1), np.float32)
    w, h = sensor.raster
    made = np.ones((h, w), np.float32)
    for held in sensor.gains:
        top, left, bottom, right = held.area
        rows = np.arange(max(top, top % held.pitch[0]), min(bottom, h), held.pitch[0])
        columns = np.arange(max(left, left % held.pitch[1]), min(right, w), held.pitch[1])
        rows, columns = rows[rows >= 0], columns[columns >= 0]
        made[np.ix_(rows, columns)] *= _gain_at(held, (rows + 0.5) / h, (columns + 0.5) / w)
    return made


def _gain_at(held: GainMap, y: NDArray[np.float64], x: NDArray[np.float64]) -> Floats:
    grid = np.array(held.gains, np.float64).reshape(held.rows, held.columns)
    for axis, (at, spacing, origin, n) in enumerate(
        ((y, held.spacing[0], held.origin[0], held.rows), (x, held.spacing[1], held.origin[1], held.columns))
    ):
        place = np.clip((at - origin) / spacing if spacing > 0 else np.zeros_like(at), 0, n - 1)
        low = np.minimum(place.astype(int), max(n - 2, 0))
        share = (place - low).reshape((-1, 1) if axis == 0 else (1, -1))
        grid = np.take(grid, low, axis) * (1 - share) + np.take(grid, np.minimum(low + 1, n - 1), axis) * share
    return np.asarray(grid, np.float32)


def healed(values: NDArray[np.uint16], dead: tuple[tuple[int, int], ...]) -> NDArray[np.uint16]:
    """A copy whose dead places are the median of their colour's eight nearest."""
    made, (h, w) = values.copy(), values.shape
    at = np.array(dead)
    near = []
    for dy in (-2, 0, 2):
        for dx in (-2, 0, 2):
            if dx or dy:
                y, x = at[:, 1] + dy, at[:, 0] + dx
                y = np.where((y < 0) | (y >= h), at[:, 1] - dy, y).clip(0, h - 1)
                near.append(values[y, np.where((x < 0) | (x >= w), at[:, 0] - dx, x).clip(0, w - 1)])
    made[at[:, 1], at[:, 0]] = np.median(near, axis=0)
    return made


def developed(sensor: Sensor, settings: DevelopSettings) -> Developed:
    """As the answers say. UnreadableError if a card is not there, AdzerError if black and white leave nothing."""
    if not max(sensor.black) < min(sensor.white):
        raise AdzerError(
            f"Black at {max(sensor.black):g} and white at {min(sensor.white):g} leave nothing between them. Say other levels of the sensor."
        )
    how = HOW[settings.highlights or "neutral"]
    colour_cards.primaries(settings.primaries)
    return Developed(sensor, neutral_of(sensor, settings), 2.0**settings.exposure, how, curve_of(settings), settings.primaries)
