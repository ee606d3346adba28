"""Where a view of two lenses crosses the way on which they meet, and by how much things tear there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..plan import Panel
from ..space.looks import ViewLook
from ..space.meeting import Below, Meeting, turned_round
from ..space.sphere import Array, Round, rotation
from .view import Viewed

TURNS = (10.0, 20.0, 30.0, 45.0, 60.0, 90.0)  # degrees by which a view is tried to be turned clear
TIMES, PLACES = 5, (17, 11)


@dataclass(frozen=True)
class Crossing:
    """``time``: seconds at which most of the view lies where two lenses meet; ``tear``: delivered pixels by which the nearest thing measured
    there tears, None: nothing was; ``clear``: degrees of heading by which it would be clear, None: by none of ``TURNS``."""

    time: float
    tear: float | None
    clear: float | None


def crossing(viewed: Viewed, seconds: float, near: Sequence[tuple[float, float]]) -> Crossing | None:
    """``near`` as of ``plan.Rig``. Looked at a few moments and places of the view; None if one lens alone is seen at each."""
    patches = viewed.drawn.patches
    if len(patches) < 2 or not isinstance(meeting := patches[0].share, Meeting):
        return None
    times = [0.0] if viewed.look.still else np.linspace(0.0, seconds, TIMES).tolist()
    seen = [_seen(viewed.look, t) for t in times]
    met = [_met(d, meeting, t) for d, t in zip(seen, times, strict=True)]
    n = int(np.argmax([len(m) for m in met]))
    if not len(met[n]):
        return None
    away = patches[0].away
    closed = float(np.degrees(2 * away.apart)) if away is not None else 0.0
    around = turned_round(met[n], np.array(meeting.axis)) * 360
    bent = away is not None and away.more is not None  # then all that stands there is brought together
    here = [apart for turned, apart in near if not bent and np.abs((around - turned + 180) % 360 - 180).min() < 6]
    lens = viewed.lens
    assert isinstance(lens, Round)
    fov = float(np.radians(min(k.fov for k in viewed.look.path.keys)))
    tear = max((abs(a - closed) for a in here), default=None)
    pixels = None if tear is None else float(np.radians(tear) * viewed.look.size[0] / fov)
    return Crossing(float(times[n]), pixels, _clear(seen, times, meeting))


def way(panel: Panel, time: float, columns: int = 96) -> Array:
    """(n, 2, 2) both ends (x, y) of short lines, in shares of the panel's width and height, along which two lenses pass into each other
    there; none if one lens alone is seen. Where the sign of ``Meeting.off`` changes between the corners of ``columns`` by as many cells."""
    share = panel.patches[0].share
    meeting = share.of if isinstance(share, Below) else share
    if not isinstance(meeting, Meeting):
        return np.zeros((0, 2, 2))
    rows = max(round(columns * panel.size[1] / panel.size[0]), 2)
    x, y = np.meshgrid(np.linspace(0, 1, columns + 1), np.linspace(0, 1, rows + 1))
    off = meeting.off(panel.look.directions(x * panel.size[0], y * panel.size[1], time), time)
    ends = []
    for (r0, c0), (r1, c1) in (((0, 0), (0, 1)), ((0, 1), (1, 1)), ((1, 1), (1, 0)), ((1, 0), (0, 0))):  # a cell's four edges
        a, b = off[r0 : rows + r0, c0 : columns + c0], off[r1 : rows + r1, c1 : columns + c1]
        passes = (a < 0) != (b < 0)
        along = np.where(passes, a / np.where(passes, a - b, 1.0), np.nan)
        ends.append(np.stack([x[:-1, :-1] + (c0 + (c1 - c0) * along) / columns, y[:-1, :-1] + (r0 + (r1 - r0) * along) / rows], axis=-1))
    met = np.stack(ends, axis=2).reshape(-1, 4, 2)
    crossed = ~np.isnan(met[:, :, 0])
    simple = crossed.sum(axis=1) == 2
    return np.asarray(met[simple][crossed[simple]].reshape(-1, 2, 2))


def _seen(look: ViewLook, time: float) -> Array:
    """(places, 3) directions all over the view."""
    w, h = look.size
    x, y = np.linspace(0, w, PLACES[0])[None], np.linspace(0, h, PLACES[1])[:, None]
    return look.directions(x, y, time).reshape(-1, 3)


def _met(d: Array, meeting: Meeting, time: float) -> Array:
    """(n, 3) of those directions in which both lenses count."""
    share = meeting.at(d, time)
    # Between the places of a coarse grid the way may pass unseen: where its side changes along a row, it did.
    both = (share > 0) & (share < 1)
    sides = (share.reshape(PLACES[1], PLACES[0]) > 0.5).astype(np.int8)
    passes = np.zeros((PLACES[1], PLACES[0]), bool)
    passes[:, 1:] |= np.diff(sides, axis=1) != 0
    passes[1:] |= np.diff(sides, axis=0) != 0
    return np.asarray(d[both | passes.ravel()])


def _clear(seen: Sequence[Array], times: Sequence[float], meeting: Meeting) -> float | None:
    for turn in TURNS:
        for heading in (turn, -turn):
            if all(not len(_met(d @ rotation(heading, 0.0).T, meeting, t)) for d, t in zip(seen, times, strict=True)):
                return heading
    return None


