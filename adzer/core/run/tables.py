"""The colour of a plan as matrices and tables, each worked out once, for kernels and reference alike."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ..light.chain import BRIGHTEST, ColourChain
from ..light.curves import Curve, Map
from ..light.pieces import ChainPieces, chain_pieces
from ..light.samples import Samples

Array = NDArray[np.float64]
Floats = NDArray[np.float32]

TABLE_IN_CELLS = 4096
TABLE_IN_DOMAIN = (-0.2, 1.12)  # limited range reaches 1.095; colours beyond are none that a camera records
LATTICE = 65
TABLE_FLOOR_OCTAVE = -14
CELLS_PER_OCTAVE = 128


@dataclass(frozen=True)
class Tables:
    """From codes of ``source`` through ``chain`` to codes of ``target``."""

    source: Samples
    chain: ColourChain | None
    target: Samples

    @property
    def kind(self) -> int:
        """0: no colour, 1: table–matrix–table, 2: shaper and lattice."""
        return 0 if self.chain is None else 2 if self.chain.together else 1

    @cached_property
    def in_matrix(self) -> Array:
        """Codes → signal; without colour, straight to delivered codes."""
        if self.chain is not None:
            return self.source.to_signal()
        inner, outer = self.source.to_signal(), self.target.to_codes()
        return np.column_stack([outer[:, :3] @ inner[:, :3], outer[:, :3] @ inner[:, 3] + outer[:, 3]])

    @cached_property
    def out_matrix(self) -> Array:
        return self.target.to_codes(self.chain.saturation if self.chain else 1.0)

    @cached_property
    def light_limit(self) -> float:
        """The light from which on the tone does not change: the output table's last cell ends exactly there."""
        assert self.chain is not None
        return float(np.float32(np.clip(self.chain.saturates_at, 2.0**-6, BRIGHTEST)))

    @cached_property
    def table_in(self) -> Floats:
        """Signal → light over ``TABLE_IN_DOMAIN``; for a lattice, signal → lattice coordinate."""
        assert self.chain is not None
        halves = np.linspace(*TABLE_IN_DOMAIN, 2 * TABLE_IN_CELLS + 1)
        values = self.chain.light(halves) if self.kind == 1 else self.shaper(halves)
        return _lines(values[::2], np.arange(TABLE_IN_CELLS + 1, dtype=np.float64), values[1::2])

    def shaper(self, signal: Array) -> Array:
        """Lattice coordinate of a signal. Curves are even enough as they are; linear light is taken by its 3rd root."""
        assert self.chain is not None
        low, high = -0.1, 1.1
        if self.chain.source.kind == "linear":
            signal, low, high = np.cbrt(signal), np.cbrt(low), np.cbrt(high)
        return (signal - low) / (high - low) * (LATTICE - 1)

    def unshaper(self, coordinate: Array) -> Array:
        assert self.chain is not None
        low, high = -0.1, 1.1
        if self.chain.source.kind == "linear":
            low, high = np.cbrt(low), np.cbrt(high)
            return (low + coordinate / (LATTICE - 1) * (high - low)) ** 3
        return low + coordinate / (LATTICE - 1) * (high - low)

    @cached_property
    def table_out(self) -> Floats:
        """Light → delivered signal."""
        assert self.chain is not None
        return over_octaves(self.chain.tone, self.light_limit)

    @cached_property
    def pieces(self) -> ChainPieces | None:
        """Both curves as polynomials, where they are that smooth."""
        assert self.chain is not None
        return chain_pieces(self.chain, TABLE_IN_DOMAIN, self.light_limit, self.target.format.bits)

    @cached_property
    def lattice(self) -> Floats:
        """Delivered R′G′B′ at every lattice point, (n, n, n, 3)."""
        assert self.chain is not None
        axis = self.unshaper(np.arange(LATTICE, dtype=np.float64))
        grid = np.stack(np.meshgrid(axis, axis, axis, indexing="ij"), axis=-1)
        return self.chain.apply(grid).astype(np.float32)


def _lines(values: Array, places: Array, between: Array) -> Floats:
    """Cells of straight pieces over ``places``, as (value at 0, slope).

    ``between`` are the values halfway: each piece is shifted by half of what it misses there, which halves its error.
    """
    slope = np.diff(values) / np.diff(places)
    middle = (places[:-1] + places[1:]) / 2
    chord = values[:-1] + slope * (middle - places[:-1])
    start = chord + (between - chord) / 2 - slope * middle
    return np.stack([start, slope], axis=-1).astype(np.float32)


def over_octaves(function: Map, limit: float) -> Floats:
    """Cells of a function of light + 2⁻¹⁴, 128 to the octave from 2⁻¹⁴ (which stands for 0) to the limit."""
    floor = 2.0**TABLE_FLOOR_OCTAVE
    octaves = int(np.ceil(np.log2(limit + floor))) - TABLE_FLOOR_OCTAVE
    cell = np.arange(octaves * CELLS_PER_OCTAVE + 1)
    octave, step = np.divmod(cell, CELLS_PER_OCTAVE)
    light = 2.0 ** (TABLE_FLOOR_OCTAVE + octave) * (1 + step / CELLS_PER_OCTAVE)
    light = np.append(light[light < limit + floor], limit + floor)
    middle = (light[:-1] + light[1:]) / 2
    lines = _lines(function(light - floor), light, function(middle - floor))
    return np.concatenate([lines, lines[-1:]])  # the limit itself may open one cell more


@dataclass(frozen=True)
class Mixing:
    """The light in which recordings are mixed, and the way back to a recorded signal. ``curve`` None: signals as they are."""

    curve: Curve | None

    def _light(self, signal: Array) -> Array:
        light = signal if self.curve is None else self.curve.decode(signal)
        return np.maximum.accumulate(np.clip(light, -BRIGHTEST, BRIGHTEST))

    @cached_property
    def table_in(self) -> Floats:
        """Signal → light over ``TABLE_IN_DOMAIN``."""
        values = self._light(np.linspace(*TABLE_IN_DOMAIN, 2 * TABLE_IN_CELLS + 1))
        return _lines(values[::2], np.arange(TABLE_IN_CELLS + 1, dtype=np.float64), values[1::2])

    def to_table(self, samples: Samples) -> Floats:
        """(3, 4) codes → places in ``table_in``."""
        low, high = TABLE_IN_DOMAIN
        matrix = samples.to_signal().copy()
        matrix[:, 3] -= low
        return np.asarray(matrix * (TABLE_IN_CELLS / (high - low)), np.float32)

    @cached_property
    def back(self) -> tuple[Floats, np.float32, np.float32]:
        """(cells of light + offset → signal, limit, offset): below black, too."""
        ends = self._light(np.array(TABLE_IN_DOMAIN))
        floor = 2.0**TABLE_FLOOR_OCTAVE
        limit = float(ends[1] - ends[0])
        signal = np.linspace(*TABLE_IN_DOMAIN, 1 << 16)
        light = self._light(signal)
        rising = np.append(True, np.diff(light) > 0)

        def function(x: Array) -> Array:
            if self.curve is None:
                return x + ends[0]
            return np.clip(np.interp(x + ends[0], light[rising], signal[rising]), *TABLE_IN_DOMAIN)

        return over_octaves(function, limit), np.float32(limit), np.float32(floor - ends[0])
