"""What the person decides about how the camera was held."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta

from ..stage import Settings

Method = Literal["off", "hold", "drift", "path"]


class SteadySettings(Settings, frozen=True, forbid_unknown_fields=True):
    """
    method   ``off``; ``hold`` as on a tripod; ``drift``: a hand's slow movement kept, what is faster gone; ``path``: a moving camera's way made of
             still, even and evenly faster parts
    budget   share of each side that may be spent; ``roll``: is it kept level against itself, too? ``cut``: Hz from which on a drift is shake
    moves    what was solved of it, frame by frame (``solve.packed``), so that a queued render cannot change
    """

    OWN = frozenset({"moves"})
    FROM = {1: lambda plain: plain}

    version: int = 2
    method: Method = "off"
    budget: Annotated[float, Meta(ge=0, le=0.5)] = 0.08
    roll: bool = True
    cut: Annotated[float, Meta(ge=0.1, le=5)] = 0.5
    moves: Annotated[str, Meta(max_length=8_000_000)] = ""
