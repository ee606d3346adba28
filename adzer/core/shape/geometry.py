"""The arithmetic of desqueezing and cropping, exact in fractions.

Recorded pixels have an aspect q (pixel aspect × squeeze). *Shrink* keeps the sharper axis and reduces the other, so that
no pixel is invented; *stretch* keeps the squeezed axis and enlarges the other. Both give the same shape.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from ..plan import Panel, on_axes
from ..space.crop import inside


@dataclass(frozen=True)
class Framing:
    """A crop of the recorded picture and the raster it fills.

    ``scale``: recorded pixels per delivered pixel (x, y); ``crop``: x, y, width, height in recorded pixels;
    ``size``: even delivered raster; ``desqueezed``: raster of the whole desqueezed picture (may be fractional);
    ``enlargement``: by how much the desqueezed picture must grow to fill the shape once it fits; ``kept``: share of the
    recorded picture inside the crop.
    """

    scale: tuple[Fraction, Fraction]
    crop: tuple[Fraction, Fraction, Fraction, Fraction]
    size: tuple[int, int]
    desqueezed: tuple[Fraction, Fraction]
    enlargement: Fraction
    kept: Fraction

    @property
    def shape(self) -> Fraction:
        return Fraction(*self.size)

    def shares(self, raster: tuple[int, int]) -> tuple[float, float]:
        """Of the recorded ``raster``'s width and height that lie in the crop."""
        return float(self.crop[2]) / raster[0], float(self.crop[3]) / raster[1]

    def middle(self, raster: tuple[int, int]) -> tuple[float, float]:
        """Of the crop, 0–1 of the recorded ``raster``."""
        x, y = (float(self.crop[i] + self.crop[i + 2] / 2) / raster[i] for i in (0, 1))
        return min(x, 1.0), min(y, 1.0)

    def position(self, raster: tuple[int, int], left_top: tuple[float, float]) -> tuple[float, float]:
        """Where the crop lies along what is left over, 0–1, if its corner is at ``left_top`` (0–1 of ``raster``)."""
        x, y = (
            min(max(at / (1 - share), 0.0), 1.0) if share < 1 - 1e-6 else 0.5
            for at, share in zip(left_top, self.shares(raster), strict=True)
        )
        return x, y


