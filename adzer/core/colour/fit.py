"""A camera's curve from a few exposures of a still scene, a known number of stops apart.

The signal of a place is the curve of its light times two to the power of the stops; the places' lights and the inverse curve are
solved together (Debevec and Malik 1997), as a monotone course of knots that is smooth, robustly against what moved.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..errors import AdzerError

Array = NDArray[np.float64]

KNOTS = 80
PLACES = 9000
SMOOTH = 2e-4
DENSER = 1.7
ROUNDS = 8
FLOOR = 0.02  # stops: straight lines between knots, and a grey patch's own noise
LEAST_RISE = 1.0  # stops over all of the signal, under which nothing rises
LEAST_STOPS = 4.0  # that a scene and its exposures must span together


@dataclass(frozen=True)
class Response:
    """``signal`` rising and the ``light`` (middle grey is 0.18) that gives it; ``error``: stops, one standard deviation, at each."""

    signal: Array
    light: Array
    error: Array

    @property
    def doubt(self) -> float:
        """Stops, at the worst of what cameras are exposed for: five under middle grey to three over it."""
        stops = np.log2(self.light / 0.18)
        inside = (stops > -5.2) & (stops < 3.2)
        return float(self.error[inside].max())

    @property
    def reach(self) -> tuple[float, float]:
        """Stops from middle grey that are covered."""
        low, high = np.log2(self.light[[0, -1]] / 0.18)
        return float(low), float(high)


def fit(signals: Array, stops: Sequence[float], grey: float) -> Response:
    """The curve behind ``signals`` (exposures, places): the same places seen ``stops`` apart, 0 black and 1 nominal peak.

    ``grey``: the signal of middle grey at exposure 0. AdzerError if exposures differ by nothing, or too little is seen.
    """
    ev = np.asarray(stops, dtype=np.float64)
    if len(ev) < 3 or np.ptp(ev) < 2 or len(np.unique(ev)) < 3:
        raise AdzerError("At least three exposures over two stops or more are needed; five, a stop apart, are best.")
    top, low = float(np.quantile(signals, 0.9999)), float(np.quantile(signals, 1e-4))
    clipped = float((signals > top - 0.004).mean()) > 0.002
    high = top - (0.01 if clipped else 0.0)
    usable = (signals < high) & (signals > low + 0.004)
    enough = usable.sum(axis=0) >= 3
    order = np.argsort(ev)
    rising = np.ones(signals.shape[1], bool)  # more light is more signal; where it is not, something moved
    for a, b in zip(order[:-1], order[1:], strict=True):
        rising &= (signals[b] > signals[a] - 0.01) | (ev[a] == ev[b])
    enough &= rising
    y, held = signals[:, enough], usable[:, enough]
    if y.shape[1] < 200:
        raise AdzerError("Too few places are seen in three exposures without being cut off. Choose a scene with more range.")
    y, held = _spread(y, held)
    lowest, highest = float(y[held].min()), float(y[held].max())
    knots = lowest + (highest - lowest) * np.linspace(0, 1, KNOTS) ** DENSER  # curves bend most near black
    share = np.clip((y - lowest) / (highest - lowest), 0, 1) ** (1 / DENSER) * (KNOTS - 1)
    under = np.clip(share.astype(int), 0, KNOTS - 2)
    place = np.clip(under + (y - knots[under]) / np.diff(knots)[under], 0, KNOTS - 1 - 1e-9)
    cell, part = place.astype(int), place - place.astype(int)
    weight = held.astype(np.float64)
    g = np.log2(np.maximum(knots - knots[0], 0) + 0.02)
    for _ in range(ROUNDS):
        slope = np.maximum(np.gradient(g, knots), 1e-3)
        steep = slope[cell] * (1 - part) + slope[np.minimum(cell + 1, KNOTS - 1)] * part
        precise = weight / (0.02 + steep**2 * 1e-4)  # noise of a signal counts as much as the curve is steep there
        g, normal = _solved(cell, part, ev, precise)
        rest = _rest(g, cell, part, ev, precise)
        spread = max(float(np.median(np.abs(rest[held]))) * 1.48, 1e-4)
        worst = (np.abs(rest) * held).max(axis=0) / (4.5 * spread)  # a place that moved in one exposure says nothing in any
        weight = held * np.clip(1 - worst**2, 0, 1) ** 2
    other, _ = _solved(cell, part, ev, precise, SMOOTH / 30)
    g = np.maximum.accumulate(g) + np.arange(KNOTS) * 1e-5
    seen = np.bincount(cell[held], minlength=KNOTS) > 3
    first, last = int(np.argmax(seen)), KNOTS - int(np.argmax(seen[::-1]))
    # At an end of what is seen, signals that rise while the light does not say nothing but noise.
    while last - first > 2 and g[first + 1] - g[first] < LEAST_RISE * (knots[first + 1] - knots[first]):
        first += 1
    while last - first > 2 and g[last - 1] - g[last - 2] < LEAST_RISE * (knots[last - 1] - knots[last - 2]):
        last -= 1
    g, knots = g[first:last], knots[first:last]
    if not knots[0] < grey < knots[-1]:
        raise AdzerError("Middle grey lies outside what was seen. Mark a grey patch that is neither cut off nor black.")
    if g[-1] - g[0] < LEAST_STOPS:
        raise AdzerError(f"Only {g[-1] - g[0]:.1f} stops are seen; at least {LEAST_STOPS:g} are needed. Choose a scene with more range.")
    chance = spread * np.sqrt(np.clip(np.diag(np.linalg.pinv(normal)), 0, None))[first:last]
    other = other[first:last]
    apart = np.abs((other - np.interp(grey, knots, other)) - (g - np.interp(grey, knots, g)))  # what smoothness alone decides
    error = np.sqrt(chance**2 + apart**2 + FLOOR**2)
    return Response(knots, 0.18 * 2.0 ** (g - np.interp(grey, knots, g)), error)


def _spread(y: Array, held: NDArray[np.bool_]) -> tuple[Array, NDArray[np.bool_]]:
    """Some thousand places, evenly over the levels they have."""
    mean = (y * held).sum(axis=0) / held.sum(axis=0)
    bins = np.digitize(mean, np.linspace(mean.min(), mean.max(), 60))
    rng = np.random.default_rng(5)
    each = max(1, PLACES // 60)
    chosen = np.concatenate([
        rng.permutation(np.flatnonzero(bins == b))[:each] for b in np.unique(bins)
    ])  # fmt: skip
    return y[:, chosen], held[:, chosen]


def _solved(
    cell: NDArray[np.int64], part: Array, ev: Array, weight: Array, smooth: float = SMOOTH
) -> tuple[Array, Array]:
    """The knots' stops by least squares, each place's own light taken out; and the matrix of the normal equations."""
    exposures, places = cell.shape
    rows = np.zeros((exposures, places, KNOTS))
    e, p = np.indices(cell.shape)
    rows[e, p, cell] = 1 - part
    rows[e, p, np.minimum(cell + 1, KNOTS - 1)] += part
    total = np.maximum(weight.sum(axis=0), 1e-12)
    mean_row = np.einsum("ep,epk->pk", weight, rows) / total[:, None]
    mean_ev = (weight * ev[:, None]).sum(axis=0) / total
    rows -= mean_row[None]
    wanted = ev[:, None] - mean_ev[None]
    flat = rows.reshape(-1, KNOTS)
    scaled = flat * weight.reshape(-1, 1)
    normal = flat.T @ scaled
    bend = np.diff(np.eye(KNOTS), 3, axis=0)
    normal += smooth * float(np.trace(normal)) * bend.T @ bend
    pin = np.zeros(KNOTS)
    pin[KNOTS // 2] = np.sqrt(float(np.trace(normal)) / KNOTS)
    normal += np.outer(pin, pin)
    return np.linalg.solve(normal, scaled.T @ wanted.reshape(-1)), normal


def _rest(g: Array, cell: NDArray[np.int64], part: Array, ev: Array, weight: Array) -> Array:
    value = g[cell] * (1 - part) + g[np.minimum(cell + 1, KNOTS - 1)] * part - ev[:, None]
    mean = (weight * value).sum(axis=0) / np.maximum(weight.sum(axis=0), 1e-12)
    return np.asarray((value - mean) * np.sqrt(weight))
