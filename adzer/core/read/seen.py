"""What the footage itself says: a guess for each field of its Picture, with confidence and the numbers it rests on."""

from __future__ import annotations

from fractions import Fraction

import msgspec

from .measure import Levels

SURE = 0.8  # below this a guess is shown, never acted on


class Guess(msgspec.Struct, frozen=True):
    """``value`` None: the footage does not tell. ``confidence`` 0–1; ``saw``: the numbers, as a clause."""

    value: str | None = None
    confidence: float = 0.0
    saw: str = ""

    @property
    def sure(self) -> bool:
        return self.value is not None and self.confidence >= SURE


class Disc(msgspec.Struct, frozen=True):
    """A round lens's picture: centre and radius in recorded pixels (0 is the picture's edge)."""

    x: float
    y: float
    radius: float


class Wrap(msgspec.Struct, frozen=True):
    """Does the picture close like a sphere? ``poles``: how much the outer rows vary, as a share of what rows usually do;
    ``seam``: the step from the last column to the first, over the usual step between columns. ``rows``: how much each
    row varies, top to bottom; ``left`` and ``right``: luma down the outer columns."""

    poles: float
    seam: float
    rows: tuple[float, ...]
    left: tuple[float, ...]
    right: tuple[float, ...]


class Halves(msgspec.Struct, frozen=True):
    """Two halves compared. ``agree``: median correlation of their blocks at the best shift each (0–1); ``shifts`` in
    percent of an eye's width and ``curve``: mean correlation there; ``places``: (height 0–1, shift in percent) a block."""

    packing: str
    agree: float
    shifts: tuple[float, ...]
    curve: tuple[float, ...]
    places: tuple[tuple[float, float], ...]
    slope: float  # percent of width from top to bottom
    slope_error: float


class Depth(msgspec.Struct, frozen=True):
    """``real_bits``: what the codes really use. ``low`` and ``high``: share of samples cut off at the bottom and top of
    R, G, B. ``noise``: standard deviation of luma in flat places, as a share of the signal."""

    bits: int
    real_bits: int
    low: tuple[float, float, float]
    high: tuple[float, float, float]
    noise: float


class Rhythm(msgspec.Struct, frozen=True):
    """``late``: frames after which one or more are missing; ``doubled``: share of frames in the looked-at run that repeat
    the one before; ``run``: how many were compared; ``comb``: line-to-line over field-to-field difference where it moves."""

    late: tuple[int, ...]
    lost: int
    doubled: float
    run: int
    comb: float
    interlaced: bool


class Play(msgspec.Struct, frozen=True):
    """Measured on this machine: decoded frames a second, milliseconds for a jump, over ``frames`` frames."""

    rate: float
    seek_ms: float
    frames: int

    def keeps_up(self, with_: Fraction | None) -> bool:
        return with_ is None or self.rate >= 1.1 * float(with_)


class Seen(msgspec.Struct, frozen=True):
    """Everything measured on one file, known by its ``fingerprint``."""

    fingerprint: str
    levels: Levels
    projection: Guess = Guess()
    coverage: Guess = Guess()
    eyes: Guess = Guess()
    packing: Guess = Guess()
    first: Guess = Guess()
    curve: Guess = Guess()
    range: Guess = Guess()
    turn: Guess = Guess()
    discs: tuple[Disc, ...] = ()
    wrap: Wrap | None = None
    halves: Halves | None = None
    depth: Depth | None = None
    rhythm: Rhythm | None = None
    play: Play | None = None
    version: int = 1

    @property
    def sure_kind(self) -> str | None:
        """The kind of curve that it surely looks like."""
        return self.curve.value if self.curve.sure else None

    def upright(self, raster: tuple[int, int], turn: int) -> Seen:
        """The same of the recorded ``raster`` turned clockwise by ``turn`` degrees: its discs where they lie then."""
        if not turn or not self.discs:
            return self
        w, h = raster
        place = {
            90: lambda x, y: (h - y, x),
            180: lambda x, y: (w - x, h - y),
            270: lambda x, y: (y, w - x),
        }[turn]
        return msgspec.structs.replace(self, discs=tuple(Disc(*place(d.x, d.y), d.radius) for d in self.discs))

    def on(self, raster: tuple[int, int], copy: tuple[int, int]) -> Seen:
        """What a copy of another raster shows: the same, its discs where they lie there."""
        if raster == copy or not self.discs:
            return self
        x, y = copy[0] / raster[0], copy[1] / raster[1]
        discs = tuple(Disc(d.x * x, d.y * y, d.radius * y) for d in self.discs)
        return msgspec.structs.replace(self, discs=discs)