def even(value: Fraction | int) -> int:
    """The largest even whole number not above ``value``, at least 2."""
    return max(2, int(value) // 2 * 2)


def solve(
    raster: tuple[int, int],
    aspect: Fraction,
    school: str,
    shape: Fraction | None,
    position: tuple[float, float] = (0.5, 0.5),
    centre: tuple[float, float] | None = None,
    keep: tuple[float, float, float, float] | None = None,
    enlarged: float = 1.0,
) -> Framing:
    """The largest even crop of ``shape`` inside a recorded ``raster`` whose pixels have ``aspect``.

    ``position`` 0–1 places the crop along what is left over; ``centre`` 0–1 of the picture places its middle there instead,
    as nearly as it fits. ``keep`` (left, top, right, bottom, 0–1) stays in where it fits at all. ``enlarged`` > 1 takes so much
    less of the recording for the same raster. The crop never leaves the recorded picture, and both scales
    keep their exact ratio, so that round things stay round.
    """
    w, h = raster
    if school == "shrink":
        sx, sy = (Fraction(1), aspect) if aspect >= 1 else (1 / aspect, Fraction(1))
    else:
        sx, sy = (1 / aspect, Fraction(1)) if aspect >= 1 else (Fraction(1), aspect)
    whole_w, whole_h = w / sx, h / sy
    whole = whole_w / whole_h
    wanted = shape or whole
    if wanted >= whole:
        pw, ph = whole_w, whole_w / wanted
    else:
        pw, ph = whole_h * wanted, whole_h
    size = (even(pw), even(ph))
    if enlarged > 1:
        k = Fraction(enlarged).limit_denominator(1000)
        sx, sy = sx / k, sy / k
    crop_w, crop_h = size[0] * sx, size[1] * sy
    if centre is not None or keep is not None:
        position = tuple(  # type: ignore[assignment]
            _towards(i, float(whole_), float(part), position, centre, keep) for i, (whole_, part) in enumerate(((w, crop_w), (h, crop_h)))
        )  # fmt: skip
    x = _placed(w - crop_w, position[0], sx)
    y = _placed(h - crop_h, position[1], sy)
    enlargement = max(wanted / whole, whole / wanted) * (
        Fraction(enlarged).limit_denominator(1000) if enlarged > 1 else 1
    )
    kept = crop_w * crop_h / (w * h)
    return Framing((sx, sy), (x, y, crop_w, crop_h), size, (whole_w, whole_h), enlargement, kept)


def _towards(
    axis: int, whole: float, part: float, position: tuple[float, float], centre: tuple[float, float] | None,
    keep: tuple[float, float, float, float] | None,
) -> float:  # fmt: skip
    """``position`` along one axis that puts a crop about its centre, or where it is asked, with what must stay in."""
    if whole <= part:
        return 0.5
    middle = centre[axis] * whole if centre is not None else position[axis] * (whole - part) + part / 2
    held = (keep[axis] * whole, keep[axis + 2] * whole) if keep is not None else None
    return inside(middle, part, whole, held) / (whole - part)


def _placed(spare: Fraction, position: float, scale: Fraction) -> Fraction:
    """Offset of the crop; on an axis that is not resampled it falls on whole pixels, so that they stay untouched."""
    at = spare * Fraction(position).limit_denominator(10_000)
    return Fraction(int(at)) if scale == 1 else at


@dataclass(frozen=True)
class Fitted:
    """A picture inside a delivered raster: ``reduce`` ≥ 1 is how much smaller than the framing's own size it is."""

    raster: tuple[int, int]
    picture: tuple[int, int]
    place: tuple[int, int]
    reduce: Fraction


WIDE = Fraction(16, 9)


SAME_SHAPE = Fraction(1, 100)  # share by which shapes may differ, for a picture to fill a raster instead of lying in it


def fit(
    size: tuple[int, int], hold: str, largest: tuple[int, int], around: Fraction | None = None, exact: bool = False
) -> Fitted:
    """Puts a picture of ``size`` into a file: natively, or inside a frame of a shape, ``around`` or 16:9, with black around
    it. Never enlarges. ``exact``: the file is ``largest``, whatever lies in it, and the picture as large as it can be."""
    w, h = Fraction(size[0]), Fraction(size[1])
    if exact:
        across, down = w / largest[0], h / largest[1]
        if abs(across / down - 1) <= SAME_SHAPE:
            return Fitted(largest, largest, (0, 0), min(across, down))
        k = max(across, down)
        inner = (min(largest[0], even(w / k)), min(largest[1], even(h / k)))
        x, y = ((largest[i] - inner[i]) // 4 * 2 for i in (0, 1))
        return Fitted(largest, inner, (x, y), k)
    shape = around or WIDE
    fw, fh = (w, h) if hold == "native" else (max(w, h * shape), max(h, w / shape))
    k = max(Fraction(1), fw / largest[0], fh / largest[1])
    picture = (even(w / k), even(h / k))
    if hold == "native":
        return Fitted(picture, picture, (0, 0), k)
    if picture[0] >= shape * picture[1]:
        raster = (picture[0], max(picture[1], even(picture[0] / shape + Fraction(1))))
    else:
        raster = (max(picture[0], even(picture[1] * shape + Fraction(1))), picture[1])
    place = tuple((raster[i] - picture[i]) // 4 * 2 for i in (0, 1))
    return Fitted(raster, picture, (place[0], place[1]), k)


def panel(framing: Framing, fitted: Fitted, recorded: tuple[int, int]) -> Panel:
    """Crop and reduction as one map from delivered to recorded pixels. Both axes keep their exact ratio."""
    k = fitted.reduce
    scale = (framing.scale[0] * k, framing.scale[1] * k)
    spare = tuple(framing.crop[2 + i] - fitted.picture[i] * scale[i] for i in (0, 1))
    offset = (framing.crop[0] + spare[0] / 2, framing.crop[1] + spare[1] / 2)
    return on_axes(fitted.picture, scale, offset, recorded, fitted.place)
