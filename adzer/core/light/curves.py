"""Transfer curves between scene-linear light and the encoded signal, in float64, over their whole domain.

Scene-linear ``x``: 0.18 is middle grey, 1.0 is a perfectly white diffuser. Signal ``y``: 0 is the black level and 1 the
nominal peak, after the range has been taken off. Every curve maps any finite number to a finite number; where a
standard leaves negative light undefined, the curve is mirrored through the origin.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from ..media.formats import FLOAT_TOP

Array = NDArray[np.float64]
Map = Callable[[Array], Array]

MIDDLE_GREY = 0.18
REFERENCE_WHITE_NITS = 203.0  # ITU-R BT.2408-7, table 1: HDR reference white
HLG_REFERENCE_SIGNAL = 0.75  # the same table: reference white in HLG


@dataclass(frozen=True)
class Curve:
    """``encode``: linear → signal; ``decode``: signal → linear. ``scene`` curves carry light above white."""

    name: str
    encode: Map
    decode: Map
    kind: str  # "display" | "log" | "linear" | "hdr"

    @property
    def peak(self) -> float:
        """Linear light at signal 1.0."""
        return float(self.decode(np.array([1.0]))[0])


def _mirrored(positive: Map) -> Map:
    """Extends a function of [0, ∞) through the origin as an odd function."""

    def odd(x: Array) -> Array:
        return np.copysign(positive(np.abs(x)), x)

    return odd


def apply(function: Map, x: ArrayLike) -> Array:
    """``function`` over any shape, computed in float64."""
    return function(np.asarray(x, dtype=np.float64))


# --- Rec. ITU-R BT.709-6, item 1.2 (opto-electronic transfer) -----------------------------------------------------
# α and β to full precision, so that curve and slope meet exactly (BT.2020-2, table 4, note).
_ALPHA, _BETA = 1.09929682680944, 0.018053968510807


def bt709_encode(x: Array) -> Array:
    """As the standard that the section names has it.

    >>> float(bt709_encode(np.array(0.18)).round(3))
    0.409
    """
    return np.where(x < _BETA, 4.5 * x, _ALPHA * np.power(np.maximum(x, _BETA), 0.45) - (_ALPHA - 1))


def bt709_decode(y: Array) -> Array:
    """As the standard that the section names has it.

    >>> float(bt709_decode(np.array(1.0)).round(3))
    1.0
    """
    knee = 4.5 * _BETA
    return np.where(y < knee, y / 4.5, np.power((np.maximum(y, knee) + _ALPHA - 1) / _ALPHA, 1 / 0.45))


# --- IEC 61966-2-1 (sRGB), clause 5.2 ----------------------------------------------------------------------------
def srgb_encode(x: Array) -> Array:
    """As the standard that the section names has it.

    >>> float(srgb_encode(np.array(0.5)).round(4))
    0.7354
    """
    return np.where(x <= 0.0031308, 12.92 * x, 1.055 * np.power(np.maximum(x, 0.0031308), 1 / 2.4) - 0.055)


def srgb_decode(y: Array) -> Array:
    """As the standard that the section names has it.

    >>> float(srgb_decode(np.array(0.04045)).round(5))
    0.00313
    """
    return np.where(y <= 0.04045, y / 12.92, np.power((np.maximum(y, 0.04045) + 0.055) / 1.055, 2.4))


def gamma_curve(name: str, gamma: float) -> Curve:
    """A pure power display, ``x = y^gamma`` (BT.1886 annex 1 with zero black is gamma 2.4).

    >>> float(gamma_curve("twice", 2.0).decode(np.array(0.5)))
    0.25
    """
    return Curve(name, _mirrored(lambda x: np.power(x, 1 / gamma)), _mirrored(lambda y: np.power(y, gamma)), "display")


# --- ACEScct, S-2016-001, clause 4.4 -----------------------------------------------------------------------------
_CCT_CUT_X, _CCT_CUT_Y, _CCT_A, _CCT_B = 0.0078125, 0.155251141552511, 10.5402377416545, 0.0729055341958355


def acescct_encode(x: Array) -> Array:
    """As the standard that the section names has it.

    >>> float(acescct_encode(np.array(0.18)).round(4))
    0.4136
    """
    return np.where(x <= _CCT_CUT_X, _CCT_A * x + _CCT_B, (np.log2(np.maximum(x, _CCT_CUT_X)) + 9.72) / 17.52)


def acescct_decode(y: Array) -> Array:
    """As the standard that the section names has it.

    >>> float(acescct_decode(np.array(0.4136)).round(2))
    0.18
    """
    log = np.exp2(np.clip(y, _CCT_CUT_Y, 4.0) * 17.52 - 9.72)
    return np.where(y <= _CCT_CUT_Y, (y - _CCT_B) / _CCT_A, log)


# --- SMPTE ST 2084 / Rec. ITU-R BT.2100-2, table 4 (PQ) ----------------------------------------------------------
_M1, _M2, _C1, _C2, _C3 = 2610 / 16384, 2523 / 4096 * 128, 3424 / 4096, 2413 / 4096 * 32, 2392 / 4096 * 32


def pq_signal(nits: Array) -> Array:
    """Signal of a luminance in cd/m², valid 0–10 000 (clipped there).

    >>> float(pq_signal(np.array(203.0)).round(4))
    0.5807
    """
    p = np.power(np.clip(nits / 10000.0, 0.0, 1.0), _M1)
    return np.power((_C1 + _C2 * p) / (1 + _C3 * p), _M2)


def pq_nits(signal: Array) -> Array:
    """Luminance in cd/m² of a signal, valid 0–1 (clipped there).

    >>> float(pq_nits(np.array(1.0)))
    10000.0
    """
    p = np.power(np.clip(signal, 0.0, 1.0), 1 / _M2)
    return 10000.0 * np.power(np.maximum(p - _C1, 0) / (_C2 - _C3 * p), 1 / _M1)


# The reference OOTF of PQ (the same table): 59.5208 times normalised scene light through BT.709's curve and BT.1886's power, per component.
_PQ_WHITE = float(bt709_decode(np.array((REFERENCE_WHITE_NITS / 100.0) ** (1 / 2.4))))


def pq_display(x: Array) -> Array:
    """cd/m² at which a PQ display shows scene light, white at its reference level: BT.2100-2, table 4, reference OOTF.

    >>> pq_display(np.array([0.18, 1.0])).round(1).tolist()
    [25.7, 203.0]
    """
    return 100.0 * np.power(np.maximum(bt709_encode(x * _PQ_WHITE), 0.0), 2.4)


def pq_scene(nits: Array) -> Array:
    """The other way: the scene light of which a PQ display shows so many cd/m².

    >>> float(pq_scene(np.array(203.0)).round(6))
    1.0
    """
    return bt709_decode(np.power(np.maximum(nits, 0.0) / 100.0, 1 / 2.4)) / _PQ_WHITE


# --- Rec. ITU-R BT.2100-2, table 5 (HLG reference OETF) ----------------------------------------------------------
_HA = 0.17883277
_HB = 1 - 4 * _HA
_HC = 0.5 - _HA * np.log(4 * _HA)


def hlg_oetf(e: Array) -> Array:
    """Signal of normalised scene light E in 0–1.

    >>> float(hlg_oetf(np.array(1 / 12)).round(6))
    0.5
    """
    upper = _HA * np.log(np.maximum(12 * e - _HB, 1e-9)) + _HC
    return np.where(e <= 1 / 12, np.sqrt(np.maximum(3 * e, 0)), upper)


def hlg_inverse_oetf(y: Array) -> Array:
    """Normalised scene light E of a signal.

    >>> float(hlg_inverse_oetf(np.array(1.0)).round(4))
    1.0
    """
    upper = (np.exp((np.clip(y, 0.5, 2.0) - _HC) / _HA) + _HB) / 12
    return np.where(y <= 0.5, y * y / 3, upper)


_HLG_WHITE = float(hlg_inverse_oetf(np.array([HLG_REFERENCE_SIGNAL]))[0])


def _standard() -> dict[str, Curve]:
    curves = [
        Curve("linear", lambda x: x, lambda y: y, "linear"),
        Curve("bt709", _mirrored(bt709_encode), _mirrored(bt709_decode), "display"),
        Curve("srgb", _mirrored(srgb_encode), _mirrored(srgb_decode), "display"),
        gamma_curve("bt1886", 2.4),
        gamma_curve("gamma22", 2.2),
        gamma_curve("gamma26", 2.6),
        Curve("acescct", acescct_encode, acescct_decode, "log"),
        Curve("float-log", lambda x: acescct_encode(x) / FLOAT_TOP, lambda y: acescct_decode(y * FLOAT_TOP), "log"),
        Curve(
            "pq",
            lambda x: pq_signal(pq_display(x)),
            lambda y: pq_scene(pq_nits(y)),
            "hdr",
        ),
        Curve(
            "hlg",
            _mirrored(lambda x: hlg_oetf(x * _HLG_WHITE)),
            _mirrored(lambda y: hlg_inverse_oetf(y) / _HLG_WHITE),
            "hdr",
        ),
    ]
    return {c.name: c for c in curves}


STANDARD: dict[str, Curve] = _standard()


# --- card forms ---------------------------------------------------------------------------------------------------
def lin_log(name: str, a: float, b: float, c: float, d: float, e: float, f: float, cut: float) -> Curve:
    """``y = c·log10(a·x+b)+d`` above ``cut``, ``e·x+f`` at and below it."""
    cut_y = e * cut + f

    def encode(x: Array) -> Array:
        return np.where(x > cut, c * np.log10(a * np.maximum(x, cut) + b) + d, e * x + f)

    def decode(y: Array) -> Array:
        log = (np.power(10.0, np.clip((np.maximum(y, cut_y) - d) / c, -30, 30)) - b) / a
        return np.where(y > cut_y, log, (y - f) / e)

    return Curve(name, encode, decode, "log")


def mirrored_log(name: str, a: float, c: float, d: float) -> Curve:
    """``y = d ± c·log10(1 + a·|x|)``: a log that meets its mirror image at black, smooth there by nature."""

    def encode(x: Array) -> Array:
        return d + np.copysign(c * np.log10(1 + a * np.abs(x)), x)

    def decode(y: Array) -> Array:
        return np.copysign((np.power(10.0, np.minimum(np.abs(y - d) / c, 30)) - 1) / a, y - d)

    return Curve(name, encode, decode, "log")


def power_toe(name: str, b: float, c: float, d: float, g: float, e: float, f: float, cut: float) -> Curve:
    """``y = c·(x+b)^g + d`` above ``cut``, the straight toe ``e·x+f`` at and below it."""
    cut_y = e * cut + f

    def encode(x: Array) -> Array:
        return np.where(x > cut, c * np.power(np.maximum(x, cut) + b, g) + d, e * x + f)

    def decode(y: Array) -> Array:
        power = np.power(np.maximum((np.maximum(y, cut_y) - d) / c, 0), 1 / g) - b
        return np.where(y > cut_y, power, (y - f) / e)

    return Curve(name, encode, decode, "log")


def table_curve(name: str, linear: ArrayLike, signal: ArrayLike) -> Curve:
    """Straight lines between given (linear, signal) points, both strictly rising; the end pieces run on.

    >>> float(table_curve("two lines", [0, 0.5, 1], [0, 0.8, 1]).encode(np.array(0.25)).round(6))
    0.4
    """
    x, y = np.asarray(linear, dtype=np.float64), np.asarray(signal, dtype=np.float64)

    def between(u: Array, us: Array, vs: Array) -> Array:
        inner = np.interp(u, us, vs)
        low = vs[0] + (u - us[0]) * (vs[1] - vs[0]) / (us[1] - us[0])
        high = vs[-1] + (u - us[-1]) * (vs[-1] - vs[-2]) / (us[-1] - us[-2])
        return np.where(u < us[0], low, np.where(u > us[-1], high, inner))

    return Curve(name, lambda u: between(u, x, y), lambda v: between(v, y, x), "log")


def from_code_values(curve: Curve, bits: int, limited: bool) -> Curve:
    """A curve that is specified on code/(2ⁿ−1), restated for the 0–1 signal of this file's range.

    In a limited-range file the signal 0–1 spans codes 16·2ⁿ⁻⁸ … 235·2ⁿ⁻⁸ (BT.709-6, item 3.4 ff.).
    """
    if not limited:
        return curve
    top = float(2**bits - 1)
    scale, offset = 219.0 * 2 ** (bits - 8) / top, 16.0 * 2 ** (bits - 8) / top
    encode, decode = curve.encode, curve.decode
    return Curve(curve.name, lambda x: (encode(x) - offset) / scale, lambda y: decode(y * scale + offset), curve.kind)
