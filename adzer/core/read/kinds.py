"""Which kind of curve does footage look like: display, log, linear, PQ or HLG?

Small networks that were taught on some thousand shots of known curve vote on how its levels lie (``sim.suite`` makes the
collection, of the simulated world and of photographs, and teaches them). Footage unlike all of those shots, or on which they do
not agree, is said to be not known. Untagged PQ and log have the same levels in most scenes; PQ is rare without its tag, and the
collection holds few. Of photographs from packages that nothing was taught on, votes of 90–95 % were right in 92 of 100, and votes
above that in 97: levels alone never tell more, so that nothing is said to be surer than ``SUREST``.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from .measure import Levels
from .seen import Guess

KINDS = ("display", "log", "linear", "pq", "hlg")
COLLECTION = Path(__file__).with_name("looks.npz")
NEAREST = 8
FAR = 3.0  # how many times the collection's own usual spacing a stranger may lie away
WORDS = {"display": "a display picture", "log": "log", "linear": "linear light", "pq": "PQ", "hlg": "HLG"}

Array = NDArray[np.float64]


def features(levels: Levels) -> Array:
    """Where luma and the lowest channel lie, how much there is at each end, and how far colours go, (20,)."""
    q = [levels.quantile(s) for s in (0.001, 0.02, 0.1, 0.3, 0.5, 0.7, 0.9, 0.98, 0.999)]
    span = max(q[7] - q[1], 0.04)
    colours = (*(4 * c for c in levels.colours), min(levels.colourfulness / span, 0.6), *levels.strongest)
    return np.array([*q, levels.top(1e-3), *colours, *levels.deepest])


def softmax(scores: Array) -> Array:
    """Scores (…, n) as shares that sum to 1."""
    raised = np.exp(scores - scores.max(axis=-1, keepdims=True))
    return np.asarray(raised / raised.sum(axis=-1, keepdims=True))


@dataclass(frozen=True)
class _Collection:
    examples: Array  # scaled features of known shots
    mean: Array
    scale: Array
    usual: float  # distance of an example to its neighbours
    nets: tuple[Array, Array, Array, Array]  # (members, …) of both layers

    def votes(self, x: Array) -> Array:
        w1, b1, w2, b2 = self.nets
        layer = np.maximum(np.einsum("d,mdh->mh", x, w1) + b1, 0)
        return np.asarray(softmax(np.einsum("mh,mhk->mk", layer, w2) + b2).mean(axis=0))

    def distance(self, x: Array) -> float:
        """To the nearest known shots, in units of what is usual among them."""
        apart = np.sqrt(((self.examples - x) ** 2).sum(axis=1))
        return float(np.sort(apart)[NEAREST - 1]) / self.usual


@lru_cache(maxsize=1)
def _collection() -> _Collection:
    with np.load(COLLECTION) as held:
        values = held["features"].astype(np.float64)
        nets = tuple(held[n].astype(np.float64) for n in ("w1", "b1", "w2", "b2"))
    mean, scale = values.mean(axis=0), values.std(axis=0) + 1e-6
    scaled = (values - mean) / scale
    some = scaled[:: max(1, len(scaled) // 200)]
    square = (some**2).sum(axis=1)[:, None] + (scaled**2).sum(axis=1) - 2 * some @ scaled.T
    usual = float(np.median(np.sqrt(np.partition(square, NEAREST, axis=1)[:, NEAREST])))
    return _Collection(scaled, mean, scale, usual, nets)


# Every log curve that is published keeps black above code 0, read as limited range, too, and a clipped sensor below the top.
LOG_BLACK, LOG_WHITE = 0.02, 0.965
BEYOND_LOG = np.array([1.0, 0.02, 1.0, 0.3, 1.0])
SUREST = 0.95
NEVER_SURE = 0.75  # of what comes without a tag only rarely, by its look alone
# BT.2100 (table 9) knows PQ and HLG with 10 or 12 bits only, and linear light in 8 has no blacks left.
IN_EIGHT_BITS = np.array([1.0, 1.0, 0.0, 0.0, 0.0])


def guess(levels: Levels, bits: int = 10) -> Guess:
    """The likeliest kind, with the share of votes it has; unlike all known shots, it is hardly more than a guess."""
    saw = (
        f"the darkest parts sit at {levels.low:.1%}, the middle at {levels.middle:.1%}, the lightest at {levels.high:.1%}, "
        f"colours lie {levels.colourfulness:.1%} from grey"
    )
    if levels.high - levels.low < 0.02:
        return Guess(None, 0.0, saw + "; that is too even a picture to tell")
    known = _collection()
    x = (features(levels) - known.mean) / known.scale
    votes = known.votes(x)
    if bits <= 8:
        votes = (votes + 1e-3) * IN_EIGHT_BITS
    if levels.quantile(0.001) < LOG_BLACK or levels.quantile(0.999) > LOG_WHITE:
        votes = votes * BEYOND_LOG
    votes = votes / votes.sum()
    best, second = (int(i) for i in np.argsort(votes)[::-1][:2])
    sure = min(float(votes[best]), SUREST)
    saw += f"; {sure:.0%} like {WORDS[KINDS[best]]}"
    if votes[second] > 0.1:
        saw += f", {votes[second]:.0%} like {WORDS[KINDS[second]]}"
    if KINDS[best] == "log" and votes[KINDS.index("pq")] > 0.03:
        saw += "; PQ looks much the same, but comes without a tag only rarely"
    if KINDS[best] not in ("display", "log"):
        sure = min(sure, NEVER_SURE)
    if (away := known.distance(x)) > FAR:
        return Guess(
            KINDS[best],
            round(min(0.75, sure), 3),
            saw + f"; but it lies {away:.1f} times as far from all known shots as usual",
        )
    return Guess(KINDS[best], round(sure, 3), saw)
