"""What the stages give to the render: a draft that travels beside the Picture, and that ``compile`` freezes.

*Inputs* are recorded streams. A delivered raster holds *panels*: pictures, one, or one an eye, each with a *look*: which direction
each of its pixels shows. Behind it stand *patches*: what an input's lens recorded of these directions, and how far it counts.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any, Protocol

import numpy as np

from .light.chain import ColourChain
from .light.curves import Curve
from .light.samples import Samples
from .media.formats import Plane
from .media.rolls import Sources
from .pace import Pace
from .space.looks import AxisLook, Lamp, Look, Turning
from .space.meeting import Around, Away, Tone
from .space.sphere import Array, Flat, Lens, Recording, Round
from .target import Target

Size = tuple[int, int]
Area = tuple[int, int, int, int]
Planes = tuple[Plane, ...]


SAME_ROW = 1e-4  # of the picture's height, by which a row may be off that is to be known
MOMENTS = 33  # from the first row to the last, at which it is known how a camera stood


def even(v: float) -> int:
    return round(v / 2) * 2


class Prepare(Protocol):
    """Works on recorded frames before the warp.

    reach    frames before and after that it wants to see
    samples  what it gives: sensor values or noisy ones become 16-bit codes in a working curve, so that the loops stay whole
             numbers and nothing above white is lost
    """

    @property
    def reach(self) -> tuple[int, int]: ...

    @property
    def samples(self) -> Samples: ...

    def sized(self, raster: Size, left: int = 0) -> Prepare:
        """The same for recorded pictures of another size, which lay ``left`` pixels from the edge of those."""
        ...

    def quick(self) -> Prepare:
        """The same as it is only looked at: sooner done, and nearly as good."""
        ...

    def run(self, window: list[Planes], middle: int) -> Planes:
        """The planes of ``window[middle]``; at the ends of a recording there are fewer neighbours."""
        ...


@dataclass(frozen=True)
class Still:
    """A person's own picture, ``size`` wide and high, which stands for a recorded one: ``file``, and ``print_``, what its bytes hash to;
    in the light of a ``curve`` (None: as it is) and ``primaries`` of the recording."""

    file: str
    print_: str
    size: Size
    curve: Curve | None = None
    primaries: str = "bt709"


@dataclass(frozen=True)
class Input:
    """A recorded stream.

    samples  how its codes are to be read, and ``raster``: of its pictures, both as they stand upright once they were turned
             clockwise by ``turn`` degrees
    sources  none: the recording itself, which is ``recording``
    offset, drift   at moment t of the shot its own clock says ``offset`` + ``drift``·t, both in seconds from a first frame
    still    a picture instead of all that
    """

    samples: Samples
    raster: Size
    turn: int = 0
    sources: Sources = ()
    recording: Sources = ()
    offset: float = 0.0
    drift: float = 1.0
    prepares: tuple[Prepare, ...] = ()
    still: Still | None = None

    @property
    def by_its_clock(self) -> bool:
        """Is it the recording that the shot's frames are counted in?"""
        return not self.sources and self.still is None and (self.offset, self.drift) == (0.0, 1.0)

    def stopped_at(self, moment: float) -> Input:
        """As it is at one moment of the shot, always."""
        return replace(self, sources=self.sources or self.recording, offset=self.offset + self.drift * moment, drift=0.0)

    def later(self, seconds: float) -> Input:
        """At each moment of the shot what this is so much later."""
        return replace(self, offset=self.offset + self.drift * seconds)

    def alone(self, n: int) -> Input | None:
        """Of two recordings laid side by side the n-th as an input of its own; None if it is only one."""
        if len(self.recording) != 2 or self.turn:
            return None
        size = (self.raster[0] // 2, self.raster[1])
        return replace(self, raster=size, sources=(self.recording[n],), prepares=tuple(p.sized(size, n * size[0]) for p in self.prepares))

    def moment(self, time: Array) -> Array:
        return self.offset + self.drift * time

    def quick(self) -> Input:
        """As it is only looked at."""
        return replace(self, prepares=tuple(p.quick() for p in self.prepares)) if self.prepares else self

    @property
    def given(self) -> Samples:
        """Of the planes that the warp sees."""
        return self.prepares[-1].samples.turned(self.turn) if self.prepares else self.samples

    @property
    def lying(self) -> Samples:
        """Of the same planes before they are turned."""
        return self.prepares[-1].samples if self.prepares else self.as_recorded[0]

    @property
    def as_recorded(self) -> tuple[Samples, Size]:
        """Samples and raster before it was turned."""
        return self.samples.turned(-self.turn % 360), self.raster[::-1] if self.turn % 180 else self.raster


class Share(Protocol):
    """How far a patch counts, by direction: 0 … 1, of all patches of a panel together 1. ``width``: of its narrowest way from 0
    to 1, in radians, or in recorded pixels of a flat picture. ``still``: does it stay as it is?"""

    @property
    def width(self) -> float: ...

    @property
    def still(self) -> bool: ...

    def at(self, d: Array, time: float) -> Array:
        """(…) of directions (…, 3) of the panel's look."""
        ...


@dataclass(frozen=True)
class Patch:
    """One place of a recording behind a panel's pixels.

    lens     direction → place in ``region`` (x, y, width, height of the input's picture), how finely, and where it ends
    turning  from the look's directions to the lens's own; ``readout``: seconds from its first row to its last, or column where it was read
             ``across``, of a flat lens by that turning, and of a round one by how it ``stands`` itself: from the world's directions to its own
    away     where its lens stands, against the place that the look looks from; None: there, or everything is far
    share    None: it is all that there is; ``fine``: how far its detail counts, where one passes into the other sooner than what is coarse
             of them does (bands of one picture that are blended each over its own width); None: as ``share``
    light    3×3 on its light before it is mixed with others', or 3×4 with what is added; None: as it is; ``tone``: how much brighter
             besides, by direction
    """

    lens: Recording
    region: tuple[int, int, int, int]
    input: int = 0
    turning: Turning | None = None
    readout: float = 0.0
    across: bool = False
    stands: Turning | None = None
    share: Share | None = None
    fine: Share | None = None
    light: tuple[tuple[float, ...], ...] | None = None
    away: Away | None = None
    tone: Tone | Lamp | None = None

    @property
    def still(self) -> bool:
        return all(v is None or v.still for v in (self.turning, self.share, self.fine, self.away, self.tone))

    @property
    def plain(self) -> bool:
        return self.share is None and self.light is None and self.tone is None

    def held(self, d: Array, time: float) -> Array:
        """Directions (…, 3) of a look as the lens's own, float64 and exact."""
        if self.away is not None:
            d = self.away.moved(d, time)
        flat, turning, stands = isinstance(self.lens, Flat), self.turning, self.stands
        if turning is not None:
            d, looked = turning.turned(d, np.asarray(turning.shown(time)), flat), d
        if not self.readout:
            return d
        if flat and turning is not None and not turning.still:
            time = turning.shown(time)
            return self._by_rows(d, lambda later: turning.turned(turning.gone(looked, time, later), time + later, True))
        if stands is not None:
            time = stands.shown(time)
            moments = self.readout * np.linspace(-0.5, 0.5, MOMENTS)
            turns = (stands.at(time + moments) @ stands.at(np.asarray(time)).T).reshape(MOMENTS, 9)

            def turned(later: Array, d: Array = d) -> Array:
                place = (later / self.readout + 0.5) * (MOMENTS - 1)
                n = np.minimum(place.astype(np.intp), MOMENTS - 2)
                part = (place - n)[..., None]
                own = (turns[n] * (1 - part) + turns[n + 1] * part).reshape(*n.shape, 3, 3)
                return np.asarray(np.einsum("...ij,...j->...i", own, d))

            return self._by_rows(d, turned)
        return d

    def _by_rows(self, d: Array, at: Callable[[Array], Array]) -> Array:
        """Directions as the lens held them when their rows were read out; ``at``: so many seconds (…) later than the middle row."""
        axis, rows = 0 if self.across else 1, None
        for _ in range(3):  # when a row was read out follows from which row it is
            before, rows = rows, np.clip(self.lens.place(d)[..., axis] / self.region[2 + axis], 0.0, 1.0) - 0.5
            if before is not None and float(np.abs(rows - before).max(initial=0.0)) < SAME_ROW:
                break
            d = at(self.readout * rows)
        return d


@dataclass(frozen=True)
class Panel:
    """One picture in the delivered raster, at ``place``."""

    look: Look
    patches: tuple[Patch, ...]
    place: Size = (0, 0)

    @property
    def size(self) -> Size:
        return self.look.size

    @property
    def lens(self) -> Recording:
        """Of its first patch, which is all that there is of a recording in one piece."""
        return self.patches[0].lens

    @property
    def region(self) -> tuple[int, int, int, int]:
        return self.patches[0].region

    @property
    def on_axes(self) -> bool:
        """Do its axes stay axes, of one recording as it is?"""
        return isinstance(self.look, AxisLook) and len(self.patches) == 1 and self.patches[0].plain and not self.patches[0].turning

    def directions(self, x: Array, y: Array, time: float) -> Array:
        """Directions (…, 3) in its first patch's own terms of delivered pixel positions (0 is the picture's edge)."""
        return self.patches[0].held(self.look.directions(x, y, time), time)

    def recorded(self, x: Array, y: Array, time: float) -> Array:
        """Recorded luma places (…, 2) in its first patch's input of delivered pixel positions."""
        return self.lens.place(self.directions(x, y, time)) + np.array(self.region[:2], dtype=np.float64)


def on_axes(
    size: Size, scale: tuple[Fraction, Fraction], offset: tuple[Fraction, Fraction], recorded: Size, place: Size = (0, 0)
) -> Panel:
    """A panel of the whole recorded picture whose axes stay axes."""
    return Panel(AxisLook(size, scale, offset), (Patch(Flat(recorded), (0, 0, *recorded)),), place)


@dataclass(frozen=True)
class Overlay:
    """A picture laid over the delivered one after its colour.

    file   of it, and ``print_``: what its bytes hash to
    boxes  left, top, width, height in delivered pixels; one an eye
    start, stop  moments of the recording, in seconds, None: from its beginning, to its end; ``fade``: seconds that it takes to come
                 and to go, within them
    curve, primaries   of the delivered signal that it becomes
    """

    file: str
    print_: str
    boxes: tuple[tuple[float, float, float, float], ...]
    start: float | None = None
    stop: float | None = None
    fade: float = 0.0
    curve: str = "bt709"
    primaries: str = "bt709"

    def strength(self, time: float) -> float:
        """0 … 1, how much of it shows at a moment."""
        shows = 1.0
        for since in (None if self.start is None else time - self.start, None if self.stop is None else self.stop - time):
            if since is not None:
                shows *= float(since >= 0) if self.fade <= 0 else min(max(since / self.fade, 0.0), 1.0)
        return shows


@dataclass(frozen=True)
class Rig:
    """How the second of two lenses stands against the first.

    turning, light   as of its patch
    falls    by how much, as a logarithm, each lens's light falls off to its rim
    blend    radians over which one passes into the other; ``seam``: where they do, see ``Meeting``
    tones    on that way how many times as red, green and blue the first recorded what both see, ``light`` apart, as a logarithm: what is left
             where cameras bend bright light; both are brought halfway; None: nothing
    close    on that way radians that what stands there lies apart in both: they are brought together; None: as ``apart``
    lenses   as they were found to be, in the picture of both; empty: as the footage shows their discs
    apart    the distance between them over the distance at which they meet; 0: they meet far away
    whole    is the sphere delivered, and not the two round pictures?
    near     of things measured where both see: degrees round the first's axis (``space.looks.turned_round``), and degrees that they stand
             apart
    """

    turning: Turning | None = None
    light: tuple[tuple[float, ...], ...] | None = None
    falls: float = 0.0
    blend: float = 0.05
    seam: Around | None = None
    tones: tuple[Around, Around, Around] | None = None
    close: Around | None = None
    lenses: tuple[Lens, ...] = ()
    apart: float = 0.0
    whole: bool = False
    near: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True)
