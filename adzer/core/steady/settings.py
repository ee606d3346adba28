"""What the person decides about how the camera was held."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta

from ..stage import Settings

Method = Literal["off", "hold", "drift", "path", "level", "lock"]
Heading = Literal["world", "vehicle", "travel", "free"]
Share = Annotated[float, Meta(ge=0.0, le=1.0)]
Lean = Annotated[float, Meta(ge=-180.0, le=180.0)]


class SteadySettings(Settings, frozen=True, forbid_unknown_fields=True):
    """
    method   ``off``; ``hold`` as on a tripod; ``drift``: a hand's slow movement kept, what is faster gone; ``path``: a moving camera's way made of
             still, even and evenly faster parts; ``level``: a sphere stands level; ``lock``: a marked thing keeps its place, or its heading
    budget   share of width and height that may be spent, at every moment or, where it ``eases``, as far as that moment needs it
    roll     is it kept level against itself, too, or what is locked? ``grows``: what is locked keeps its size, too; ``cut``: Hz from which on a
             drift is shake
    heading  of a sphere that stands: to the ``world``; as a ``vehicle`` turns, without its shake; where it ``travel``s; ``free``: as it was turned
    level    how much of a ride's leaning is taken away
    lean     tilt and roll by which its first frame leans, degrees; ``opens``: heading that lies ahead in the levelled sphere
    mark     the frame on which that is marked, and its left, top, width and height in shares of the recorded picture as it stands upright
    still    left, top, width and height, likewise, of what stands still in the world; None: what most of the picture agrees on
    readout  milliseconds from the first row read out to the last, below 0 upwards; None: nobody has said, and all rows count as one moment
    view     degrees that a flat picture's lens sees across the recorded one: it is held by turning it; None: nobody knows, and it is shifted
    evens    its light is made even, frame by frame: what is faster than the cut goes; ``light``: by how many stops (``lamp.packed``)
    aspect   how many times as wide as high each pixel of the upright picture was when its moves were solved, its lens's squeeze undone
    through  the round lenses that it was followed through (``step.named``), empty: none
    sidecar  a camera's own record of how it turned (``docs/motion.md``), which is used where it tells
    moves    what was solved of it, frame by frame (``solve.packed``), so that a queued render cannot change; ``goes``: how fast what is left of its
             way is where rows are read out one after another (``solve.going``), likewise; of round lenses how the camera itself turned;
             ``needs``: the budget with which all of it could be done, 0 where it is always enough
    """

    OWN = frozenset({"moves", "goes", "needs", "light", "aspect", "through", "lean", "opens", "mark", "still", "sidecar"})
    FROM = dict.fromkeys(range(1, 7), lambda plain: plain)

    version: int = 7
    method: Method = "off"
    budget: Annotated[float, Meta(ge=0, le=0.5)] = 0.08
    eases: bool = False
    roll: bool = True
    grows: bool = False
    cut: Annotated[float, Meta(ge=0.1, le=5)] = 0.5
    heading: Heading = "world"
    level: Annotated[float, Meta(ge=0, le=1)] = 1.0
    lean: tuple[Lean, Lean] = (0.0, 0.0)
    opens: Lean = 0.0
    mark: tuple[Annotated[int, Meta(ge=0)], Share, Share, Share, Share] | None = None
    still: tuple[Share, Share, Share, Share] | None = None
    readout: Annotated[float, Meta(ge=-100, le=100)] | None = None
    view: Annotated[float, Meta(ge=5, le=150)] | None = None
    evens: bool = False
    aspect: Annotated[float, Meta(gt=0, le=16)] = 1.0
    through: Annotated[str, Meta(max_length=40)] = ""
    sidecar: str | None = None
    moves: Annotated[str, Meta(max_length=8_000_000)] = ""
    goes: Annotated[str, Meta(max_length=8_000_000)] = ""
    needs: Annotated[float, Meta(ge=0, le=0.9)] = 0.0
    light: Annotated[str, Meta(max_length=4_000_000)] = ""
