"""Which deliveries a shot leaves as."""

from __future__ import annotations

from typing import Annotated

import msgspec
from msgspec import Meta

from ..cards import DeliveryCard, Side
from ..stage import Settings


def _from_1(plain: dict[str, object]) -> dict[str, object]:
    """``lines``: at most so many, of a wide picture."""
    lines = plain.pop("lines", None)
    if isinstance(lines, int) and 120 <= lines <= 8640:
        plain["raster"] = [lines * 16 // 9 // 2 * 2, lines // 2 * 2]
    return plain


class Laid(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A picture with cover (RGBA) laid over what is delivered: a title, a mark.

    file, print   of it; its bytes must still hash to ``print`` when it is rendered; ``shape``: its width over its height
    x, y, wide    its middle and its width, in shares of the picture (of each eye's) that it lies over; as high as its own shape asks
    start, stop   seconds of the recording, None: from its beginning, to its end; ``fade``: seconds to come and to go
    nearer        per cent of a picture's width by which the eyes see it nearer than the screen; of a pair only
    """

    file: str
    print: str
    shape: Annotated[float, Meta(gt=0.001, lt=1000)]
    x: Annotated[float, Meta(ge=-1, le=2)] = 0.5
    y: Annotated[float, Meta(ge=-1, le=2)] = 0.85
    wide: Annotated[float, Meta(gt=0, le=4)] = 0.5
    start: Annotated[float, Meta(ge=0, le=1e6)] | None = None
    stop: Annotated[float, Meta(ge=0, le=1e6)] | None = None
    fade: Annotated[float, Meta(ge=0, le=60)] = 0.5
    nearer: Annotated[float, Meta(ge=-5, le=5)] = 0.0


class DeliverSettings(Settings, frozen=True, forbid_unknown_fields=True):
    """``cards``: names of delivery cards, in the order in which they are made; ``raster``: width and height instead of a card's
    largest, and ``exact``: of the file itself, whatever lies in it, instead of what the picture is fitted into; ``over``: what is laid over
    it, the last one uppermost."""

    OWN = frozenset({"over"})
    FROM = {1: _from_1}
    version: int = 2
    cards: tuple[str, ...] = ("web-wide",)
    raster: tuple[Side, Side] | None = None
    exact: bool = False
    over: tuple[Laid, ...] = ()

    def on(self, card: DeliveryCard) -> DeliveryCard:
        """The card with this raster."""
        if self.raster is None:
            return card
        return msgspec.structs.replace(card, max_raster=self.raster, exact=self.exact)
