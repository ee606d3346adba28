"""Looking at footage: every field of its Picture guessed from a few frames, with confidence and what was seen."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from ..light.samples import Samples
from ..look import sampling
from ..media import probe
from ..media.probe import FileFacts
from . import depth, halves, kinds, lenses, projection, rhythm
from .measure import measure
from .seen import Disc, Guess, Halves, Seen, Wrap

EYE_SHAPES = tuple(Fraction(n) for n in ("16/9", "256/135", "4/3", "3/2", "1", "2", "239/100"))
AGREE = 0.8
ALIKE = 0.998  # no two eyes see that nearly the same: a pattern that repeats does
DEPTH = 0.12  # per cent of an eye's width: two eyes see near and far things apart, which no single shift explains
PORTHOLE = 0.75  # one round picture is as often a porthole, or a mask, as it is a lens
SQUARE = 0.75  # a flat square whose first and last rows are even looks like half a sphere
TINY = 120  # pixels a side, below which there is no form to be seen


@dataclass(frozen=True)
class _Layout:
    """How the picture may be divided: packing and one eye's shape in it, as recorded."""

    packing: str
    shape: float


def identify(facts: FileFacts, samples: Samples, cancelled: Callable[[], bool] = lambda: False) -> Seen:
    """What the frames of a file say; its tags are not looked at. UnreadableError if no frame can be decoded."""
    looked = sampling.sample(facts.sources, facts.fingerprint, cancelled=cancelled)
    if min(facts.raster) < TINY:
        levels = measure(looked.spread, samples)
        return Seen(fingerprint=facts.fingerprint, levels=levels, curve=kinds.guess(levels, facts.bits))
    k = sampling.cell(facts.raster[0])
    views = [sampling.small(f, samples) for f in looked.spread]
    mean = np.mean(views, axis=0)
    found = lenses.discs(mean, float(k), looked.spread)
    shape = facts.raster[0] / facts.raster[1] * float(facts.pixel_aspect or 1)
    eyes, packing, first, compared = _eyes([_within(v, found, k) for v in views], shape)
    layout = _Layout(eyes.value or "one", _eye_shape(shape, eyes.value))
    form, coverage, check, packing = _projection(views, found, layout, eyes, packing)
    if form.value == "equirectangular" and compared is not None and eyes.value not in (None, "one"):
        first = _first(compared, "the ground lies below and is nearer")
    inside = (lambda x, y: lenses.inside(found, x, y)) if found else None
    levels = measure(looked.spread, samples, inside)
    if cancelled():
        raise probe.UnreadableError(f"{facts.path}: reading was stopped.")
    return Seen(
        fingerprint=facts.fingerprint, levels=levels, projection=form, coverage=coverage, eyes=eyes, packing=packing,
        first=first, curve=kinds.guess(levels, facts.bits), range=_range(looked, samples, bool(found)), turn=_turn(mean, form),
        discs=found, wrap=check,
        halves=compared, depth=depth.measure(looked.spread, samples),
        rhythm=rhythm.measure(probe.scan(facts.source, facts.fingerprint), looked.run, samples),
    )  # fmt: skip


def _eye_shape(shape: float, eyes: str | None) -> float:
    return shape / 2 if eyes == "side by side" else shape * 2 if eyes == "over under" else shape


def _within(view: np.ndarray, found: tuple[Disc, ...], k: int) -> np.ndarray:
    """The middle of two round pictures side by side, without their rims, which always agree; else the view itself."""
    if len(found) != 2:
        return view
    side = int(min(d.radius for d in found) / k * 1.2)
    cut = []
    for d in found:
        x, y = int(d.x / k) - side // 2, int(d.y / k) - side // 2
        cut.append(view[max(y, 0) : y + side, max(x, 0) : x + side])
    h, w = (min(c.shape[i] for c in cut) for i in (0, 1))
    return np.concatenate([c[:h, :w] for c in cut], axis=1)


