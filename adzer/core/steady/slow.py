"""What of a movement is slow: meant, or a drift, and no shake."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

SLOW = 0.5  # Hz below which a movement is taken as meant
Array = NDArray[np.float64]


def slow(values: Array, rate: float, hz: float = SLOW, stays: float = 0.0) -> Array:
    """What of a path (frames, …) is slower than ``hz``: the smoothest curve near it, which halves what moves at ``hz`` (Whittaker
    1923, Hodrick and Prescott 1997); it keeps a constant speed. Within
    half a period of its ends it follows what is faster more closely, as only one side is known. ``stays``: the square of how many times as
    far a value errs as the path itself can go from one to the next; 0: it may go anywhere."""
    from scipy.sparse import diags_array, eye_array
    from scipy.sparse.linalg import spsolve

    n = len(values)
    if n < 4:
        return np.broadcast_to(values.mean(axis=0), values.shape).copy()
    stiff = (2 * np.sin(np.pi * min(hz / rate, 0.5))) ** -4
    bend = diags_array([1.0, -2.0, 1.0], offsets=[0, 1, 2], shape=(n - 2, n))
    goes = diags_array([-1.0, 1.0], offsets=[0, 1], shape=(n - 1, n))
    return np.asarray(spsolve((eye_array(n) + stiff * (bend.T @ bend) + stays * (goes.T @ goes)).tocsc(), values)).reshape(values.shape)
