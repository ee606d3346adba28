"""Planar pixel formats: how a decoder's frame lies in memory, and nothing more. No sample is converted here."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..errors import UnreadableError

Plane = NDArray[np.uint8] | NDArray[np.uint16]


@dataclass(frozen=True)
class PixelFormat:
    """``bits`` per sample; ``chroma`` 4:2:0 / 4:2:2 / 4:4:4 / 4:0:0; ``rgb`` if the planes are R, G, B."""

    bits: int
    chroma: str
    rgb: bool = False

    @property
    def sub(self) -> tuple[int, int]:
        """Horizontal and vertical subsampling of planes 1 and 2."""
        return SUBSAMPLING[self.chroma]

    @property
    def planes(self) -> int:
        return 1 if self.chroma == "4:0:0" else 3

    @property
    def dtype(self) -> type[np.generic]:
        return np.uint8 if self.bits == 8 else np.uint16

    def plane_size(self, raster: tuple[int, int], plane: int) -> tuple[int, int]:
        """(width, height) of a plane; odd rasters round up, as every decoder does."""
        w, h = raster
        sx, sy = self.sub if plane else (1, 1)
        return -(-w // sx), -(-h // sy)

    @property
    def av_name(self) -> str:
        """The library's own identifier, little endian."""
        for name, fmt in AV_FORMATS.items():
            if fmt == self and name not in _ALIASES:
                return name
        raise UnreadableError(f"There is no planar format of {self.bits} bits {self.chroma}.")


# 4:4:0 is 4:2:2 that was turned upright; nothing is recorded or delivered so.
SUBSAMPLING = {"4:2:0": (2, 2), "4:2:2": (2, 1), "4:4:4": (1, 1), "4:0:0": (1, 1), "4:4:0": (1, 2)}

AV_FORMATS: dict[str, PixelFormat] = {}
_ALIASES = {"yuvj420p", "yuvj422p", "yuvj444p", "nv12", "nv16", "p010le", "p012le", "p016le", "p210le", "p216le"}
for _chroma in ("420", "422", "444"):
    _name = ":".join(_chroma)
    AV_FORMATS[f"yuv{_chroma}p"] = PixelFormat(8, _name)
    AV_FORMATS[f"yuvj{_chroma}p"] = PixelFormat(8, _name)
    for _bits in (9, 10, 12, 14, 16):
        AV_FORMATS[f"yuv{_chroma}p{_bits}le"] = PixelFormat(_bits, _name)
for _bits in (10, 12, 14, 16):
    AV_FORMATS[f"gbrp{_bits}le"] = PixelFormat(_bits, "4:4:4", rgb=True)
    AV_FORMATS[f"gray{_bits}le"] = PixelFormat(_bits, "4:0:0")
AV_FORMATS |= {"gbrp": PixelFormat(8, "4:4:4", rgb=True), "gray": PixelFormat(8, "4:0:0")}
# Two-plane formats: chroma interleaved; p0xx keep their bits at the top of 16.
SEMI_PLANAR = {
    "nv12": (PixelFormat(8, "4:2:0"), 0),
    "nv16": (PixelFormat(8, "4:2:2"), 0),
    "p010le": (PixelFormat(10, "4:2:0"), 6),
    "p012le": (PixelFormat(12, "4:2:0"), 4),
    "p016le": (PixelFormat(16, "4:2:0"), 0),
    "p210le": (PixelFormat(10, "4:2:2"), 6),
    "p216le": (PixelFormat(16, "4:2:2"), 0),
}
# Packed RGB: sample order within a pixel, samples a pixel.
PACKED_RGB = {
    "rgb24": (PixelFormat(8, "4:4:4", rgb=True), (0, 1, 2), 3),
    "bgr24": (PixelFormat(8, "4:4:4", rgb=True), (2, 1, 0), 3),
    "rgba": (PixelFormat(8, "4:4:4", rgb=True), (0, 1, 2), 4),
    "bgra": (PixelFormat(8, "4:4:4", rgb=True), (2, 1, 0), 4),
    "rgb48le": (PixelFormat(16, "4:4:4", rgb=True), (0, 1, 2), 3),
    "rgba64le": (PixelFormat(16, "4:4:4", rgb=True), (0, 1, 2), 4),
}
# One sensor value a pixel under a colour filter; the decoder has scaled black to 0 and white to all ones.
MOSAICS = {f"bayer_{order}{bits}": order for order in ("rggb", "bggr", "grbg", "gbrg") for bits in ("8", "16le")}
# Float R, G, B (G, B, R in memory): light, held as 16 bits of a logarithm so that nothing above white is lost.
FLOAT_RGB = {"gbrpf32le", "gbrapf32le"}
FLOAT_TOP = 1.5  # the signal of ACEScct (S-2016-001, clause 4.4) that is the top code; light 65504 has 1.468


def float_codes(light: NDArray[np.float32]) -> NDArray[np.uint16]:
    """16-bit codes of linear light, −0.0069 to 65504: ACEScct over FLOAT_TOP; what is no number is black."""
    held = np.nan_to_num(light, nan=0.0, posinf=65504.0, neginf=0.0)
    log = (np.log2(np.maximum(held, 0.0078125)) + np.float32(9.72)) / np.float32(17.52)
    signal = np.where(held <= 0.0078125, np.float32(10.5402377416545) * held + np.float32(0.0729055341958355), log)
    codes: NDArray[np.uint16] = (np.clip(signal / FLOAT_TOP, 0, 1) * 65535 + 0.5).astype(np.uint16)
    return codes


def mosaic_of(av_name: str) -> str | None:
    """The order of the colour filter, row by row, if the samples lie under one."""
    return MOSAICS.get(av_name)


def pixel_format(av_name: str) -> PixelFormat | None:
    """The format of a decoder's identifier; None if Adzer cannot take it."""
    if av_name in AV_FORMATS:
        return AV_FORMATS[av_name]
    for table in (SEMI_PLANAR, PACKED_RGB):
        if av_name in table:
            return table[av_name][0]
    if av_name in MOSAICS:
        return PixelFormat(8 if av_name.endswith("8") else 16, "4:0:0")
    return PixelFormat(16, "4:4:4", rgb=True) if av_name in FLOAT_RGB else None
