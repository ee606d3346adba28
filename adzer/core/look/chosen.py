"""Frames chosen of a recording that is played fast, so that the picture goes an even way: of those near each moment the one that lies where the ones
before it were going (after Joshi et al. 2015).

What a camera does on its way (a walker's gait) comes round several times between two delivered frames; frames at even times meet it anywhere, chosen
ones at about the same part of it.
"""

from __future__ import annotations

import base64
import zlib
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
LEAST = 3  # frames that have to pass for a delivered one, so that there is something to choose from
REGULAR, ON_TIME = 0.3, 0.02  # what an uneven step costs, and being early or late, against a jolt as large as the shake is


def chosen(places: Array, each: float) -> NDArray[np.int64]:
    """Rising frames of a way (frames, n), about ``each`` of which pass for a delivered one: one for each moment, none farther from it than half of
    that, no two nearer than half of that or farther than half as much again. ``places``: where the picture lies, in any unit."""
    n, step = len(places), float(each)
    count = max(1, int((n - 1) / step) + 1)
    reach = int(step / 2)
    ticks = np.rint(np.arange(count) * step).astype(np.int64)
    if step < LEAST or count < 3:
        return np.clip(ticks, 0, n - 1)
    shake = max(float(np.sqrt(((places - _smooth(places, round(step))) ** 2).sum(axis=1).mean())), 1e-9)
    offsets = np.arange(-reach, reach + 1)
    # State: where the last two chosen ones lie about their moments.
    cost = np.full((len(offsets),) * 2, np.inf)
    at = [np.clip(t + offsets, 0, n - 1) for t in ticks]
    valid = [(t + offsets >= 0) & (t + offsets < n) for t in ticks]
    late = ON_TIME * (offsets / step) ** 2
    cost = np.where(valid[0][:, None] & valid[1][None, :], late[:, None] + late[None, :], np.inf) + _steps(at[0], at[1], step)
    back: list[NDArray[np.int64]] = []
    for m in range(2, count):
        went = places[at[m - 1]][None, :] - places[at[m - 2]][:, None]  # (before, last)
        goes = places[at[m]][None, :] - places[at[m - 1]][:, None]  # (last, next)
        jolt = ((goes[None] - went[:, :, None]) ** 2).sum(axis=-1) / shake**2
        whole = cost[:, :, None] + jolt
        back.append(whole.argmin(axis=0))
        cost = whole.min(axis=0) + _steps(at[m - 1], at[m], step) + np.where(valid[m], late, np.inf)[None]
    last, now = np.unravel_index(int(cost.argmin()), cost.shape)
    picked = [int(now), int(last)]
    for each_ in reversed(back):
        picked.append(int(each_[picked[-1], picked[-2]]))
    return np.array([int(a[k]) for a, k in zip(at, reversed(picked), strict=True)])


def _steps(before: NDArray[np.int64], after: NDArray[np.int64], step: float) -> Array:
    """(before, after) what each step costs; one that is not half as long as it should be, or half as long again, cannot be: what moves by itself
    would be seen to stumble."""
    long = after[None, :] - before[:, None]
    return np.where(np.abs(long - step) <= step / 2, REGULAR * ((long - step) / step) ** 2, np.inf)


def _smooth(values: Array, wide: int) -> Array:
    """Means over so many frames."""
    padded = np.pad(values, ((wide // 2, wide - 1 - wide // 2), (0, 0)), mode="edge")
    return np.stack([np.convolve(padded[:, c], np.full(wide, 1 / wide), "valid") for c in range(values.shape[1])], axis=1)


def jolts(places: Array, frames: NDArray[np.int64]) -> float:
    """How uneven a way is: rms of what each step adds to the one before it."""
    return float(np.sqrt((np.diff(places[frames], 2, axis=0) ** 2).sum(axis=1).mean())) if len(frames) > 2 else 0.0


def packed(frames: NDArray[np.int64], each: Fraction) -> str:
    """As an answer holds them, with how many pass for each."""
    body = np.concatenate([[each.numerator, each.denominator], frames]).astype("<u4")
    return base64.b64encode(zlib.compress(body.tobytes(), 6)).decode()


def unpacked(text: str, each: Fraction, frames: int) -> tuple[int, ...] | None:
    """None if they were chosen for another speed, or of another recording, or are not whole."""
    try:
        body = np.frombuffer(zlib.decompress(base64.b64decode(text, validate=True)), "<u4").astype(np.int64)
    except (ValueError, zlib.error):
        return None
    if len(body) < 3 or body[1] == 0 or Fraction(int(body[0]), int(body[1])) != each or (np.diff(body[2:]) <= 0).any() or body[-1] >= frames:
        return None
    return tuple(body[2:].tolist())
