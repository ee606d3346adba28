"""What a delivered picture looks at: from delivered pixels to directions, which a patch's lens has recorded somewhere.

Of a recording of directions these are directions; of a flat picture recorded places (x, y, 0). Both bend slowly everywhere, poles
and seam included, so that whoever samples may work them out on a coarse grid (``run.warp``).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Self

import numpy as np

from .crop import CropPath, crops_at, inside
from .path import ViewPath, views_at
from .sphere import Array, Flat, direction, rotation, view_directions

Pair = tuple[int, int]


class Look:
    """A map from delivered pixels to directions. ``size``: of the delivered picture."""

    size: Pair

    @property
    def still(self) -> bool:
        raise NotImplementedError

    def directions(self, x: Array, y: Array, time: float) -> Array:
        """Directions (…, 3), float64 and exact, of delivered pixel positions (0 is the picture's edge)."""
        raise NotImplementedError

    def at_size(self, size: Pair) -> Self:
        """The same picture with other pixels."""
        return replace(self, size=size)  # type: ignore[type-var]


@dataclass(frozen=True)
class AxisLook(Look):
    """Axes stay axes: recorded = scale·delivered + offset, in luma pixels of the patch's region, exact.

    >>> look = AxisLook((1920, 804), (Fraction(5, 4), Fraction(2)))
    >>> look.directions(np.array(960.0), np.array(402.0), 0.0).tolist(), look.at_size((960, 402)).scale
    ([1200.0, 804.0, 0.0], (Fraction(5, 2), Fraction(4, 1)))
    """

    size: Pair
    scale: tuple[Fraction, Fraction]
    offset: tuple[Fraction, Fraction] = (Fraction(0), Fraction(0))

    @property
    def still(self) -> bool:
        return True

    def directions(self, x: Array, y: Array, time: float) -> Array:
        x, y = np.broadcast_arrays(x, y)
        places = [v * float(k) + float(o) for v, k, o in zip((x, y), self.scale, self.offset, strict=True)]
        return np.stack([*places, np.zeros_like(places[0])], axis=-1)

    def at_size(self, size: Pair) -> AxisLook:
        x, y = (self.scale[i] * Fraction(self.size[i], size[i]) for i in (0, 1))
        return AxisLook(size, (x, y), self.offset)


@dataclass(frozen=True, eq=False)
class Turning:
    """How a recording stands against what is looked at, over time: what is looked at in direction d, it holds in direction
    ``matrix``·d. Rotations of directions; of a flat recording homographies of its places (x, y, 1).

    ``times`` (n,) seconds, rising; ``matrices`` (n, 3, 3). Before the first and after the last it stays as it is there. ``goes`` (n, 2): by how
    much a second what is looked at of a flat recording goes on to the right and down meanwhile, as a pan does. ``frames`` (m,): when each frame was
    recorded that is shown as it is: at any moment that of the nearest holds; None: what is shown was made for its very moment.
    """

    times: Array
    matrices: Array
    goes: Array | None = None
    frames: Array | None = None

    @staticmethod
    def fixed(matrix: Array) -> Turning:
        """One that never changes.

        >>> Turning.fixed(rotation(90.0, 0.0)).turned(np.array([0.0, 1.0, 0.0]), np.array(3.0)).round(6).tolist()
        [1.0, 0.0, 0.0]
        """
        return Turning(np.zeros(1), np.asarray(matrix, dtype=np.float64)[None])

    @property
    def still(self) -> bool:
        return len(self.times) == 1

    def at(self, times: Array, flat: bool = False) -> Array:
        """(…, 3, 3) at moments (…)."""
        times = np.clip(times, self.times[0], self.times[-1])
        if self.still:
            return np.broadcast_to(self.matrices[0], (*np.shape(times), 3, 3))
        if not flat:
            from scipy.spatial.transform import Rotation, Slerp  # here, as it takes a moment that a window has not

            first = np.clip(np.searchsorted(self.times, np.min(times), side="right") - 1, 0, len(self.times) - 2)  # of those about, not of an hour's
            about = slice(int(first), int(max(np.searchsorted(self.times, np.max(times)) + 1, first + 2)))
            turns = Slerp(self.times[about], Rotation.from_matrix(self.matrices[about]))(np.ravel(times)).as_matrix()
            return np.asarray(turns.reshape(*np.shape(times), 3, 3))
        n = np.clip(np.searchsorted(self.times, times, side="right") - 1, 0, len(self.times) - 2)
        part = ((times - self.times[n]) / (self.times[n + 1] - self.times[n]))[..., None, None]
        return np.asarray(self.matrices[n] * (1 - part) + self.matrices[n + 1] * part)

    def later(self, seconds: float) -> Turning:
        """At each moment what this is so much later."""
        frames = None if self.frames is None else self.frames - seconds
        return self if self.still else Turning(self.times - seconds, self.matrices, self.goes, frames)

    def then(self, own: Turning | None) -> Turning:
        """Turned by this, and what comes of it by ``own``."""
        return self if own is None else Turning(self.times, own.at(self.times) @ self.matrices, frames=self.frames)

    def shown(self, time: float) -> float:
        """When what is shown at a moment was recorded."""
        return time if self.frames is None else nearest(self.frames, time)

    def gone(self, places: Array, time: float, later: Array) -> Array:
        """Places (…, 3) of a flat recording that are looked at, as they lie so much ``later`` (…) seconds."""
        if self.goes is None:
            return places
        way = np.array([np.interp(time, self.times, self.goes[:, c]) for c in (0, 1)] + [0.0])
        return np.asarray(places + later[..., None] * way)

    def back(self, places: Array, times: Array) -> Array:
        """Places (n, 2) of a flat recording at moments (n,) as they are looked at: the other way."""
        made = np.linalg.solve(self.at(times, True), np.concatenate([places, np.ones_like(places[:, :1])], axis=1)[..., None])[..., 0]
        return np.asarray(made[:, :2] / made[:, 2:])

    def turned(self, d: Array, times: Array, flat: bool = False) -> Array:
        """Directions (…, 3) as the recording holds them at ``times`` (…), or at one moment."""
        made = (self.at(times, flat) @ (np.concatenate([d[..., :2], np.ones_like(d[..., :1])], -1) if flat else d)[..., None])[..., 0]
        return np.asarray(np.concatenate([made[..., :2] / made[..., 2:], d[..., 2:]], axis=-1) if flat else made)


@dataclass(frozen=True, eq=False)
class Lamp:
    """By how many ``stops`` (n,) all of a recording's light is made brighter, whose frames were recorded at ``times`` (n,) seconds, rising. Each
    moment as the nearest of them, or, where what is shown is ``made`` for its very moment, straight between."""

    times: Array
    stops: Array
    made: bool = False

    @property
    def still(self) -> bool:
        return not self.stops.any()

    def at(self, d: Array, time: float) -> Array:
        """(…, 3) how many times, of directions (…, 3).

        >>> lamp = Lamp(np.array([0.0, 1.0]), np.array([0.0, 2.0]))
        >>> lamp.at(np.array([0.0, 1.0, 0.0]), 0.6).tolist(), replace(lamp, made=True).at(np.array([0.0, 1.0, 0.0]), 0.5).tolist()
        ([4.0, 4.0, 4.0], [2.0, 2.0, 2.0])
        """
        return np.full(d.shape, 2.0 ** float(np.interp(time if self.made else nearest(self.times, time), self.times, self.stops)))

    def later(self, seconds: float) -> Lamp:
        """At each moment what this is so much later."""
        return replace(self, times=self.times - seconds)


def nearest(times: Array, time: float) -> float:
    """Of ``times`` (n,), rising; halfway between two the earlier (as of ``pace``).

    >>> nearest(np.array([0.0, 1.0, 2.0]), 0.5), nearest(np.array([0.0, 1.0, 2.0]), 1.7)
    (0.0, 2.0)
    """
    n = int(np.clip(np.searchsorted(times, time), 1, max(len(times) - 1, 1)))
    if len(times) < 2 or 2 * time <= times[n - 1] + times[n] + 1e-9:
        n -= 1
    return float(times[n])



class RoundLook(Look):
    """Of a sphere. ``level``: tilt and roll in degrees of its own up; ``held``: from where it stands to how it was recorded, where it is
    held against the camera's shake."""

    level: tuple[float, float]
    held: Turning | None

    @property
    def stands(self) -> bool:
        return self.held is None or self.held.still

    def standing(self, time: float) -> Array:
        """(3, 3) from directions that are level to recorded ones."""
        level = rotation(0.0, *self.level)
        return level if self.held is None else np.asarray(self.held.at(np.asarray(self.held.shown(time))) @ level)


@dataclass(frozen=True)
class ViewLook(RoundLook):
    """A view of a sphere. ``extent``: half width and half height of the delivered picture on the view's plane; ``shift`` is its middle."""

    size: Pair
    path: ViewPath
    extent: tuple[float, float]
    shift: tuple[float, float] = (0.0, 0.0)
    level: tuple[float, float] = (0.0, 0.0)
    held: Turning | None = None

    @property
    def still(self) -> bool:
        return self.path.still and self.stands

    def plane(self, x: Array, y: Array) -> tuple[Array, Array]:
        """Places on the view's plane of delivered pixel positions (0 is the picture's edge)."""
        w, h = self.size
        return (2 * x / w - 1) * self.extent[0] + self.shift[0], (1 - 2 * y / h) * self.extent[1] + self.shift[1]

    def directions(self, x: Array, y: Array, time: float) -> Array:
        turn, fov = views_at(self.path, [time])
        u, v = np.broadcast_arrays(*self.plane(x, y))
        return (
            view_directions(self.path.projection, float(fov[0]), self.path.amount, u, v)
            @ (self.standing(time) @ turn[0]).T
        )


@dataclass(frozen=True)
class SphereLook(RoundLook):
    """A sphere laid flat: heading goes evenly across ``across`` degrees, tilt evenly down.

    >>> SphereLook((400, 200)).directions(np.array(300.0), np.array(100.0), 0.0).round(6).tolist()  # looking to the right
    [1.0, 0.0, 0.0]
    """

    size: Pair
    across: float = 360.0
    level: tuple[float, float] = (0.0, 0.0)
    held: Turning | None = None

    @property
    def still(self) -> bool:
        return self.stands

    def directions(self, x: Array, y: Array, time: float) -> Array:
        w, h = self.size
        return np.asarray(direction((x / w - 0.5) * self.across, (0.5 - y / h) * 180) @ self.standing(time).T)


@dataclass(frozen=True)
class CropLook(Look):
    """A crop of a flat recording that moves, or whose lens bends straight lines.

    span   width and height of the crop in recorded pixels while nothing is enlarged; ``keep``: left, top, right and bottom
           of what must stay in, 0–1 of the recorded picture
    shift  of this crop alone, in shares of its own width and height
    """

    size: Pair
    lens: Flat
    path: CropPath
    span: tuple[float, float]
    shift: tuple[float, float] = (0.0, 0.0)
    keep: tuple[float, float, float, float] | None = None

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
        return self.lens.straight(left + x * w / self.size[0], top + y * h / self.size[1])
