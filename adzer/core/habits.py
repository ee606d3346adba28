"""What each camera of a job usually does: the kind of curve that it records, and the curve that was declared for it.

Window and command line ask this alike, so that a finding says the same in both.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

SEVERAL, MOST = 3, 0.6  # shots, and the share of a camera's, that make a kind usual


def usual(looks: Iterable[tuple[str, str | None]]) -> dict[str, str]:
    """The kind of curve of most shots of each camera. ``looks``: camera, and the kind that a shot surely looks like."""
    kinds: dict[str, str] = {}
    for camera, held in _counted(looks).items():
        kind, count = held.most_common(1)[0]
        if count >= SEVERAL and count >= MOST * held.total():
            kinds[camera] = kind
    return kinds


def given(curves: Iterable[tuple[str, str | None]]) -> dict[str, str]:
    """The curve that was declared most often for each camera. ``curves``: camera, and the curve declared for a shot."""
    return {camera: held.most_common(1)[0][0] for camera, held in _counted(curves).items()}


def changed(before: dict[str, str], after: dict[str, str]) -> set[str]:
    """Cameras of which something else is said now."""
    return {c for c in {*before, *after} if before.get(c) != after.get(c)}


def _counted(pairs: Iterable[tuple[str, str | None]]) -> dict[str, Counter[str]]:
    told: dict[str, Counter[str]] = {}
    for camera, what in pairs:
        if camera and what:
            told.setdefault(camera, Counter())[what] += 1
    return told
