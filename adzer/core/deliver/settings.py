"""Which deliveries a shot leaves as."""

from __future__ import annotations

from typing import Annotated

import msgspec
from msgspec import Meta


class DeliverSettings(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """``cards``: names of delivery cards, in the order in which they are made; ``lines``: at most so many pixels along the
    shorter side, whatever a card allows."""

    version: int = 1
    cards: tuple[str, ...] = ("web-wide",)
    lines: Annotated[int, Meta(ge=120, le=8640)] | None = None

    def largest(self, raster: tuple[int, int]) -> tuple[int, int]:
        """A card's largest raster, reduced in its own shape to ``lines``."""
        short = min(raster)
        if self.lines is None or self.lines >= short:
            return raster
        return (raster[0] * self.lines // short // 2 * 2, raster[1] * self.lines // short // 2 * 2)
