"""What the person decides about shape: squeeze, school, delivered shape, how it is held, where the crop sits."""

from __future__ import annotations

from fractions import Fraction
from typing import Annotated, Literal

import msgspec
from msgspec import Meta

from ..space.crop import CropPath
from ..space.path import ViewPath
from ..stage import Settings
from .measure import Ellipse, Lengths

Share = Annotated[float, Meta(ge=0.0, le=1.0)]
Factor = Annotated[float, Meta(ge=0.0, le=16.0)]
Nudge = Annotated[float, Meta(ge=-2.0, le=2.0)]
Lean = Annotated[float, Meta(ge=-180.0, le=180.0)]
Bend = Annotated[float, Meta(ge=-1.0, le=1.0)]


class Nudged(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One delivered shape, moved by shares of its own width and height: right and down."""

    shape: Fraction
    x: Nudge = 0.0
    y: Nudge = 0.0


class ShapeSettings(Settings, frozen=True, forbid_unknown_fields=True):
    """What is asked of the picture's geometry, whatever shape a delivery has.

    squeeze    1/4–4, 1 is none; ``lens``: the card that it was taken from, at ``focus`` metres
    bent       by which that lens bends straight lines (``sphere.Flat``)
    marks      of round things, as they were found, and of known ``lengths``; ``measured``: the squeeze that makes them right,
               and its error
    shape      width over height of deliveries that have none of their own; None: the whole picture
    hold       None: as the card asks; ``around``: width over height of the frame that "frame" puts around it, None: 16:9
    position   0–1, where the crop of ``shape`` lies along what is left over
    centre     0–1 of the recorded picture, what matters: crops of other shapes lie about it; None: the middle of ``shape``'s
    keep       left, top, right and bottom, 0–1 of the recorded picture, of what must stay in whatever shape is delivered
    enlarged   1–8 times over just filling the shape
    moves      the crop's place and size over time, instead of ``position``, ``centre`` and ``enlarged``
    nudges     of single shapes, the others left as they are
    fits       shapes of deliveries into which all that is framed is fitted, with black around, instead of filling them
    view       of a sphere or round lens, None: as it is recorded
    level      tilt and roll of the recording's own up, degrees, so that its horizon is level
    eye        that the view is taken of
    inside     a view that reaches beyond what the lens recorded is stopped, not only warned of
    speed      1/16–16 times as fast as recorded, view and footage alike
    shutter    where several recorded frames pass for each delivered one: degrees of a delivered frame over which their light is averaged;
               0: one of them is shown, the others never
    chosen     frames that were chosen for an even way where it is played fast (``look.chosen.packed``); empty: those at even times
    between    where one recorded frame is to stand for several: are others made between them, or is it shown again?
    across     degrees that a round lens sees (None: 180); ``bend``: its polynomial (``sphere.Lens``)
    """

    OWN = frozenset({"marks", "lengths", "measured", "keep", "moves", "chosen"})
    FROM = {1: lambda plain: plain}
    version: int = 2
    squeeze: Fraction = Fraction(1)
    lens: str | None = None
    focus: Annotated[float, Meta(gt=0.0, le=1e6)] | None = None
    bent: Annotated[tuple[Bend, ...], Meta(max_length=3)] = ()
    marks: Annotated[tuple[Ellipse, ...], Meta(max_length=12)] = ()
    lengths: Annotated[tuple[Lengths, ...], Meta(max_length=12)] = ()
    measured: tuple[Factor, Factor] | None = None
    school: Literal["shrink", "stretch"] = "shrink"
    shape: Fraction | None = None
    hold: Literal["native", "frame"] | None = None
    around: Fraction | None = None
    position: tuple[Share, Share] = (0.5, 0.5)
    centre: tuple[Share, Share] | None = None
    keep: tuple[Share, Share, Share, Share] | None = None
    enlarged: Annotated[float, Meta(ge=1.0, le=8.0)] = 1.0
    moves: CropPath | None = None
    nudges: Annotated[tuple[Nudged, ...], Meta(max_length=40)] = ()
    fits: Annotated[tuple[Fraction, ...], Meta(max_length=40)] = ()
    view: ViewPath | None = None
    level: tuple[Lean, Lean] = (0.0, 0.0)
    eye: Literal["left", "right"] = "left"
    inside: bool = False
    speed: Fraction = Fraction(1)
    shutter: Annotated[float, Meta(ge=0.0, le=360.0)] = 0.0
    between: bool = False
    chosen: Annotated[str, Meta(max_length=4_000_000)] = ""
    across: Annotated[float, Meta(ge=60.0, le=280.0)] | None = None
    bend: Annotated[tuple[Bend, ...], Meta(max_length=4)] = ()

    def framed(self, wanted: Fraction | None, hold: str) -> tuple[Fraction | None, str, Fraction | None]:
        """For a delivery of a shape of its own, or None: the shape that the crop fills, how it is held, the frame's shape."""
        if wanted is not None and wanted in self.fits:
            return None, "frame", wanted
        return wanted, self.hold or hold, self.around

    def nudge(self, shape: Fraction | None) -> tuple[float, float]:
        """How far a shape is moved, in shares of its own width and height."""
        return next(((n.x, n.y) for n in self.nudges if n.shape == shape), (0.0, 0.0))

    def nudged(self, shape: Fraction, x: float, y: float) -> tuple[Nudged, ...]:
        """The nudges with one shape's set; none is kept that does nothing."""
        rest = tuple(n for n in self.nudges if n.shape != shape)
        return (*rest, Nudged(shape, round(x, 4), round(y, 4))) if x or y else rest
