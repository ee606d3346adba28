"""One shot's colour as one function: signal in, signal out, in float64. Tables and kernels are made from it elsewhere."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from .curves import MIDDLE_GREY, Curve, Map

Array = NDArray[np.float64]
Whites = Literal["let go", "roll off", "keep hue", "keep all"]

BRIGHTEST = 2.0**16  # light, far beyond what any curve or delivery holds
KNEE = 0.4  # reflectance where the shoulder starts: above middle grey, which it must not move


def shoulder(x: Array, peak: float, limit: float = 1.0) -> Array:
    """Identity to the knee, then bends so that ``peak`` meets ``limit`` (rational, slope-continuous, rising up to ``peak``)."""
    if peak <= limit:
        return x
    room = limit - KNEE
    top = (peak - KNEE) / room
    t = np.clip((x - KNEE) / room, 0, top)
    return np.where(x <= KNEE, x, KNEE + room * t * (1 + t / top**2) / (1 + t))


# Ottosson's perceptual space (2020): linear BT.709 → cone responses → lightness and two colour differences.
_CONES = np.array([[0.4122214708, 0.5363325363, 0.0514459929], [0.2119034982, 0.6806995451, 0.1073969566],
                   [0.0883024619, 0.2817188376, 0.6299787005]])  # fmt: skip
_OPPONENT = np.array([[0.2104542553, 0.7936177850, -0.0040720468], [1.9779984951, -2.4285922050, 0.4505937099],
                      [0.0259040371, 0.7827717662, -0.8086757660]])  # fmt: skip


def to_oklab(rgb: Array) -> Array:
    """Lightness and two colour differences (…, 3) of linear light of BT.709's primaries.

    >>> to_oklab(np.ones(3)).round(3).tolist()
    [1.0, 0.0, 0.0]
    """
    return np.asarray(np.cbrt(rgb @ _CONES.T) @ _OPPONENT.T)


def from_oklab(lab: Array) -> Array:
    """As the standard that the section names has it.

    >>> from_oklab(np.array([1.0, 0.0, 0.0])).round(2).tolist()
    [1.0, 1.0, 1.0]
    """
    return np.asarray(((lab @ np.linalg.inv(_OPPONENT).T) ** 3) @ np.linalg.inv(_CONES).T)


def same_hue(bent: Array, meant: Array, limit: float, to_709: Array) -> Array:
    """Light ``bent`` channel by channel, with the hue that it had before (``meant``): its own lightness, as much of its colour
    as fits between 0 and ``limit``. ``to_709``: 3×3 to BT.709's primaries."""
    lab, hue = to_oklab(bent @ to_709.T), to_oklab(meant @ to_709.T)[..., 1:]
    back = np.linalg.inv(to_709).T
    size = np.linalg.norm(hue, axis=-1, keepdims=True)
    way = hue / np.maximum(size, 1e-9)
    chroma = np.linalg.norm(lab[..., 1:], axis=-1, keepdims=True) * (size > 1e-6)
    low, high = np.zeros_like(chroma), np.ones_like(chroma)
    for n in range(9):
        share = high if n == 0 else (low + high) / 2
        light = from_oklab(np.concatenate([lab[..., :1], way * chroma * share], axis=-1)) @ back
        fits = ((light >= -1e-6) & (light <= limit + 1e-6)).all(axis=-1, keepdims=True)
        low = np.where(fits, share, low)
        high = np.where(fits, high, share)
    made = from_oklab(np.concatenate([lab[..., :1], way * chroma * low], axis=-1)) @ back
    return np.clip(made, 0.0, limit)


def contrast(x: Array, amount: float) -> Array:
    """A power about middle grey on light at or above zero; 1 changes nothing.

    >>> float(contrast(np.array(0.18), 1.5).round(6))
    0.18
    """
    return MIDDLE_GREY * np.power(np.maximum(x, 0) / MIDDLE_GREY, amount)


def draw_in(rgb: Array, luma: Array) -> Array:
    """Mixes colours with a negative component towards their own grey until none is left; keeps luminance and hue.

    rgb (…, 3) linear; luma (3,) the luminance weights of these primaries.
    """
    grey = np.maximum(rgb @ luma, 0)[..., None]
    low = rgb.min(axis=-1, keepdims=True)
    share = np.where(low < 0, grey / np.maximum(grey - low, 1e-12), 1.0)
    return grey + (rgb - grey) * share


