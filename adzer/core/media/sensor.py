"""What a recording of sensor values says of them: plain records, in the terms of the DNG specification (version 1.6)."""

from __future__ import annotations

from fractions import Fraction

import msgspec

Four = tuple[float, float, float, float]  # one a cell of the colour filter: upper left, upper right, lower left, lower right
Three = tuple[float, float, float]
Matrix = tuple[Three, Three, Three]


class Calibration(msgspec.Struct, frozen=True):
    """Under a light of ``kelvin`` (CalibrationIlluminant): ``colour``: XYZ → camera (ColorMatrix); ``forward``: balanced camera → XYZ of D50
    (ForwardMatrix); ``own``: of this body against its kind (CameraCalibration)."""

    kelvin: float
    colour: Matrix
    forward: Matrix | None = None
    own: Matrix | None = None


class GainMap(msgspec.Struct, frozen=True):
    """By how much values are multiplied (opcode 9): on ``rows`` × ``columns`` places, spread evenly from ``origin`` (down, right) at
    ``spacing``, as shares of the picture. ``area``: top, left, bottom, right in values; ``pitch``: only every so manieth row and column."""

    area: tuple[int, int, int, int]
    pitch: tuple[int, int]
    rows: int
    columns: int
    spacing: tuple[float, float]
    origin: tuple[float, float]
    gains: tuple[float, ...]


class Sensor(msgspec.Struct, frozen=True):
    """The values of one frame.

    raster    width and height of those that count (ActiveArea, DefaultCrop); ``corner``: where they begin in the file (left, top)
    order     of the colour filter, row by row, at that corner: ``rggb``, ``bggr``, ``grbg`` or ``gbrg``
    bits      of a value as it is stored; ``table``: what stored values stand for (LinearizationTable), empty: themselves
    black     by cell; ``down`` and ``across``: more of it, row by row and column by column (BlackLevelDeltaV, …H)
    white     by cell: the value at which the sensor is full
    lights    calibrations under one or two lights, warmest first; empty: none
    analog    AnalogBalance, by red, green, blue
    neutral   the camera's own values of white as shot (AsShotNeutral), or None; ``white_xy``: the same as CIE xy (AsShotWhiteXY)
    exposure  stops by which the maker moves middle grey (BaselineExposure)
    aspect    width of a pixel over its height (DefaultScale)
    dead      places (left, top in ``raster``) of values that say nothing
    dead_code the value that places have which say nothing, None: none
    gains     maps of gain; ``bend``: how straight lines are bent (WarpRectilinear: kr1 … kr3 over kr0), empty: not said
    noise     NoiseProfile: of a linear value x, 0 black to 1 white, the variance is a·x + b; by red, green, blue, or once for all
    camera    what the file calls its camera: compared, never shown
    """

    raster: tuple[int, int]
    corner: tuple[int, int]
    order: str
    bits: int
    black: Four
    white: Four
    table: tuple[int, ...] = ()
    down: tuple[float, ...] = ()
    across: tuple[float, ...] = ()
    lights: tuple[Calibration, ...] = ()
    analog: Three = (1.0, 1.0, 1.0)
    neutral: Three | None = None
    white_xy: tuple[float, float] | None = None
    exposure: float = 0.0
    aspect: Fraction = Fraction(1)
    dead: tuple[tuple[int, int], ...] = ()
    dead_code: int | None = None
    gains: tuple[GainMap, ...] = ()
    bend: tuple[float, ...] = ()
    noise: tuple[tuple[float, float], ...] = ()
    camera: str = ""
    rate: Fraction | None = None
    timecode: str | None = None

    @property
    def depth(self) -> int:
        """Bits of a value after the table."""
        return 16 if self.table else self.bits

    @property
    def cells(self) -> tuple[int, int, int, int]:
        """Of each cell of the filter, 0 red, 1 green, 2 blue."""
        a, b, c, d = ("rgb".index(letter) for letter in self.order)
        return a, b, c, d


def shifted(order: str, left: int, top: int) -> str:
    """The order of a colour filter seen from another place.

    >>> shifted("rggb", 1, 0), shifted("rggb", 3, 1)
    ('grbg', 'bggr')
    """
    return "".join(order[(y + top) % 2 * 2 + (x + left) % 2] for y in (0, 1) for x in (0, 1))