class Foot:
    """What lies round straight down, up to ``reach`` radians, is not what was recorded there, but what was at ``moment`` seconds of the
    shot, or a ``still`` whose round middle fills it, its upper edge ahead."""

    reach: float
    moment: float = 0.0
    still: Input | None = None


@dataclass(frozen=True)
class Eye:
    """One eye of a pair: ``input`` and ``region`` of its pictures; ``turning`` and ``light`` as of its patch; ``disc``: centre and radius
    of its round lens in the region, None: as the first eye's."""

    input: Input
    region: tuple[int, int, int, int]
    turning: Turning | None = None
    light: tuple[tuple[float, float, float], ...] | None = None
    disc: tuple[float, float, float] | None = None

    def through(self, lens: Recording) -> Recording:
        """As this eye's own lens saw what the first eye's is said to see."""
        if self.disc is None or not isinstance(lens, Round):
            return lens
        x, y, radius = self.disc
        return replace(lens, lenses=(replace(lens.lenses[0], x=x, y=y, radius=radius),))


@dataclass(frozen=True)
class Eyes:
    """A pair that Join has taken apart: what the next stages see is one eye's picture, and both are made alike.

    eyes     in the order in which they are delivered; only one if the other is left out
    first    which of the two that is
    laid     ``side by side`` or ``over under``; ``half``: each is squeezed into its half of a picture as large as one
    edges    shares of the width that are black at the left and the right edge of each
    """

    eyes: tuple[Eye, ...]
    first: str
    laid: str
    half: bool = False
    edges: tuple[tuple[float, float], ...] = ()

    @property
    def times(self) -> Size:
        """How many eyes lie across and down."""
        return (1, 1) if len(self.eyes) == 1 else (2, 1) if self.laid == "side by side" else (1, 2)


