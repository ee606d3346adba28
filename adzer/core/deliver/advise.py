"""Size and time of a delivery, from one measured second of this very shot; and why this codec."""

from __future__ import annotations

import msgspec


class Trial(msgspec.Struct, frozen=True):
    """One rendered piece of a shot: ``frames`` took ``seconds`` and ``size`` bytes; one picture of ``raster``."""

    card: str
    frames: int
    seconds: float
    size: int
    raster: tuple[int, int]


def estimate(trial: Trial, frames: int) -> tuple[float, float]:
    """(bytes, seconds) for ``frames`` frames at the trial's rate."""
    share = frames / max(trial.frames, 1)
    return trial.size * share, trial.seconds * share


def size_text(count: float) -> str:
    """1.9 GB, 340 MB, 12 kB (decimal, as disks are sold)."""
    for unit, step in (("GB", 1e9), ("MB", 1e6)):
        if count >= step:
            return f"{count / step:.1f} {unit}"
    return f"{count / 1e3:.0f} kB"


def time_text(seconds: float) -> str:
    """2 h 05 min, 6 min, 40 s."""
    whole = round(seconds)
    if whole >= 3600:
        return f"{whole // 3600} h {whole % 3600 // 60:02d} min"
    if whole >= 100:
        return f"{round(whole / 60)} min"
    return f"{max(whole, 1)} s"
