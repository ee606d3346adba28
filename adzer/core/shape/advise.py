"""Sentences that explain a framing's numbers, and what other schools do."""

from __future__ import annotations

from fractions import Fraction

from .. import cards
from ..look.between import AT_ONE
from .geometry import Framing

USUAL_SQUEEZES = tuple(Fraction(s) for s in ("1", "1.33", "1.5", "1.6", "1.8", "2"))
USUAL_SHAPES: tuple[tuple[str, Fraction | None], ...] = (
    ("whole", None),
    ("2.39", Fraction(239, 100)),
    ("2", Fraction(2)),
    ("1.85", Fraction(185, 100)),
    ("16:9", Fraction(16, 9)),
)


def shape_text(shape: Fraction) -> str:
    """2.39:1, and 16:9 for what everybody calls so."""
    for whole in ((16, 9), (9, 16), (4, 3), (3, 4), (4, 5), (1, 1)):
        if abs(shape - Fraction(*whole)) < Fraction(1, 400):
            return f"{whole[0]}:{whole[1]}"
    return f"{float(shape):.2f}:1"


def by_lens(name: str | None, focus: float | None = None) -> dict[str, object]:
    """The answers that a lens card gives, focused at ``focus`` metres; None: no card."""
    if name is None:
        return {"lens": None, "focus": None, "bent": []}
    card = cards.find("lenses", name, cards.LensCard)
    squeeze = str(Fraction(card.squeeze_at(focus)).limit_denominator(1000))
    return {"lens": name, "squeeze": squeeze, "bent": list(card.bent), "focus": focus if card.focus else None}


def why_school(school: str, framing: Framing, aspect: Fraction) -> str:
    sx, sy = framing.scale
    if aspect == 1:
        return "Nothing is squeezed, so there is nothing to undo."
    if school == "shrink":
        axis, factor = ("height", sy) if sy > 1 else ("width", sx)
        return (
            f"The {axis} is reduced {_number(factor)} times and every recorded pixel counts: none is invented. "
            f"The whole picture becomes {_raster(framing.desqueezed)}."
        )
    axis, factor = ("width", sx) if sx < 1 else ("height", sy)
    return (
        f"The {axis} is enlarged {_number(1 / factor)} times: {float(1 - factor):.0%} of the delivered pixels are interpolated. "
        f"The whole picture becomes {_raster(framing.desqueezed)}."
    )


def others_school(school: str) -> str:
    if school == "shrink":
        return "Others stretch the width, to reach a larger raster that a place asks for."
    return "Others shrink the height: same shape, fewer bytes, nothing invented."


def why_shape(framing: Framing, shape: Fraction | None) -> str:
    whole = framing.desqueezed[0] / framing.desqueezed[1]
    if shape is None:
        return (
            f"The whole picture, {shape_text(whole)}, is delivered; {float(framing.kept):.1%} of it after even rasters."
        )
    if framing.enlargement == 1:
        return f"The desqueezed picture already is {shape_text(whole)}."
    wider = shape > whole
    big, small = (shape, whole) if wider else (whole, shape)
    closer = framing.enlargement / (big / small)
    side = "" if closer > 1 else " above and below" if wider else " left and right"
    nearer = f", and {float(closer):.3f} times closer makes {float(framing.enlargement):.3f}" if closer > 1 else ""
    return (
        f"Desqueezed it is {float(whole):.3f}:1. Filling {shape_text(shape)} takes {float(big):.3f} ÷ {float(small):.3f} = "
        f"{float(big / small):.3f} times enlargement{nearer}; {float(framing.kept):.1%} is kept, "
        f"{float(1 - framing.kept):.1%} is lost{side}."
    )


def pixels_text(scale: tuple[Fraction, Fraction]) -> str:
    """Recorded pixels per delivered pixel."""
    return f"{float(scale[0]):.2f} × {float(scale[1]):.2f} recorded pixels per delivered pixel"


def _number(value: Fraction) -> str:
    return f"{float(value):.3f}".rstrip("0").rstrip(".")


def _raster(size: tuple[Fraction, Fraction]) -> str:
    return f"{_number(size[0])}×{_number(size[1])}"


