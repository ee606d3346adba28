"""The second witness of a master: some of its frames, made once more from the recording by another way, against what was decoded from it.

What is witnessed while a master is rendered says nothing of what went wrong before it was encoded. So chosen frames (the first, the last,
the one of each minute that came back worst, some at random) are decoded anew, and what each delivered place shows is reckoned point by
point in float64 from directions, lenses and curves themselves: none of the loops, tables, grids or filters of a render is used. Means of
blocks of BLOCK pixels are compared, as these are the same however a picture is interpolated and compressed.
"""

from __future__ import annotations

import random
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import cast

import numpy as np
from numpy.typing import NDArray

from ..compile import Order, RenderPlan
from ..light.samples import chroma_offset
from ..media.decode import Frame
from ..media.formats import Plane
from ..plan import Panel, Patch, Plan, Planes
from ..space.sphere import Equirect, Flat
from .frames import Inputs

Array = NDArray[np.float64]

BLOCK, ACROSS, MARGIN = 8, 20, 4  # delivered pixels of a block's side, blocks across, pixels from a panel's edge
EVERY, RANDOM, FEWEST = 60.0, 3, 4  # seconds in which there is a worst frame, and so many at random; frames of a short render
SHARE, SOONEST = 0.04, 3.0  # of the render's own time, and seconds, that all this may take
KEPT = 0.8  # share of the blocks, those that agree best, that are judged: a thin line may be drawn otherwise
COVERED = 0.999


@dataclass(frozen=True)
class Sites:
    """Blocks of a delivered raster that show a picture, all of one panel. ``x``, ``y``: their corners in luma samples (even)."""

    panel: int
    x: NDArray[np.int64]
    y: NDArray[np.int64]


