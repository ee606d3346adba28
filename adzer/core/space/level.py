"""How a recording of directions leans against the world's up."""

from __future__ import annotations

import numpy as np

from ..errors import AdzerError
from .sphere import Array, angles


def lean_of(up: Array) -> tuple[float, float]:
    """(tilt, roll) in degrees by which a recording leans in which the world's up lies in direction ``up`` (3,); heading is kept."""
    up = up / np.linalg.norm(up)
    forward = np.array([0.0, up[2], -up[1]]) / max(float(np.hypot(up[1], up[2])), 1e-9)
    right = np.cross(forward, up)
    _, tilt, roll = angles(np.stack([right, forward, up], axis=-1))
    return float(tilt), float(roll)


def level_through(one: Array, other: Array) -> tuple[float, float]:
    """(tilt, roll) in degrees by which a recording leans whose horizon passes through two directions, both marked on it.

    The recording's true up is square to both; heading is kept. AdzerError if the two are less than 5° apart.
    """
    up = np.cross(one, other)
    length = float(np.linalg.norm(up))
    if length < np.sin(np.radians(5.0)):
        raise AdzerError("The two places on the horizon are less than 5° apart. Click two places far from each other.")
    return lean_of(up / length * (1 if up[2] >= 0 else -1))
