"""Join: two round lenses become one recording that sees all round, two eyes one pair; everything else is passed through."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..errors import UnreadableError
from ..finding import Finding, Fix, Level
from ..light import names
from ..picture import Picture
from ..plan import Eye, Eyes, Rig
from ..records import from_json
from ..space.looks import Turning
from ..space.meeting import Around
from ..space.sphere import Lens, Round, rotation, turning
from ..stage import Context, StepResult
from . import align, comfort, foot
from .eyes import EYES, VIEW, Depth
from .eyes import Seen as Measured
from .met import Met
from .rig import Rigged
from .settings import JoinSettings


def two_lenses(picture: Picture, context: Context) -> bool:
    """Are there two round lenses in it, back to back, for one eye?"""
    discs = context.seen.discs if context.seen is not None else ()
    return picture.projection == "fisheye" and picture.eyes in (None, "one") and len(discs) == 2


def step(picture: Picture, settings: JoinSettings, context: Context) -> StepResult:
    if picture.eyes not in (None, "one"):
        return _eyes(picture, settings, context)
    if settings.foot is not None and picture.projection in ("equirectangular", "fisheye"):
        curve = names.recorded(picture)
        covered, said = foot.planned(settings.foot, picture, curve)
        context = replace(context, draft=context.draft.with_(foot=covered, curve=curve))
        made = _whole(picture, settings, context)
        return replace(made, findings=(said, *made.findings), draft=made.draft or context.draft, idle=False)
    return _whole(picture, settings, context)


def law_error(across: float, angle: float) -> float:
    """Degrees by which a direction ``angle`` from a lens's axis may be off if all that is known of the lens is where both of two back to back
    see: up to there it may draw equidistantly (r = f·θ) or equisolidly (r = 2f·sin θ/2), of which the overlap tells only the scale.

    >>> round(law_error(200.0, 45.0), 1), law_error(200.0, 80.0)
    (2.6, 0.0)
    """
    edge = 180.0 - across / 2  # where the overlap begins
    if angle >= edge:
        return 0.0
    return abs(edge * float(np.sin(np.radians(angle) / 2) / np.sin(np.radians(edge) / 2)) - angle)


def _law_unknown(across: float, declared: bool) -> Finding:
    worst = max(law_error(across, a) for a in np.arange(0.0, 90.0, 2.5).tolist())
    elsewhere = "directions are as good as the law that was declared" if declared else f"directions may be off by up to {worst:.1f}°"
    text = (
        f"The lenses were calibrated where both see. Elsewhere {elsewhere}. To measure it, take a shot in which the camera turns, "
        "and measure the lenses on that."
    )
    return Finding(Level.NOTE, "lens-law-unknown", text, "join")


def _whole(picture: Picture, settings: JoinSettings, context: Context) -> StepResult:
    """Of one eye."""
    if not two_lenses(picture, context):
        if context.facts.beside is not None:
            return StepResult(picture, "two lenses side by side, not stitched")
        lens = _as_shown(picture, context) if picture.projection == "fisheye" else None
        return StepResult(picture, "one recording, nothing to join", idle=True, draft=context.draft.with_(lens=lens))
    findings = []
    matched = settings.error is not None or any(settings.turn) or settings.gain != (1.0, 1.0, 1.0)
    alike = settings.gain == (1.0, 1.0, 1.0) and not any(settings.black)
    if not matched:
        text = (
            "The two lenses are taken as standing exactly back to back and alike in light, which no pair does. Let them be matched by what "
            "both see: on Join, with adzer lenses, or adzer reframe --match."
        )
        findings.append(Finding(Level.NOTE, "lenses-not-matched", text, "join"))
    if matched and settings.lenses and settings.whole is None:
        findings.append(_law_unknown(max(held.across for held in settings.lenses), bool(context.bend) and settings.rig is None))
    turning = Turning.fixed(rotation(*settings.turn)) if any(settings.turn) else None
    light = None if alike else tuple(tuple(row) for row in np.column_stack([np.diag(settings.gain), settings.black]).tolist())
    high = picture.raster[1]
    lenses = tuple(
        Lens(held.x * high, held.y * high, held.radius * high, held.across, 180.0 * n, held.bend)
        for n, held in enumerate(settings.lenses or ())
    )  # fmt: skip
    apart = 0.0
    if settings.distance is not None:
        if settings.base is None:
            text = "The lenses are to meet near by, but not how far they stand apart. Measure it with a ruler, from front glass to front glass."
            findings.append(Finding(Level.STOP, "rig-base-unknown", text, "join", Fix("Let them meet far away", "join", {"distance": None})))
        else:
            apart = settings.base / settings.distance
    red, green, blue = (around(settings.met, "tones", n) for n in range(3))
    tones = None if red is None or green is None or blue is None else (red, green, blue)
    seam, close = around(settings.met, "seam"), around(settings.met, "apart") if settings.close else None
    rig = Rig(
        turning, light, settings.falls, float(np.radians(settings.blend)), seam and seam.changed(np.radians), tones,
        close and close.changed(np.radians), lenses, apart,
        settings.laid == "sphere" or (context.card is not None and context.card.shows == "spheres"), _near(context),
    )  # fmt: skip
    says = "two lenses, matched" if matched else "two lenses, not matched"
    if rig.whole:
        says += ", a whole sphere"
    lens = None if lenses or not matched or picture.turn else _as_shown(picture, context)
    return StepResult(picture, says, tuple(findings), draft=context.draft.with_(rig=rig, curve=names.recorded(picture), lens=lens))


def _as_shown(picture: Picture, context: Context) -> Round:
    discs = context.seen.discs if context.seen is not None else ()
    return Round.shown(picture.region("left"), discs, context.across, context.bend)


def around(met: tuple[Met, ...], what: str, channel: int | None = None) -> Around | None:
    """One thing that is said along the way; None if nothing is."""
    rows = tuple(getattr(m, what) if channel is None else getattr(m, what)[channel] for m in met)
    if not rows or not all(rows):
        return None
    made = Around(tuple(m.t for m in met), rows)
    return Around(made.times[:1], rows[:1]) if all(r == rows[0] for r in rows) else made


def _near(context: Context) -> tuple[tuple[float, float], ...]:
    """Of what was measured of the lenses, if it was."""
    body = context.measured.get("rig")
    try:
        return () if body is None else tuple((n.turned, n.apart) for n in from_json(body, Rigged, "What was measured of these lenses").near)
    except UnreadableError:
        return ()


WORDS = {"beside": "side by side", "over": "one over the other", "left": "the left eye alone", "right": "the right eye alone",
         "files": "each in a file of its own"}
AT_CUT = 0.005  # seconds before the first frame of a shot, up to which keys speak of the one before
CUT = -0.3  # per cent of the width before the screen, from which on what an edge cuts is seen to be cut
UNMEASURED = 0.8  # pixels of 1920 across that eyes may lie apart in height before it strains (both schools of practice agree below one)


def _eyes(picture: Picture, settings: JoinSettings, context: Context) -> StepResult:
    """Two eyes: left as they were recorded, or taken apart for the next stages, which see one eye's picture and make both alike."""
    laid = settings.laid
    if laid in ("recorded", "sphere"):
        return StepResult(picture, f"two eyes {picture.eyes}, as recorded", idle=True)
    if picture.first is None:
        text = "Which eye is which is not known, and crossed eyes hurt. Let it be measured on Join, or say it on Read."
        return StepResult(picture, "left or right?", (Finding(Level.STOP, "eyes-unknown", text, "join"),))
    findings = []
    recorded = {e: picture.region(e) for e in ("left", "right")}
    first = picture.first
    size, aspect = recorded["left"][2:], picture.eye_aspect
    flat = picture.projection in (None, "flat")
    turned = _turned(settings, first, size, float(aspect)) if flat else _swung(settings, first)
    light = settings.colours and tuple(tuple(settings.colours[i : i + 3]) for i in (0, 3, 6))
    eyes = {}
    held = context.draft.inputs[0]
    for n, e in enumerate((first, "right" if first == "left" else "left")):
        own, region = held.alone(n), recorded[e]
        if own is not None:
            region = (0, 0, *size)
            if n and (settings.slip or settings.drift):
                own = replace(own, offset=settings.slip, drift=1 + settings.drift * 1e-6)
        x, y, w, h = recorded[e]
        discs = context.seen.discs if context.seen is not None and picture.projection == "fisheye" else ()
        disc = next(((d.x - x, d.y - y, d.radius) for d in discs if x <= d.x < x + w and y <= d.y < y + h), None)
        eyes[e] = Eye(own or held, region, turned.get(e), light if n else None, disc)  # type: ignore[arg-type]
    if settings.align is None:
        text = "It was not measured whether both eyes lie in line: what one holds higher than the other strains. Let Join, or adzer eyes, do it."
        findings.append(Finding(Level.NOTE, "eyes-not-in-line", text, "join"))
    elif settings.align is not None and settings.align.rest is not None and settings.align.rest > 3 * UNMEASURED:
        text = f"Brought in line, one eye still holds things up to {settings.align.rest:.1f} pixels of 1920 higher than the other."
        findings.append(Finding(Level.WARN, "eyes-out-of-line", text, "join"))
    findings += _against_measured(settings, first, context)
    alone = "left" if laid == "files" else laid  # the other's file is made by a route of its own, see ``Route.masters``
    order = (alone,) if alone in ("left", "right") else (settings.leading, "right" if settings.leading == "left" else "left")
    (left, right), none = (v / 100 for v in settings.edges), (0.0, 0.0)
    pair = Eyes(
        tuple(eyes[e] for e in order), order[0], "over under" if laid == "over" else "side by side", settings.half,
        tuple((left, 0.0) if e == "left" else (0.0, right) for e in order) if len(order) > 1 else (none,),
    )  # fmt: skip
    after = picture.with_(raster=size, pixel_aspect=aspect, eyes="one", packing=None, first=None)
    says = f"two eyes, {WORDS[laid]}" + (f", {settings.leading} first" if len(order) > 1 else "")
    lens = _as_shown(after, context) if after.projection == "fisheye" and not after.turn else None
    return StepResult(after, says, tuple(findings), draft=context.draft.with_(pair=pair, lens=lens))


