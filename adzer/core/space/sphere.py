"""Directions: orientations, the projections of a flat view, and how recordings hold the sphere.

Axes are right, forward, up. Heading grows to the right, tilt upwards, roll clockwise as the camera is seen to lean.
A view's plane is measured in half its width: (±1, 0) are the middles of its left and right edges, +y is up.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import numpy as np
from numpy.typing import ArrayLike, NDArray

Array = NDArray[np.float64]

# ---- orientations --------------------------------------------------------------------------------------------------


def rotation(heading: ArrayLike, tilt: ArrayLike, roll: ArrayLike = 0.0) -> Array:
    """(…, 3, 3) whose columns are the view's right, forward and up; degrees in.

    >>> (rotation(90.0, 0.0) @ [0.0, 1.0, 0.0]).round(6).tolist()  # looking to the right
    [1.0, 0.0, 0.0]
    """
    h, t, r = (np.radians(np.asarray(v, dtype=np.float64)) for v in np.broadcast_arrays(heading, tilt, roll))
    ch, sh, ct, st, cr, sr = np.cos(h), np.sin(h), np.cos(t), np.sin(t), np.cos(r), np.sin(r)
    right = np.stack([ch * cr + sh * st * sr, -sh * cr + ch * st * sr, -ct * sr], axis=-1)
    forward = np.stack([sh * ct, ch * ct, st], axis=-1)
    up = np.stack([ch * sr - sh * st * cr, -sh * sr - ch * st * cr, ct * cr], axis=-1)
    return np.stack([right, forward, up], axis=-1)


def angles(turned: Array) -> tuple[Array, Array, Array]:
    """(heading, tilt, roll) in degrees of (…, 3, 3); tilt −90 … 90. Straight up or down the heading is kept, roll is 0.

    >>> [round(float(v), 6) for v in angles(rotation(20.0, 10.0, 5.0))]
    [20.0, 10.0, 5.0]
    """
    forward, right, up = turned[..., 1], turned[..., 0], turned[..., 2]
    tilt = np.degrees(np.arctan2(forward[..., 2], np.hypot(forward[..., 0], forward[..., 1])))
    pole = np.hypot(forward[..., 0], forward[..., 1]) < 1e-9
    heading = np.where(pole, np.arctan2(-right[..., 1], right[..., 0]), np.arctan2(forward[..., 0], forward[..., 1]))
    roll = np.where(pole, 0.0, np.arctan2(-right[..., 2], up[..., 2]))
    return np.degrees(heading), tilt, np.degrees(roll)


def turning(axis: Array) -> Array:
    """(…, 3, 3) rotations about ``axis`` (…, 3) by its length in radians (Rodrigues)."""
    angle = np.linalg.norm(axis, axis=-1)[..., None, None]
    x, y, z = np.moveaxis(axis / np.maximum(angle[..., 0], 1e-12), -1, 0)
    none = np.zeros_like(x)
    k = np.stack([none, -z, y, z, none, -x, -y, x, none], axis=-1).reshape(*x.shape, 3, 3)
    return np.asarray(np.eye(3) + np.sin(angle) * k + (1 - np.cos(angle)) * k @ k)


def turned_about(turn: Array) -> Array:
    """The axis (3,), its length the angle in radians, of a rotation (3, 3): the shortest arc; half turns about any axis.

    >>> np.degrees(turned_about(rotation(30.0, 0.0))).round(6).tolist()
    [0.0, 0.0, -30.0]
    """
    skew = np.array([turn[2, 1] - turn[1, 2], turn[0, 2] - turn[2, 0], turn[1, 0] - turn[0, 1]]) / 2
    sin, cos = float(np.linalg.norm(skew)), float((np.trace(turn) - 1) / 2)
    angle = float(np.arctan2(sin, cos))
    if sin > 1e-7:
        return np.asarray(skew / sin * angle)
    if cos > 0:
        return np.zeros(3)
    both = (turn + np.eye(3)) / 2  # a half turn: the axis is the strongest column
    n = int(np.argmax(np.diag(both)))
    return np.asarray(both[:, n] / np.linalg.norm(both[:, n]) * np.pi)


def turned_by(a: Array, b: Array) -> Array:
    """Degrees from orientations (…, 3, 3) to others."""
    relative = np.swapaxes(a, -1, -2) @ b
    return np.degrees(np.arccos(np.clip((np.trace(relative, axis1=-2, axis2=-1) - 1) / 2, -1, 1)))


def direction(heading: ArrayLike, tilt: ArrayLike) -> Array:
    """Unit vectors (…, 3) of headings and tilts in degrees.

    >>> direction(0.0, 0.0).round(6).tolist(), direction(0.0, 90.0).round(6).tolist()
    ([0.0, 1.0, 0.0], [0.0, 0.0, 1.0])
    """
    return rotation(heading, tilt)[..., 1]


def heading_tilt(d: Array) -> tuple[Array, Array]:
    """Degrees of directions (…, 3) of any length: heading −180 … 180, tilt −90 … 90.

    >>> [float(v) for v in heading_tilt(np.array([1.0, 0.0, 0.0]))]
    [90.0, 0.0]
    """
    return np.degrees(np.arctan2(d[..., 0], d[..., 1])), np.degrees(
        np.arctan2(d[..., 2], np.hypot(d[..., 0], d[..., 1]))
    )


def between(a: Array, b: Array) -> Array:
    """Degrees between directions of any length, exact for small angles too.

    >>> float(between(direction(0.0, 0.0), direction(35.0, 0.0)).round(6))
    35.0
    """
    return np.degrees(np.arctan2(np.linalg.norm(np.cross(a, b), axis=-1), (a * b).sum(axis=-1)))


# ---- projections of a flat view ------------------------------------------------------------------------------------


def _round(angle: Array, x: Array, y: Array) -> Array:
    """Directions at ``angle`` from the axis towards (x, y)."""
    r = np.maximum(np.hypot(x, y), 1e-12)
    side = np.sin(angle) / r
    return np.stack([x * side, np.cos(angle), y * side], axis=-1)


def _straight(half: float, amount: float, x: Array, y: Array) -> Array:
    k = np.tan(half)
    return np.stack([x * k, np.ones_like(x), y * k], axis=-1)


def _straight_back(half: float, amount: float, d: Array) -> tuple[Array, Array]:
    ahead = np.where(d[..., 1] > 1e-9, d[..., 1], np.nan) * np.tan(half)
    return d[..., 0] / ahead, d[..., 2] / ahead


def _conformal(half: float, amount: float, x: Array, y: Array) -> Array:
    k = np.tan(half / 2)
    return np.stack([2 * k * x, 1 - k * k * (x * x + y * y), 2 * k * y], axis=-1)


def _conformal_back(half: float, amount: float, d: Array) -> tuple[Array, Array]:
    k = 1 / (np.maximum(np.linalg.norm(d, axis=-1) + d[..., 1], 1e-12) * np.tan(half / 2))
    return d[..., 0] * k, d[..., 2] * k


def _equidistant(half: float, amount: float, x: Array, y: Array) -> Array:
    return _round(np.hypot(x, y) * half, x, y)


def _equidistant_back(half: float, amount: float, d: Array) -> tuple[Array, Array]:
    side = np.hypot(d[..., 0], d[..., 2])
    k = np.arctan2(side, d[..., 1]) / half / np.maximum(side, 1e-12)
    return d[..., 0] * k, d[..., 2] * k


def _panini_edge(half: float, amount: float) -> float:
    return float((amount + 1) * np.sin(half) / (amount + np.cos(half)))


def _panini(half: float, amount: float, x: Array, y: Array) -> Array:
    """Sharpless, Postle and German, Pannini: A New Projection for Rendering Wide Angle Perspective Images (2010)."""
    edge = _panini_edge(half, amount)
    x, y = x * edge, y * edge
    k = (x / (amount + 1)) ** 2
    root = np.sqrt(np.maximum(k * k * amount**2 - (k + 1) * (k * amount**2 - 1), 0))
    cos = (root - k * amount) / (k + 1)
    spread = (amount + 1) / (amount + cos)
    longitude = np.arctan2(x, spread * cos)
    return np.stack([np.sin(longitude), np.cos(longitude), y / spread], axis=-1)


def _panini_back(half: float, amount: float, d: Array) -> tuple[Array, Array]:
    flat = np.maximum(np.hypot(d[..., 0], d[..., 1]), 1e-12)
    cos = d[..., 1] / flat
    spread = (amount + 1) / np.where(amount + cos > 1e-6, amount + cos, np.nan)
    edge = _panini_edge(half, amount)
    return spread * d[..., 0] / flat / edge, spread * d[..., 2] / flat / edge


_DOWN = rotation(0.0, -90.0)


def _planet(half: float, amount: float, x: Array, y: Array) -> Array:
    return _conformal(half, amount, x, y) @ _DOWN.T


def _planet_back(half: float, amount: float, d: Array) -> tuple[Array, Array]:
    return _conformal_back(half, amount, d @ _DOWN)


@dataclass(frozen=True)
class Projection:
    """``forward`` and ``back``: (half field of view in radians, amount, …) between plane and direction. ``back`` is not a
    number where the direction is behind the projection. ``widest``: degrees, for the amount given."""

    title: str
    bends: str
    forward: Callable[[float, float, Array, Array], Array]
    back: Callable[[float, float, Array], tuple[Array, Array]]
    widest: Callable[[float], float]
    usual: float


PROJECTIONS: dict[str, Projection] = {
    "straight": Projection(
        "straight lines stay straight",
        "Nothing bends; things grow towards the edges, twice as large at 45° from the middle, seven times at 68°.",
        _straight, _straight_back, lambda _: 160.0, 90.0),
    "conformal": Projection(
        "small shapes stay true",
        "Lines that miss the middle bend outwards; every small thing keeps its shape, those at the edges grow.",
        _conformal, _conformal_back, lambda _: 340.0, 140.0),
    "compromise": Projection(
        "uprights and lines to the middle stay straight",
        "Level lines off the middle bend; uprights and lines through the middle do not, and the sides grow less.",
        _panini, _panini_back, lambda d: min(320.0, float(np.degrees(2 * np.arccos(-0.9 * d)))) - 10.0, 140.0),
    "equidistant": Projection(
        "angles stay even",
        "Everything bends around the middle; a degree is as long at the edge as in the middle.",
        _equidistant, _equidistant_back, lambda _: 300.0, 180.0),
    "planet": Projection(
        "the ground as a little planet",
        "The ground becomes a ball, the sky its surroundings; uprights stand out from it like spokes.",
        _planet, _planet_back, lambda _: 340.0, 280.0),
}  # fmt: skip


def view_directions(projection: str, fov: float, amount: float, x: Array, y: Array) -> Array:
    """Directions (…, 3), of any length, in the view's own axes of places on its plane; ``fov`` in degrees across.

    Their length is what makes them bend least between places: straight lines' are linear in x and y.

    >>> view_directions("straight", 90.0, 0.0, np.array(1.0), np.array(0.0)).round(4).tolist()  # its right edge
    [1.0, 1.0, 0.0]
    """
    return PROJECTIONS[projection].forward(np.radians(fov) / 2, amount, x, y)


def view_places(projection: str, fov: float, amount: float, d: Array) -> tuple[Array, Array]:
    """Places on the view's plane of directions in the view's own axes; NaN where it cannot show them."""
    return PROJECTIONS[projection].back(np.radians(fov) / 2, amount, d)


# ---- recordings ----------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Equirect:
    """A sphere or half of it: ``size`` recorded pixels, ``across`` degrees of heading over its width, 180 of tilt."""

    size: tuple[int, int]
    across: float = 360.0

    fade = 0.0

    @property
    def whole(self) -> bool:
        return self.across >= 360.0

    @property
    def density(self) -> float:
        """Recorded pixels per radian where they are densest but for the poles."""
        return max(self.size[0] / np.radians(self.across), self.size[1] / np.pi)

    def length(self, d: Array) -> float:
        """Of one direction (3,), by which a small move of it is divided to be an angle."""
        return float(np.linalg.norm(d))

    def place(self, d: Array) -> Array:
        """(…, 2) recorded pixels (0 is the picture's edge) of directions (…, 3)."""
        heading, tilt = heading_tilt(d)
        return np.stack([(heading / self.across + 0.5) * self.size[0], (0.5 - tilt / 180) * self.size[1]], axis=-1)

    def direction(self, place: Array) -> Array:
        x, y = place[..., 0] / self.size[0], place[..., 1] / self.size[1]
        return direction((x - 0.5) * self.across, (0.5 - y) * 180)

    def margin(self, d: Array) -> Array:
        """Degrees by which a direction lies inside the picture; negative: there is none."""
        heading, _ = heading_tilt(d)
        return np.full(heading.shape, 90.0) if self.whole else self.across / 2 - np.abs(heading)

    def step(self, d: Array, along: Array) -> Array:
        """(…, 2) recorded pixels that a small move ``along`` (…, 3) of a direction makes: its sideways and upright part."""
        square = np.maximum(d[..., 0] ** 2 + d[..., 1] ** 2, 1e-12)
        level = np.sqrt(square)
        east = (along[..., 0] * d[..., 1] - along[..., 1] * d[..., 0]) / square
        inwards = (along[..., 0] * d[..., 0] + along[..., 1] * d[..., 1]) / level
        north = (along[..., 2] * level - d[..., 2] * inwards) / (square + d[..., 2] ** 2)
        return np.stack([east * self.size[0] / np.radians(self.across), -north * self.size[1] / np.pi], axis=-1)


ROUND_ACROSS = 180.0  # degrees that a round lens is taken to see until somebody says


class Disc(Protocol):
    """A round picture, in recorded pixels."""

    @property
    def x(self) -> float: ...

    @property
    def y(self) -> float: ...

    @property
    def radius(self) -> float: ...


@dataclass(frozen=True)
class Lens:
    """One round lens: centre and radius in recorded pixels, degrees across, and the heading it faces.

    ``bend`` (k1, k2, …): r/radius = (θ + k1·θ³ + k2·θ⁵ …) / the same at the rim, θ in radians; none is equidistant. ``fade``: degrees inside the
    rim over which its picture becomes nothing; 0: it ends there.
    """

    x: float
    y: float
    radius: float
    across: float = 180.0
    facing: float = 0.0
    bend: tuple[float, ...] = ()
    fade: float = 0.0

    @property
    def axes(self) -> Array:
        return rotation(self.facing, 0.0)

    def grown(self, angle: Array) -> Array:
        """r/radius · the rim's value: θ + k1·θ³ + …"""
        square = angle * angle
        total = np.zeros_like(angle)
        for k in reversed(self.bend):
            total = (total + k) * square
        return angle * (1 + total)

    @property
    def rim(self) -> float:
        return float(self.grown(np.array(np.radians(self.across / 2))))


@dataclass(frozen=True)
class Round:
    """One or more round lenses in a picture of ``size``; a direction belongs to the lens whose axis is nearest."""

    size: tuple[int, int]
    lenses: tuple[Lens, ...]

    @staticmethod
    def shown(region: tuple[int, int, int, int], discs: Sequence[Disc], across: float | None, bend: tuple[float, ...] = ()) -> Round:
        """As the footage shows their ``discs`` in a ``region`` of its picture, one or two back to back; none: it is filled. ``across``: degrees
        that each sees, None: nobody has said."""
        x, y, w, h = region
        across, shown = across or ROUND_ACROSS, [d for d in discs if x <= d.x < x + w and y <= d.y < y + h][:2]
        if not shown:
            return Round((w, h), (Lens(w / 2, h / 2, min(w, h) / 2, across, bend=bend),))
        return Round((w, h), tuple(Lens(d.x - x, d.y - y, d.radius, across, 180.0 * n, bend) for n, d in enumerate(shown)))

    @property
    def density(self) -> float:
        return max(lens.radius / lens.rim for lens in self.lenses)

    @property
    def fade(self) -> float:
        """Degrees inside a rim up to which something of its picture is taken away."""
        return max(lens.fade for lens in self.lenses)

    def length(self, d: Array) -> float:
        return float(np.linalg.norm(d))

    def _angles(self, d: Array) -> Array:
        """(…, lenses): radians from each axis."""
        local = (d @ lens.axes for lens in self.lenses)
        return np.stack([np.arctan2(np.hypot(v[..., 0], v[..., 2]), v[..., 1]) for v in local], axis=-1)

    def place(self, d: Array, which: NDArray[np.int64] | None = None) -> Array:
        which = self._angles(d).argmin(axis=-1) if which is None else which
        out = np.empty((*d.shape[:-1], 2))
        for n, lens in enumerate(self.lenses):
            local = d @ lens.axes
            side = np.hypot(local[..., 0], local[..., 2])
            r = lens.grown(np.arctan2(side, local[..., 1])) / lens.rim * lens.radius / np.maximum(side, 1e-12)
            here = np.stack([lens.x + local[..., 0] * r, lens.y - local[..., 2] * r], axis=-1)
            out = np.where((which == n)[..., None], here, out) if n else here
        return out

    def direction(self, place: Array) -> Array:
        """Inverse of ``place``, by the lens whose centre is nearest."""
        far = np.stack([np.hypot(place[..., 0] - v.x, place[..., 1] - v.y) / v.radius for v in self.lenses], axis=-1)
        which, out = far.argmin(axis=-1), np.empty((*place.shape[:-1], 3))
        for n, lens in enumerate(self.lenses):
            u, v = (place[..., 0] - lens.x) / lens.radius, (lens.y - place[..., 1]) / lens.radius
            table = np.linspace(0, np.radians(lens.across / 2) * 1.2, 4096)
            angle = np.interp(np.hypot(u, v) * lens.rim, lens.grown(table), table)
            here = _round(angle, u, v) @ lens.axes.T
            out = np.where((which == n)[..., None], here, out) if n else here
        return out

    def margin(self, d: Array) -> Array:
        half = np.array([lens.across / 2 for lens in self.lenses])
        return np.asarray((half - np.degrees(self._angles(d))).max(axis=-1))

    def step(self, d: Array, along: Array) -> Array:
        which = self._angles(d).argmin(axis=-1)
        return (self.place(d + along * 1e-3, np.broadcast_to(which, along.shape[:-1])) - self.place(d, which)) * 1e3


@dataclass(frozen=True)
class Flat:
    """A picture of a lens as it is: its "directions" are recorded places (x, y, 0) in pixels.

    ``aspect``: width of a pixel over its height, squeeze included. ``bend`` (k1, k2): what should be straight lies at
    distance ρ·(1 + k1·ρ² + k2·ρ⁴) from the middle instead of ρ, in half diagonals of the desqueezed picture; negative k1 is
    a barrel, positive a cushion. The straightened picture is enlarged until its edges just lie inside the recording.
    """

    size: tuple[int, int]
    aspect: float = 1.0
    bend: tuple[float, ...] = ()

    density = 1.0  # its directions are pixels already
    fade = 0.0

    def length(self, d: Array) -> float:
        return 1.0

    def place(self, d: Array) -> Array:
        return d[..., :2]

    def direction(self, place: Array) -> Array:
        return np.concatenate([place, np.zeros_like(place[..., :1])], axis=-1)

    def margin(self, d: Array) -> Array:
        return np.full(d.shape[:-1], 90.0)

    def step(self, d: Array, along: Array) -> Array:
        return along[..., :2]

    def _bent(self, u: Array, v: Array, enlarged: float) -> Array:
        """How much farther out than straight: u and v are from the middle, in half diagonals."""
        square = (u * u + v * v) * enlarged**2
        total = np.zeros_like(square)
        for k in reversed(self.bend):
            total = (total + k) * square
        return enlarged * (1 + total)

    @cached_property
    def enlarged(self) -> float:
        """1 / how much the straightened picture grows until all of it was recorded; above 1 it shrinks instead."""
        if not self.bend:
            return 1.0
        w, h = self.size[0] * self.aspect, float(self.size[1])
        t = np.linspace(-1, 1, 65)
        edge = np.concatenate([np.stack([t, np.ones_like(t)]), np.stack([np.ones_like(t), t])], axis=1)
        u, v = edge[0] * w / np.hypot(w, h), edge[1] * h / np.hypot(w, h)
        low, high = 0.25, 2.0
        for _ in range(50):
            k = (low + high) / 2
            far = self._bent(u, v, k)
            grows = self._bent(u * 1.001, v * 1.001, k) * 1.001 > far  # beyond there the model folds back
            fits = bool((np.abs(edge * far) <= 1.0 + 1e-12).all() and grows.all())
            low, high = (k, high) if fits else (low, k)
        return low

    def straight(self, x: Array, y: Array) -> Array:
        """(…, 3) of places in the straightened picture, which has the recording's own raster."""
        x, y = np.broadcast_arrays(np.asarray(x, dtype=np.float64), y)
        w, h = self.size
        if self.bend:
            half = np.hypot(w * self.aspect, h) / 2
            far = self._bent((x - w / 2) * self.aspect / half, (y - h / 2) / half, self.enlarged)
            x, y = w / 2 + (x - w / 2) * far, h / 2 + (y - h / 2) * far
        return np.stack([x, y, np.zeros_like(x)], axis=-1)

    def straightened(self, place: Array) -> Array:
        """(…, 2) where recorded places lie in the straightened picture: ``straight`` undone, nearer and nearer."""
        size = np.array(self.size, dtype=np.float64)
        found = np.asarray(place, dtype=np.float64).copy()
        for _ in range(40 if self.bend else 0):
            found += place - self.straight(found[..., 0], found[..., 1])[..., :2]
            found = np.clip(found, -0.25 * size, 1.25 * size)
        return found


@dataclass(frozen=True)
class Straight:
    """A flat picture as directions of a lens that keeps lines straight, ``across`` degrees wide: for following over it."""

    size: tuple[int, int]
    aspect: float = 1.0
    across: float = 60.0

    @property
    def density(self) -> float:
        """Recorded pixels per radian in the middle."""
        return self.size[0] / 2 / float(np.tan(np.radians(self.across / 2)))

    def place(self, d: Array) -> Array:
        ahead = np.maximum(d[..., 1], 1e-6)
        x, y = d[..., 0] / ahead * self.density, d[..., 2] / ahead * self.density * self.aspect
        return np.stack([self.size[0] / 2 + x, self.size[1] / 2 - y], axis=-1)

    def direction(self, place: Array) -> Array:
        x, y = (place[..., 0] - self.size[0] / 2), (self.size[1] / 2 - place[..., 1]) / self.aspect
        d = np.stack([x, np.full_like(x, self.density), y], axis=-1)
        return d / np.linalg.norm(d, axis=-1, keepdims=True)

    def margin(self, d: Array) -> Array:
        """Degrees, at least roughly, by which a direction lies inside the picture."""
        p = self.place(d)
        near = np.minimum(
            np.minimum(p[..., 0], self.size[0] - p[..., 0]), np.minimum(p[..., 1], self.size[1] - p[..., 1])
        )
        return np.where(d[..., 1] > 0, np.degrees(near / self.density), -90.0)


Directions = Equirect | Round
Recording = Directions | Flat
