"""What the person decides about shape: squeeze, school, delivered shape, how it is held, where the crop sits."""

from __future__ import annotations

from fractions import Fraction
from typing import Annotated, Literal

import msgspec
from msgspec import Meta

from .measure import Ellipse
from .path import ViewPath

Share = Annotated[float, Meta(ge=0.0, le=1.0)]
Factor = Annotated[float, Meta(ge=0.0, le=16.0)]
Nudge = Annotated[float, Meta(ge=-2.0, le=2.0)]
Lean = Annotated[float, Meta(ge=-180.0, le=180.0)]


class Nudged(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One delivered shape, moved by shares of its own width and height: right and down."""

    shape: Fraction
    x: Nudge = 0.0
    y: Nudge = 0.0


class ShapeSettings(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What is asked of the picture's geometry, whatever shape a delivery has.

    squeeze    1/4–4, 1 is none; ``lens``: the card that it was taken from
    marks      of round things, as they were found; ``measured``: the squeeze that makes them round, and its error
    shape      width over height of deliveries that have none of their own; None: the whole picture
    hold       None: as the card asks
    position   0–1, where the crop of ``shape`` lies along what is left over
    centre     0–1 of the recorded picture, what matters: crops of other shapes lie about it; None: the middle of ``shape``'s
    nudges     of single shapes, the others left as they are
    view       of a sphere or round lens, None: as it is recorded
    level      tilt and roll of the recording's own up, degrees, so that its horizon is level
    eye        that the view is taken of
    across     degrees that a round lens sees (None: 180); ``bend``: its polynomial (``sphere.Lens``)
    """

    version: int = 1
    squeeze: Fraction = Fraction(1)
    lens: str | None = None
    marks: Annotated[tuple[Ellipse, ...], Meta(max_length=12)] = ()
    measured: tuple[Factor, Factor] | None = None
    school: Literal["shrink", "stretch"] = "shrink"
    shape: Fraction | None = None
    hold: Literal["native", "frame"] | None = None
    position: tuple[Share, Share] = (0.5, 0.5)
    centre: tuple[Share, Share] | None = None
    nudges: Annotated[tuple[Nudged, ...], Meta(max_length=40)] = ()
    view: ViewPath | None = None
    level: tuple[Lean, Lean] = (0.0, 0.0)
    eye: Literal["left", "right"] = "left"
    across: Annotated[float, Meta(ge=60.0, le=280.0)] | None = None
    bend: Annotated[tuple[Annotated[float, Meta(ge=-1, le=1)], ...], Meta(max_length=4)] = ()

    def nudge(self, shape: Fraction | None) -> tuple[float, float]:
        """How far a shape is moved, in shares of its own width and height."""
        return next(((n.x, n.y) for n in self.nudges if n.shape == shape), (0.0, 0.0))

    def nudged(self, shape: Fraction, x: float, y: float) -> tuple[Nudged, ...]:
        """The nudges with one shape's set; none is kept that does nothing."""
        rest = tuple(n for n in self.nudges if n.shape != shape)
        return (*rest, Nudged(shape, round(x, 4), round(y, 4))) if x or y else rest
