"""What the levels of a shot become under a colour setting: stops from grey, and what each way with whites costs."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..light.chain import KNEE, ColourChain, contrast
from ..light.curves import MIDDLE_GREY, Curve

OVER = 1.095  # the highest signal that limited range holds: code 1019 of 10 bits


@dataclass(frozen=True)
class WhitesCost:
    """``clipped``: share of pixels whose brightest channel ends at full white; ``grey``: delivered signal of middle grey;
    ``bent``: share of pixels that the shoulder touches."""

    clipped: float
    grey: float
    bent: float


def light_of(signals: NDArray[np.float64], curve: Curve, gain: float) -> NDArray[np.float64]:
    """Light of the brightest channel after exposure."""
    return np.asarray(curve.decode(signals)) * gain


def cost(chain: ColourChain, signals: NDArray[np.float64], shares: NDArray[np.float64]) -> WhitesCost:
    """From the histogram of the brightest recorded channel (``signals`` centres, ``shares``)."""
    gain = chain.gain
    light = light_of(signals, chain.source, gain)
    after = contrast(light, chain.contrast)
    out = chain.tone(light)
    grey = chain.grey
    bends = chain.whites in ("roll off", "keep hue") and chain.peak > chain.limit
    bent = float(shares[after > KNEE].sum()) if bends else 0.0
    return WhitesCost(float(shares[out >= chain.ceiling - 0.0005].sum()), grey, bent)


def stops_from_grey(
    curve: Curve, gain: float, signals: NDArray[np.float64], shares: NDArray[np.float64], reach: int = 9
) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Share of pixels per whole stop of their brightest channel, −reach … +reach; the ends gather what lies beyond."""
    light = light_of(signals, curve, gain)
    stop = np.rint(np.log2(np.maximum(light, 1e-9) / MIDDLE_GREY)).astype(np.int64)
    stop = np.clip(stop, -reach, reach)
    stops = np.arange(-reach, reach + 1)
    return stops, np.array([float(shares[stop == s].sum()) for s in stops])


def reach(curve: Curve, low: float, top: float) -> tuple[float, float]:
    """Stops from grey of a shot's lowest and highest recorded signals."""
    ends = np.asarray(curve.decode(np.array([low, min(top, OVER)])))
    darkest, brightest = np.log2(np.maximum(ends, 1e-6) / MIDDLE_GREY)
    return float(darkest), float(brightest)


def peak(curve: Curve, top: float) -> float:
    """The brightest recorded light, at least white: what everything but *let go* has to hold. ``top``: the highest signal."""
    return max(1.0, float(curve.decode(np.array([min(top, OVER)]))[0]))