@dataclass(frozen=True)
class ColourChain:
    """decode → 3×3 (exposure, balance, primaries) → [draw in] → tone per channel → encode.

    ``saturation`` acts last, on the delivered colour difference, and is applied with the output matrix.
    ``peak`` is the brightest light after the matrix that has to be thought of; ``ceiling`` the signal that nothing delivered
    passes. *Keep hue* looks at all channels together, which only a lattice can.
    """

    source: Curve
    matrix: Array
    target: Curve
    whites: Whites = "let go"
    contrast: float = 1.0
    black: float = 0.0
    saturation: float = 1.0
    peak: float = 1.0
    gather: bool = False
    luma: tuple[float, float, float] = (0.2126, 0.7152, 0.0722)
    ceiling: float = 1.0
    to_709: tuple[tuple[float, float, float], ...] = ((1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0))

    @property
    def together(self) -> bool:
        """Is it more than a matrix and a curve a channel?"""
        return self.gather or (self.whites == "keep hue" and self.target.kind != "hdr")

    @property
    def limit(self) -> float:
        """The light that is delivered at the ceiling."""
        return float(self.target.decode(np.array([self.ceiling]))[0])

    @property
    def decode(self) -> Map:
        return self.source.decode

    def light(self, signal: Array) -> Array:
        """What ``decode`` gives, as far as anything is told apart."""
        return np.clip(self.decode(signal), -BRIGHTEST, BRIGHTEST)

    @property
    def gain(self) -> float:
        """By how much neutral light is multiplied: the exposure."""
        return float(self.matrix.sum(axis=1).mean())

    @property
    def grey(self) -> float:
        """Delivered signal of middle grey."""
        return float(self.tone(np.array([MIDDLE_GREY]) * self.gain)[0])

    @property
    def saturates_at(self) -> float:
        """The light from which on every tone is the same."""
        top = float(contrast(np.array([self.peak]), self.contrast)[0])
        if self.target.kind != "hdr" and self.whites != "let go" and top > self.limit:
            return self.peak
        peak = self.target.peak if self.target.kind == "hdr" else self.limit
        return float(MIDDLE_GREY * (peak / MIDDLE_GREY) ** (1 / self.contrast))

    def bent(self, x: Array) -> Array:
        """Linear light → what of it is delivered, channel by channel."""
        x = contrast(x, self.contrast)
        if self.target.kind == "hdr":
            return x
        top, limit = float(contrast(np.array([self.peak]), self.contrast)[0]), self.limit
        if self.whites == "keep all":
            x = x * limit / max(top, limit)
        elif self.whites in ("roll off", "keep hue"):
            x = shoulder(x, top, limit)
        return np.minimum(x, limit)

    def tone(self, x: Array) -> Array:
        """Linear light of one channel → delivered signal, 0 to the ceiling."""
        return self._signal(self.bent(x))

    def _signal(self, x: Array) -> Array:
        signal = self.target.encode(x)
        top = 1.0 if self.target.kind == "hdr" else self.ceiling
        return np.clip(signal + self.black * (1 - signal), 0.0, top)

    def apply(self, rgb: Array) -> Array:
        """Signal R′G′B′ (…, 3) → delivered R′G′B′, without saturation."""
        light = self.decode(np.asarray(rgb, dtype=np.float64)) @ self.matrix.T
        if self.gather:
            light = draw_in(light, np.array(self.luma))
        if self.together and self.whites == "keep hue":
            return self._signal(same_hue(self.bent(light), contrast(light, self.contrast), self.limit, np.array(self.to_709)))
        return self.tone(light)

    def hue_turn(self) -> float:
        """By how many degrees (Oklab) a saturated colour at the peak is turned by what happens above white, at the worst."""
        colours = np.array([[1, 0.3, 0.05], [0.05, 0.3, 1], [0.9, 0.1, 0.6], [0.6, 1, 0.1], [0.1, 0.9, 0.8], [1, 0.6, 0.1]])
        light, to_709 = colours * max(self.peak, self.limit), np.array(self.to_709)
        out = same_hue(self.bent(light), light, self.limit, to_709) if self.whites == "keep hue" else self.bent(light)
        labs = to_oklab(light @ to_709.T), to_oklab(out @ to_709.T)
        angle = [np.arctan2(lab[:, 2], lab[:, 1]) for lab in labs]
        coloured = np.linalg.norm(labs[1][:, 1:], axis=1) > 0.02
        away = np.degrees(np.abs((angle[1] - angle[0] + np.pi) % (2 * np.pi) - np.pi))
        return float(away[coloured].max(initial=0.0))
