"""Which deliveries a shot leaves as."""

from __future__ import annotations

import msgspec

from ..cards import DeliveryCard, Side
from ..stage import Settings


def _from_1(plain: dict[str, object]) -> dict[str, object]:
    """``lines``: at most so many, of a wide picture."""
    lines = plain.pop("lines", None)
    if isinstance(lines, int) and 120 <= lines <= 8640:
        plain["raster"] = [lines * 16 // 9 // 2 * 2, lines // 2 * 2]
    return plain


class DeliverSettings(Settings, frozen=True, forbid_unknown_fields=True):
    """``cards``: names of delivery cards, in the order in which they are made; ``raster``: width and height instead of a card's
    largest, and ``exact``: of the file itself, whatever lies in it, instead of what the picture is fitted into."""

    FROM = {1: _from_1}
    version: int = 2
    cards: tuple[str, ...] = ("web-wide",)
    raster: tuple[Side, Side] | None = None
    exact: bool = False

    def on(self, card: DeliveryCard) -> DeliveryCard:
        """The card with this raster."""
        if self.raster is None:
            return card
        return msgspec.structs.replace(card, max_raster=self.raster, exact=self.exact)
