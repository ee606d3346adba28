"""From a name to a curve or a set of primaries: the open standards first, then the cards; and what a card must hold to."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from .. import cards
from ..errors import UnreadableError
from ..picture import Picture
from . import curves
from .curves import MIDDLE_GREY, Curve
from .primaries import Primaries

STANDARD_TITLES = {
    "linear": "linear light",
    "bt709": "BT.709",
    "bt1886": "BT.1886",
    "srgb": "sRGB",
    "gamma22": "gamma 2.2",
    "gamma26": "gamma 2.6",
    "acescct": "ACEScct",
    "float-log": "light",
    "pq": "BT.2100 PQ",
    "hlg": "BT.2100 HLG",
}
PAIRED_PRIMARIES = {"acescct": "ap1", "pq": "bt2020", "hlg": "bt2020"}


@dataclass(frozen=True)
class CurveFacts:
    """How a curve lays light out: signal of middle grey, stops that fit above and below it, the step at the cut."""

    grey: float
    black: float
    white: float
    stops_above: float
    stops_below: float
    jump: float


def names() -> list[str]:
    """Every curve that can be declared, standards first; floating-point light is what it is, whatever is declared."""
    return [n for n in curves.STANDARD if n != "float-log"] + [n for n in cards.paths("curves") if n not in curves.STANDARD]


def title(name: str | None) -> str:
    if name is None:
        return "unknown"
    if name in STANDARD_TITLES:
        return STANDARD_TITLES[name]
    try:
        return cards.find("curves", name, cards.CurveCard).title
    except UnreadableError:
        return name


def curve(name: str, bits: int = 10, limited: bool = True) -> Curve:
    """The curve of that name for a file of this depth and range. UnreadableError if there is none or it is broken."""
    if name in curves.STANDARD:
        return curves.STANDARD[name]
    card = cards.find("curves", name, cards.CurveCard)
    built = build(name, card)
    return curves.from_code_values(built, bits, limited) if card.levels == "code" else built


def recorded(picture: Picture) -> Curve | None:
    """A Picture's own; None where nobody knows it, or there is no such."""
    try:
        return curve(picture.curve, picture.bits or 10, picture.range != "full") if picture.curve else None
    except UnreadableError:  # which Read says
        return None


@lru_cache(maxsize=64)
def build(name: str, card: cards.CurveCard) -> Curve:
    """The curve of a card, checked: rising, continuous at its cut, middle grey inside the signal."""
    c = card
    if c.form == "table":
        x, y = np.array(c.linear), np.array(c.signal)
        if len(x) < 2 or len(x) != len(y) or np.any(np.diff(x) <= 0) or np.any(np.diff(y) <= 0):
            raise UnreadableError(
                f"Curve card {name}: linear and signal must be two rising lists of the same length, two or more long."
            )
        built = curves.table_curve(name, x, y)
    elif c.form == "mirrored-log":
        if c.a <= 0 or c.c <= 0:
            raise UnreadableError(f"Curve card {name}: a and c must be above zero.")
        built = curves.mirrored_log(name, c.a, c.c, c.d)
    else:
        if c.c <= 0 or c.e <= 0 or c.a <= 0 or c.g <= 0:
            raise UnreadableError(f"Curve card {name}: a, c, e and g must be above zero, or the curve does not rise.")
        if (c.a * c.cut + c.b if c.form == "lin-log" else c.cut + c.b) <= 0:
            raise UnreadableError(
                f"Curve card {name}: at the cut there is no logarithm or power to take; raise b or cut."
            )
        if c.form == "lin-log":
            built = curves.lin_log(name, c.a, c.b, c.c, c.d, c.e, c.f, c.cut)
        else:
            built = curves.power_toe(name, c.b, c.c, c.d, c.g, c.e, c.f, c.cut)
    seen = facts(built, c.cut)
    if abs(seen.jump) > 2e-3:
        raise UnreadableError(
            f"Curve card {name}: the two pieces miss each other by {seen.jump:+.4f} of the signal at the cut; "
            "a constant is mistyped."
        )
    if not 0.02 < seen.grey < 0.95:
        raise UnreadableError(f"Curve card {name}: middle grey would sit at {seen.grey:.1%} of the signal; check it.")
    if not -0.5 < seen.black < 0.5:
        raise UnreadableError(f"Curve card {name}: black would sit at {seen.black:.1%} of the signal; check its darkest points.")
    probe = np.linspace(-0.05, 1.0, 600)
    light = built.decode(probe)
    if not np.all(np.isfinite(light)) or np.any(np.diff(light) <= 0):
        raise UnreadableError(f"Curve card {name}: the curve does not rise all the way; a constant is mistyped.")
    return built


