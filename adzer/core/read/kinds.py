"""Which kind of curve does footage look like: display, log, linear, PQ or HLG?

Its levels are compared with those of three thousand simulated shots of known curve (``sim.suite`` makes the collection);
the nearest ones vote. Footage that lies far from all of them, or between two kinds, is said to be not known. Untagged PQ
and log have the same levels in most scenes; PQ is rare without its tag, and the collection holds few of it.
"""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from .measure import Levels
from .seen import Guess

KINDS = ("display", "log", "linear", "pq", "hlg")
COLLECTION = Path(__file__).with_name("looks.npz")
NEAREST = 15
FAR = 2.2  # how many times the collection's own usual spacing a stranger may lie away
WORDS = {"display": "a display picture", "log": "log", "linear": "linear light", "pq": "PQ", "hlg": "HLG"}


def features(levels: Levels) -> NDArray[np.float64]:
    """Where the luma lies, how much of it is at each end, and how far colours go, (13,)."""
    q = [levels.quantile(s) for s in (0.001, 0.02, 0.1, 0.3, 0.5, 0.7, 0.9, 0.98, 0.999)]
    span = max(q[7] - q[1], 0.04)
    return np.array([*q, levels.top(1e-3), *(4 * c for c in levels.colours), min(levels.colourfulness / span, 0.6)])


@lru_cache(maxsize=1)
def _collection() -> tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.float64], float]:
    """(examples scaled, kinds, scale, usual distance of an example to its neighbours)."""
    with np.load(COLLECTION) as held:
        values, kinds, weights = held["features"].astype(np.float64), held["kinds"].astype(np.int64), held["weights"]
    scale = (values.std(axis=0) + 1e-6) / weights
    scaled = values / scale
    some = scaled[:: max(1, len(scaled) // 400)]
    apart = np.sqrt(((some[:, None] - scaled[None]) ** 2).sum(axis=2))
    return scaled, kinds, scale, float(np.median(np.sort(apart, axis=1)[:, NEAREST // 2]))


def guess(levels: Levels) -> Guess:
    """The kind that most of the nearest simulated shots have; None where they disagree or are all far away."""
    saw = (
        f"the darkest parts sit at {levels.low:.1%}, the middle at {levels.middle:.1%}, the lightest at {levels.high:.1%}, "
        f"colours lie {levels.colourfulness:.1%} from grey"
    )
    if levels.high - levels.low < 0.02:
        return Guess(None, 0.0, saw + "; that is too even a picture to tell")
    values, kinds, scale, usual = _collection()
    apart = np.sqrt(((values - features(levels) / scale) ** 2).sum(axis=1))
    near = np.argsort(apart)[:NEAREST]
    votes = np.bincount(kinds[near], weights=1 / (apart[near] + 0.3 * usual), minlength=len(KINDS))
    votes = votes / votes.sum()
    best = int(votes.argmax())
    distance = float(apart[near[NEAREST // 2]]) / usual
    count = int((kinds[near] == best).sum())
    saw += f"; of the {NEAREST} most similar known shots {count} are {WORDS[KINDS[best]]}"
    if KINDS[best] == "log" and votes[KINDS.index("pq")] > 0.03:
        saw += "; PQ looks much the same, but comes without a tag only rarely"
    if distance > FAR:
        return Guess(
            KINDS[best],
            round(0.5 * float(votes[best]), 3),
            saw + f", but it lies {distance:.1f} times as far from them as usual",
        )
    return Guess(KINDS[best], round(float(votes[best]), 3), saw)
