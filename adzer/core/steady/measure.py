"""How a shot shakes, from how its picture moves."""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..look import turns
from ..look.motion import LEVEL, ROLL, SURE, X, Y, blurs, focal, path, readout
from ..look.passes import Rows
from . import standing
from .slow import SLOW, slow

VERSION = 6
VIEWS = 5.0, 150.0  # degrees that a lens may see across its picture
GOES, ROLLS = 0.002, 0.1  # of its width, and degrees, a second, below which what is slow is no movement
TURNS = 0.5  # degrees a second, likewise of a sphere
STOOD, STOOD_TURN = 0.03, 0.003  # recorded pixels within which nothing moved, and degrees within which it did not turn
Array = NDArray[np.float64]


class Shake(msgspec.Struct, frozen=True):
    """``pixels``: recorded ones, rms, by which the picture is off where a slow hand would hold it; ``roll``: degrees, likewise;
    ``hz``: the strongest frequency of it, None where there is none; ``widest``: pixels, the most; ``known``: share of frames whose
    motion is known; ``readout``: milliseconds from the first row read out to the last, and its standard error, None where nothing tells;
    ``blurs``: by what share fast frames are less sharp than still ones, None where sharpness does not go with speed;
    ``view``: degrees that its lens sees across, and by how many they may be off, None where it turns too little to tell; ``cuts`` in it, and
    frames that stand ``frozen``, the one before again while it moved; ``goes``: recorded pixels a second, ``rolls``: degrees a second, of what is
    slow: more than that for a twentieth of the time; 0 below what drifts of itself."""

    pixels: float
    roll: float
    hz: float | None
    widest: float
    known: float
    readout: tuple[float, float] | None = None
    blurs: float | None = None
    view: tuple[float, float] | None = None
    cuts: int = 0
    frozen: int = 0
    goes: float = 0.0
    rolls: float = 0.0
    version: int = VERSION

    @property
    def leans(self) -> float | None:
        return _surely(self.readout)


class Turned(msgspec.Struct, frozen=True):
    """Of a sphere: ``degrees``, rms, by which it is turned off where a slow hand would hold it, and ``roll`` of them to the side;
    ``hz`` as of ``Shake``; ``fastest``: degrees a second that it turns on purpose, ``jerks``: that its shake alone turns it faster than, a twentieth
    of the time; ``readout`` as of ``Shake``, where it was seen through round lenses; ``known``: share of frames whose motion is known,
    ``travels``: on which it is known whither it goes; ``lean``: tilt and roll of its first frame, and by how much they may be off, degrees;
    None: nothing in it says so; ``cuts`` and ``frozen`` as of ``Shake``."""

    degrees: float
    roll: float
    hz: float | None
    fastest: float
    known: float
    travels: float
    lean: tuple[float, float, float] | None = None
    jerks: float = 0.0
    cuts: int = 0
    frozen: int = 0
    readout: tuple[float, float] | None = None
    version: int = VERSION

    @property
    def leans(self) -> float | None:
        return _surely(self.readout)


def _surely(readout: tuple[float, float] | None) -> float | None:
    """Where it is told beyond doubt: three times as far from none as it may be off. Synthetic pictures have none."""
    return readout[0] if readout is not None and abs(readout[0]) > 3 * readout[1] else None


def _in_ms(readout: tuple[float, float] | None, rate: float) -> tuple[float, float] | None:
    return None if readout is None else (round(readout[0] * 1000 / rate, 2), round(readout[1] * 1000 / rate, 2))


def trace(rows: Rows, rate: float) -> Array:
    """(frames, 3) what is too fast to be meant: pixels right and down, degrees clockwise."""
    lies = path(rows)[:, : ROLL + 1]
    return np.asarray(lies - slow(lies, rate))


def _view(rows: Rows, wide: int) -> tuple[float, float] | None:
    if (found := focal(rows)) is None:
        return None
    half = float(np.arctan(wide / 2 / found[0]))
    off = float(np.degrees(np.sin(2 * half) * found[1]))
    return (round(float(np.degrees(2 * half)), 1), round(max(off, 0.1), 1)) if VIEWS[0] <= np.degrees(2 * half) <= VIEWS[1] else None


def cuts(rows: Rows) -> int:
    """Frames that nothing leads to, and whose light is nowhere as before, between frames that are known: another picture."""
    return _between(rows[:, SURE] > 0, (rows[:, SURE] <= 0) & (rows[:, LEVEL] <= 0))


def frozen(rows: Rows) -> int:
    """Frames in which nothing at all moves, though it does before and after."""
    return _stands(rows[:, SURE] > 0, np.hypot(rows[:, X], rows[:, Y]), STOOD)


def _between(around: NDArray[np.bool_], these: NDArray[np.bool_]) -> int:
    """How many of ``these`` frames lie single between others that are ``around``."""
    return int((these[1:-1] & around[:-2] & around[2:]).sum()) if len(these) > 2 else 0


