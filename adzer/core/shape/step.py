"""Shape: undoes the squeeze, crops to the delivered shape, fits the card's raster. Gives the draft its panel."""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction

import msgspec

from .. import shutter
from ..cards import DeliveryCard
from ..finding import Finding, Fix, Level
from ..light import names
from ..look import chosen
from ..picture import Picture
from ..plan import Draft, Eyes, Panel, Patch
from ..plan import even as nearest_even
from ..records import to_plain
from ..space.crop import CropKey, CropPath
from ..space.crop import check_moves as crop_moves
from ..space.crop import trouble as crop_trouble
from ..space.looks import CropLook
from ..space.path import Move, ViewPath, check_moves, cut, key_at, longer, trouble
from ..space.sphere import Flat
from ..stage import Context, StepResult
from .advise import SPEEDS, invented, pace_text, shape_text
from .geometry import Fitted, Framing, even, fit, panel, solve
from .seam import crossing
from .settings import ShapeSettings
from .view import Laid, holds_directions, left, unrolled, viewed

WHOLE = 0.97  # share of a pair's picture that has to be left: an odd line at its edge may go
LIMITS = (Fraction(1, 4), Fraction(4))
SHAPE_LIMITS = (Fraction(1, 4), Fraction(6))


@dataclass(frozen=True)
class Shaped:
    """The crop, how it lies in the delivered raster, and both as one map; ``moving``: of a crop that is more than its axes."""

    framing: Framing
    fitted: Fitted
    panel: Panel
    moving: CropLook | None = None

    @property
    def scale(self) -> tuple[Fraction, Fraction]:
        """Recorded pixels per delivered pixel, x and y, in the middle; of a crop that moves where it is largest."""
        k = self.fitted.reduce
        if self.moving is not None:
            k *= Fraction(self.moving.lens.enlarged).limit_denominator(10_000)
        return self.framing.scale[0] * k, self.framing.scale[1] * k


def shaped(picture: Picture, settings: ShapeSettings, card: DeliveryCard) -> Shaped:
    (wanted, hold, around), moves = settings.framed(card.wanted, card.hold), settings.moves
    solved = framing(picture, settings, wanted)
    fitted = fit(solved.size, hold, card.max_raster, around, card.exact)
    if moves is None and not settings.bent:
        return Shaped(solved, fitted, panel(solved, fitted, picture.raster))
    aspect = picture.pixel_aspect * settings.squeeze
    x, y, w, h = (float(v) for v in solved.crop)
    if moves is None:
        raster = picture.raster
        middle = (min((x + w / 2) / raster[0], 1.0), min((y + h / 2) / raster[1], 1.0))
        moves, span = CropPath((CropKey(0.0, *middle),)), (w, h)
        return _moving(solved, picture, settings, aspect, moves, span, fitted, (0.0, 0.0))
    widest = min(k.enlarged for k in moves.keys)
    span = (w * widest, h * widest)
    return _moving(solved, picture, settings, aspect, moves, span, fitted, settings.nudge(wanted))


def _moving(
    framing: Framing, picture: Picture, settings: ShapeSettings, aspect: Fraction, moves: CropPath, span: tuple[float, float],
    fitted: Fitted, shift: tuple[float, float],
) -> Shaped:  # fmt: skip
    lens = Flat(picture.raster, float(aspect), settings.bent)
    look = CropLook(fitted.picture, lens, moves, span, shift, settings.keep)
    return Shaped(framing, fitted, Panel(look, (Patch(lens, (0, 0, *picture.raster)),), fitted.place), look)


def framing(picture: Picture, settings: ShapeSettings, wanted: Fraction | None = None) -> Framing:
    """The crop of ``wanted``, a delivery's own shape, about what matters; else the one of the settings. Of a crop that moves
    the one at its first key, as large as at its widest."""
    aspect, keep = picture.pixel_aspect * settings.squeeze, settings.keep
    if settings.moves is not None:
        first = settings.moves.keys[0]
        widest = min(k.enlarged for k in settings.moves.keys)
        return solve(
            picture.raster, aspect, settings.school, wanted or settings.shape, centre=(first.x, first.y), keep=keep,
            enlarged=widest,
        )  # fmt: skip
    own = solve(
        picture.raster,
        aspect,
        settings.school,
        settings.shape,
        settings.position,
        keep=keep,
        enlarged=settings.enlarged,
    )
    if wanted is None:
        return own
    middle = settings.centre or tuple(float((own.crop[i] + own.crop[2 + i] / 2) / picture.raster[i]) for i in (0, 1))

    def about(centre: tuple[float, ...]) -> Framing:
        return solve(
            picture.raster, aspect, settings.school, wanted, centre=(centre[0], centre[1]), keep=keep,
            enlarged=settings.enlarged,
        )  # fmt: skip

    crop = about(middle).crop
    return about(tuple(middle[i] + settings.nudge(wanted)[i] * float(crop[2 + i] / picture.raster[i]) for i in (0, 1)))