def _against_measured(settings: JoinSettings, first: str, context: Context) -> list[Finding]:
    """What was said of the eyes, and how deep they see, against what was measured on them."""
    body = context.measured.get(EYES)
    if body is None:
        return []
    try:
        found = from_json(body, Measured, "What was measured of these eyes")
    except UnreadableError:
        return []
    made = []
    left = {"first": "left", "second": "right"}.get(found.which.left or "")
    if left is not None and left != first:
        text = f"The {first} eye is said to be first, but {found.which.saw[:1].lower()}{found.which.saw[1:]} Crossed eyes hurt."
        made.append(Finding(Level.WARN, "eyes-crossed", text, "join", Fix(f"The {left} eye is first", "read", {"first": left})))
    if settings.laid in ("beside", "over"):
        made += _jumping(found.depth, settings)
        near, far = deep(found.depth, settings)
        if faults := comfort.judged(near, far, comfort.SCREENS[settings.screen], settings.children).faults:
            made.append(Finding(Level.WARN, "too-deep", f"It is hard to look at: {'; '.join(faults)}.", "join"))
        cut = {side: min(((v + settings.pinned(t), t) for t, v in each), default=(0.0, 0.0)) for side, each in sides(found.depth).items()}
        left_over = [(v + covered, t, side) for (side, (v, t)), covered in zip(cut.items(), settings.edges, strict=True)]
        if (worst := min(left_over))[0] < CUT:
            text = (
                f"At {worst[1]:.1f} s the {worst[2]} edge cuts something that stands {-worst[0]:.1f} % before the screen, which no window can. "
                "Lay it farther away, or cover that edge of one eye by as much."
            )
            fix = Fix("Cover that edge of one eye", "join", {"edges": covering(found.depth, settings)})
            made.append(Finding(Level.NOTE, "edge-cuts-near", text, "join", fix))
    return made


