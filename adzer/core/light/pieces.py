"""Curves as so few polynomials that a processor can hold them in registers, where a fetch costs nothing.

A curve is cut into at most ``CELLS`` cells, of one width or of an octave each, and once more at up to ``KNEES`` places where
its course breaks; in each cell it is a polynomial of the fourth degree. What is not within the tolerance has no pieces and
stays a table.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..kernels import CELLS, KNEES, TERMS
from .chain import ColourChain
from .curves import Map

Array = NDArray[np.float64]

EVEN = CELLS - KNEES  # cells before they are cut at knees
DARKEST = 1e-3  # of the signal, by which light in the lowest octave, under 2⁻²⁸ of the brightest, may be off

_NODES = np.cos((np.arange(9) + 0.5) * np.pi / 9)  # Chebyshev's: what is fitted there is near the best fit
_FIT = np.linalg.pinv(_NODES[:, None] ** np.arange(TERMS))  # values at the nodes → terms
_TESTS = np.linspace(-1, 1, 41)


@dataclass(frozen=True)
class Pieces:
    """``terms`` (TERMS, CELLS): of u⁰, u¹ … in each cell; ``knees`` (KNEES): places from which one more cell is counted."""

    terms: NDArray[np.float32]
    knees: NDArray[np.float32]


def _fitted(curve: Map, low: Array, high: Array, origin: Array, scale: Array) -> Array:
    """(cells, TERMS) in u = (x − origin)/scale, over low … high of each cell."""
    half = (high - low)[:, None] / 2
    series = curve((low + high)[:, None] / 2 + half * _NODES) @ _FIT.T  # in t, −1 … 1
    slope, start = scale / half[:, 0], (origin - (low + high) / 2) / half[:, 0]  # t = start + slope·u
    terms = np.zeros_like(series)
    for power in range(TERMS - 1, -1, -1):  # Horner's scheme, with a polynomial in the place of the number
        terms = start[:, None] * terms + slope[:, None] * np.pad(terms[:, :-1], ((0, 0), (1, 0)))
        terms[:, 0] += series[:, power]
    return terms


def _missed(
    curve: Map, seen: Map, terms: Array, low: Array, high: Array, origin: Array, scale: Array
) -> Array:  # fmt: skip
    """By how much each cell's polynomial is off at most, as ``seen`` sees it."""
    x = (low + high)[:, None] / 2 + (high - low)[:, None] / 2 * _TESTS
    u = (x - origin[:, None]) / scale[:, None]
    made = np.sum(terms.astype(np.float32)[:, None, :].astype(np.float64) * u[..., None] ** np.arange(TERMS), axis=-1)
    return np.abs(seen(made) - seen(curve(x))).max(axis=1)


def _knee(curve: Map, seen: Map, low: float, high: float, origin: float, scale: float) -> float:
    """The place between ``low`` and ``high`` at which to cut, so that both sides are fitted best."""
    a, b = low, high
    for _ in range(4):
        at = np.linspace(a, b, 17)[1:-1]
        ends = [np.concatenate([np.full(15, low), at]), np.concatenate([at, np.full(15, high)])]
        where = *ends, np.full(30, origin), np.full(30, scale)
        off = _missed(curve, seen, _fitted(curve, *where), *where).reshape(2, 15).max(axis=0)
        best, width = at[int(np.argmin(off))], (b - a) / 8
        a, b = max(a, best - width / 2), min(b, best + width / 2)
    return float(best)


def fit(
    curve: Map, edges: Array, origin: Array, scale: Array, tolerance: float, seen: Map = lambda y: y
) -> Pieces | None:
    """A curve over the EVEN cells between ``edges`` in u = (x − origin)/scale, or None where it is off by more than
    ``tolerance``. ``seen``: what errors are measured in."""
    low, high = edges[:-1], edges[1:]
    off = _missed(curve, seen, _fitted(curve, low, high, origin, scale), low, high, origin, scale)
    broken = np.flatnonzero(off > tolerance)
    if len(broken) > KNEES:
        return None
    cuts = [_knee(curve, seen, low[k], high[k], origin[k], scale[k]) for k in broken]
    lows, highs = np.sort(np.concatenate([low, cuts])), np.sort(np.concatenate([high, cuts]))
    cell = np.searchsorted(low, lows, side="right") - 1
    where = lows, highs, origin[cell], scale[cell]
    terms = _fitted(curve, *where)
    if np.any(_missed(curve, seen, terms, *where) > tolerance):
        return None
    held = np.zeros((TERMS, CELLS), np.float32)
    held[:, : len(terms)] = terms.T
    knees = np.full(KNEES, np.finfo(np.float32).max)  # never reached
    knees[: len(cuts)] = cuts
    return Pieces(held, knees)


@dataclass(frozen=True)
class ChainPieces:
    """A chain from signal to light and from light to delivered signal.

    ``decode`` is over cells of one width, place 0 … EVEN; ``tone`` over octaves of light from ``floor`` to ``limit``, its cells
    laid out by the exponent of a float (modulo CELLS).
    """

    decode: Pieces
    tone: Pieces
    floor: float
    limit: float

    @property
    def arrays(self) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        """As ``kernels.registers`` takes them: terms (2, TERMS, CELLS), bounds (2, 2 + KNEES)."""
        below = [np.nextafter(np.float32(end), np.float32(0)) for end in (EVEN, self.limit)]
        bounds = [[0.0, below[0], *self.decode.knees], [self.floor, below[1], *self.tone.knees]]
        return np.stack([self.decode.terms, self.tone.terms]), np.array(bounds, np.float32)


def chain_pieces(chain: ColourChain, domain: tuple[float, float], limit: float, bits: int) -> ChainPieces | None:
    """A chain without gathering, to a tenth of a code of ``bits``; None where that is not to be had.

    domain   signals that are told apart; limit   light from which on the tone does not change
    """
    tolerance = 0.1 / 2**bits
    width = (domain[1] - domain[0]) / EVEN
    places = np.arange(EVEN + 1.0)
    top = int(np.ceil(np.log2(limit)))
    octaves = np.exp2(np.arange(top - EVEN, top + 1.0))
    dark, first = (float(chain.tone(np.array([light]))[0]) for light in (0.0, octaves[1]))
    if first - dark > DARKEST:
        return None

    def tone(light: Array) -> Array:
        """The lowest octave begins at no light at all."""
        return np.where(light < octaves[1], dark + (first - dark) * (light / octaves[0] - 1), chain.tone(light))

    after = fit(tone, np.append(octaves[:-1], limit), np.zeros(EVEN), octaves[:-1], tolerance)
    ahead = fit(
        lambda place: chain.light(domain[0] + place * width), places, places[:-1], np.ones(EVEN), tolerance,
        lambda light: chain.tone(light * chain.gain),
    )  # fmt: skip
    if ahead is None or after is None:
        return None
    exponent = 127 + top - EVEN  # as a float of the lowest octave holds it
    return ChainPieces(
        ahead, Pieces(np.roll(after.terms, exponent % CELLS, axis=1), after.knees), float(octaves[0]), limit
    )
