"""What the picture says about shape: the squeeze of a lens, from things that are known to be round or known in length."""

from __future__ import annotations

import math
from collections.abc import Sequence

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..errors import AdzerError
from ..look.alike import vertex
from ..media.probe import FileFacts

Array = NDArray[np.float64]
NORMALS = 240
ASKEW = (
    0.03  # a round thing off the middle, not quite square to the lens, reads wrong by about this share of its distance
)


WHOLE = 0.68  # share of an ellipse's way round that must lie on an edge
SIZES = (0.75, 0.85, 0.95, 1.05, 1.15, 1.3)  # times a mark's size from which its edge is looked for
STARTS = ((0.0, 0.0), (-0.15, 0.0), (0.15, 0.0), (0.0, -0.15), (0.0, 0.15))  # and away from its middle


class Ellipse(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A round thing as it is recorded: centre and half axes in recorded pixels, degrees of ``a`` from level, clockwise."""

    x: float
    y: float
    a: float
    b: float
    angle: float = 0.0
    frame: int = 0

    @property
    def half_width(self) -> float:
        t = math.radians(self.angle)
        return math.hypot(self.a * math.cos(t), self.b * math.sin(t))

    @property
    def half_height(self) -> float:
        t = math.radians(self.angle)
        return math.hypot(self.a * math.sin(t), self.b * math.cos(t))


class Lengths(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Two lengths at right angles: a level one of ``across`` and an upright one of ``down`` recorded pixels, and how long
    both really are, in the same unit."""

    across: float
    down: float
    really_across: float
    really_down: float
    frame: int = 0


Mark = Ellipse | Lengths


class Squeeze(msgspec.Struct, frozen=True):
    """``squeeze`` of the lens, pixel aspect taken out, ± ``error``, within which it lies 19 times of 20. ``marks``: each round thing as
    it was found, in the order given; ``each``: what each mark says."""

    squeeze: float
    error: float
    saw: str
    marks: tuple[Ellipse, ...] = ()
    each: tuple[float, ...] = ()


def _checked(mark: Ellipse, raster: tuple[int, int]) -> None:
    """AdzerError with a sentence if the mark cannot be a round thing in the picture."""
    values = (mark.x, mark.y, mark.a, mark.b, mark.angle)
    w, h = raster
    if not all(math.isfinite(v) for v in values):
        raise AdzerError("The outline holds something that is not a number. Outline the round thing again.")
    if min(mark.a, mark.b) < 4:
        raise AdzerError(
            f"An outline of {mark.a:g}×{mark.b:g} pixels is a line or a dot. Outline a round thing at least 8 pixels across."
        )
    if max(mark.a, mark.b) > 2 * max(w, h):
        raise AdzerError(f"An outline of {mark.a:g}×{mark.b:g} pixels is far larger than the picture, which is {w}×{h}. Outline something inside.")
    if max(mark.a, mark.b) > 8 * min(mark.a, mark.b):
        raise AdzerError(
            "The outline is so thin that no lens can have squeezed it so. Outline a round thing seen from the front."
        )
    if (
        mark.x + mark.half_width < 0
        or mark.x - mark.half_width > w
        or mark.y + mark.half_height < 0
        or mark.y - mark.half_height > h
    ):
        raise AdzerError(f"The outline lies outside the picture, which is {w}×{h}. Outline something inside.")


def _read(luma: Array, x: Array, y: Array) -> Array:
    """Luma at places (0 the picture's edge), straight between samples; NaN outside."""
    h, w = luma.shape
    u, v = x - 0.5, y - 0.5
    inside = (u >= 0) & (v >= 0) & (u <= w - 1) & (v <= h - 1)
    i, j = np.clip(u.astype(int), 0, max(w - 2, 0)), np.clip(v.astype(int), 0, max(h - 2, 0))
    fu, fv = u - i, v - j
    top = luma[j, i] * (1 - fu) + luma[j, np.minimum(i + 1, w - 1)] * fu
    low = luma[np.minimum(j + 1, h - 1), i] * (1 - fu) + luma[np.minimum(j + 1, h - 1), np.minimum(i + 1, w - 1)] * fu
    return np.where(inside, top * (1 - fv) + low * fv, np.nan)


def refine(luma: Array, mark: Ellipse, turns: int = 8, normals: int = NORMALS) -> tuple[Ellipse, float, int]:
    """The edge of a round thing near a mark: (ellipse, relative error of height ÷ width, places of the edge that were used).

    Looks along normals for one edge of the same polarity all around, fits a conic to it, and looks again nearer. Raises
    AdzerError where no edge goes round.
    """
    for turn in range(turns):
        share = max(0.12 * 0.6**turn, 2.5 / min(mark.a, mark.b))
        t = np.linspace(0, 2 * np.pi, normals, endpoint=False)
        spin = math.radians(mark.angle)
        k = np.linspace(1 - share, 1 + share, 2 * max(12, round(share * max(mark.a, mark.b) * 2)) + 1)
        u, v = np.outer(np.cos(t), k) * mark.a, np.outer(np.sin(t), k) * mark.b
        x = mark.x + u * math.cos(spin) - v * math.sin(spin)
        y = mark.y + u * math.sin(spin) + v * math.cos(spin)
        profile = _read(luma, x, y)
        slope = np.gradient(profile, axis=1)
        slope = np.where(np.isfinite(slope), slope, 0.0)
        slope = (slope[:, :-2] + 2 * slope[:, 1:-1] + slope[:, 2:]) / 4
        near = np.exp(-0.5 * ((k[1:-1] - 1) / (0.55 * share)) ** 2)
        rising, falling = np.maximum(slope, 0) * near, np.maximum(-slope, 0) * near
        strength = rising if np.median(rising.max(axis=1)) >= np.median(falling.max(axis=1)) else falling
        at = strength.argmax(axis=1)
        rows = np.arange(normals)
        peak = strength[rows, at]
        good = (at > 0) & (at < strength.shape[1] - 1) & (peak > 0.25 * np.percentile(peak, 75))
        if good.sum() < normals // 3:
            raise AdzerError(
                "No edge goes round near the outline. Outline a round thing that stands out from what is behind it."
            )
        before, here, after = strength[rows, at - 1], peak, strength[rows, np.minimum(at + 1, strength.shape[1] - 1)]
        place = np.interp(at + 1 + vertex(before, here, after), np.arange(len(k)), k)
        pu, pv = np.cos(t) * place * mark.a, np.sin(t) * place * mark.b
        px = mark.x + pu * math.cos(spin) - pv * math.sin(spin)
        py = mark.y + pu * math.sin(spin) + pv * math.cos(spin)
        mark, error, used = _fitted(px[good], py[good], mark)
    return mark, error, used


def _support(luma: Array, mark: Ellipse) -> float:
    """0–1: the share of an ellipse's way round that lies on one edge: where luma changes across it as it does elsewhere on
    it, the same way, more than it does beside it."""
    t = np.linspace(0, 2 * np.pi, 2 * NORMALS, endpoint=False)
    spin, far = math.radians(mark.angle), np.array([-6.0, -4.5, -1.5, 0.0, 1.5, 4.5, 6.0])
    nu, nv = np.cos(t) / mark.a, np.sin(t) / mark.b
    length = np.hypot(nu, nv)
    u = (np.cos(t) * mark.a)[:, None] + (nu / length)[:, None] * far
    v = (np.sin(t) * mark.b)[:, None] + (nv / length)[:, None] * far
    x = mark.x + u * math.cos(spin) - v * math.sin(spin)
    y = mark.y + u * math.sin(spin) + v * math.cos(spin)
    seen = _read(luma, x, y)
    step = seen[:, 4] - seen[:, 2]
    beside = np.maximum(np.abs(seen[:, 1] - seen[:, 0]), np.abs(seen[:, 6] - seen[:, 5]))
    whole = np.isfinite(step) & np.isfinite(beside)
    if whole.sum() < NORMALS:
        return 0.0
    way = np.sign(np.median(step[whole]))
    usual = float(np.percentile(np.abs(step[whole]), 60))
    on = whole & (step * way > max(0.3 * usual, 1.0)) & (step * way > beside)
    return float(on.sum() / len(t))


def found_round(luma: Array, mark: Ellipse) -> tuple[Ellipse, float, int]:
    """The round thing in a loose box: ``refine`` from many starts, the ellipse taken whose edge goes round most wholly. The
    error takes in how far other, nearly as whole ones differ. AdzerError where none goes round."""
    rough: list[Ellipse] = []
    best: list[tuple[float, Ellipse, float, int]] = []
    for large in SIZES:
        for tall in (0.86, 1.0, 1.16):
            for dx, dy in STARTS:
                begun = msgspec.structs.replace(
                    mark, x=mark.x + dx * mark.a, y=mark.y + dy * mark.b,
                    a=mark.a * large / math.sqrt(tall), b=mark.b * large * math.sqrt(tall),
                )  # fmt: skip
                try:
                    rough.append(refine(luma, begun, 5, NORMALS // 3)[0])
                except AdzerError:
                    continue
    rough = sorted((e for e in rough if _meant(e, mark)), key=lambda e: -_support(luma, e))[:10]
    for begun in rough:
        try:
            ellipse, error, used = refine(luma, begun)
        except AdzerError:
            continue
        if _meant(ellipse, mark):
            best.append((_support(luma, ellipse), ellipse, error, used))
    best.sort(key=lambda row: -row[0])
    if not best or best[0][0] < WHOLE:
        raise AdzerError(
            "No round thing is seen whole in the outline. Outline one that stands out from what is behind it, more closely."
        )
    support, ellipse, error, used = best[0]
    ratio = ellipse.half_height / ellipse.half_width
    others = [e.half_height / e.half_width for s, e, *_ in best if s > support - 0.08]
    far = max(abs(math.log(o / ratio)) for o in others)
    return ellipse, math.hypot(2.2 * error, far / 2, (1 - support) * 0.02, 7e-4), used


def _meant(found: Ellipse, mark: Ellipse) -> bool:
    """Can the box have been drawn around it?"""
    near = abs(found.x - mark.x) < 0.5 * mark.a and abs(found.y - mark.y) < 0.5 * mark.b
    return near and all(0.6 < a / b < 1.6 for a, b in ((found.half_width, mark.a), (found.half_height, mark.b)))


def _fitted(x: Array, y: Array, near: Ellipse) -> tuple[Ellipse, float, int]:
    """Least squares of an ellipse, outliers put aside; with the relative error of its height over its width."""
    scale = math.hypot(near.a, near.b)
    u, v = (x - near.x) / scale, (y - near.y) / scale
    kept = np.ones(len(u), bool)
    for _ in range(6):
        a = np.column_stack([u**2, u * v, v**2, u, v])[kept]
        c, *_ = np.linalg.lstsq(a, np.ones(kept.sum()), rcond=None)
        value = np.column_stack([u**2, u * v, v**2, u, v]) @ c - 1
        steep = np.hypot(2 * c[0] * u + c[1] * v + c[3], c[1] * u + 2 * c[2] * v + c[4])
        off = value / np.maximum(steep, 1e-9)
        limit = max(2.5 * float(np.median(np.abs(off[kept]))) * 1.4826, 1e-4)
        kept = np.abs(off) < limit
    m = np.array([[c[0], c[1] / 2], [c[1] / 2, c[2]]])
    if kept.sum() < 24 or np.linalg.det(m) <= 0:
        raise AdzerError("What was found near the outline is no ellipse. Outline a round thing that is seen whole.")
    centre = np.linalg.solve(-2 * m, c[3:5])
    size = 1 + centre @ m @ centre
    inverse = np.linalg.inv(m / size)
    values, vectors = np.linalg.eigh(inverse)
    level = int(np.argmax(np.abs(vectors[0])))
    angle = math.degrees(math.atan2(vectors[1, level], vectors[0, level]))
    angle = (angle + 90) % 180 - 90
    axes = np.sqrt(values) * scale
    found = Ellipse(
        float(near.x + centre[0] * scale), float(near.y + centre[1] * scale), float(axes[level]), float(axes[1 - level]),
        float(angle), near.frame,
    )  # fmt: skip
    spread = float(np.sqrt(np.mean(off[kept] ** 2))) * scale
    # Half the places weigh on the width and half on the height; neighbours on one edge err alike, hence the four.
    error = (
        spread * math.sqrt(4.0 / kept.sum()) * math.sqrt(2) * math.hypot(1 / found.half_width, 1 / found.half_height)
    )
    return found, float(error), int(kept.sum())


def measure_squeeze(facts: FileFacts, marks: Sequence[Mark], turn: int = 0) -> Squeeze:
    """The squeeze that makes the marked things round, each mark weighed by its own error, in a picture turned clockwise
    by ``turn`` degrees. AdzerError without a usable mark."""
    if not marks:
        raise AdzerError("Nothing is outlined yet. Outline a round thing, or two lengths at right angles.")
    aspect, raster = float(facts.pixel_aspect or 1), facts.raster
    if turn % 180:
        aspect, raster = 1 / aspect, (raster[1], raster[0])
    found: list[Ellipse] = []
    each: list[float] = []
    errors: list[float] = []
    says = []
    from ..media.decode import opened, upright  # the decoder is no business of those who only hold marks

    with opened(facts.sources, facts.fingerprint) as reader:
        for mark in marks:
            if isinstance(mark, Ellipse):
                _checked(mark, raster)
                luma = upright(reader.frame(mark.frame), turn)[0].astype(np.float64)
                ellipse, error, used = found_round(luma, mark)
                found.append(ellipse)
                each.append(ellipse.half_height / ellipse.half_width / aspect)
                away = math.hypot(ellipse.x / raster[0] - 0.5, ellipse.y / raster[1] - 0.5)
                errors.append(math.hypot(error, ASKEW * away))
                says.append(
                    f"{2 * ellipse.half_width:.1f}×{2 * ellipse.half_height:.1f} pixels recorded, by {used} places of its edge"
                )
            else:
                values = (mark.across, mark.down, mark.really_across, mark.really_down)
                if not all(math.isfinite(v) and v > 0 for v in values):
                    raise AdzerError("Lengths must be more than nothing. Give both of them again.")
                each.append(mark.down / mark.really_down / (mark.across / mark.really_across) / aspect)
                errors.append(math.hypot(0.7 / mark.across, 0.7 / mark.down))
                says.append(f"{mark.across:.1f} level against {mark.down:.1f} upright pixels")
    weights = 1 / np.square(errors)
    logs = np.log(each)
    mean = float((logs * weights).sum() / weights.sum())
    inner = float(np.sqrt(1 / weights.sum()))
    # Marks that disagree by more than their own errors allow are less sure together than each says of itself.
    outer = (
        float(np.sqrt((weights * (logs - mean) ** 2).sum() / weights.sum() / max(len(each) - 1, 1)))
        if len(each) > 1
        else 0.0
    )
    value = math.exp(mean)
    return Squeeze(value, 2 * value * max(inner, outer), "; ".join(says), tuple(found), tuple(each))