def sites_of(plan: Plan, seed: str) -> list[Sites]:
    """Places spread over each panel, jittered by ``seed``, none under an overlay or in the dark."""
    chance, made = random.Random(seed), []
    for n, panel in enumerate(plan.panels):
        (w, h), (left, top) = panel.size, panel.place
        if min(w, h) < BLOCK + 2 * MARGIN:
            continue
        columns = max(1, min(ACROSS // len(plan.panels), (w - 2 * MARGIN) // BLOCK))
        rows = max(1, min(round(columns * h / w) or 1, (h - 2 * MARGIN) // BLOCK))
        xs, ys = [], []
        for row in range(rows):
            for column in range(columns):
                x = left + MARGIN + int((w - 2 * MARGIN - BLOCK) * (column + chance.random()) / columns)
                y = top + MARGIN + int((h - 2 * MARGIN - BLOCK) * (row + chance.random()) / rows)
                boxes = [*plan.black, *(b for o in plan.overlays for b in o.boxes)]
                if not any(x < bx + bw + 2 and x + BLOCK > bx - 2 and y < by + bh + 2 and y + BLOCK > by - 2 for bx, by, bw, bh in boxes):
                    xs.append(x // 2 * 2)
                    ys.append(y // 2 * 2)
        made.append(Sites(n, np.array(xs, np.int64), np.array(ys, np.int64)))
    return [s for s in made if len(s.x)]


def found_in(planes: Planes, sub: tuple[int, int], sites: list[Sites]) -> list[Array]:
    """Means of the blocks of decoded planes, (3, blocks) for each of the sites."""
    made = []
    for s in sites:
        rows = []
        for c, plane in enumerate(planes):
            sx, sy = sub if c else (1, 1)
            w, h = max(1, BLOCK // sx), max(1, BLOCK // sy)
            part = plane[(s.y // sy)[:, None, None] + np.arange(h)[None, :, None], (s.x // sx)[:, None, None] + np.arange(w)[None, None, :]]
            rows.append(part.reshape(len(s.x), -1).mean(axis=1))
        made.append(np.array(rows))
    return made


def expected(
    plan: Plan, sites: Sites, frames: list[Planes], moment: float, fine: int, shift: tuple[float, float] = (0.0, 0.0)
) -> tuple[Array, Array]:
    """What the blocks should hold, (3, blocks) codes before they are made whole, and how far they are covered, (blocks,). ``fine``: points a
    pixel's side; ``shift``: pixels by which the picture is taken from further right and down."""
    panel = plan.panels[sites.panel]
    steps = (np.arange(BLOCK * fine) + 0.5) / fine
    x = (sites.x - panel.place[0])[:, None, None] + steps[None, None, :] + shift[0]
    y = (sites.y - panel.place[1])[:, None, None] + steps[None, :, None] + shift[1]
    x, y = (np.broadcast_to(v, (len(sites.x), len(steps), len(steps))).reshape(1, -1) for v in (x, y))
    signal, cover = _signal(plan, panel, frames, x, y, moment)
    chain = plan.chain
    out = signal if chain is None else chain.apply(signal)
    matrix = plan.target.to_codes(1.0 if chain is None else chain.saturation)
    codes = out @ matrix[:, :3].T + matrix[:, 3]
    codes = np.clip(codes, plan.target.ends[0], np.array(plan.target.most, np.float64))
    blocks = len(sites.x)
    return codes.reshape(blocks, -1, 3).mean(axis=1).T, cover.reshape(blocks, -1).min(axis=1)


def _signal(plan: Plan, panel: Panel, frames: list[Planes], x: Array, y: Array, moment: float) -> tuple[Array, Array]:
    """R′G′B′ (points, 3) of the recording at delivered places, its patches mixed in light, and where there is a picture."""
    d = panel.look.directions(x, y, moment)
    if len(panel.patches) == 1 and panel.patches[0].plain:
        return _sampled(plan, panel.patches[0], frames, d, moment)
    curve = plan.chain.source if plan.chain is not None else plan.curve
    total, weight, cover = np.zeros((x.size, 3)), np.zeros(x.size), np.zeros(x.size)
    for patch in panel.patches:
        signal, seen = _sampled(plan, patch, frames, d, moment)
        light = signal if curve is None else curve.decode(signal)
        share = seen * (1.0 if patch.share is None else np.asarray(patch.share.at(d, moment)).reshape(-1))
        given = np.array(patch.light if patch.light is not None else np.eye(3))
        brighter = share[:, None] if patch.tone is None else share[:, None] * np.asarray(patch.tone.at(d, moment)).reshape(-1, 3)
        total += brighter * (light @ given[:, :3].T + (given[:, 3] if given.shape[1] == 4 else 0.0))
        weight += share
        cover = np.maximum(cover, np.where(share > 0, seen, 0))
    light = total / np.maximum(weight, 1e-12)[:, None]
    return np.asarray(light if curve is None else curve.encode(light)), cover


def _sampled(plan: Plan, patch: Patch, frames: list[Planes], d: Array, moment: float) -> tuple[Array, Array]:
    """One patch's R′G′B′ at directions of its panel's look, straight between recorded samples."""
    from scipy.ndimage import map_coordinates  # here, as it loads slowly and the window opens without it

    held, lens = plan.inputs[patch.input].given, patch.lens
    own = patch.held(d, moment)
    place, (left, top, w, h) = lens.place(own).reshape(-1, 2), patch.region
    planes, made = frames[patch.input], []
    for c in range(3):
        plane = planes[min(c, len(planes) - 1)].astype(np.float64)
        sub = held.format.sub if c and len(planes) > 1 else (1, 1)
        part = plane[top // sub[1] : -(-(top + h) // sub[1]), left // sub[0] : -(-(left + w) // sub[0])]
        pad = 0
        if isinstance(lens, Equirect) and lens.whole:
            part, pad = np.pad(part, ((0, 0), (4, 4)), mode="wrap"), 4
        index = [(place[:, i] - chroma_offset(held.siting, i, sub[i])) / sub[i] for i in (1, 0)]
        index[1] = index[1] + pad
        made.append(map_coordinates(part, index, order=1, mode="nearest"))
    matrix = held.to_signal()
    whole = isinstance(lens, Flat) or (isinstance(lens, Equirect) and lens.whole)
    if whole:
        inside = np.ones(len(place))
    else:
        margin = np.asarray(lens.margin(own), np.float64).reshape(-1)
        inside = margin / lens.fade if lens.fade else np.radians(margin) * lens.density + 0.5
    return np.stack(made, axis=-1) @ matrix[:, :3].T + matrix[:, 3], np.clip(inside, 0.0, 1.0)


def _upright(plan: Plan, n: int, planes: Planes) -> Planes:
    held = plan.inputs[n]
    (w, h), form = held.as_recorded[1], held.lying.format
    sizes = [form.plane_size((w, h), i) for i in range(len(planes))]
    cut = [p[:y, :x] for p, (x, y) in zip(planes, sizes, strict=True)]
    return tuple(cast(Plane, np.ascontiguousarray(np.rot90(p, -held.turn // 90))) for p in cut)


@dataclass
class Chosen:
    """Which frames of a master are made again, and what was found in them. ``add`` takes every decoded frame in its order."""

    plan: RenderPlan
    seed: str
    found: dict[int, tuple[list[Array], float]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.sites = sites_of(self.plan.pixels, self.seed)
        total = len(self.plan.timing)
        self._minute = max(1, round(EVERY * float(self.plan.timing.rate)))
        chance = random.Random(self.seed + "frames")
        count = max(FEWEST, RANDOM * -(-total // self._minute))
        self._at = {0, total - 1, *(chance.randrange(total) for _ in range(count))}
        self._worst: dict[int, tuple[float, int]] = {}

    def add(self, number: int, frame: Frame, rest: float, step: float) -> None:
        """``rest``: by how much it differs from what went into the encoder."""
        minute = number // self._minute
        before = self._worst.get(minute, (-1.0, -1))
        worst = rest > before[0]
        if worst:
            if before[1] >= 0 and before[1] not in self._at:
                self.found.pop(before[1], None)
            self._worst[minute] = (rest, number)
        if worst or number in self._at:
            planes = tuple(frame.cropped(i) for i in range(len(frame.planes)))
            self.found[number] = found_in(planes, frame.format.sub, self.sites), step

    @property
    def order(self) -> list[int]:
        """The first, the last and the worst before those at random, in case there is no time for all."""
        total = len(self.plan.timing)
        first = [0, total - 1, *(n for _, n in sorted(self._worst.values(), reverse=True))]
        return [n for n in dict.fromkeys([*first, *sorted(self.found)]) if n in self.found]


@dataclass(frozen=True)
class Verdict:
    """``faults`` in words; ``count``: frames that were made again."""

    faults: tuple[str, ...]
    count: int


def compared(chosen: Chosen, order: Order, took: float) -> Verdict:
    """Makes the chosen frames again and holds them against the master's, for as long as a share of the render that ``took`` so many
    seconds."""
    plan, pixels = chosen.plan, chosen.plan.pixels
    until = time.monotonic() + max(SOONEST, SHARE * took)
    faults, count = list[str](), 0
    with Inputs(pixels.inputs, order.facts) as inputs:
        for number in chosen.order:
            if count >= 2 and time.monotonic() > until:
                break
            moment = float(plan.timing.moments[number])
            part = slice(number, number + 1)
            planes = next(inputs.along(plan.timing.frames[part], plan.timing.moments[part], plan.timing.between))
            frames = [_upright(pixels, n, p) if p else p for n, p in enumerate(planes)]
            found, step = chosen.found[number]
            faults += [f"frame {number}: {text}" for text in _faults(pixels, chosen.sites, frames, found, moment, step)]
            count += 1
    return Verdict(tuple(faults), count)


def _faults(plan: Plan, sites: list[Sites], frames: list[Planes], found: list[Array], moment: float, step: float) -> Iterator[str]:
    scale = 2.0 ** (plan.target.format.bits - 8)
    wanted, right, down, seen = [], [], [], []
    for s, f in zip(sites, found, strict=True):
        made, cover = expected(plan, s, frames, moment, 2)
        inside = cover > COVERED
        if inside.sum() < 4:
            continue
        few = Sites(s.panel, s.x[inside], s.y[inside])
        wanted.append(made[:, inside] / scale)
        right.append(expected(plan, few, frames, moment, 1, (1.0, 0.0))[0] / scale)
        down.append(expected(plan, few, frames, moment, 1, (0.0, 1.0))[0] / scale)
        here = expected(plan, few, frames, moment, 1)[0] / scale
        right[-1], down[-1] = right[-1] - here, down[-1] - here
        seen.append(f[:, inside] / scale)
    if not wanted:
        return
    want, across, upright, got = (np.concatenate(v, axis=1) for v in (wanted, right, down, seen))
    for plane, name in enumerate(("luma", "Cb", "Cr")[: len(got)]):
        apart = got[plane] - want[plane]
        level = want[plane] - want[plane].mean()
        causes = np.stack([np.ones(len(apart)), level, across[plane], upright[plane]], axis=1)
        keep = np.argsort(np.abs(apart - np.median(apart)))[: max(8, int(KEPT * len(apart)))]
        held = causes[keep]
        weight = held.T @ held + np.diag([1e-9, 4.0 * len(keep), 2.0 + 0.02 * len(keep), 2.0 + 0.02 * len(keep)])
        offset, gain, x, y = np.linalg.solve(weight, held.T @ apart[keep])
        rest = float(np.sqrt(np.mean(apart[keep] ** 2)))
        spread = float(level[keep].std())
        if rest > 1.2 + 0.3 * step + 0.03 * float(np.hypot(across[plane][keep], upright[plane][keep]).mean() + spread):
            yield f"{name} is not what the recording gives: it differs by {rest:.1f}"
        elif abs(offset) > 0.8 + 0.12 * step:
            yield f"{name} is {offset:+.1f} off"
        elif abs(gain) > 0.04 + 0.006 * step and abs(gain) * spread > 0.8 + 0.1 * step:
            yield f"{name} has {1 + gain:.2f} times its contrast"
        elif plane == 0 and max(abs(x), abs(y)) > 0.6 + 0.06 * step:
            yield f"the picture is {x:+.1f}, {y:+.1f} pixels from its place"


