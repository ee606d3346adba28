"""The geometry of a route as one inverse map: where the recording holds each delivered pixel. Axes that stay axes, or any chain.

A delivered pixel's *direction in the recording* is what a map gives: directions bend slowly everywhere, poles and seam
included, so that whoever samples may work them out on a coarse grid (``run.warp``).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Self

import numpy as np

from .crop import CropPath, crops_at, inside
from .path import ViewPath, views_at
from .sphere import Array, Directions, Flat, Recording, rotation, view_directions

Pair = tuple[int, int]


def smaller(picture: Pair, raster: Pair, place: Pair, width: int, height: int) -> tuple[Pair, Pair, Pair] | None:
    """A picture, its raster and its place in that at the largest even raster that fits; None if they fit as they are.

    >>> smaller((1920, 804), (1920, 1080), (0, 138), 960, 540)
    ((960, 402), (960, 540), (0, 68))
    """
    k = max(Fraction(raster[0], width), Fraction(raster[1], height), Fraction(1))
    if k == 1:
        return None

    def less(v: int) -> int:
        return max(2, int(v / k) // 2 * 2)

    inner = (less(picture[0]), less(picture[1]))
    outer = (max(inner[0], less(raster[0])), max(inner[1], less(raster[1])))
    x, y = ((outer[i] - inner[i]) // 4 * 2 if place[i] else 0 for i in (0, 1))
    return inner, outer, (x, y)


@dataclass(frozen=True)
class AxisWarp:
    """The geometry of a route whose axes stay axes: recorded = scale·delivered + offset, in luma pixels, exact.

    Everything else is a ``MapWarp``, with the same ``picture``, ``raster`` and ``place``.
    """

    picture: tuple[int, int]
    scale: tuple[Fraction, Fraction]
    offset: tuple[Fraction, Fraction]
    raster: tuple[int, int]
    place: tuple[int, int] = (0, 0)

    def at_size(self, width: int, height: int) -> AxisWarp:
        """The same picture at the largest even raster that fits; never larger than this one."""
        made = smaller(self.picture, self.raster, self.place, width, height)
        if made is None:
            return self
        picture, raster, place = made
        x, y = (self.scale[i] * Fraction(self.picture[i], picture[i]) for i in (0, 1))
        return AxisWarp(picture, (x, y), self.offset, raster, place)


class MapWarp:
    """A chain of geometry as a map from delivered pixels to where the recording holds them.

    picture, raster, place   as of an ``AxisWarp``
    lens     says which recorded place a direction has; ``directions`` are in its own terms
    region   x, y, width, height of the recorded picture that ``lens`` speaks of: one eye's part, or all
    """

    picture: Pair
    raster: Pair
    place: Pair
    lens: Recording
    region: tuple[int, int, int, int]

    @property
    def still(self) -> bool:
        raise NotImplementedError

    def directions(self, x: Array, y: Array, time: float) -> Array:
        """Directions in the recording (…, 3), float64 and exact, of delivered pixel positions (0 is the picture's edge)."""
        raise NotImplementedError

    def at_size(self, width: int, height: int) -> Self:
        """The same picture at the largest even raster that fits; never larger than this one."""
        made = smaller(self.picture, self.raster, self.place, width, height)
        return replace(self, picture=made[0], raster=made[1], place=made[2]) if made else self  # type: ignore[type-var]

    def recorded(self, x: Array, y: Array, time: float) -> Array:
        """Recorded luma places (…, 2) of delivered pixel positions."""
        return self.lens.place(self.directions(x, y, time)) + np.array(self.region[:2], dtype=np.float64)


@dataclass(frozen=True)
class ViewWarp(MapWarp):
    """The geometry of a view into a recording of directions.

    extent   half width and half height of the delivered picture on the view's plane; ``shift`` is its middle
    level    tilt and roll in degrees of the recording's own up
    """

    picture: Pair
    lens: Directions
    path: ViewPath
    region: tuple[int, int, int, int]
    extent: tuple[float, float]
    raster: Pair
    place: Pair = (0, 0)
    shift: tuple[float, float] = (0.0, 0.0)
    level: tuple[float, float] = (0.0, 0.0)

    @property
    def still(self) -> bool:
        return self.path.still

    def plane(self, x: Array, y: Array) -> tuple[Array, Array]:
        """Places on the view's plane of delivered pixel positions (0 is the picture's edge)."""
        w, h = self.picture
        return (2 * x / w - 1) * self.extent[0] + self.shift[0], (1 - 2 * y / h) * self.extent[1] + self.shift[1]

    def directions(self, x: Array, y: Array, time: float) -> Array:
        """Directions in the recording (…, 3), float64 and exact, of delivered pixel positions."""
        turn, fov = views_at(self.path, [time])
        u, v = np.broadcast_arrays(*self.plane(x, y))
        return (
            view_directions(self.path.projection, float(fov[0]), self.path.amount, u, v)
            @ (rotation(0.0, *self.level) @ turn[0]).T
        )


@dataclass(frozen=True)
class CropWarp(MapWarp):
    """The geometry of a crop of a flat recording that moves, or whose lens bends straight lines.

    span   width and height of the crop in recorded pixels while nothing is enlarged; ``keep``: left, top, right and bottom
           of what must stay in, 0–1 of the recorded picture
    shift  of this crop alone, in shares of its own width and height
    """

    picture: Pair
    lens: Flat
    path: CropPath
    span: tuple[float, float]
    raster: Pair
    place: Pair = (0, 0)
    shift: tuple[float, float] = (0.0, 0.0)
    keep: tuple[float, float, float, float] | None = None

    @property
    def region(self) -> tuple[int, int, int, int]:  # type: ignore[override]
        return (0, 0, *self.lens.size)

    @property
    def still(self) -> bool:
        return self.path.still

    def crop(self, time: float) -> tuple[float, float, float, float]:
        """x, y, width, height in recorded pixels; never outside the recording."""
        cx, cy, enlarged = (float(v) for v in crops_at(self.path, [time])[0])
        corner, size = [], []
        for i, centre in enumerate((cx, cy)):
            whole, part = float(self.lens.size[i]), self.span[i] / enlarged
            held = (self.keep[i] * whole, self.keep[i + 2] * whole) if self.keep else None
            corner.append(inside(centre * whole + self.shift[i] * part, part, whole, held))
            size.append(part)
        return corner[0], corner[1], size[0], size[1]

    def directions(self, x: Array, y: Array, time: float) -> Array:
        left, top, w, h = self.crop(time)
        return self.lens.straight(left + x * w / self.picture[0], top + y * h / self.picture[1])
