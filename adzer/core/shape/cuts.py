"""The cut from one take of a recording to the next: is it seen as a cut, or does the picture seem to jump?

Both are seen from the same place. What is shown nearly as large, and mostly again, seems to jump; what is shown larger or
smaller by ``SMALLEST_CUT``, or looks elsewhere, is taken for another shot.
"""

from __future__ import annotations

import msgspec
import numpy as np

from ..records import to_plain
from ..space import crop, path
from ..space.sphere import PROJECTIONS, between, view_directions
from .settings import ShapeSettings

SMALLEST_CUT = 1.2
ELSEWHERE = 0.5  # of the narrower view's width: two that look further apart share less than half


def _magnified(view: path.ViewPath, fov: float) -> float:
    """How large things are in the middle of a view."""
    ends = view_directions(view.projection, fov, view.amount, np.array([0.0, 1e-3]), np.zeros(2))
    return 1e-3 / float(between(ends[0], ends[1]))


def _width(view: path.ViewPath, size: float) -> float:
    """The field of view that shows things so large, as near to it as there may be."""
    low, high = _widths(view)
    for _ in range(40):
        middle = (low + high) / 2
        low, high = (middle, high) if _magnified(view, middle) > size else (low, middle)
    return round((low + high) / 2, 2)


def _widths(view: path.ViewPath) -> tuple[float, float]:
    return path.NARROWEST, PROJECTIONS[view.projection].widest(view.amount)


def size(settings: ShapeSettings, time: float) -> float:
    """How large things are at ``time`` seconds of the recording, in units of their own for crops and for views."""
    if settings.view is not None:
        return _magnified(settings.view, float(path.views_at(settings.view, [time])[1][0]))
    return float(crop.crops_at(settings.moves, [time])[0, 2]) if settings.moves else settings.enlarged


def _sizes(settings: ShapeSettings) -> tuple[float, float]:
    """The smallest and the largest that there may be."""
    if settings.view is None:
        return 1.0, crop.CLOSEST
    narrow, wide = _widths(settings.view)
    return _magnified(settings.view, wide), _magnified(settings.view, narrow)


def step(before: ShapeSettings, now: ShapeSettings, time: float) -> float | None:
    """The factor by which ``now`` has to be enlarged for the cut to it at ``time`` to be seen as one; None if it is already.

    It goes in if the two are alike, else on in the way that they differ already, unless there is no more room that way.
    """
    if (before.view is None) != (now.view is None):
        return None
    if before.view is not None and now.view is not None:
        turns, fovs = zip(*(path.views_at(v, [time]) for v in (before.view, now.view)), strict=True)
        if float(between(turns[0][0, :, 1], turns[1][0, :, 1])) >= ELSEWHERE * float(min(f[0] for f in fovs)):
            return None
    first, second = size(before, time), size(now, time)
    enough = SMALLEST_CUT * 0.999  # what is rounded for people is not asked for again
    if not 1 / enough < second / first < enough:
        return None
    low, high = _sizes(now)
    ways = [first * SMALLEST_CUT, first / SMALLEST_CUT]
    wanted = [v for v in (ways if second >= first else ways[::-1]) if low <= v <= high]
    return wanted[0] / second if wanted else None


def told(settings: ShapeSettings, factor: float, time: float) -> str:
    """How a take is then shown at ``time``, in the words that people answer in."""
    if settings.view is None:
        return f"{size(settings, time) * factor:.0%}"
    return f"{_width(settings.view, size(settings, time) * factor):.0f}° across"


def enlarged(settings: ShapeSettings, factor: float) -> dict[str, object]:
    """The answers that show everything in a take ``factor`` times as large, as far as there is room."""
    if settings.view is not None:
        view = settings.view
        keys = tuple(
            msgspec.structs.replace(k, fov=_width(view, _magnified(view, k.fov) * factor)) for k in view.keys
        )
        return {"view": to_plain(msgspec.structs.replace(view, keys=keys))}

    def larger(value: float) -> float:
        return round(min(max(value * factor, 1.0), crop.CLOSEST), 4)

    if settings.moves is None:
        return {"enlarged": larger(settings.enlarged)}
    moved = tuple(msgspec.structs.replace(k, enlarged=larger(k.enlarged)) for k in settings.moves.keys)
    return {"moves": to_plain(msgspec.structs.replace(settings.moves, keys=moved))}