SPEEDS = (Fraction(1, 16), Fraction(16))  # times as fast as recorded
USUAL_RATES = tuple(Fraction(n, d) for n, d in ((24000, 1001), (24, 1), (25, 1), (30000, 1001), (30, 1), (48, 1), (50, 1),
                                                (60000, 1001), (60, 1)))  # fmt: skip


def even_paces(recorded: Fraction, delivered: Fraction) -> list[tuple[Fraction, str]]:
    """Every speed at which ``recorded`` frames a second fall evenly on ``delivered`` ones, from slow to fast, and what becomes
    of each frame."""
    whole = (2, 3, 4, 5, 6, 8, 10, 12, 16)
    passes = [*(Fraction(1, n) for n in reversed(whole)), Fraction(1), *map(Fraction, whole)]
    found = [(each * delivered / recorded, cadence(each)) for each in passes]
    return [(speed, says) for speed, says in found if SPEEDS[0] <= speed <= SPEEDS[1]]


def invented(each: Fraction) -> float:
    """Share of delivered frames that lie between two recorded ones, ``each`` of which pass for a delivered one.

    >>> invented(Fraction(1, 2)), invented(Fraction(5, 8)), invented(Fraction(1))
    (0.5, 0.875, 0.0)
    """
    near = Fraction(AT_ONE)
    off = [each * n % 1 for n in range(min(each.denominator, 4096))]
    return sum(near <= part <= 1 - near for part in off) / len(off)


def cadence(each: Fraction) -> str:
    """How often recorded frames are shown where ``each`` of them pass for a delivered one; as it can be counted in the master.

    >>> [cadence(Fraction(v)) for v in ("1", "1/2", "2/5", "24/25", "4", "25/24", "5/2")]
    ['each once', 'each twice', 'each 2 or 3 times', 'each once or twice', 'every 4th', 'each or every 2nd', 'every 2nd or every 3rd']
    """
    if each <= 1:
        least, more = divmod(1 / each, 1)
        times = [("", "once", "twice")[n] if n < 3 else f"{n} times" for n in (least, least + 1)]
        return f"each {times[0]}" if not more else f"each {least} or {least + 1} times" if least > 1 else f"each {times[0]} or {times[1]}"
    least, more = divmod(each, 1)
    first = f"every {_nth(least)}" if least > 1 else "each"
    return f"{first} or every {_nth(least + 1)}" if more else first


def shown(each: Fraction) -> str:
    """The same as a clause.

    >>> shown(Fraction(1, 2)), shown(Fraction(4))
    ('each recorded frame is shown twice', 'every 4th recorded frame is shown')
    """
    words = cadence(each)
    return words.replace("each", "each recorded frame is shown", 1) if each <= 1 else f"{words} recorded frame is shown"


def _odd_one(each: Fraction) -> str:
    """Of what is nearly even: how often it is not."""
    if Fraction(1, 2) < each < 1:
        return f" One of {_number(1 / (1 - each))} delivered shows the one before again."
    return f" One of {_number(each / (each - 1))} recorded is never shown." if 1 < each < 2 else ""


def _nth(n: int) -> str:
    return f"{n}{'st' if n % 10 == 1 and n != 11 else 'nd' if n % 10 == 2 and n != 12 else 'rd' if n % 10 == 3 and n != 13 else 'th'}"


def pace_text(recorded: Fraction, speed: Fraction, delivered: Fraction) -> str:
    """What is uneven about playing ``recorded`` frames a second at a speed in ``delivered`` ones; "" if nothing is."""
    each = recorded * speed / delivered  # recorded frames to a delivered one
    if each.denominator == 1:
        return ""
    if each < 1:
        return (
            f"{shown(each).capitalize()}: movement stutters.{_odd_one(each)} {float(delivered / recorded):.1%} of the speed shows each once; a "
            f"camera that ran at {float(delivered / speed):.4g} frames a second would have been smooth at this one."
        )
    near = Fraction(round(each)) * delivered / recorded
    return f"{shown(each).capitalize()}: movement is a little uneven.{_odd_one(each)} {float(near):.1%} of the speed is even."
