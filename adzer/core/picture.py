"""A picture has a type: what the pixels of a stream mean, at one point of a route."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import msgspec

from . import records


class Picture(msgspec.Struct, frozen=True):
    """The meaning of a stream's pixels. ``None`` is *unknown*, never a default.

    raster          recorded samples, width × height
    pixel_aspect    width of a pixel over its height
    projection      ``flat`` (a lens), ``equirectangular``, ``fisheye``
    eyes            ``one``, ``side by side``, ``over under``
    mosaic          ``none`` or the colour filter's order
    curve           a curve card's name
    primaries       a primaries card's name
    range           ``limited`` or ``full`` (ITU-T H.273, video_full_range_flag)
    matrix          ``bt709``, ``bt2020``, ``bt601`` or ``rgb`` (H.273, MatrixCoefficients)
    bits            nominal depth, 8–16
    chroma          ``4:2:0``, ``4:2:2``, ``4:4:4``, ``4:0:0``
    siting          chroma sample location: ``left``, ``center``, ``topleft``, ``top``, ``bottomleft``, ``bottom`` (H.273,
                    Chroma420SampleLocType)
    turn            degrees clockwise, 0, 90, 180 or 270, by which the recorded samples are turned to stand upright; all else
                    here is of the upright picture
    rate            frames a second, exact
    timecode        of the first frame
    duration        seconds, exact
    coverage        of a sphere or fisheye: ``360`` or ``180`` degrees
    packing         of two eyes in one picture: ``full``, or ``half`` if each is squeezed into its half
    first           the eye on the left or above: ``left`` or ``right``
    detail          recorded pixels behind each of these, along a side, where that was worked out
    """

    raster: tuple[int, int]
    pixel_aspect: Fraction = Fraction(1)
    projection: str | None = None
    eyes: str | None = None
    mosaic: str | None = None
    curve: str | None = None
    primaries: str | None = None
    range: str | None = None
    matrix: str | None = None
    bits: int | None = None
    chroma: str | None = None
    siting: str | None = None
    turn: int = 0
    rate: Fraction | None = None
    constant_rate: bool | None = None
    timecode: str | None = None
    frames: int | None = None
    duration: Fraction | None = None
    coverage: str | None = None
    packing: str | None = None
    first: str | None = None
    detail: float | None = None

    @property
    def shape(self) -> Fraction:
        """Width over height as it is meant to be seen."""
        return Fraction(self.raster[0], self.raster[1]) * self.pixel_aspect

    def region(self, eye: str) -> tuple[int, int, int, int]:
        """x, y, width, height of one eye's part, even; the whole picture if there is only one."""
        w, h = self.raster
        second = int(eye != (self.first or "left"))
        if self.eyes == "side by side":
            return (w // 4 * 2 * second, 0, w // 4 * 2, h)
        if self.eyes == "over under":
            return (0, h // 4 * 2 * second, w, h // 4 * 2)
        return (0, 0, w, h)

    @property
    def eye_aspect(self) -> Fraction:
        """Width of an eye's pixel over its height."""
        if self.packing != "half":
            return self.pixel_aspect
        return self.pixel_aspect * (2 if self.eyes == "side by side" else Fraction(1, 2))

    def with_(self, **changes: object) -> Picture:
        return msgspec.structs.replace(self, **changes)

    def as_json(self) -> dict[str, Any]:
        """Plain values; ``duration`` in seconds as a number; ``detail`` only where it was worked out."""
        plain: dict[str, Any] = records.to_plain(self)
        if self.detail is None:
            del plain["detail"]
        if self.duration is not None:
            plain["duration"] = round(float(self.duration), 6)
        return plain