def facts(c: Curve, cut: float = 0.0) -> CurveFacts:
    """Measured on the curve itself. Stops below are counted to the light that is 1/1023 of signal above black."""
    at = curves.apply(c.encode, [MIDDLE_GREY, 0.0, 0.9, cut, np.nextafter(cut, np.inf)])
    low = float(curves.apply(c.decode, [at[1] + 1 / 1023])[0])
    above = float(np.log2(max(c.peak, 1e-9) / MIDDLE_GREY))
    below = float(np.log2(MIDDLE_GREY / max(low, 1e-9)))
    return CurveFacts(float(at[0]), float(at[1]), float(at[2]), above, below, float(at[4] - at[3]))


def primaries(name: str) -> Primaries:
    """The primaries card of that name; UnreadableError if its triangle has no area."""
    card = cards.find("primaries", name, cards.PrimariesCard)
    (rx, ry), (gx, gy), (bx, by) = card.red, card.green, card.blue
    if abs((gx - rx) * (by - ry) - (bx - rx) * (gy - ry)) < 1e-4:
        raise UnreadableError(f"Primaries card {name}: red, green and blue lie on one line.")
    return Primaries(name, card.red, card.green, card.blue, card.white)


def primaries_names() -> list[str]:
    return list(cards.paths("primaries"))


def primaries_title(name: str | None) -> str:
    if name is None:
        return "unknown"
    try:
        return cards.find("primaries", name, cards.PrimariesCard).title
    except UnreadableError:
        return name


def paired_primaries(curve_name: str) -> str | None:
    """The primaries that a curve is normally recorded with, if its standard or card says so."""
    if curve_name in PAIRED_PRIMARIES:
        return PAIRED_PRIMARIES[curve_name]
    if curve_name in curves.STANDARD:
        return None
    return cards.find("curves", curve_name, cards.CurveCard).primaries


def check(path_kind: str, name: str, card: cards.Card) -> str:
    """One line on what a card says, after every check that its kind knows; UnreadableError otherwise."""
    if isinstance(card, cards.CurveCard):
        f = facts(build(name, card), card.cut)
        return (
            f"middle grey at {f.grey:.1%}, black at {f.black:.1%}, {f.stops_above:.1f} stops above grey and "
            f"{f.stops_below:.1f} below, step at the cut {f.jump:+.1e}"
        )
    if isinstance(card, cards.DeliveryCard):
        curve(card.curve)
        primaries(card.primaries)
        return f"{card.codec}, {card.bits} bits {card.chroma}, at most {card.max_raster[0]}×{card.max_raster[1]}"
    if isinstance(card, cards.PlayerCard):
        if not card.decodes:
            raise UnreadableError(f"Player card {name}: it decodes nothing; write at least one [[decodes]].")
        return "decodes " + ", ".join(
            f"{d.codec} {d.bits}-bit to {d.max_raster[0]}×{d.max_raster[1]}" for d in card.decodes
        )
    if isinstance(card, cards.LensCard):
        return f"squeezes {card.squeeze:g}×"
    if isinstance(card, cards.RigCard):
        apart = f", {card.base * 100:.1f} cm apart" if card.base else ""
        return f"two lenses of {card.lenses[0].across:.0f}°{apart}, known to {card.error:.2f}°"
    return f"red {card.red}, green {card.green}, blue {card.blue}, white {card.white}"
