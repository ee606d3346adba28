"""Pictures laid over delivered codes, once, after their colour."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..light import names
from ..light.curves import REFERENCE_WHITE_NITS, Curve, hlg_oetf, pq_signal
from ..light.primaries import rgb_to_rgb
from ..light.samples import Samples, chroma_offset
from ..media.still import rgba
from ..plan import Overlay, Planes, Size

Floats = NDArray[np.float32]
WHITE_HLG = 0.2647  # scene light of 75 % signal, which is where BT.2408-7 (table 1) puts white


def as_delivered(picture: Floats, curve: str, primaries: str) -> Floats:
    """R′G′B′ (…, 3) of IEC 61966-2-1 as the delivered signal of a curve and primaries. In standard range its white is 100 %, its values
    are taken as they are; in high range its light is placed with white at 203 nits, or 75 % of HLG (BT.2408-7, table 1)."""
    if curve not in ("pq", "hlg"):
        return picture
    light = np.maximum(_light(picture) @ rgb_to_rgb(names.primaries("bt709"), names.primaries(primaries)).T, 0.0)
    if curve == "pq":
        return np.asarray(pq_signal(light * REFERENCE_WHITE_NITS), np.float32)
    # The display's gamma of 1.2 is taken off by luminance (BT.2100-2, table 5), so that white and colours keep their places.
    luma = light @ np.array([0.2627, 0.6780, 0.0593])
    bent = light * np.where(luma > 0, np.maximum(luma, 1e-9) ** (1 / 1.2 - 1), 0.0)[..., None]
    return np.asarray(hlg_oetf(np.clip(bent * WHITE_HLG, 0, 1)), np.float32)


def as_recorded(picture: Floats, curve: Curve | None, primaries: str) -> NDArray[np.float64]:
    """R′G′B′ (…, 3) of IEC 61966-2-1 as the recorded signal of a curve and primaries; white is light of 1, or as ``as_delivered`` has it."""
    if curve is None or curve.name in ("pq", "hlg"):
        return np.asarray(as_delivered(picture, curve.name if curve is not None else "bt709", primaries), np.float64)
    return np.asarray(curve.encode(np.maximum(_light(picture) @ rgb_to_rgb(names.primaries("bt709"), names.primaries(primaries)).T, 0.0)))


def _light(picture: Floats) -> NDArray[np.float64]:
    v = picture.astype(np.float64)
    return np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4)  # IEC 61966-2-1, clause 5.2


@dataclass(frozen=True)
class _Part:
    """One plane's: what is laid on rows and columns from ``corner``, in codes times cover, and the cover."""

    plane: int
    corner: Size
    codes: Floats
    cover: Floats


class Laying:
    """An overlay made ready for one raster; ``lay`` costs nothing where it does not show."""

    def __init__(self, overlay: Overlay, target: Samples, raster: Size) -> None:
        self.overlay, self.ends = overlay, [(target.ends[0], most) for most in target.most]
        picture = rgba(overlay.file, overlay.print_)
        cover = picture[..., 3:]
        signal = as_delivered(picture[..., :3], overlay.curve, overlay.primaries)
        matrix = target.to_codes()
        codes = (signal @ matrix[:, :3].T + matrix[:, 3]).astype(np.float32) * cover
        held = np.concatenate([codes, cover], axis=-1)
        self._parts = [part for box in overlay.boxes for part in _parts(held, box, target, raster)]

    def lay(self, planes: Planes, time: float) -> None:
        """Over delivered planes, in place."""
        shows = np.float32(self.overlay.strength(time))
        if shows <= 0:
            return
        for part in self._parts:
            (x, y), (h, w) = part.corner, part.cover.shape
            under = planes[part.plane][y : y + h, x : x + w]
            mixed = under * (1 - shows * part.cover) + shows * part.codes
            np.copyto(under, np.clip(np.rint(mixed), *self.ends[part.plane]), casting="unsafe")


def _parts(held: Floats, box: tuple[float, float, float, float], target: Samples, raster: Size) -> list[_Part]:
    """Of one box, as far as it lies on the raster: luma on whole pixels that average what lies on them, chroma from luma's."""
    import cv2

    x0, y0, w, h = (round(v) for v in box)
    # On even places, and wide and high by even numbers, so that reduced chroma lies on whole pixels, too.
    x0, y0 = x0 // 2 * 2, y0 // 2 * 2
    w, h = max(2, -(-w // 2) * 2), max(2, -(-h // 2) * 2)
    smaller = w < held.shape[1] and h < held.shape[0]
    laid: Floats = np.asarray(cv2.resize(held, (w, h), interpolation=cv2.INTER_AREA if smaller else cv2.INTER_LINEAR), np.float32)
    left, top, right, bottom = max(0, x0), max(0, y0), min(raster[0] // 2 * 2, x0 + w), min(raster[1] // 2 * 2, y0 + h)
    if left >= right or top >= bottom:
        return []
    cut: Floats = np.ascontiguousarray(laid[top - y0 : bottom - y0, left - x0 : right - x0])
    parts = [_Part(0, (left, top), cut[..., 0], cut[..., 3])]
    sx, sy = target.format.sub
    for plane in (1, 2):
        codes, cover = (_reduced(cut[..., c], sx, sy, target.siting) for c in (plane, 3))
        parts.append(_Part(plane, (left // sx, top // sy), codes, cover))
    return parts


def _reduced(plane: Floats, sx: int, sy: int, siting: str) -> Floats:
    """At chroma's size and places: the mean of a pair between its samples, ¼ ½ ¼ about a sample that chroma lies on."""
    for axis, sub in ((1, sx), (0, sy)):
        if sub == 1:
            continue
        n = plane.shape[axis]
        even = np.take(plane, np.arange(0, n, 2), axis)
        odd = np.take(plane, np.arange(1, n, 2), axis)
        if chroma_offset(siting, 1 - axis, sub) == 0.5:
            before = np.take(plane, np.maximum(np.arange(0, n, 2) - 1, 0), axis)
            plane = np.asarray((before + 2 * even + odd) / 4, np.float32)
        else:
            plane = np.asarray((even + odd) / 2, np.float32)
    return plane