def _eyes(views: list[np.ndarray], shape: float) -> tuple[Guess, Guess, Guess, Halves | None]:
    """Eyes, their packing, which is first, and the better of the two comparisons."""
    tried = {p: halves.compare(views[:3], p) for p in ("side by side", "over under")}
    best, other = _better(tried)
    if best.agree + 0.4 * (best.agree - other.agree) < AGREE:  # the cameras may not converge
        wide = {p: halves.compare(views[:2], p, share=halves.FAR) for p in tried}
        if _better(wide)[0].agree > best.agree + 0.2:
            best, other = _better(wide)
    saw = f"the halves {best.packing} agree to {best.agree:.0%}, {other.packing} to {other.agree:.0%}"
    # Two eyes agree well in most of their textured blocks, and the other way of halving does not.
    score = best.agree + 0.4 * (best.agree - other.agree)
    if score < AGREE or len(best.places) < 12:
        sure = min(1.0, max(0.0, (AGREE + 0.1 - score) / 0.2))
        return Guess("one", round(0.55 + 0.45 * sure, 3), saw), Guess(), Guess(), best
    sure = min(0.99 if best.agree > AGREE else 0.75, 0.7 + (score - AGREE) * 1.5)
    if (anyway := halves.alike_anyway(views[:2], best.packing)) > 0.75 * best.agree:
        sure, saw = min(sure, 0.4), f"{saw}; but moved along by a fifth they agree to {anyway:.0%}, too"
    eye = _eye_shape(shape, best.packing)
    squeezed = eye * 2 if best.packing == "side by side" else eye / 2
    near = {name: min(abs(float(s) / v - 1) for s in EYE_SHAPES) for name, v in (("full", eye), ("half", squeezed))}
    packing = min(near, key=lambda n: near[n])
    told = f"an eye is {eye:.2f}:1 as recorded, {squeezed:.2f}:1 if it was halved"
    confident = 0.9 if near[packing] < 0.03 and abs(near["full"] - near["half"]) > 0.03 else 0.6
    if best.agree > ALIKE:
        sure = min(sure, 0.6)
    if (apart := _spread(best)) < DEPTH:
        sure, saw = min(sure, 0.6), f"{saw}; but all of it moved by one step (within {apart:.2f} % of an eye's width), as a picture shown twice does"
    return (
        Guess(best.packing, round(sure, 3), saw),
        Guess(packing, confident, told),
        _first(best, "below is usually nearer"),
        best,
    )


def _spread(compared: Halves) -> float:
    """Per cent of an eye's width by which shifts differ from place to place: between the lowest and the highest sixth of them."""
    shifts = [d for _, d in compared.places]
    return float(np.subtract(*np.quantile(shifts, [5 / 6, 1 / 6]))) if shifts else 0.0


def _better(tried: dict[str, Halves]) -> tuple[Halves, Halves]:
    """The comparison that agrees better, and the other."""
    a, b = tried.values()
    return (a, b) if a.agree >= b.agree else (b, a)


def _first(compared: Halves, why: str) -> Guess:
    """In the left eye near things lie further right: the shift must grow towards what is near."""
    weight = abs(compared.slope) / max(compared.slope_error, 1e-4)
    strong = abs(compared.slope) > 0.04
    confidence = float(np.clip(1 - np.exp(-weight / 3.5), 0, 0.99)) * (1.0 if strong else 0.5)
    saw = (
        f"from top to bottom things move {compared.slope:+.2f} % (± {compared.slope_error:.2f}) of an eye's width between the "
        f"halves, and {why}"
    )
    return Guess("left" if compared.slope > 0 else "right", round(confidence, 3), saw)


