"""How deep a pair of eyes may be where it is looked at: parallax as millimetres and degrees, and what two schools of practice allow.

Parallax is how far right the right eye's picture of a thing lies from the left eye's, in per cent of the width: less than 0 before the
screen, more behind it. Neither school is a standard: one counts per cent of the screen's width, the other the angle at the eyes, as
what strains is that eyes converge elsewhere than they focus. Eyes that must turn outwards hurt under both. None of this is medical advice:
people differ, and who feels ill looks away.
"""

from __future__ import annotations

from functools import lru_cache

import msgspec
import numpy as np

EYES, CHILDREN = 0.065, 0.050  # metres between the eyes, of grown people and of children
PERCENT = (-3.0, 2.0)  # of the width, before and behind the screen
DEGREES = 1.0  # by which the angle to a thing may differ from that to the screen


class Screen(msgspec.Struct, frozen=True):
    """``width`` and ``distance`` in metres; a headset's picture is far away, and as wide as it looks."""

    title: str
    width: float
    distance: float
    degrees: float | None = None

    @staticmethod
    def headset(across: float) -> Screen:
        """A picture ``across`` degrees wide, seen as if it were 2 m away, as headsets focus."""
        return Screen("headset", 2 * 2.0 * float(np.tan(np.radians(across) / 2)), 2.0, across)


SCREENS = {
    "desk": Screen("screen on a desk", 0.6, 0.7), "room": Screen("screen in a room", 1.4, 2.5), "hall": Screen("screen in a hall", 10.0, 12.0),
    "headset": Screen.headset(90.0),
}  # fmt: skip


def millimetres(percent: float, screen: Screen) -> float:
    return percent / 100 * screen.width * 1000


def degrees(percent: float, screen: Screen, eyes: float = EYES) -> float:
    """By how much less the eyes turn inwards than to look at the screen: negative before it.

    >>> round(degrees(0.0, SCREENS["room"]), 3), round(degrees(100 * 0.065 / 1.4, SCREENS["room"]), 2)  # straight ahead
    (0.0, 1.49)
    """
    apart = percent / 100 * screen.width
    return float(np.degrees(2 * np.arctan(eyes / 2 / screen.distance) - 2 * np.arctan((eyes - apart) / 2 / screen.distance)))


class Verdict(msgspec.Struct, frozen=True):
    """What may be: ``near`` and ``far`` in per cent of the width, each the stricter of both schools and of what eyes can do;
    ``faults``: clauses, none if the depth stays within."""

    near: float
    far: float
    faults: tuple[str, ...]


@lru_cache(maxsize=16)
def limits(screen: Screen, children: bool = False) -> tuple[float, float]:
    """(near, far), per cent of the width."""
    eyes = CHILDREN if children else EYES
    turned = np.linspace(-20, 20, 4001)
    angles = np.array([degrees(v, screen, eyes) for v in turned])
    within = turned[np.abs(angles) <= DEGREES]
    outwards = 100 * eyes / screen.width
    return max(PERCENT[0], float(within[0])), min(PERCENT[1], float(within[-1]), outwards)


def judged(near: float, far: float, screen: Screen, children: bool = False) -> Verdict:
    """Of a depth that reaches from ``near`` to ``far``, per cent of the width."""
    low, high = limits(screen, children)
    faults = []
    if near < low:
        faults.append(f"the nearest lies {-near:.1f} % before the {screen.title}, where {-low:.1f} % can be looked at with ease")
    if far > high:
        eyes = CHILDREN if children else EYES
        out = millimetres(far, screen) - eyes * 1000
        why = f"eyes would have to turn outwards by {out:.0f} mm" if out > 0 else f"{high:.1f} % can be looked at with ease"
        faults.append(f"the farthest lies {far:.1f} % behind it: {why}")
    return Verdict(round(low, 2), round(high, 2), tuple(faults))