def cut_off(settings: ShapeSettings, made: Shaped, raster: tuple[int, int]) -> float:
    """Share of what must stay in that the crop cuts off, at the worst moment."""
    if settings.keep is None:
        return 0.0
    if made.moving is not None:
        crops = [made.moving.crop(k.t) for k in made.moving.path.keys]
    else:
        x, y, w, h = (float(v) for v in made.framing.crop)
        crops = [(x, y, w, h)]
    left, top, right, bottom = (v * raster[i % 2] for i, v in enumerate(settings.keep))
    area = max((right - left) * (bottom - top), 1e-9)
    seen = (
        max(0.0, min(right, x + w) - max(left, x)) * max(0.0, min(bottom, y + h) - max(top, y)) for x, y, w, h in crops
    )
    return max(0.0, 1 - min(seen) / area)


def step(picture: Picture, settings: ShapeSettings, context: Context) -> StepResult:
    if not SPEEDS[0] <= settings.speed <= SPEEDS[1]:
        text = f"A speed of {float(settings.speed):.4g} times cannot be; take one from 1/16 to 16."
        fix = Fix("As fast as it was recorded", "shape", {"speed": "1"})
        return StepResult(picture, "speed?", (Finding(Level.STOP, "speed-out-of-range", text, "shape", fix),))
    if _makes_frames(picture, settings, context):  # and each is held, and lit, as of its very moment
        held, lamp = context.draft.held, context.draft.lamp
        draft = context.draft.with_(held=held and replace(held, frames=None), lamp=lamp and replace(lamp, made=True))
        context = replace(context, draft=draft)
    made = _shape(picture, settings, context) if context.draft.pair is None else _both(picture, settings, context, context.draft.pair)
    return _paced(made, picture, settings, context)


def _makes_frames(picture: Picture, settings: ShapeSettings, context: Context) -> bool:
    """Are frames made between the recorded ones?"""
    rate, recorded = picture.rate, context.facts.rate
    return bool(settings.between and rate and recorded and recorded * settings.speed < rate)


def _paced(made: StepResult, picture: Picture, settings: ShapeSettings, context: Context) -> StepResult:
    """The same at another speed, or with the light of several recorded frames in each delivered one."""
    rate, recorded, pace = picture.rate, context.facts.rate, context.draft.pace
    assert pace is not None
    each = recorded * settings.speed / rate if recorded and rate else Fraction(1)  # recorded frames to a delivered one
    if each == 1 and settings.speed == 1:
        return made
    says, findings, draft = [made.says], list(made.findings), made.draft or context.draft
    made_between = _makes_frames(picture, settings, context)
    opens = shutter.moments(recorded or Fraction(25), settings.speed, rate or Fraction(25), settings.shutter)
    if settings.speed != 1:
        says.append(f"{float(settings.speed):.0%} speed")
    if made_between:
        says.append(f"{invented(each):.0%} of its frames made between")
        text = f"{invented(each):.0%} of the delivered frames were never recorded: they are made between two that were, and where these do not agree "
        text += "about what moved, the nearer is shown again."
        findings.append(Finding(Level.NOTE, "frames-made", text, "shape", Fix("Show frames again instead", "shape", {"between": False})))
    elif len(opens) > 1:
        says.append(f"{len(opens)} frames in one")
    elif settings.speed != 1 and rate and recorded and (uneven := pace_text(recorded, settings.speed, rate)):
        fix = Fix("Make frames between them", "shape", {"between": True}) if each < 1 else None
        findings.append(Finding(Level.NOTE, "uneven-pace", uneven, "shape", fix))
    if each >= 2 and len(opens) < 2:
        text = f"Of {float(each):.3g} recorded frames one is shown: what moves fast is seen to jump. The light of them can be averaged instead."
        # Half of two frames is one.
        degrees, words = (180.0, "half of each frame") if each >= 3 else (360.0, "each frame")
        findings.append(Finding(Level.NOTE, "frames-left-out", text, "shape", Fix(f"Average over {words}", "shape", {"shutter": degrees})))
    if settings.speed == 1 and each >= 2 and each.denominator == 1 and each <= 16:
        slow = {2: "half", 3: "a third of the", 4: "a quarter of the"}.get(each.numerator, f"1/{each.numerator} of the")
        text = f"It was recorded with {each.numerator} frames for each delivered one. At {slow} speed every frame is shown."
        findings.append(Finding(Level.NOTE, "every-frame", text, "shape", Fix(f"Play every frame: {slow} speed", "shape", {"speed": f"1/{each}"})))
    picked = chosen.unpacked(settings.chosen, each, context.facts.frames) if settings.chosen else ()
    if picked:
        says.append("on an even way")
    elif picked is None:
        text = "Its frames were chosen for another speed, or another recording: those at even times are played. Choose them anew."
        findings.append(Finding(Level.WARN, "chosen-otherwise", text, "shape", Fix("Take frames at even times", "shape", {"chosen": ""})))
    pace, after = pace.at(settings.speed, made_between, picked or ()), made.picture
    if settings.speed != 1:
        after = after.with_(frames=pace.frames, duration=pace.seconds, timecode=None)
    if len(opens) > 1:
        draft = shutter.exposed(draft.with_(curve=draft.curve or names.recorded(picture)), opens)
    idle = made.idle and len(says) == 1
    return replace(made, picture=after, draft=draft.with_(pace=pace), says=", ".join(says), findings=tuple(findings), idle=idle)


