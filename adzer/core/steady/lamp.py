"""Light that flickers from frame to frame, as of lamps on the mains or of stills exposed one by one: what of it is meant is slow."""

from __future__ import annotations

import numpy as np

from ..light.curves import Curve
from ..look.motion import LEVEL, RISE
from ..look.passes import Rows
from . import solve
from .slow import slow
from .solve import Array

MOST = 2.0  # stops between frames; what is more is a cut
TELLS = 0.01  # stops, rms: a flicker that anybody may see


def stops(rows: Rows, curve: Curve | None) -> Array:
    """(frames) stops by which each frame is brighter than the first, in the light of the recorded ``curve``; None: as the signal is."""
    level, rise = rows[:, LEVEL].astype(np.float64), rows[:, RISE].astype(np.float64)
    before, now = (v if curve is None else np.asarray(curve.decode(v)) for v in (level, level + rise))
    known = (level > 0) & (before > 1e-6) & (now > 1e-6)
    step = np.zeros(len(rows))
    step[known] = np.log2(now[known] / before[known])
    step[np.abs(step) > MOST] = 0.0
    return np.cumsum(step)


def evened(rows: Rows, curve: Curve | None, rate: float, cut: float) -> Array:
    """(frames) stops by which each frame is to be made brighter, so that what is faster than ``cut`` Hz goes."""
    lit = stops(rows, curve)
    return slow(lit, rate, cut) - lit


def flickers(rows: Rows, curve: Curve | None, rate: float, cut: float) -> float:
    """Stops rms that go."""
    return float(np.sqrt((evened(rows, curve, rate, cut) ** 2).mean()))


def packed(more: Array) -> str:
    """As an answer holds them."""
    return solve.packed(np.pad(more[:, None], ((0, 0), (0, 3))), (1, 1))


def unpacked(text: str, frames: int) -> Array | None:
    """None if they are not of so many frames, or not whole."""
    made = solve.unpacked(text, frames, (1, 1))
    return None if made is None else made[:, 0]
