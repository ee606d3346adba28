"""One shot's colour as one function: signal in, signal out, in float64. Tables and kernels are made from it elsewhere."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from .curves import MIDDLE_GREY, Curve, Map

Array = NDArray[np.float64]
Whites = Literal["let go", "roll off", "keep all"]

BRIGHTEST = 2.0**16  # light, far beyond what any curve or delivery holds
KNEE = 0.4  # reflectance where the shoulder starts: above middle grey, which it must not move


def shoulder(x: Array, peak: float) -> Array:
    """Identity to the knee, then bends so that ``peak`` meets 1 (rational, slope-continuous, rising up to ``peak``)."""
    if peak <= 1.0:
        return x
    top = (peak - KNEE) / (1 - KNEE)
    t = np.clip((x - KNEE) / (1 - KNEE), 0, top)
    return np.where(x <= KNEE, x, KNEE + (1 - KNEE) * t * (1 + t / top**2) / (1 + t))


def contrast(x: Array, amount: float) -> Array:
    """A power about middle grey on light at or above zero; 1 changes nothing."""
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
    ``peak`` is the brightest light after the matrix that has to be thought of.
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
        if self.target.kind != "hdr" and self.whites != "let go" and top > 1.0:
            return self.peak
        peak = self.target.peak if self.target.kind == "hdr" else 1.0
        return float(MIDDLE_GREY * (peak / MIDDLE_GREY) ** (1 / self.contrast))

    def tone(self, x: Array) -> Array:
        """Linear light of one channel → delivered signal, 0–1."""
        x = contrast(x, self.contrast)
        top = float(contrast(np.array([self.peak]), self.contrast)[0])
        if self.target.kind != "hdr":
            if self.whites == "keep all":
                x = x / max(top, 1.0)
            elif self.whites == "roll off":
                x = shoulder(x, top)
            x = np.minimum(x, 1.0)
        signal = self.target.encode(x)
        return np.clip(signal + self.black * (1 - signal), 0.0, 1.0)

    def apply(self, rgb: Array) -> Array:
        """Signal R′G′B′ (…, 3) → delivered R′G′B′, without saturation."""
        light = self.decode(np.asarray(rgb, dtype=np.float64)) @ self.matrix.T
        if self.gather:
            light = draw_in(light, np.array(self.luma))
        return self.tone(light)