def _jumping(depth: Depth, settings: JoinSettings) -> list[Finding]:
    """Where the eyes have to find the depth anew as another shot begins."""
    screen, made = comfort.SCREENS[settings.screen], []
    for t, before, after in depth.jumps:
        pinned = [settings.pinned(t - AT_CUT), settings.pinned(t)]
        turn = abs(comfort.degrees(after + pinned[1], screen) - comfort.degrees(before + pinned[0], screen))
        if turn > comfort.DEGREES / 2:
            made.append((turn, t, before + pinned[0], after + pinned[1], pinned))
    if not made:
        return []
    turn, t, before, after, pinned = max(made)
    others = f" So it does at {len(made) - 1} more." if len(made) > 1 else ""
    text = (
        f"At {t:.1f} s another shot begins, and what lies in the middle jumps from {before:+.1f} to {after:+.1f} % of the width: the eyes turn by "
        f"{turn:.1f}° to find it.{others} Pin both to one depth."
    )
    kept = [[at, v] for at, v in (settings.pins or ((0.0, settings.pin),)) if at < t - 2 * AT_CUT]
    later = [[at, v] for at, v in settings.pins if at > t]
    pins = [*kept, [round(t - AT_CUT, 3), round(pinned[0], 3)], [t, round(pinned[1] + before - after, 3)], *later]
    return [Finding(Level.NOTE, "depth-jumps", text.replace("-", "−"), "join", Fix("Pin it where it lay before", "join", {"pins": pins}))]


