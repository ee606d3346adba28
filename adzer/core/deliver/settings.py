"""Which deliveries a shot leaves as."""

from __future__ import annotations

import msgspec

from ..cards import DeliveryCard, Side


class DeliverSettings(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """``cards``: names of delivery cards, in the order in which they are made; ``raster``: width and height instead of a card's
    largest, and ``exact``: of the file itself, whatever lies in it, instead of what the picture is fitted into."""

    version: int = 2
    cards: tuple[str, ...] = ("web-wide",)
    raster: tuple[Side, Side] | None = None
    exact: bool = False

    def on(self, card: DeliveryCard) -> DeliveryCard:
        """The card with this raster."""
        if self.raster is None:
            return card
        return msgspec.structs.replace(card, max_raster=self.raster, exact=self.exact)
