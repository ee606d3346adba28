"""What the person decides about shape: squeeze, school, delivered shape, how it is held, where the crop sits."""

from __future__ import annotations

from fractions import Fraction
from typing import Annotated, Literal

import msgspec
from msgspec import Meta

from .path import ViewPath

Share = Annotated[float, Meta(ge=0.0, le=1.0)]


class ShapeSettings(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """``squeeze`` 1/4–4, 1 is none; ``shape`` width over height, None the whole picture; ``hold`` None: as the card asks.

    ``view``: of a sphere or round lens, None: as it is recorded; ``eye`` that it is taken of; ``across`` degrees a round
    lens sees (None: 180), ``bend`` its polynomial (``sphere.Lens``).
    """

    version: int = 1
    squeeze: Fraction = Fraction(1)
    school: Literal["shrink", "stretch"] = "shrink"
    shape: Fraction | None = None
    hold: Literal["native", "frame"] | None = None
    position: tuple[Share, Share] = (0.5, 0.5)
    view: ViewPath | None = None
    eye: Literal["left", "right"] = "left"
    across: Annotated[float, Meta(ge=60.0, le=280.0)] | None = None
    bend: Annotated[tuple[Annotated[float, Meta(ge=-1, le=1)], ...], Meta(max_length=4)] = ()
