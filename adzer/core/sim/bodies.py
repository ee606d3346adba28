"""What carries a camera: a hand, a walker, a vehicle, a bicycle, a drone; each shakes it in its own way, and where it is at any moment is known.

Amplitudes and frequencies are of the kind that such recordings show: steps at about 1.9 Hz with the body leaning at half of that, tremor of a
hand from 4 to 9 Hz, wheels on cobbles from 2 to 8 Hz, a vehicle that leans out of its curves, a hovering thing that the wind tilts.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from .camera import Pose


@dataclass(frozen=True)
class Wave:
    """Many sines between two frequencies in Hz, together ``rms`` large; the same at every call."""

    rms: float
    low: float
    high: float
    seed: int

    def at(self, t: float) -> float:
        rng = np.random.default_rng(self.seed)
        hz, phase = rng.uniform(self.low, self.high, 9), rng.uniform(0, 2 * np.pi, 9)
        return float(self.rms * (2 / 9) ** 0.5 * np.sin(2 * np.pi * hz * t + phase).sum())


@dataclass(frozen=True)
class Body:
    """``speed``: metres a second ahead; ``turns``: (from, to, degrees a second) in seconds; ``leans``: degrees into a curve by degrees a second;
    ``heading``, ``tilt``, ``roll``: of its shake; ``bob``: metres up and down."""

    speed: float = 0.0
    turns: Sequence[tuple[float, float, float]] = ()
    leans: float = 0.0
    heading: Sequence[Wave] = ()
    tilt: Sequence[Wave] = ()
    roll: Sequence[Wave] = ()
    bob: Sequence[Wave] = ()

    def meant(self, t: float) -> tuple[float, float]:
        """Degrees that it is headed to, and degrees a second that it turns, without its shake."""
        headed = sum(rate * (min(max(t, a), b) - a) for a, b, rate in self.turns)
        return headed, sum(rate for a, b, rate in self.turns if a <= t < b)

    def pose(self, begun: Pose) -> Callable[[float], Pose]:
        """Where a camera is that it carries from ``begun`` on."""

        def at(t: float) -> Pose:
            steps = np.linspace(0.0, t, max(2, int(t * 20) + 1))
            way = np.radians([begun.heading + self.meant(float(s))[0] for s in steps])
            x, y = (np.trapezoid(f(way), steps) * self.speed if t > 0 else 0.0 for f in (np.sin, np.cos))
            headed, rate = self.meant(t)
            up = begun.place[2] + sum(w.at(t) for w in self.bob)
            return Pose(
                (begun.place[0] + float(x), begun.place[1] + float(y), up), begun.heading + headed + sum(w.at(t) for w in self.heading),
                begun.tilt + sum(w.at(t) for w in self.tilt), begun.roll + self.leans * rate + sum(w.at(t) for w in self.roll),
            )  # fmt: skip

        return at


def write_rates(path: Path, pose: Callable[[float], Pose], seconds: float, rate: float = 200.0, begun: float = 4213.7) -> None:
    """What a recorder on the camera says of how it turns (``docs/motion.md``): ``rate`` times a second, by a clock that began ``begun``
    seconds before the recording, about axes of its own, with a bias of up to half a degree a second and a noise of a tenth."""
    rng = np.random.default_rng(7)
    axes = np.array([[0.0, 0.0, 1.0], [1.0, 0.0, 0.0], [0.0, 1.0, 0.0]])  # its x goes up, its y to the right, its z ahead
    bias, rows, step = rng.uniform(-0.5, 0.5, 3), ["time,x,y,z"], 1e-3
    for t in np.arange(-0.2, seconds + 0.2, 1 / rate):
        a, b = pose(float(t) - step).rotation(), pose(float(t) + step).rotation()
        turned = a.T @ b  # what it turned by, in its own right, forward and up
        spun = np.array([turned[2, 1] - turned[1, 2], turned[0, 2] - turned[2, 0], turned[1, 0] - turned[0, 1]]) / 2 / (2 * step)
        x, y, z = axes @ np.degrees(spun) + bias + rng.normal(0, 0.1, 3)
        rows.append(f"{t + begun:.6f},{x:.5f},{y:.5f},{z:.5f}")
    path.write_text("\n".join(rows) + "\n", encoding="utf-8")


BODIES: dict[str, Body] = {
    "hand": Body(
        heading=(Wave(0.35, 0.1, 0.5, 1), Wave(0.12, 4, 9, 2)), tilt=(Wave(0.3, 0.1, 0.5, 3), Wave(0.12, 4, 9, 4)),
        roll=(Wave(0.1, 0.5, 6, 5),),
    ),
    "walk": Body(
        1.3, heading=(Wave(1.1, 0.9, 1.0, 1), Wave(0.15, 4, 9, 2)), tilt=(Wave(0.8, 1.8, 2.0, 3), Wave(0.15, 4, 9, 4)),
        roll=(Wave(1.0, 0.9, 1.0, 5), Wave(0.1, 4, 9, 6)), bob=(Wave(0.02, 1.8, 2.0, 7),),
    ),
    "drive": Body(
        8.0, ((1.0, 2.5, 12.0),), 0.3, heading=(Wave(0.15, 8, 11, 1), Wave(0.2, 1, 2, 2)), tilt=(Wave(0.25, 8, 11, 3), Wave(0.4, 1, 2, 4)),
        roll=(Wave(0.2, 8, 11, 5), Wave(0.5, 1, 2, 6)),
    ),
    "ride": Body(
        3.0, ((1.0, 2.0, 90.0),), 0.15, heading=(Wave(3.0, 2, 8, 1),), tilt=(Wave(3.0, 2, 8, 3),), roll=(Wave(2.6, 2, 8, 5),),
        bob=(Wave(0.02, 2, 8, 7),),
    ),
    "fly": Body(
        4.0, ((1.0, 2.0, 8.0),), 0.2, heading=(Wave(0.5, 0.4, 3, 1),), tilt=(Wave(0.6, 0.4, 3, 3), Wave(0.05, 9, 12, 4)),
        roll=(Wave(0.8, 0.4, 3, 5),),
    ),
}  # fmt: skip
