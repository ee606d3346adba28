"""How the two pictures of a pair of eyes are brought in line: half of what lies between them is done to each.

Places are measured from the middle of an eye's picture in half its width, u to the right and v down. Where the first eye holds a thing
at (u₁, v₁), the second does at (u₂, v₂); what is no depth is v₂ − v₁ = shift + roll·u + size·v + keystone·u·v + lean·v²: the first
terms of a homography, which is what two cameras that do not stand quite alike differ by (Hartley and Zisserman, Multiple View
Geometry, 2nd edition, 13.1).
"""

from __future__ import annotations

from typing import Annotated

import msgspec
import numpy as np
from msgspec import Meta

from ..space.sphere import Array

Part = Annotated[float, Meta(ge=-50.0, le=50.0)]


class Align(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Of the second eye's picture against the first's.

    shift      per cent of the width by which it lies lower
    roll       degrees clockwise
    size       per cent larger
    keystone   per cent that its right edge is higher than its left one; ``lean``: that it is stretched towards below
    rest       pixels of 1920 across that things still lie too high or low after it (95 %)
    """

    shift: Part = 0.0
    roll: Part = 0.0
    size: Part = 0.0
    keystone: Part = 0.0
    lean: Part = 0.0
    rest: Annotated[float, Meta(ge=0.0)] | None = None

    @property
    def terms(self) -> Array:
        """shift, roll, size, keystone, lean in half widths."""
        return np.array([self.shift / 50, np.radians(self.roll), self.size / 100, self.keystone / 200, self.lean / 200])

    @staticmethod
    def of(terms: Array, rest: float | None = None) -> Align:
        s, r, z, k, p = (float(v) for v in terms)
        shift, roll, size, keystone, lean = (round(v, 5) for v in (s * 50, float(np.degrees(r)), z * 100, k * 200, p * 200))
        return Align(shift, roll, size, keystone, lean, None if rest is None else round(rest, 3))


def bent(terms: Array, share: float, aside: float = 0.0) -> Array:
    """(3, 3) that takes places as they are delivered to places as recorded, in half widths, of an eye that is given ``share`` of
    what lies between the two: −½ the first, ½ the second. ``aside``: half widths that it looks to the right."""
    s, r, z, k, p = share * np.asarray(terms, dtype=np.float64)
    made = np.array([[1 + z, -r, 0.0], [r, 1 + z, s], [-k, -p, 1.0]])
    return np.asarray(made @ np.array([[1.0, 0.0, aside], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]]))


def applied(matrix: Array, places: Array) -> Array:
    """(n, 2) of places (n, 2)."""
    made = np.concatenate([places, np.ones_like(places[:, :1])], axis=1) @ matrix.T
    return np.asarray(made[:, :2] / made[:, 2:])


def enlarged(matrices: list[Array], half_height: float) -> float:
    """How many times larger the delivered pictures must be taken, so that none shows what was not recorded."""
    t = np.linspace(-1, 1, 33)
    one = np.ones_like(t)
    edge = np.concatenate([np.stack(v, axis=1) for v in ((t, one), (t, -one), (one, t), (-one, t))]) * [1.0, half_height]
    low, high = 1.0, 2.0
    if all(np.all(np.abs(applied(m, edge)) <= np.array([1.0, half_height]) + 1e-9) for m in matrices):
        return 1.0
    for _ in range(30):
        z = (low + high) / 2
        fits = all(np.all(np.abs(applied(m, edge / z)) <= np.array([1.0, half_height])) for m in matrices)
        low, high = (low, z) if fits else (z, high)
    return high


def in_pixels(matrix: Array, size: tuple[int, int], aspect: float, times: float = 1.0) -> Array:
    """The same in pixels of an eye's picture, whose pixels are ``aspect`` times as wide as high; ``times`` enlarged."""
    w, h = size
    to = np.array([[2 / w, 0.0, -1.0], [0.0, 2 / (w * aspect), -h / (w * aspect)], [0.0, 0.0, 1.0]])
    return np.asarray(np.linalg.inv(to) @ matrix @ np.diag([1 / times, 1 / times, 1.0]) @ to)
