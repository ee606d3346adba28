"""Which frames of a shot are played, where it goes fast and its way is to be even."""

from __future__ import annotations

from fractions import Fraction

import numpy as np

from ..errors import AdzerError
from ..look import motion, turns
from ..look.chosen import LEAST, chosen, jolts, packed
from ..look.passes import Rows
from ..media.probe import FileFacts
from ..read.seen import Seen
from ..read.step import turn_of
from ..route import Route, walk
from ..space.sphere import Array, angles
from ..steady import standing
from .steadying import lens, upright_path


def evenly(rows: Rows, facts: FileFacts, route: Route, seen: Seen | None = None) -> tuple[dict[str, object], tuple[float, float]]:
    """Shape's answers with frames chosen so that the picture goes an even way, as its speed asks; and how uneven that is as of frames at even
    times, and of these, in recorded pixels or degrees. AdzerError if there is nothing to choose from, or nothing known of its way."""
    rate = walk(route, facts, seen)["shape"].before.rate
    each = (facts.rate or Fraction(25)) * route.shape.speed / (rate or Fraction(25))
    if each < LEAST:
        raise AdzerError(f"{facts.name}: {float(each):.3g} recorded frames pass for a delivered one, of which none can be chosen. Play it faster.")
    flat = lens(facts, route, seen) is None
    if (rows[:, motion.SURE if flat else turns.SURE] > 0).mean() < 0.5:
        raise AdzerError(f"{facts.name}: on most of its frames nothing can be followed, so that no way can be made even.")
    places = _places(rows, facts, route, flat)
    picked = chosen(places, float(each))
    plain = np.clip(np.rint(np.arange(len(picked)) * float(each)).astype(np.int64), 0, facts.frames - 1)
    return {"chosen": packed(picked, each)}, (jolts(places, plain), jolts(places, picked))


def _places(rows: Rows, facts: FileFacts, route: Route, flat: bool) -> Array:
    """(frames, 3) where the picture lies: pixels right, down, and at its edge round; of a sphere heading, tilt and roll in degrees."""
    if flat:
        path = upright_path(rows, turn_of(facts, route.read))
        return np.column_stack([path[:, :2], np.radians(path[:, 2]) * facts.raster[0] / 2])
    heading, tilt, roll = angles(standing.stands(rows))
    return np.column_stack([np.unwrap(heading, period=360), tilt, roll])
