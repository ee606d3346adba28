"""Noise as it was measured: how wide it is at every level; and the signal in which it is as wide everywhere."""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float32]
Array = NDArray[np.float64]
POINTS = 7  # of Gauss and Hermite


class Grain(msgspec.Struct, frozen=True):
    """A recording's noise, in its own codes.

    levels  codes, rising, at which it is known; of Y′CbCr all are of luma, else each plane's own
    sigma   of each plane (of sensor values: of each cell of the filter) the standard deviation there
    keep    what the difference of two frames has of it, 1 all: less where the camera has smoothed over time
    shape   (64) of its squared cosines by coefficient, row by row: all 1, or empty, if it is white
    """

    levels: tuple[float, ...]
    sigma: tuple[tuple[float, ...], ...]
    keep: float = 1.0
    shape: tuple[float, ...] = ()

    def of(self, plane: int, codes: Array) -> Array:
        """Standard deviation at some codes."""
        return np.asarray(np.interp(codes, self.levels, self.sigma[min(plane, len(self.sigma) - 1)]))


class Stabiliser:
    """Codes → a signal whose noise has standard deviation 1, and back without bias.

    The way there is the integral of one over the noise (Bartlett 1936; Anscombe's for photons); back is not its inverse but that of what noise
    makes of it on average (Mäkitalo and Foi 2013), so that dark places stay as dark.
    """

    def __init__(self, grain: Grain, plane: int, top: int) -> None:
        codes = np.arange(top + 1, dtype=np.float64)
        self.sigma = np.maximum(grain.of(plane, codes), 0.05)
        slope = 1 / self.sigma
        integral = np.concatenate([[0.0], np.cumsum((slope[1:] + slope[:-1]) / 2)])
        self.table = integral.astype(np.float32)
        nodes, weights = np.polynomial.hermite_e.hermegauss(POINTS)
        grid = np.linspace(0, top, min(top + 1, 4096))
        wide = np.interp(grid, codes, self.sigma)
        seen = grid[:, None] + wide[:, None] * nodes
        mean = self._beyond(seen, codes, integral, slope) @ (weights / weights.sum())
        self._means, self._grid = np.maximum.accumulate(mean + np.arange(len(mean)) * 1e-9), grid
        steps = 1 << 14
        self.low, self.high = float(self._means[0]), float(self._means[-1])
        self._back = np.interp(np.linspace(self.low, self.high, steps), self._means, self._grid).astype(np.float32)

    @staticmethod
    def _beyond(x: Array, codes: Array, integral: Array, slope: Array) -> Array:
        inside = np.interp(x, codes, integral)
        return np.asarray(inside + np.minimum(x, 0) * slope[0] + np.maximum(x - codes[-1], 0) * slope[-1])

    def there(self, plane: NDArray[np.generic]) -> Floats:
        return self.table[plane]

    def back(self, signal: Floats) -> Floats:
        """Codes, not rounded."""
        place = (signal - np.float32(self.low)) * np.float32((len(self._back) - 1) / max(self.high - self.low, 1e-9))
        place = np.clip(place, 0, len(self._back) - 1.001).astype(np.float32)
        low = place.astype(np.int32)
        share = place - low
        a = self._back[low]
        return np.asarray(a + share * (self._back[low + 1] - a), np.float32)