def _projection(
    views: list[np.ndarray], found: tuple[Disc, ...], layout: _Layout, eyes: Guess, packing: Guess
) -> tuple[Guess, Guess, Wrap, Guess]:
    """Projection, coverage, the check of poles and seam, and the packing as the projection corrects it."""
    halved = [halves.split(v, layout.packing)[0] for v in views] if layout.packing != "one" else views
    check = projection.wrap(halved)
    saw = f"the outer rows vary {check.poles:.0%} as much as rows do, the seam steps {check.seam:.1f} times as far as columns do"
    if found:
        told = ", ".join(f"{d.radius * 2:.0f} px across at {d.x:.0f}, {d.y:.0f}" for d in found)
        both = len(found) == 2 and eyes.value == "one"
        return (
            Guess("fisheye", 0.95 if len(found) == 2 else PORTHOLE, f"{len(found)} round {'picture' if len(found) == 1 else 'pictures'}: {told}"),
            Guess("360" if both else "180", 0.85, "2 lenses that see different things" if both else "1 lens an eye sees about half of all round"),
            check, Guess("full", 0.9, "a round picture is not squeezed") if eyes.value not in (None, "one") else packing,
        )  # fmt: skip
    pole, seamless = check.poles < projection.POLE, check.seam < projection.SEAM
    for wanted, full, form in ((2.0, "360", "full"), (1.0, "360", "half"), (4.0, "360", "half"), (1.0, "180", "full")):
        if abs(layout.shape / wanted - 1) > 0.03 or not pole:
            continue
        if form == "half" and (eyes.value in (None, "one") or not seamless):
            continue
        if full == "360" and check.seam > 2 * projection.SEAM:
            continue
        sure = float(np.clip(0.7 + 2.5 * (projection.POLE - check.poles), 0.5, 0.98))
        if full == "360" and max(np.std(check.left), np.std(check.right)) < projection.PLAIN:
            sure = min(sure, 0.6)  # a plain edge meets any other
        if wanted == 1.0:
            sure -= 0.1 * (abs(check.seam - projection.SEAM) < 0.4)
            sure = min(sure, SQUARE) if layout.packing == "one" else sure
        if form == "full" or packing.value is not None:
            packing = (
                Guess(form, round(sure, 3), f"an eye is {layout.shape:.2f}:1 and covers {full}°")
                if layout.packing != "one"
                else packing
            )
        return Guess("equirectangular", round(sure, 3), saw), Guess(full, round(sure, 3), saw), check, packing
    doubt = any(abs(layout.shape / s - 1) < 0.03 for s in (1.0, 2.0, 4.0)) and check.poles < 1.6 * projection.POLE
    return Guess("flat", 0.6 if doubt else 0.95, saw), Guess(), check, packing


def _turn(mean: np.ndarray, form: Guess) -> Guess:
    """Light comes from above: a flat picture whose one side is clearly the lightest may lie on it. Never sure: it is only asked."""
    if form.value != "flat":
        return Guess()
    luma = mean - mean.mean()
    y, x = np.indices(luma.shape)
    across, down = (float((luma * (p - p.mean())).sum() / (p.std() * luma.size)) for p in (x, y))
    spread = max(float(luma.std()), 1e-6)
    if abs(across) < 0.5 * spread or abs(across) < 3 * abs(down):
        return Guess()
    side = "left" if across < 0 else "right"
    return Guess("90" if across < 0 else "270", 0.6, f"its {side} side is the lightest, as a sky would be")


def _range(looked: sampling.Sampling, samples: Samples, round_lenses: bool) -> Guess:
    """Full if codes lie well below black, limited if none does and black is where limited black would be."""
    unit = 2 ** (samples.format.bits - 8)
    if samples.format.rgb or samples.format.planes == 1:
        return Guess("full", 0.7, "these samples are full range as a rule")
    luma = np.concatenate([f.cropped(0)[::4, ::4].ravel() for f in looked.spread]).astype(np.float64) / unit
    # Coding overshoots a little at hard edges; only what lies well beyond the ends speaks against limited range.
    below, above = float((luma < 8).mean()), float((luma > 237).mean())
    shallow = float((luma < 13).mean())
    chroma = (
        np.concatenate([f.cropped(i)[::4, ::4].ravel() for f in looked.spread for i in (1, 2)]).astype(np.float64)
        / unit
    )
    wide = float(((chroma < 14) | (chroma > 242)).mean())
    least, most = float(np.quantile(luma, 1e-4)), float(np.quantile(luma, 1 - 1e-4))
    saw = f"{below:.2%} of luma lies below code 8 and {above:.2%} above 235 (of 255); it reaches from {least:.0f} to {most:.0f}"
    if below > 2e-4 or shallow > 0.01 or wide > 1e-3:
        return Guess("full", 0.95 if below > 2e-3 or (below > 2e-4 and above > 1e-4) else 0.85, saw)
    for code in (16, 235):
        piled = float((np.abs(luma - code) <= 1.2).mean())
        beyond = float(((luma < 13) | (luma > 237)).mean())
        if piled > 0.003 and beyond < 1e-4 and (least >= 13 if code == 16 else most <= 236.5):
            return Guess("limited", 0.9, saw + f"; {piled:.1%} lie at {code} itself")
    return Guess("limited", 0.5, saw + "; nothing tells")