def _both(picture: Picture, settings: ShapeSettings, context: Context, pair: Eyes) -> StepResult:
    """One eye's picture shaped as any other, then the same done to both, and each put into its place."""
    card = context.card
    assert card is not None
    across, down = pair.times
    if (across, down) != (1, 1) and not pair.half:
        w, h = card.max_raster
        card = msgspec.structs.replace(card, max_raster=(even(w // across), even(h // down)))
    made = _shape(picture, settings, replace(context, card=card))
    if made.draft is None or not made.draft.panels:
        return made
    (panel,), (w, h) = made.draft.panels, made.draft.raster
    size = panel.size
    if pair.half:
        w, h = even(w // across), even(h // down)
        size = (even(panel.size[0] // across), even(panel.size[1] // down))
    inputs = tuple(dict.fromkeys(e.input for e in pair.eyes))
    panels = []
    for n, eye in enumerate(pair.eyes):
        patches = []
        for p in panel.patches:
            x, y, *whole = p.region
            region = (x + eye.region[0], y + eye.region[1], whole[0], whole[1])
            patches.append(replace(
                p, lens=eye.through(p.lens), region=region, input=inputs.index(eye.input), turning=eye.turning, light=eye.light,
                stands=p.stands and p.stands.then(eye.turning),
            ))  # fmt: skip
        x, y = (panel.place[i] // (pair.times[i] if pair.half else 1) // 2 * 2 for i in (0, 1))
        at = (x + w * n, y) if across > 1 else (x, y + h * n)
        panels.append(Panel(panel.look.at_size(size), tuple(patches), at))
    black = []
    for one, edges in zip(panels, pair.edges, strict=False):
        for side, share in enumerate(edges):
            if wide := nearest_even(share * one.size[0]):
                black.append((one.place[0] + side * (one.size[0] - wide), one.place[1], wide, one.size[1]))
    raster = (w * across, h * down)
    two = {} if len(pair.eyes) == 1 else {"eyes": pair.laid, "packing": "half" if pair.half else "full", "first": pair.first}
    return replace(
        made, picture=made.picture.with_(raster=raster, **two), idle=False,
        draft=made.draft.with_(inputs=inputs, raster=raster, panels=tuple(panels), black=tuple(black)),
    )  # fmt: skip


def _shape(picture: Picture, settings: ShapeSettings, context: Context) -> StepResult:
    """Everything but the speed."""
    findings: list[Finding] = []
    squeeze, shape = settings.squeeze, settings.shape
    if not LIMITS[0] <= squeeze <= LIMITS[1]:
        findings.append(
            Finding(
                Level.STOP,
                "squeeze-out-of-range",
                f"A squeeze of {float(squeeze):g} cannot be; lenses have 1 to 2.",
                "shape",
                Fix("Take 1×", "shape", {"squeeze": "1"}),
            )  # fmt: skip
        )
        return StepResult(picture, "squeeze?", tuple(findings))
    if shape is not None and not SHAPE_LIMITS[0] <= shape <= SHAPE_LIMITS[1]:
        findings.append(
            Finding(
                Level.STOP,
                "shape-out-of-range",
                f"A delivered shape of {float(shape):g}:1 cannot be used.",
                "shape",
                Fix("Take the whole picture", "shape", {"shape": None}),
            )  # fmt: skip
        )
        return StepResult(picture, "shape?", tuple(findings))
    if min(picture.raster) < 2:
        return StepResult(picture, "too small")
    if settings.view is not None and holds_directions(picture):
        return _view(picture, settings, context)
    assert context.card is not None
    rig, pair = context.draft.rig, context.draft.pair
    covered = context.draft.foot is not None and picture.projection == "equirectangular"
    stands = context.draft.held is not None and holds_directions(picture)
    if stands and pair is None and picture.eyes not in (None, "one"):
        text = f"Both eyes lie {picture.eyes} in one picture, which cannot stand as one. Have them taken apart at Join, or take a view of one."
        fix = Fix("Take both eyes apart", "join", {"laid": "over" if picture.eyes == "over under" else "beside"})
        return StepResult(picture, "pair?", (Finding(Level.STOP, "pair-held", text, "shape", fix),))
    if covered or stands or (rig is not None and rig.whole) or (pair is not None and picture.projection == "fisheye"):
        return _unrolled(picture, settings, context)
    seconds = float(picture.duration or 0) or None
    if settings.moves is not None and (problem := crop_trouble(settings.moves, seconds)):
        fix = Fix("Hold the crop still", "shape", {"moves": None})
        return StepResult(picture, "crop?", (Finding(Level.STOP, "crop-unusable", problem, "shape", fix),))
    made = shaped(picture, settings, context.card)
    solved = made.framing
    if picture.eyes not in (None, "one") and float(solved.kept) < WHOLE:
        text = f"This crop would cut across both eyes, which lie {picture.eyes} in one picture. Take the whole pair, or a view of one eye."
        fix = Fix("Take the whole pair", "shape", {"shape": None, "enlarged": 1.0, "moves": None, "keep": None})
        return StepResult(picture, "pair?", (Finding(Level.STOP, "pair-cropped", text, "shape", fix),))
    shape = settings.framed(context.card.wanted, "native")[0] or shape
    closer = min((k.enlarged for k in settings.moves.keys), default=1.0) if settings.moves else settings.enlarged
    if shape is not None and float(solved.kept) * closer**2 < 0.6 and context.card.wanted is None:
        findings.append(
            Finding(
                Level.WARN,
                "much-lost",
                f"Only {float(solved.kept) * closer**2:.0%} of the recorded picture is left at {shape_text(shape)}. "
                "A sensor mode or squeeze nearer to the shape keeps more.",
                "shape",
            )  # fmt: skip
        )
    if settings.moves is not None:
        shares = tuple(float(made.framing.crop[2 + i]) / picture.raster[i] for i in (0, 1))
        moves = crop_moves(
            settings.moves, (shares[0], shares[1]), seconds or 0.0, float(picture.rate or 25), float(settings.speed)
        )
        keys, (begins, ends) = settings.moves.keys, context.span or (0.0, float("inf"))
        findings += [_too_fast(settings.moves, m, "moves", begins) for m in moves if keys[m.n].t < ends and keys[m.n + 1].t > begins]
    lost = cut_off(settings, made, picture.raster)
    if lost > 0.001:
        findings.append(
            Finding(
                Level.WARN,
                "must-stay-cut",
                f"{lost:.0%} of what must stay in does not fit into {shape_text(made.framing.shape)}. Enlarge less, or let a "
                "wider shape have it.",
                "shape",
            )  # fmt: skip
        )
    if settings.school == "stretch" and picture.pixel_aspect * squeeze != 1:
        findings.append(
            Finding(
                Level.NOTE,
                "pixels-invented",
                f"The width is stretched: {float(1 - min(solved.scale)):.0%} of the delivered pixels are interpolated.",
                "shape",
                Fix("Shrink the height instead", "shape", {"school": "shrink"}),
            )  # fmt: skip
        )
    findings += _against_marks(settings)
    if (short := _not_reached(picture, settings, context.card, made)) is not None:
        findings.append(short)
    parts = [f"{float(squeeze):.2f}×"] if squeeze != 1 else []
    parts.append(shape_text(shape) if shape else "whole frame")
    sx, sy = (float(v) for v in made.scale)
    after = picture.with_(raster=made.fitted.raster, pixel_aspect=Fraction(1), detail=(sx * sy) ** 0.5)
    wide = float(picture.pixel_aspect * squeeze)
    if context.draft.held is not None and abs(wide / context.draft.aspect - 1) > 0.005:
        text = f"It was steadied with pixels {context.draft.aspect:.3g} times as wide as high, and they are {wide:.3g} times: what rolls leans. "
        text += "Choose at Steady again what it should do."
        findings.append(Finding(Level.WARN, "steadied-otherwise", text, "steady"))
    draft, idle = _drafted(context, made), squeeze == 1 and shape is None
    return StepResult(after, " → ".join(parts), tuple(findings), draft=draft, shaped=made, idle=idle)


def _drafted(context: Context, made: Shaped | Laid) -> Draft:
    panel = made.panel
    if context.draft.held is not None and not isinstance(made, Laid):
        held, read, across = context.draft.held, context.draft.readout, context.draft.across
        panel = replace(panel, patches=tuple(replace(p, turning=held, readout=read, across=across) for p in panel.patches))
    if context.draft.lamp is not None and not isinstance(made, Laid):
        panel = replace(panel, patches=tuple(replace(p, tone=context.draft.lamp) for p in panel.patches))
    draft = context.draft.with_(raster=made.fitted.raster, panels=(panel,))
    if isinstance(made, Laid):
        draft = draft.with_(panels=(made.drawn,), inputs=made.inputs or draft.inputs)
    return draft


def _not_reached(picture: Picture, settings: ShapeSettings, card: DeliveryCard, made: Shaped) -> Finding | None:
    """Shrinking the height keeps fewer pixels than the delivery has room for, and stretching would fill more of it."""
    aspect = picture.pixel_aspect * settings.squeeze
    if settings.school != "shrink" or aspect == 1 or made.fitted.reduce > 1 or card.max_raster[0] > 4096:
        return None
    other = shaped(picture, replace_school(settings), card)
    w, h = made.framing.size if card.exact else made.fitted.picture
    w2, h2 = other.framing.size if card.exact else other.fitted.picture
    if w2 <= w * 1.02:
        return None
    return Finding(
        Level.NOTE, "raster-not-reached",
        f"Shrunk, the picture is {w}×{h}, and {1 - h / h2:.0%} of its recorded rows are averaged away. Stretched it is {w2}×{h2}: all rows stay, "
        f"and {1 - w / w2:.0%} of the columns are interpolated.", "shape", Fix("Stretch the width instead", "shape", {"school": "stretch"}),
    )  # fmt: skip


def replace_school(settings: ShapeSettings) -> ShapeSettings:
    return msgspec.structs.replace(settings, school="stretch")


def _against_marks(settings: ShapeSettings) -> list[Finding]:
    """The answer about the squeeze against what round things say."""
    if settings.measured is None:
        return []
    value, error = settings.measured
    off = abs(float(settings.squeeze) - value)
    if off <= max(3 * error, 0.005 * value):
        return []
    whose = f"The lens card {settings.lens}" if settings.lens else "The answer"
    return [Finding(
        Level.WARN, "squeeze-differs",
        f"{whose} says {float(settings.squeeze):g}×, but what was outlined as round says {value:.3f} ± {error:.3f}.", "shape",
        Fix(f"Take {value:.3f}×", "shape", {"squeeze": f"{value:.4f}", "lens": None}),
    )]  # fmt: skip


def _too_fast(path: ViewPath | CropPath, move: Move, field: str, start: float = 0.0) -> Finding:
    """``start``: where the delivered range begins; a move that begins before is not changed, as the first picture would be another one."""
    if path.keys[move.n].t < start - 1e-6:
        return Finding(Level.WARN, "move-too-fast", move.text, "shape")
    mended, label = (
        (longer(path, move), f"Take {move.needs:.1f} s for it") if move.fits else (cut(path, move.n), "Cut instead")
    )
    fix = Fix(label, "shape", {field: to_plain(mended)})
    return Finding(Level.WARN, "move-too-fast", move.text, "shape", fix)


def _unrolled(picture: Picture, settings: ShapeSettings, context: Context) -> StepResult:
    """The whole sphere that two lenses saw; or the half that one did, of a pair of eyes."""
    assert context.card is not None
    half = context.draft.pair is not None or picture.coverage == "180"
    made = unrolled(picture, settings, context.card, context.seen, context.draft)
    kept = left(made.panel, 0.0, float(picture.duration or 0))
    findings = []
    if kept.bare > 0:
        findings.append(Finding(
            Level.WARN, "sphere-beyond-lenses",
            f"{kept.bare:.1%} of {'the half sphere' if half else 'the sphere'} lies where no lens recorded anything, and is delivered black. "
            "Say how far they see.", "shape",
        ))  # fmt: skip
    w, h = made.fitted.raster
    after = picture.with_(
        raster=(w, h), pixel_aspect=Fraction(1), projection="equirectangular", eyes="one", coverage="180" if half else "360", packing=None,
        first=None, detail=kept.middle,
    )  # fmt: skip
    return StepResult(after, f"{'half' if half else 'whole'} sphere, {w}×{h}", tuple(findings), draft=_drafted(context, made))


SOFT = 0.7  # recorded pixels per delivered pixel below which a view looks soft


def _view(picture: Picture, settings: ShapeSettings, context: Context) -> StepResult:
    """A flat view of a sphere or of round lenses."""
    view, card = settings.view, context.card
    assert view is not None and card is not None
    seconds = float(picture.duration or 0) or None
    if problem := trouble(view, seconds):
        return StepResult(
            picture,
            "view?",
            (
                Finding(
                    Level.STOP,
                    "view-unusable",
                    problem,
                    "shape",
                    Fix("Start the view anew", "shape", {"view": {}}),
                ),
            ),
        )
    made = viewed(picture, settings, card, context.seen, context.draft)
    start, stop = context.span or (0.0, seconds or 0.0)
    kept = left(made.panel, start, stop)
    findings = []
    w, h = made.fitted.picture
    if kept.bare > 0:
        says = "and must not be delivered" if settings.inside else "and is delivered black"
        findings.append(Finding(
            Level.STOP if settings.inside else Level.WARN, "view-beyond-picture",
            f"{kept.bare:.0%} of the view lies where the lens recorded nothing, {says}. Turn or narrow it.", "shape",
        ))  # fmt: skip
    if kept.middle < SOFT:
        findings.append(Finding(
            Level.NOTE, "view-soft",
            f"Only {kept.middle:.2f} recorded pixels lie behind each of the {w}×{h}; {kept.worth[0]}×{kept.worth[1]} is the "
            "largest raster that they fill.", "shape",
        ))  # fmt: skip
    findings += [
        _too_fast(view, m, "view", start)
        for m in check_moves(view, seconds or 0.0, float(picture.rate or 25), float(settings.speed))
        if view.keys[m.n].t < stop and view.keys[m.n + 1].t > start
    ]
    if (rig := context.draft.rig) is not None and (met := crossing(made, seconds or 0.0, rig.near)) is not None:
        text = f"Two lenses meet in it at {met.time:.1f} s"
        text += f", and tear there by up to {met.tear:.0f} pixels" if met.tear is not None else ""
        text += f"; turned {met.clear:+.0f}° they do not." if met.clear is not None else "."
        findings.append(Finding(Level.NOTE, "view-crosses-seam", text.replace("-", "−"), "shape"))
    if picture.eyes not in (None, "one"):
        findings.append(Finding(Level.NOTE, "one-eye", f"The view is taken of the {settings.eye} eye alone.", "shape"))
    key = view.keys[0] if context.span is None else key_at(view, start)  # as the delivered range begins
    inside = sum(start <= k.t <= stop for k in view.keys)
    moves = "" if view.still else f", {inside} keys"
    says = f"{key.heading:+.0f}° {key.tilt:+.0f}°, {key.fov:.0f}° across{moves}".replace("-", "−")
    after = picture.with_(
        raster=made.fitted.raster, pixel_aspect=Fraction(1), projection="flat", eyes="one", coverage=None, packing=None, first=None,
        detail=kept.middle,
    )  # fmt: skip
    return StepResult(after, says, tuple(findings), draft=_drafted(context, made), viewed=made)
