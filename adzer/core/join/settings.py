"""What the person decides about joining: how two lenses that see all round stand to each other, and how they meet."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta

from ..cards import RigLens
from ..stage import Settings

Lean = Annotated[float, Meta(ge=-180.0, le=180.0)]
Factor = Annotated[float, Meta(ge=0.01, le=100.0)]


class JoinSettings(Settings, frozen=True, forbid_unknown_fields=True):
    """Of two round lenses, back to back.

    laid       as they were recorded, or as the sphere that both saw
    lenses     as they were found to be; None: as their discs look. ``rig``: the card that all this was taken from
    base       metres between them; ``distance``: metres at which they meet, None: far away
    turn       heading, tilt and roll in degrees by which the second holds things away from where it would if it stood exactly
               opposite the first
    gain       of its red, green and blue light, so that it is as the first's
    blend      degrees over which one passes into the other; ``seam``: degrees by which they do so nearer to the first than halfway,
               at even angles round its axis, from straight up on to the right
    error      of ``turn``, in degrees, as measured; None: not measured
    """

    FROM = {1: lambda plain: plain, 2: lambda plain: plain}
    OWN = frozenset({"seam", "distance"})
    version: int = 3
    laid: Literal["recorded", "sphere"] = "recorded"
    lenses: tuple[RigLens, RigLens] | None = None
    rig: str | None = None
    base: Annotated[float, Meta(gt=0.0, le=2.0)] | None = None
    distance: Annotated[float, Meta(gt=0.0, le=1e4)] | None = None
    seam: Annotated[tuple[Annotated[float, Meta(ge=-20.0, le=20.0)], ...], Meta(max_length=720)] = ()
    turn: tuple[Lean, Lean, Lean] = (0.0, 0.0, 0.0)
    gain: tuple[Factor, Factor, Factor] = (1.0, 1.0, 1.0)
    blend: Annotated[float, Meta(ge=1.0, le=20.0)] = 3.0
    error: Annotated[float, Meta(ge=0.0, le=180.0)] | None = None
