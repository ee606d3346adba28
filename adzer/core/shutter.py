"""Light averaged over a delivered frame's shutter: each patch of a recording several times, each a little later, and all count alike.

So what moves fast is drawn out as a camera would have drawn it that took fewer frames a second, and none is left out; each of them is held,
turned and sampled by its own moment, once.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction
from functools import lru_cache

import numpy as np

from .plan import Draft, Panel, Patch, Share
from .space.looks import Lamp, Look, RoundLook, Turning
from .space.sphere import Array, Flat

MOST = 32  # recorded frames to a delivered one; of more, as many are taken evenly


@dataclass(frozen=True)
class Part:
    """One of ``of`` shares alike of what counts like ``whole``; None: everywhere."""

    whole: Share | None
    of: int

    @property
    def width(self) -> float:
        return float("inf") if self.whole is None else self.whole.width

    @property
    def still(self) -> bool:
        return self.whole is None or self.whole.still

    def at(self, d: Array, time: float) -> Array:
        return (np.ones(d.shape[:-1]) if self.whole is None else self.whole.at(d, time)) / self.of


def moments(recorded: Fraction, speed: Fraction, delivered: Fraction, shutter: float) -> tuple[float, ...]:
    """Seconds of the recording from a delivered frame's moment on at which it gathers light, with a shutter open for so many degrees of it.

    >>> [round(t * 50, 6) for t in moments(Fraction(50), Fraction(4), Fraction(25), 180)], moments(Fraction(25), Fraction(1), Fraction(25), 180)
    ([0.0, 1.0, 2.0, 3.0], (0.0,))
    """
    frames = float(recorded * speed / delivered) * shutter / 360
    count = min(max(1, int(frames + 0.5)), MOST)
    apart = frames / count if count == MOST else 1.0
    return tuple(n * apart / float(recorded) for n in range(count))


def exposed(draft: Draft, later: tuple[float, ...]) -> Draft:
    """The same pictures, each gathered at all those moments, the first of which is its own. What stands still in time stays single."""
    if len(later) < 2:
        return draft
    inputs, at = list(draft.inputs), dict[int, list[int]]()
    for n, held in enumerate(draft.inputs):
        if held.still is None and held.drift:
            at[n] = [n, *range(len(inputs), len(inputs) + len(later) - 1)]
            inputs += [held.later(t) for t in later[1:]]
    panels = tuple(
        replace(p, patches=tuple(made for patch in p.patches for made in _exposed(p, patch, at.get(patch.input), later))) for p in draft.panels
    )
    return draft.with_(inputs=tuple(inputs), panels=panels)


def _exposed(panel: Panel, patch: Patch, inputs: list[int] | None, later: tuple[float, ...]) -> list[Patch]:
    if inputs is None:
        return [patch]
    share, fine = Part(patch.share, len(later)), patch.fine and Part(patch.fine, len(later))
    return [
        replace(
            patch, input=n, share=share, fine=fine, turning=_turning(panel.look, patch, t) if t else patch.turning,
            tone=patch.tone.later(t) if isinstance(patch.tone, Lamp) else patch.tone, stands=patch.stands and patch.stands.later(t),
        )  # fmt: skip
        for n, t in zip(inputs, later, strict=True)
    ]


def _turning(look: Look, patch: Patch, later: float) -> Turning | None:
    """From the look's directions of a moment to what the patch's lens holds of them so much later."""
    if isinstance(look, RoundLook) and look.held is not None and not look.stands and not isinstance(patch.lens, Flat):
        return _since(look.held, patch.turning, later)
    return None if patch.turning is None else patch.turning.later(later)


@lru_cache(maxsize=128)  # a route is walked at every change of any answer
def _since(held: Turning, own: Turning | None, later: float) -> Turning:
    made = held.at(held.times + later) @ np.swapaxes(held.matrices, 1, 2)
    return Turning(held.times, made, frames=held.frames).then(own and own.later(later))
