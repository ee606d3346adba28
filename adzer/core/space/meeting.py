"""Where two lenses meet that see all round: the way between them, and what is said along it of light and of nearness."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from .sphere import Array, Lens, between

Axis = tuple[float, float, float]
CLOSES = float(np.radians(15.0))  # from where two lenses meet, up to which what stands apart is brought together
FALLS = float(np.radians(60.0))  # from the way a lens looks, from where on its light falls off


def turned_round(d: Array, axis: Array) -> Array:
    """Whole turns (…), 0 … 1, of directions (…, 3) round an axis: from straight up on to the right of who looks along it."""
    right = np.cross(axis, [0.0, 0.0, 1.0])
    return np.asarray(np.arctan2(d @ right, d @ np.cross(right, axis)) / (2 * np.pi) % 1.0)


@dataclass(frozen=True)
class Around:
    """Values round an axis over time.

    times    seconds, rising; before the first and after the last it stays as it is there
    values   of each, at even angles as of ``turned_round``

    >>> Around((0.0, 2.0), ((1.0, 3.0), (3.0, 3.0))).at(np.array([0.0, 0.25]), 1.0).tolist()
    [2.0, 2.5]
    """

    times: tuple[float, ...]
    values: tuple[tuple[float, ...], ...]

    @staticmethod
    def still_at(values: tuple[float, ...]) -> Around:
        return Around((0.0,), (values,))

    @property
    def still(self) -> bool:
        return len(self.times) == 1

    def row(self, time: float) -> Array:
        """All values of a moment."""
        rows = np.array(self.values)
        n = int(np.clip(np.searchsorted(self.times, time) - 1, 0, max(len(self.times) - 2, 0)))
        if self.still or time <= self.times[0]:
            return np.asarray(rows[0])
        part = min((time - self.times[n]) / (self.times[n + 1] - self.times[n]), 1.0)
        return np.asarray(rows[n] * (1 - part) + rows[n + 1] * part)

    def at(self, turned: Array, time: float) -> Array:
        row = self.row(time)
        return np.asarray(np.interp(turned * len(row), np.arange(len(row) + 1), (*row, row[0])))

    def changed(self, function: Callable[[Array], Array]) -> Around:
        """The same of ``function`` of its values, row by row."""
        return Around(self.times, tuple(tuple(function(np.array(row)).tolist()) for row in self.values))


@dataclass(frozen=True)
class Meeting:
    """Two lenses meet halfway between where they face, or along ``seam``: how far the one that faces ``axis`` counts against the one
    that faces ``other``, from 0 to 1 over ``width`` radians.

    seam   radians by which the way lies nearer to ``axis`` than halfway
    """

    axis: Axis
    other: Axis
    width: float
    seam: Around | None = None

    @property
    def still(self) -> bool:
        return self.seam is None or self.seam.still

    def off(self, d: Array, time: float) -> Array:
        """Radians (…) by which directions (…, 3) of any length lie beyond the way, towards ``axis``."""
        length = np.sqrt(np.einsum("...i,...i->...", d, d))[..., None]  # of its cosine an angle is exact where it counts: far from both axes
        own, other = np.moveaxis(np.arccos(np.clip(d @ np.array((self.axis, self.other)).T / length, -1.0, 1.0)), -1, 0)
        off = (other - own) / 2
        return np.asarray(off if self.seam is None else off - self.seam.at(turned_round(d, np.array(self.axis)), time))

    def at(self, d: Array, time: float) -> Array:
        """(…) of directions (…, 3) of any length.

        >>> Meeting((0.0, 1.0, 0.0), (0.0, -1.0, 0.0), 0.1).at(np.array([[0.0, 1.0, 0.0], [1.0, 0.0, 0.0], [1.0, -0.5, 0.0]]), 0.0).tolist()
        [1.0, 0.5, 0.0]
        """
        part = np.clip(0.5 + self.off(d, time) / self.width, 0.0, 1.0)
        return np.asarray(part * part * (3 - 2 * part))

    def near(self, d: Array, reach: float, time: float) -> Array:
        """(…) 1 on the way, less and less up to ``reach`` radians from it."""
        return np.asarray(np.cos(np.clip(self.off(d, time) / reach, -1.0, 1.0) * np.pi / 2) ** 2)

    @property
    def turned(self) -> Meeting:
        """The same way as the other lens counts along it."""

        def back(row: Array) -> Array:  # who looks the other way goes round the other way
            return np.roll(-row[::-1], 1)

        return Meeting(self.other, self.axis, self.width, self.seam and self.seam.changed(back))


@dataclass(frozen=True)
class Below:
    """How far what lies up to ``reach`` radians round straight down counts, from 1 to 0 over ``width``, besides ``of``'s own share;
    ``beyond``: what lies beyond, instead."""

    reach: float
    width: float
    of: Meeting | None = None
    beyond: bool = False

    @property
    def still(self) -> bool:
        return self.of is None or self.of.still

    def at(self, d: Array, time: float) -> Array:
        """(…) of directions (…, 3) of any length.

        >>> Below(0.5, 0.1).at(np.array([[0.0, 0.0, -2.0], [1.0, 0.0, -1.0]]), 0.0).tolist()
        [1.0, 0.0]
        """
        angle = np.arctan2(np.hypot(d[..., 0], d[..., 1]), -d[..., 2])
        part = np.clip(0.5 + (self.reach - angle) / self.width, 0.0, 1.0)
        part = part * part * (3 - 2 * part)
        part = 1 - part if self.beyond else part
        return np.asarray(part if self.of is None else part * self.of.at(d, time))


@dataclass(frozen=True)
class Fall:
    """How light falls off to a lens's rim: by e^(−``much``·u²), where u goes evenly from 0 at ``start`` radians from the way it ``facing``
    looks to 1 at ``stop``."""

    facing: Axis
    much: float
    start: float
    stop: float

    @staticmethod
    def of(lens: Lens, much: float) -> Fall:
        x, y, z = lens.axes[:, 1].tolist()
        return Fall((x, y, z), much, FALLS, float(np.radians(lens.across / 2)))

    def undone(self, d: Array) -> Array:
        """How many times as bright (…) light of directions (…, 3) has to be made.

        >>> Fall((0.0, 1.0, 0.0), float(np.log(2)), 0.0, np.pi / 2).undone(np.array([[0.0, 1.0, 0.0], [1.0, 0.0, 0.0]])).round(6).tolist()
        [1.0, 2.0]
        """
        angle = np.radians(between(d, np.broadcast_to(np.array(self.facing), d.shape)))
        return np.asarray(np.exp(self.much * np.clip((angle - self.start) / (self.stop - self.start), 0.0, 1.0) ** 2))


@dataclass(frozen=True)
class Tone:
    """By how much red, green and blue light is made brighter.

    brighter   each on ``way``, as a logarithm, and less and less up to ``reach`` radians from it; None: nothing
    fall       that is undone besides
    """

    way: Meeting
    reach: float
    brighter: tuple[Around, Around, Around] | None = None
    fall: Fall | None = None

    @property
    def still(self) -> bool:
        return self.brighter is None or (all(v.still for v in self.brighter) and self.way.still)

    def at(self, d: Array, time: float) -> Array:
        """(…, 3) of directions (…, 3) of any length.

        >>> way = Meeting((0.0, 1.0, 0.0), (0.0, -1.0, 0.0), 0.1)
        >>> tone = Tone(way, 0.2, tuple(Around.still_at((v,)) for v in (0.0, float(np.log(1.5)), 0.0)))
        >>> tone.at(np.array([[1.0, 0.0, 0.0], [0.0, 1.0, 0.0]]), 0.0).round(6).tolist()
        [[1.0, 1.5, 1.0], [1.0, 1.0, 1.0]]
        """
        made = np.repeat((self.fall.undone(d) if self.fall is not None else np.ones(d.shape[:-1]))[..., None], 3, axis=-1)
        if self.brighter is None:
            return made
        near, turned = self.way.near(d, self.reach, time), turned_round(d, np.array(self.way.axis))
        return np.asarray(made * np.exp(np.stack([v.at(turned, time) for v in self.brighter], axis=-1) * near[..., None]))


@dataclass(frozen=True)
class Away:
    """Where a lens stands against the place that a look looks from, over the distance of what is looked at.

    facing   which way it stands from there, and looks; ``apart``: how far, for all that is looked at
    more     on ``way``, of what stands there, and less and less up to ``reach`` radians from it; None: nothing
    """

    facing: Axis
    apart: float
    way: Meeting
    reach: float
    more: Around | None = None

    @property
    def still(self) -> bool:
        return self.more is None or (self.more.still and self.way.still)

    def moved(self, d: Array, time: float) -> Array:
        """Directions (…, 3) as the lens sees what lies in them.

        >>> way = Meeting((0.0, 1.0, 0.0), (0.0, -1.0, 0.0), 0.1)
        >>> Away((0.0, 1.0, 0.0), 0.01, way, 0.2).moved(np.array([2.0, 0.0, 0.0]), 0.0).tolist()
        [2.0, -0.02, 0.0]
        """
        apart: Array | float = self.apart
        if self.more is not None:
            more = self.more.at(turned_round(d, np.array(self.way.axis)), time) * self.way.near(d, self.reach, time)
            apart = (apart + more)[..., None]
        return np.asarray(d - np.linalg.norm(d, axis=-1, keepdims=True) * apart * np.array(self.facing))
