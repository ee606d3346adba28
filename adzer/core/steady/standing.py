"""How a sphere is to be turned so that it stands: level, headed where it is asked to, and without the camera's shake.

A camera's *stand* says how its axes lie in those of its first frame. ``lean`` is how that first frame leans: tilt and roll of the world's up
in it, so that ``rotation(0, *lean)`` brings level directions into its axes.
"""

from __future__ import annotations

import numpy as np

from ..look import turns
from ..look.motion import through
from ..look.passes import Rows
from ..look.turns import ALONG, PLUMB, UP
from ..space.level import lean_of
from ..space.looks import Turning
from ..space.sphere import Array, angles, rotation, turned_about, turned_by, turning
from .settings import Heading
from .slow import SLOW, slow
from .solve import BETWEEN

Lean = tuple[float, float]
NOISE, DRIFT = np.radians(0.1), np.radians(0.02)  # by which a single horizon is off, at least, and by which the sum errs more from one to the next
TOGETHER = 25  # frames that a camera goes one way


def calm(stands: Array, rate: float, hz: float) -> Array:
    """Orientations (n, 3, 3) without what is faster than ``hz``: quaternions, made slow and whole again."""
    from scipy.spatial.transform import Rotation

    q = Rotation.from_matrix(stands).as_quat()
    flips = np.cumprod(np.where((q[1:] * q[:-1]).sum(axis=1) < 0, -1.0, 1.0))
    q[1:] *= flips[:, None]
    made = slow(q, rate, hz)
    return np.asarray(Rotation.from_quat(made / np.linalg.norm(made, axis=1, keepdims=True)).as_matrix())


def held(stands: Array, along: Array, rate: float, method: str, heading: Heading, level: float, cut: float, lean: Lean, at: int = 0) -> Array:
    """(n, 3, 3) from directions as they are to stand to recorded ones. ``along``: where it travels, in the camera's own axes, 0 where it is
    not known; ``level``: 0 … 1, how much of a ride's leaning is taken away; ``cut``: Hz above which a turn is shake. ``lock``:
    what lies ``along`` keeps the heading that it has on frame ``at``."""
    upright = rotation(0.0, *lean)
    level_stands = upright.T @ stands
    if method == "lock":
        way = np.einsum("nij,nj->ni", level_stands, along)
        headed = np.unwrap(np.degrees(np.arctan2(way[:, 0], way[:, 1])), period=360)
        wanted = rotation(headed - headed[at], 0.0)
    elif method == "drift":
        wanted = calm(level_stands, rate, cut)
    else:
        leaning = _leaning(calm(level_stands, rate, cut))
        wanted = rotation(_headed(level_stands, along, rate, heading, cut), (1 - level) * leaning[0], (1 - level) * leaning[1])
    return np.asarray(np.swapaxes(stands, 1, 2) @ upright @ wanted)


def _leaning(stands: Array) -> tuple[Array, Array]:
    _, tilt, roll = angles(stands)
    return tilt, roll


def _headed(stands: Array, along: Array, rate: float, heading: Heading, cut: float) -> Array:
    """(n) degrees to which each moment is headed."""
    if heading == "world":
        return np.zeros(len(stands))
    own = np.unwrap(angles(stands)[0], period=360)
    if heading == "free":
        return np.asarray(own)
    if heading == "vehicle":
        return slow(own, rate, cut)
    way = np.einsum("nij,nj->ni", stands, along)
    flat = np.hypot(way[:, 0], way[:, 1])
    known = flat > 0.3
    if known.sum() < 2:
        return slow(own, rate, cut)
    at = np.arange(len(way))
    goes = np.unwrap(np.degrees(np.arctan2(way[known, 0], way[known, 1])), period=360)
    return slow(np.interp(at, at[known], goes), rate, min(cut, 0.5))


def travels(rows: Rows) -> float:
    """Share of frames on which something says where it travels, and others about them say the same: what stands, and is only thought to pass by,
    goes anywhere from frame to frame."""
    from scipy.ndimage import uniform_filter1d

    agreed = uniform_filter1d(rows[:, ALONG].astype(np.float64), min(TOGETHER, len(rows)), axis=0, mode="nearest")
    return float(np.linalg.norm(agreed, axis=1).mean())


def shaken(stands: Array, rate: float, hz: float) -> Array:
    """(n, 3) degrees about the camera's own right, forward and up by which it is off where a slow hand would hold it."""
    return between(calm(stands, rate, hz), stands)


def trace(stands: Array, rate: float, hz: float = SLOW) -> Array:
    """(n, 3) the same as what is seen: degrees right, down and to the side."""
    off = shaken(stands, rate, hz)
    return np.stack([-off[:, 2], -off[:, 0], off[:, 1]], axis=1)


def between(stands: Array, others: Array) -> Array:
    """(n, 3) degrees, about the right, forward and up of the first, by which the second are turned."""
    return np.degrees(np.stack([turned_about(o) for o in np.swapaxes(stands, 1, 2) @ others]))


def vectors(turns: Array) -> Array:
    """(n, 4) as answers hold them: axes, their lengths in degrees, and nothing."""
    return np.concatenate([np.degrees(np.stack([turned_about(t) for t in turns])), np.zeros((len(turns), 1))], axis=1)


