"""What the person decides about sensor values and noise."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta

from ..stage import Settings
from .grain import Grain

Kelvin = Annotated[float, Meta(ge=2000, le=20_000)]
Level = Annotated[float, Meta(ge=0, le=65535)]
Part = Annotated[float, Meta(gt=0.001, le=1)]
Off = Annotated[float, Meta(ge=-4000, le=4000)]
Amount = Annotated[float, Meta(ge=0, le=4)]
Highlights = Literal["neutral", "rebuild", "as is"]


class DevelopSettings(Settings, frozen=True, forbid_unknown_fields=True):
    """
    white       what was white: ``as shot``; ``light``, of ``kelvin`` and ``tint`` (0.001 Duv, greener is positive); or a ``patch``, of which
                the camera says ``neutral`` (red, green, blue, its largest 1)
    exposure    stops brighter, on sensor values
    highlights  what is said where a channel is full; None: nobody has answered, and they are told white
    into        ``light``, or a log curve's card, for what comes after and expects one
    primaries   of what comes out
    order, black, white_level   of the sensor, where the file does not say so, or wrongly: None as it says
    hot         places (left, top) of values that are the same whatever the light, and are taken from around them
    dots        the same of pictures that are no sensor values: the middle, and how far it reaches each way
    rows, columns   codes by which each lies too high, whatever the light, and which are taken off it
    noise       as it was measured, which a cleaning goes by
    clean       how much noise is taken off luma: None nothing; 1 as much as was measured; ``colour`` the same of colour, None: as luma;
    even        are steps of a code in smooth parts made even, within half a code? only of pictures that are not cleaned
    detail      share of what was taken off luma that is given back
    smooth      a tone, as skin's, of which more is taken off: two colours of it and how far others may be off (``Cleaned.tone_at``)
    """

    OWN = frozenset({"neutral", "noise", "smooth", "hot", "dots", "rows", "columns"})
    FROM = dict.fromkeys(range(1, 5), lambda plain: plain)

    version: int = 5
    white: Literal["as shot", "light", "patch"] = "as shot"
    kelvin: Kelvin | None = None
    tint: Annotated[float, Meta(ge=-50, le=50)] = 0.0
    neutral: tuple[Part, Part, Part] | None = None
    exposure: Annotated[float, Meta(ge=-8, le=8)] = 0.0
    highlights: Highlights | None = None
    into: str = "light"
    primaries: str = "ap1"
    order: Literal["rggb", "bggr", "grbg", "gbrg"] | None = None
    black: Level | None = None
    white_level: Level | None = None
    hot: Annotated[tuple[tuple[int, int], ...], Meta(max_length=5000)] = ()
    dots: Annotated[tuple[tuple[int, int, Annotated[int, Meta(ge=1, le=16)]], ...], Meta(max_length=400)] = ()
    rows: Annotated[tuple[Off, ...], Meta(max_length=20_000)] = ()
    columns: Annotated[tuple[Off, ...], Meta(max_length=20_000)] = ()
    noise: Grain | None = None
    clean: Amount | None = None
    colour: Amount | None = None
    detail: Annotated[float, Meta(ge=0, le=1)] = 0.0
    smooth: tuple[float, float, Annotated[float, Meta(gt=0)]] | None = None
    even: bool = False
