"""Which deliveries a shot leaves as."""

from __future__ import annotations

import msgspec


class DeliverSettings(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """``cards``: names of delivery cards, in the order in which they are made."""

    version: int = 1
    cards: tuple[str, ...] = ("web-wide",)