def matrices(vectors: Array) -> Array:
    return turning(np.radians(vectors[:, :3]))


def by_rows(turns: Array, times: Array) -> Turning:
    """Rotations (n, 3, 3) at ``times`` (n,) as rows need them that are read out one after another: between frames, too, on a course as smooth as can
    be, and before the first and after the last as it turned there."""
    from scipy.spatial.transform import Rotation

    if len(turns) < 4:
        return Turning(times, turns, frames=times)
    steps = Rotation.from_matrix(turns[1:] @ np.swapaxes(turns[:-1], 1, 2)).as_rotvec()
    goes = np.concatenate([np.zeros((1, 3)), np.cumsum(steps, axis=0)])
    goes = np.concatenate([2 * goes[:1] - goes[1:2], goes, 2 * goes[-1:] - goes[-2:-1]])
    at = np.arange(BETWEEN * (len(goes) - 1) + 1)
    frame = np.clip(np.round(at / BETWEEN).astype(int), 1, len(turns))  # the nearest that was recorded
    between = turning(through(goes, at / BETWEEN) - goes[frame]) @ turns[frame - 1]
    moments = np.concatenate([2 * times[:1] - times[1:2], times, 2 * times[-1:] - times[-2:-1]])
    return Turning(np.interp(at / BETWEEN, np.arange(len(goes)), moments), between, frames=times)


def stands(rows: Rows) -> Array:
    """(n, 3, 3) how the camera stands against its first frame, as ``turns.stood`` sums it up; where a horizon or uprights show, what small
    errors add up to of tilt and roll is taken back by them."""
    from scipy.ndimage import median_filter

    made, at = turns.stood(rows), np.flatnonzero(rows[:, PLUMB] > 0)
    if len(at) < 3:
        return made
    ups = np.einsum("nij,nj->ni", made[at], rows[at, UP].astype(np.float64))
    lean = np.stack([turned_about(_onto(u, ups[0])) for u in ups])
    # What single frames show elsewhere than those just before and after is no horizon.
    near = np.linalg.norm(lean - median_filter(lean, (5, 1), mode="nearest"), axis=1) < np.radians(1.0)
    every = np.arange(at[0], at[-1] + 1, turns.FAR)
    bent = _drifts(np.stack([np.interp(every, at[near], lean[near, c]) for c in range(3)], axis=1))
    back = np.stack([np.interp(np.arange(len(made)), every, bent[:, c]) for c in range(3)], axis=1)
    return np.asarray(turning(-back[0]) @ turning(back) @ made)  # the first frame's own axes stay what all is reckoned in


def _drifts(seen: Array) -> Array:
    """What errors of the sum come to, of by how much (n, 3) single horizons differ from it. It grows evenly as far as that is more than chance and
    more than a sum usually errs, and else slowly: uprights that are painted on a wall point elsewhere from moment to moment."""
    at = np.arange(len(seen)) - (len(seen) - 1) / 2
    middle, grows = seen.mean(axis=0), at @ seen / (at @ at)
    rest = seen - middle - at[:, None] * grows
    chance = max(NOISE**2, float((rest**2).sum()) / (3 * max(len(seen) - 2, 1))) / (at @ at)
    surely = DRIFT**2 / (DRIFT**2 + chance)
    return np.asarray(middle + at[:, None] * grows * surely + slow(rest, 1.0, 0.04, (NOISE / DRIFT) ** 2))


def _onto(one: Array, other: Array) -> Array:
    """The shortest rotation that brings one direction onto another."""
    axis = np.cross(one, other)
    size = float(np.linalg.norm(axis))
    return turning(axis / max(size, 1e-12) * np.arctan2(size, float(one @ other)))


def leans(rows: Rows, stands: Array) -> tuple[float, float, float] | None:
    """Tilt and roll by which the first frame leans, as the footage shows, and degrees by which those may be off; None if it does not say.
    What single frames say is put together by how sure each is; those far from the most are left out."""
    known = rows[:, PLUMB] > 0
    if not known.any():
        return None
    ups, weight = np.einsum("nij,nj->ni", stands[known], rows[known, UP].astype(np.float64)), rows[known, PLUMB].astype(np.float64)
    ups /= np.linalg.norm(ups, axis=1, keepdims=True)
    near = np.arccos(np.clip(ups @ ups.T, -1, 1)) < np.radians(2.0)
    most = near[int((near * weight).sum(axis=1).argmax())]
    if weight[most].sum() < 0.5 * weight.sum():
        return None
    up = (ups[most] * weight[most, None]).sum(axis=0)
    up /= np.linalg.norm(up)
    off = float(np.degrees(np.sqrt((np.arccos(np.clip(ups[most] @ up, -1, 1)) ** 2).mean())))
    tilt, roll = lean_of(up)
    return round(tilt, 3), round(roll, 3), round(max(off, 0.1), 2)


def fastest(turns: Array, rate: float) -> float:
    """Degrees a second, the most that a viewer is turned."""
    return float(turned_by(turns[:-1], turns[1:]).max(initial=0.0) * rate)
