"""What is said of the way on which two lenses meet, moment by moment; ``along`` measures it."""

from __future__ import annotations

from typing import Annotated

import msgspec
from msgspec import Meta

Row = Annotated[tuple[Annotated[float, Meta(ge=-20.0, le=20.0)], ...], Meta(max_length=720)]


class Met(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How two lenses meet at ``t`` seconds of the shot, at even angles round the first's axis, from straight up on to the right.

    seam    degrees by which they do nearer to the first than halfway
    tones   how many times as red, green and blue the first still recorded what both see there, as logarithms
    apart   degrees that what stands there lies apart in the two; empty: nobody has measured it
    """

    t: float
    seam: Row = ()
    tones: tuple[Row, Row, Row] = ((), (), ())
    apart: Row = ()


class Along(msgspec.Struct, frozen=True):
    """``differs``: of the signal that meets: on the way, brought together, and halfway, as it is. ``bent``: share of the sphere that is
    bent by a tenth of a degree or more to bring it together. ``tears``: of moments, degrees that things on the way lie apart (95 %), and those
    that are left once they are brought together."""

    met: tuple[Met, ...]
    differs: tuple[float, float]
    bent: float
    tears: tuple[tuple[float, float, float], ...]

    @property
    def saw(self) -> str:
        if not self.met:
            return "The two lenses hardly overlap: they meet halfway."
        moves = f"is followed at {len(self.met)} moments" if len(self.met) > 1 else "stands still"
        return f"On the way where they meet the two differ by {self.differs[0]:.1%}, halfway by {self.differs[1]:.1%}; it {moves}."