@dataclass(frozen=True)
class Draft:
    """Filled from Read to Deliver; what is None or empty was not said yet.

    pace     which moments are delivered
    readout  seconds from the first row of the recording to the last, for what is held; ``across``: they stand in columns, as it was turned;
             ``stands``: from the world's directions to those of a camera with round lenses
    held     from places of a flat picture that is held to where they were recorded; of a recording of directions, from those; ``aspect``:
             how many times as wide as high its pixels were taken to be
    lamp     by how much its light is made brighter, frame by frame
    lens     round, through which it was seen, as the footage shows it, where that may be relied on
    rig      of two lenses that are looked through as one; ``pair``: of two eyes; ``foot``: of a sphere, where it is patched
    overlays   what is laid over the delivered pictures; ``black``: left, top, width and height of what is black on them
    inputs   the recorded streams; ``raster``: the delivered one, in which the ``panels`` lie
    curve    the recorded one, in whose light patches are mixed; None: as they were recorded
    top      the highest signal that Develop gives; None: it leaves the recording as it is
    chain    from the recorded to the delivered signal; None: the pixels are left as they are, but for a ``ceiling`` that luma keeps to,
             as a share of white
    target   what the delivered file is to be
    """

    inputs: tuple[Input, ...] = ()
    raster: Size = (0, 0)
    panels: tuple[Panel, ...] = ()
    curve: Curve | None = None
    top: float | None = None
    chain: ColourChain | None = None
    ceiling: float | None = None
    target: Target | None = None
    pace: Pace | None = None
    held: Turning | None = None
    aspect: float = 1.0
    readout: float = 0.0
    across: bool = False
    stands: Turning | None = None
    lamp: Lamp | None = None
    lens: Round | None = None
    rig: Rig | None = None
    pair: Eyes | None = None
    foot: Foot | None = None
    overlays: tuple[Overlay, ...] = ()
    black: tuple[Area, ...] = ()

    def with_(self, **changes: Any) -> Draft:
        return replace(self, **changes)

    @property
    def filled(self) -> tuple[float, float, float, float]:
        """x, y, width, height of what its pictures fill of the delivered raster, 0 … 1."""
        if not self.panels:
            return (0.0, 0.0, 1.0, 1.0)
        corner = [min(p.place[i] for p in self.panels) / self.raster[i] for i in (0, 1)]
        end = [max(p.place[i] + p.size[i] for p in self.panels) / self.raster[i] for i in (0, 1)]
        return corner[0], corner[1], end[0] - corner[0], end[1] - corner[1]

    def frozen(self, samples: Samples | None = None) -> Plan:
        """``samples``: other ones than the target's, for a picture that is only looked at."""
        samples = samples or (self.target.samples if self.target is not None else None)
        assert self.inputs and self.panels and samples is not None
        return Plan(self.inputs, self.raster, self.panels, self.chain, samples, self.curve, self.overlays, self.black)


