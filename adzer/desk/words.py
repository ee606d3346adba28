"""Words that several stages use."""

from __future__ import annotations

from ..core.light import names as colour_cards
from ..core.picture import Picture


def form_words(picture: Picture) -> str:
    """sphere · eyes over, right first: what is not a plain flat picture, in a few words."""
    words = []
    if picture.mosaic not in (None, "none"):
        words.append("sensor values")
    if picture.projection == "equirectangular":
        words.append("half sphere" if picture.coverage == "180" else "sphere")
    elif picture.projection == "fisheye":
        words.append("round lens" if picture.coverage != "360" else "two round lenses")
    if picture.eyes not in (None, "one"):
        words.append(f"eyes {'beside' if picture.eyes == 'side by side' else 'over'}, {picture.first or '?'} first")
    return ", ".join(words)


def curve_answers(tagged: str | None) -> list[tuple[str, str | None]]:
    """Every curve that can be declared, and leaving it to the tag."""
    tag = f"as tagged: {colour_cards.title(tagged)}" if tagged else "not declared"
    return [(tag, None), *((colour_cards.title(n), n) for n in colour_cards.names())]
