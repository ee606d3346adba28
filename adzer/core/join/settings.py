"""What the person decides about joining: how two lenses that see all round stand to each other, and how they meet."""

from __future__ import annotations

from math import log
from typing import Annotated, Literal

import msgspec
import numpy as np
from msgspec import Meta
from numpy.typing import NDArray

from ..cards import Black, RigLens
from ..stage import Settings
from .align import Align
from .met import Met

Lean = Annotated[float, Meta(ge=-180.0, le=180.0)]
Factor = Annotated[float, Meta(ge=0.01, le=100.0)]
Seconds = Annotated[float, Meta(ge=0.0, le=1e6)]
Pin = Annotated[float, Meta(ge=-20.0, le=20.0)]
Ratio = Annotated[float, Meta(ge=-10.0, le=10.0)]


class Foot(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What covers what lies up to ``reach`` degrees round straight down: what was there at ``at`` seconds of the shot; or a picture,
    ``file``, of bytes that hash to ``print``, ``wide`` and ``high``."""

    reach: Annotated[float, Meta(ge=3.0, le=80.0)] = 25.0
    at: Annotated[float, Meta(ge=0.0, le=1e6)] | None = None
    file: str | None = None
    print: str = ""
    wide: Annotated[int, Meta(ge=0, le=65536)] = 0
    high: Annotated[int, Meta(ge=0, le=65536)] = 0


def _met_once(plain: dict[str, object]) -> dict[str, object]:
    """Version 3 knew one way for a whole take, and its light as factors."""
    seam, tones = plain.pop("seam", ()), plain.pop("tones", ())
    if seam or tones:
        plain["met"] = [{"t": 0.0, "seam": seam, "tones": [[log(v) for v in tones]] * 3}]  # type: ignore[attr-defined]
    return plain


class JoinSettings(Settings, frozen=True, forbid_unknown_fields=True):
    """How several pictures of one recording become one.

    laid       as they were recorded; two lenses as the ``sphere`` that both saw; two eyes ``beside`` or ``over`` each other, or one of
               them alone, or each in a file of its own (``files``)

    Of two round lenses, back to back:

    lenses     as they were found to be; None: as their discs look. ``rig``: the card that all this was taken from
    base       metres between them; ``distance``: metres at which they meet, None: far away
    turn       heading, tilt and roll in degrees by which the second holds things away from where it would if it stood exactly
               opposite the first
    gain       of its red, green and blue light, so that it is as the first's, and ``black``, which is added to it after that; ``falls``: by
               how much both fall off to the rim, as a logarithm
    blend      degrees over which one passes into the other, what is fine over a third of that; ``met``: where, and what is to be done there,
               over the take; ``close``: is what stands apart there brought together?
    error      of ``turn``, in degrees, as measured; None: not measured. ``whole``: of directions over all of each lens, as the camera's turning
               told it; None: only where both see was looked at

    Of a sphere:

    foot       what stands under the camera is covered; None: it is left

    Of two eyes:

    half       each is squeezed into half of its picture; ``leading``: the eye on the left, or above
    screen     on which it is judged how deep it may be (``comfort``); ``children``: for them, too
    align      how the second lies against the first; None: not measured; ``aligns``: seconds, and the same, where that changes
    pin        per cent of the width by which all is moved away from who looks (negative: nearer): what lay so much before the screen
               then lies on it; ``pins``: seconds, and the same, where that changes: straight from each to the next
    edges      per cent of the width that are black at the left edge of the left eye, and at the right edge of the right one: that edge of the
               picture then stands before the screen
    colours    3×3, row by row, that makes the second's light as the first's
    slip       seconds by which the second's clock is still ahead after whole frames; ``drift``: millionths that it runs fast
    """

    FROM = {1: lambda plain: plain, 2: lambda plain: plain, 3: _met_once}
    OWN = frozenset({"met", "foot", "distance", "slip", "drift", "aligns", "pins"})
    version: int = 4
    laid: Literal["recorded", "sphere", "beside", "over", "left", "right", "files"] = "recorded"
    lenses: tuple[RigLens, RigLens] | None = None
    rig: str | None = None
    base: Annotated[float, Meta(gt=0.0, le=2.0)] | None = None
    distance: Annotated[float, Meta(gt=0.0, le=1e4)] | None = None
    met: Annotated[tuple[Met, ...], Meta(max_length=32)] = ()
    close: bool = True
    turn: tuple[Lean, Lean, Lean] = (0.0, 0.0, 0.0)
    gain: tuple[Factor, Factor, Factor] = (1.0, 1.0, 1.0)
    black: tuple[Black, Black, Black] = (0.0, 0.0, 0.0)
    falls: Annotated[float, Meta(ge=-2.0, le=4.0)] = 0.0
    blend: Annotated[float, Meta(ge=1.0, le=20.0)] = 3.0
    error: Annotated[float, Meta(ge=0.0, le=180.0)] | None = None
    whole: Annotated[float, Meta(ge=0.0, le=180.0)] | None = None
    half: bool = False
    leading: Literal["left", "right"] = "left"
    screen: Literal["desk", "room", "hall", "headset"] = "room"
    children: bool = False
    align: Align | None = None
    aligns: Annotated[tuple[tuple[Seconds, Align], ...], Meta(max_length=64)] = ()
    pin: Pin = 0.0
    pins: Annotated[tuple[tuple[Seconds, Pin], ...], Meta(max_length=64)] = ()
    edges: tuple[Annotated[float, Meta(ge=0.0, le=10.0)], Annotated[float, Meta(ge=0.0, le=10.0)]] = (0.0, 0.0)
    colours: tuple[Ratio, Ratio, Ratio, Ratio, Ratio, Ratio, Ratio, Ratio, Ratio] | None = None
    foot: Foot | None = None
    slip: Annotated[float, Meta(ge=-1.0, le=1.0)] = 0.0
    drift: Annotated[float, Meta(ge=-1000.0, le=1000.0)] = 0.0

    def pinned(self, time: float) -> float:
        """``pin`` at a moment."""
        return float(np.interp(time, [t for t, _ in self.pins], [v for _, v in self.pins])) if self.pins else self.pin

    def aligned(self, time: float) -> NDArray[np.float64]:
        """Terms of how the eyes lie at a moment, see ``align``."""
        if not self.aligns:
            return self.align.terms if self.align is not None else np.zeros(5)
        terms = np.array([a.terms for _, a in self.aligns])
        times = [t for t, _ in self.aligns]
        return np.array([np.interp(time, times, terms[:, i]) for i in range(terms.shape[1])])

    @property
    def moments(self) -> list[float]:
        """Seconds at which anything about how the eyes lie is said anew; one if it never is."""
        return sorted({t for t, _ in (*self.pins, *self.aligns)}) or [0.0]
