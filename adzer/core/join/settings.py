"""What the person decides about joining: how two lenses that see all round stand to each other, and how they meet."""

from __future__ import annotations

from typing import Annotated

from msgspec import Meta

from ..stage import Settings

Lean = Annotated[float, Meta(ge=-180.0, le=180.0)]
Factor = Annotated[float, Meta(ge=0.01, le=100.0)]


class JoinSettings(Settings, frozen=True, forbid_unknown_fields=True):
    """Of two round lenses, back to back.

    turn       heading, tilt and roll in degrees by which the second holds things away from where it would if it stood exactly
               opposite the first
    gain       of its red, green and blue light, so that it is as the first's
    blend      degrees over which one passes into the other
    error      of ``turn``, in degrees, as measured; None: not measured
    """

    FROM = {1: lambda plain: plain}
    version: int = 2
    turn: tuple[Lean, Lean, Lean] = (0.0, 0.0, 0.0)
    gain: tuple[Factor, Factor, Factor] = (1.0, 1.0, 1.0)
    blend: Annotated[float, Meta(ge=1.0, le=20.0)] = 3.0
    error: Annotated[float, Meta(ge=0.0, le=180.0)] | None = None