def sides(depth: Depth) -> dict[str, list[tuple[float, float]]]:
    """Seconds, and the nearest that the edge cuts, of either side."""
    return {side: [(t, both[n]) for t, *both in depth.edges] for n, side in enumerate(("left", "right"))}


def covering(depth: Depth, settings: JoinSettings) -> list[float]:
    """``edges`` that stand before all that they cut."""
    nearest = (min((v + settings.pinned(t) for t, v in each), default=0.0) for each in sides(depth).values())
    return [float(np.clip(np.ceil(-v * 10) / 10, 0.0, 10.0)) for v in nearest]


def deep(depth: Depth, settings: JoinSettings) -> tuple[float, float]:
    """Per cent of the width: the nearest and the farthest, as they are laid."""
    if not settings.pins or not depth.over:
        return depth.least + settings.pinned(0.0), depth.most + settings.pinned(0.0)
    return min(near + settings.pinned(t) for t, near, _ in depth.over), max(far + settings.pinned(t) for t, _, far in depth.over)


def aside(percent: float) -> float:
    """Radians of heading that so much of a straight view's width is in its middle.

    >>> round(float(np.degrees(aside(1.0))), 3)
    1.146
    """
    return float(np.arctan(percent / 100 * 2 * np.tan(np.radians(VIEW / 2))))


def _swung(settings: JoinSettings, first: str) -> dict[str, Turning]:
    """The same of eyes that recorded directions: what lies between them is a turn up or down, and a roll, as a straight view ahead shows it;
    what is pinned there is a turn aside."""
    if settings.align is None and not settings.pin and not settings.pins:
        return {}
    moments = settings.moments
    made = {}
    for share, e in ((-0.5, first), (0.5, "right" if first == "left" else "left")):
        away = 0.5 if e == "right" else -0.5
        terms = [(*settings.aligned(t)[:2], away * aside(settings.pinned(t))) for t in moments]
        vectors = [np.array([-share * np.arctan(shift * np.tan(np.radians(VIEW / 2))), share * roll, pinned]) for shift, roll, pinned in terms]
        made[e] = Turning(np.array(moments), np.stack([turning(v) for v in vectors]))
    return made


def _turned(settings: JoinSettings, first: str, size: tuple[int, int], aspect: float) -> dict[str, Turning]:
    """Of each eye, where anything is done to them."""
    if settings.align is None and not settings.pin and not settings.pins:
        return {}
    moments, both = settings.moments, {}
    for share, e in ((-0.5, first), (0.5, "right" if first == "left" else "left")):
        away = -1 if e == "right" else 1
        both[e] = [align.bent(settings.aligned(t), share, settings.pinned(t) / 100 * away) for t in moments]
    times = align.enlarged([m for each in both.values() for m in each], size[1] / (size[0] * aspect))
    return {
        e: Turning(np.array(moments), np.stack([align.in_pixels(m, size, aspect, times) for m in each])) for e, each in both.items()
    }
