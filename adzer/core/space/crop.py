"""A crop of a flat picture over time: where its middle lies and by how much it is enlarged, key by key.

Times are seconds of the recording from its first frame. Which raster it fills is another matter (``geometry``): the same
path serves every delivered shape.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Annotated, Literal

import msgspec
import numpy as np
from msgspec import Meta
from numpy.typing import NDArray

from .path import STROBES, Move, Sides, fewest, load_keyed, mistimed, ways

if TYPE_CHECKING:
    from scipy.interpolate import PchipInterpolator

Array = NDArray[np.float64]
CLOSEST = 8.0


class CropKey(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """At ``t`` seconds: the middle of the crop, 0–1 of the recorded picture, ``enlarged`` 1–8 times over just filling the
    shape, and how it goes on from here, as of a view's key."""

    t: float = 0.0
    x: Annotated[float, Meta(ge=0.0, le=1.0)] = 0.5
    y: Annotated[float, Meta(ge=0.0, le=1.0)] = 0.5
    enlarged: Annotated[float, Meta(ge=1.0, le=CLOSEST)] = 1.0
    ease: Literal["hold", "linear", "ease", "through"] | Sides = "ease"


class CropPath(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    keys: tuple[CropKey, ...] = (CropKey(),)

    @property
    def still(self) -> bool:
        first = self.keys[0]
        return all((k.x, k.y, k.enlarged) == (first.x, first.y, first.enlarged) for k in self.keys)


def trouble(path: CropPath, seconds: float | None = None) -> str | None:
    """What makes a path unusable, as a sentence; None if nothing does. ``seconds``: the shot's length."""
    if not path.keys:
        return "The crop has no keyframe. Set at least one."
    last = -math.inf
    for n, key in enumerate(path.keys, 1):
        if not all(math.isfinite(v) for v in (key.t, key.x, key.y, key.enlarged)):
            return f"Keyframe {n} of the crop holds something that is not a number. Type it again."
        if late := mistimed(n, key.t, last, seconds):
            return late
        last = key.t
    return None


def load(text: str | bytes, what: str) -> CropPath:
    """A crop's path from JSON as in docs/keyframes.md; an AdzerError names ``what``."""
    return load_keyed(text, what, CropPath, trouble)


def crops_at(path: CropPath, times: NDArray[np.float64] | Sequence[float]) -> Array:
    """(n, 3): x, y and enlargement at ``times``; before the first and after the last key it holds."""
    times = np.atleast_1d(np.asarray(times, dtype=np.float64))
    held = np.array([(k.x, k.y, math.log(k.enlarged)) for k in path.keys])  # a zoom of even speed looks even so
    out = held[np.clip(np.searchsorted([k.t for k in path.keys], times, side="right") - 1, 0, len(held) - 1)]
    for n, mine, share in ways(path.keys, times):
        if isinstance(share, tuple):
            out[mine] = _curve(path, *share)(times[mine])
        else:
            out[mine] = held[n] + share[:, None] * (held[n + 1] - held[n])
    out[:, 2] = np.exp(out[:, 2])
    return out


def _curve(path: CropPath, lo: int, hi: int) -> PchipInterpolator:
    """One curve without overshoot through keys lo … hi."""
    from scipy.interpolate import PchipInterpolator

    keys = path.keys[lo : hi + 1]
    return PchipInterpolator([k.t for k in keys], [(k.x, k.y, math.log(k.enlarged)) for k in keys])


def key_at(path: CropPath, t: float) -> CropKey:
    """A key that says where the crop is at ``t`` anyway; it goes on as the key before it does."""
    x, y, enlarged = (round(float(v), 5) for v in crops_at(path, [t])[0])
    before = [k for k in path.keys if k.t <= t]
    return CropKey(
        t, min(max(x, 0.0), 1.0), min(max(y, 0.0), 1.0), max(enlarged, 1.0), before[-1].ease if before else "ease"
    )


def inside(centre: float, part: float, whole: float, keep: tuple[float, float] | None = None) -> float:
    """Where a crop ``part`` long begins on a line of ``whole``: about ``centre`` as nearly as it fits; with what must stay in
    (its two ends), if that fits into the crop, else with its middle.

    >>> inside(0.1, 0.5, 1.0)  # half as wide as the whole, it can lie no further left
    0.0
    """
    at = centre - part / 2
    if keep is not None:
        low, high = keep[1] - part, keep[0]
        at = min(max(at, low), high) if low <= high else (keep[0] + keep[1] - part) / 2
    return min(max(at, 0.0), max(whole - part, 0.0))


def few_keys(times: Array, middles: Array, enlarged: float, candidates: Sequence[int], tolerance: float) -> CropPath:
    """As few keys, taken from ``candidates``, as keep the crop's middle within ``tolerance`` (0–1 of the picture) of
    ``middles`` (n, 2) at ``times``, joined by one smooth curve."""
    keys = [
        CropKey(
            round(float(times[n]), 4),
            round(float(middles[n, 0]), 5),
            round(float(middles[n, 1]), 5),
            enlarged,
            "through",
        )
        for n in candidates
    ]

    def path(chosen: list[int]) -> CropPath:
        last = msgspec.structs.replace(keys[chosen[-1]], ease="ease")
        return CropPath((*(keys[n] for n in chosen[:-1]), last))

    def off(chosen: list[int]) -> Array:
        return np.asarray(np.abs(crops_at(path(chosen), times)[:, :2] - middles).max(axis=1))

    return path(fewest(times[list(candidates)], times, off, tolerance))


def check_moves(
    path: CropPath, shares: tuple[float, float], seconds: float, rate: float, speed: float = 1.0
) -> list[Move]:
    """Every move that will strobe. ``shares``: of the recorded width and height that the crop takes while not enlarged;
    ``speed``: at which it is played."""
    found = []
    for n, (key, after) in enumerate(zip(path.keys, path.keys[1:], strict=False)):
        if key.ease == "hold":
            continue
        span = after.t - key.t
        times = np.linspace(key.t, after.t, max(9, min(200, round(span * rate) + 1)))
        at = crops_at(path, times)
        moved = np.abs(np.diff(at[:, :2], axis=0)) / np.array(shares) * at[1:, 2:]
        swelled = np.abs(np.diff(np.log(at[:, 2]))) / 2  # what the edges of the picture do
        top = float((moved.max(axis=1) + swelled).max()) / (times[1] - times[0]) * speed
        least = STROBES * 25 / max(rate, 1.0)
        if top * least > 1:
            needs = span * top * least
            text = (
                f"The crop's move from key {n + 1} to {n + 2}: a thing crosses the picture in {1 / top:.1f} s and will be seen "
                f"to jump; {least:.0f} s is calm."
            )
            found.append(Move(n, text, needs, path.keys[-1].t + needs - span <= seconds + 1e-6))
    return found