def _stands(known: NDArray[np.bool_], step: Array, stood: float) -> int:
    """How many known frames stand, within ``stood``, between others that move by ten times that."""
    return _between(known & (step > 10 * stood), known & (step < stood))


def shake(rows: Rows, rate: float, raster: tuple[int, int]) -> Shake:
    """Of the rows of ``look.motion`` at ``rate`` frames a second of a recorded picture of ``raster`` pixels."""
    off = trace(rows, rate)
    meant = np.diff(path(rows)[:, : ROLL + 1] - off, axis=0, prepend=np.zeros((1, 3)))[1:] * rate
    goes, rolls = _most(np.hypot(meant[:, 0], meant[:, 1])), _most(np.abs(meant[:, 2]))
    far = np.hypot(off[:, 0], off[:, 1])
    pixels = float(np.sqrt((far**2).mean()))
    return Shake(
        round(pixels, 2), round(float(np.sqrt((off[:, 2] ** 2).mean())), 3), _strongest(off[:, :2], rate) if pixels > 0.2 else None,
        round(float(far.max()), 1), round(float((rows[:, SURE] > 0).mean()), 3),
        _in_ms(readout(rows, raster[1]), rate),
        None if (blurred := blurs(rows)) is None else round(blurred, 3), _view(rows, raster[0]), cuts(rows), frozen(rows),
        round(goes, 1) if goes > GOES * raster[0] else 0.0, round(rolls, 2) if rolls > ROLLS else 0.0,
    )  # fmt: skip


def turned(rows: Rows, rate: float) -> tuple[Turned, Array]:
    """Of the rows of ``look.turns`` at ``rate`` frames a second; and the trace, (frames, 3) degrees right, down and to the side."""
    stands = standing.stands(rows)
    off, known = standing.shaken(stands, rate, SLOW), rows[:, turns.SURE] > 0
    rms = float(np.sqrt((off**2).sum(axis=1).mean()))
    found = Turned(
        round(rms, 3), round(float(np.sqrt((off[:, 1] ** 2).mean())), 3), _strongest(off, rate) if rms > 0.05 else None,
        round(standing.fastest(standing.calm(stands, rate, SLOW), rate), 1), round(float((rows[:, turns.SURE] > 0).mean()), 3),
        round(standing.travels(rows), 3), standing.leans(rows, stands), _jerks(off, rate),
        _between(known, ~known), _stands(known, np.linalg.norm(rows[:, turns.TURN], axis=1), STOOD_TURN), _in_ms(turns.readout(rows), rate),
    )  # fmt: skip
    return found, standing.trace(stands, rate)


def _most(speed: Array) -> float:
    return float(np.quantile(speed, 0.95)) if len(speed) else 0.0


def _jerks(off: Array, rate: float) -> float:
    """Of (n, 3) degrees by which it is off."""
    return round(float(np.quantile(np.linalg.norm(np.diff(off, axis=0), axis=1) * rate, 0.95)), 1) if len(off) > 1 else 0.0


def turn_words(found: Turned) -> str:
    """shakes 1.4° at 2.1 Hz"""
    if found.known < 0.5:
        return "motion not known"
    if found.degrees < 0.02:
        return f"turns evenly, up to {found.fastest:.1f}° a second" if found.fastest > TURNS else "stands still"
    gait = f" at {found.hz:.1f} Hz" if found.hz else ""
    return f"shakes {found.degrees:.1f}°{gait}" + (f", roll {found.roll:.1f}°" if found.roll >= 0.05 else "")


def _strongest(off: Array, rate: float) -> float | None:
    """Hz at which most of it moves, if one frequency stands out: at least a quarter of all within half an octave of it."""
    n = len(off)
    if n < 2 * rate / SLOW / 2:
        return None
    power = (np.abs(np.fft.rfft(off * np.hanning(n)[:, None], 8 * n, axis=0)) ** 2).sum(axis=1)
    hz = np.fft.rfftfreq(8 * n, 1 / rate)
    power[hz < 1.1 * SLOW] = 0.0  # at the cut itself, only what the cut has left of something slower
    top = float(hz[int(power.argmax())])
    near = power[(hz > top / 2**0.25) & (hz < top * 2**0.25)].sum()
    return round(top, 2) if near > 0.25 * power.sum() else None


def words(found: Shake | Turned) -> str:
    """shakes 3.1 px at 1.8 Hz, roll 0.21°"""
    if isinstance(found, Turned):
        return turn_words(found)
    if found.known < 0.5:
        return "motion not known"
    if found.pixels < 0.2 and found.roll < 0.01:
        ways = [f"goes {found.goes:.0f} px"] * (found.goes > 0) + [f"turns {found.rolls:.1f}°"] * (found.rolls > 0)
        return f"{' and '.join(ways)} a second, evenly" if ways else "stands still"
    gait = f" at {found.hz:.1f} Hz" if found.hz else ""
    return f"shakes {found.pixels:.1f} px{gait}" + (f", roll {found.roll:.2f}°" if found.roll >= 0.005 else "")