@dataclass(frozen=True)
class Plan:
    """The pixels of a render: a draft with nothing left open."""

    inputs: tuple[Input, ...]
    raster: Size
    panels: tuple[Panel, ...]
    chain: ColourChain | None
    target: Samples
    curve: Curve | None = None
    overlays: tuple[Overlay, ...] = ()
    black: tuple[Area, ...] = ()

    @staticmethod
    def single(
        samples: Samples, recorded: Size, panel: Panel, chain: ColourChain | None, target: Samples, raster: Size | None = None
    ) -> Plan:
        """One recording behind one panel, which fills the raster if no other is said."""
        return Plan((Input(samples, recorded),), raster or panel.size, (panel,), chain, target)

    @property
    def source(self) -> Samples:
        """In whose codes the panels are before their colour: the first input's."""
        return self.inputs[0].given

    def at_size(self, width: int, height: int) -> Plan:
        """The same pictures at the largest even raster that fits; never larger than this one."""
        made = self._at_size(width, height)
        kx, ky = made.raster[0] / self.raster[0], made.raster[1] / self.raster[1]
        laid = tuple(replace(o, boxes=tuple((x * kx, y * ky, w * kx, h * ky) for x, y, w, h in o.boxes)) for o in self.overlays)
        black = tuple((even(x * kx), even(y * ky), even(w * kx), even(h * ky)) for x, y, w, h in self.black)
        return replace(made, overlays=laid, black=black)

    def _at_size(self, width: int, height: int) -> Plan:
        k = max(Fraction(self.raster[0], width), Fraction(self.raster[1], height), Fraction(1))
        if k == 1:
            return self

        def less(v: int) -> int:
            return max(2, int(v / k) // 2 * 2)

        if len(self.panels) > 1:
            panels = []
            for p in self.panels:
                (x0, y0), (x1, y1) = (tuple(int(v / k) // 2 * 2 for v in (p.place[0] + a * p.size[0], p.place[1] + a * p.size[1])) for a in (0, 1))
                panels.append(replace(p, look=p.look.at_size((max(2, x1 - x0), max(2, y1 - y0))), place=(x0, y0)))
            outer = tuple(max([less(self.raster[i]), *(p.place[i] + p.size[i] for p in panels)]) for i in (0, 1))
            return replace(self, raster=(outer[0], outer[1]), panels=tuple(panels))
        (panel,) = self.panels
        inner = (less(panel.size[0]), less(panel.size[1]))
        outer = (max(inner[0], less(self.raster[0])), max(inner[1], less(self.raster[1])))
        x, y = ((outer[i] - inner[i]) // 4 * 2 if panel.place[i] else 0 for i in (0, 1))
        return replace(self, raster=outer, panels=(replace(panel, look=panel.look.at_size(inner), place=(x, y)),))


