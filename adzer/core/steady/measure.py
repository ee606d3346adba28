"""How a shot shakes, from how its picture moves."""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..look.motion import ROLL, SURE, path
from ..look.passes import Rows

SLOW = 0.5  # Hz below which a movement is meant, or a drift, and no shake
VERSION = 1
Array = NDArray[np.float64]


class Shake(msgspec.Struct, frozen=True):
    """``pixels``: recorded ones, rms, by which the picture is off where a slow hand would hold it; ``roll``: degrees, likewise;
    ``hz``: the strongest frequency of it, None where there is none; ``widest``: pixels, the most; ``known``: share of frames whose
    motion is known."""

    pixels: float
    roll: float
    hz: float | None
    widest: float
    known: float
    version: int = VERSION


def slow(values: Array, rate: float, hz: float = SLOW) -> Array:
    """What of a path (frames, …) is slower than ``hz``: the smoothest curve near it, which halves what moves at ``hz`` (Whittaker
    1923, Hodrick and Prescott 1997); it keeps a constant speed, and its ends are no worse than its middle."""
    from scipy.sparse import diags_array, eye_array
    from scipy.sparse.linalg import spsolve

    n = len(values)
    if n < 4:
        return np.broadcast_to(values.mean(axis=0), values.shape).copy()
    stiff = (2 * np.sin(np.pi * min(hz / rate, 0.5))) ** -4
    bend = diags_array([1.0, -2.0, 1.0], offsets=[0, 1, 2], shape=(n - 2, n))
    return np.asarray(spsolve((eye_array(n) + stiff * (bend.T @ bend)).tocsc(), values)).reshape(values.shape)


def trace(rows: Rows, rate: float) -> Array:
    """(frames, 3) what is too fast to be meant: pixels right and down, degrees clockwise."""
    lies = path(rows)[:, : ROLL + 1]
    return np.asarray(lies - slow(lies, rate))


def shake(rows: Rows, rate: float) -> Shake:
    """Of the rows of ``look.motion`` at ``rate`` frames a second."""
    off = trace(rows, rate)
    far = np.hypot(off[:, 0], off[:, 1])
    pixels = float(np.sqrt((far**2).mean()))
    return Shake(
        round(pixels, 2), round(float(np.sqrt((off[:, 2] ** 2).mean())), 3), _strongest(off[:, :2], rate) if pixels > 0.2 else None,
        round(float(far.max()), 1), round(float((rows[:, SURE] > 0).mean()), 3),
    )  # fmt: skip


def _strongest(off: Array, rate: float) -> float | None:
    """Hz at which most of it moves, if one frequency stands out: at least a quarter of all within half an octave of it."""
    n = len(off)
    if n < 2 * rate / SLOW / 2:
        return None
    power = (np.abs(np.fft.rfft(off * np.hanning(n)[:, None], 8 * n, axis=0)) ** 2).sum(axis=1)
    hz = np.fft.rfftfreq(8 * n, 1 / rate)
    power[hz < 1.1 * SLOW] = 0.0  # at the cut itself, only what the cut has left of something slower
    top = float(hz[int(power.argmax())])
    near = power[(hz > top / 2**0.25) & (hz < top * 2**0.25)].sum()
    return round(top, 2) if near > 0.25 * power.sum() else None


def words(found: Shake) -> str:
    """moves 3.1 px · 1.8 Hz · roll 0.21°"""
    if found.known < 0.5:
        return "motion not known"
    if found.pixels < 0.2 and found.roll < 0.01:
        return "stands still"
    gait = f" at {found.hz:.1f} Hz" if found.hz else ""
    return f"shakes {found.pixels:.1f} px{gait}" + (f", roll {found.roll:.2f}°" if found.roll >= 0.005 else "")
