"""Develop: sensor values become light before anything else is done to them; adds what works on frames before the warp."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from ..finding import Finding, Fix, Level
from ..light import names as colour_cards
from ..picture import Picture
from ..plan import Draft, Input
from ..stage import Context, StepResult
from . import camera, measure, noise, values
from .cleaning import Cleaned, Evened
from .dots import Dot, Healed
from .settings import DevelopSettings

Say = Callable[..., None]
STEPPED, BLOCKED = 0.05, 1.6  # share of the picture in bare steps; steps on a codec's grid against others: from which on it is said


def step(picture: Picture, settings: DevelopSettings, context: Context) -> StepResult:
    sensor = values.sensor_of(context.facts, settings)
    findings: list[Finding] = []

    def say(level: Level, code: str, text: str, fix: Fix | None = None) -> None:
        findings.append(Finding(level, code, text, "develop", fix))

    draft, parts = context.draft, []
    after = picture
    if settings.dots and sensor is None:
        draft = _each(draft, lambda i: _healed(i, settings.dots))
        parts.append(f"{len(settings.dots)} dots healed" if len(settings.dots) > 1 else "a dot healed")
    if cleans(settings):
        if settings.noise is None:
            say(Level.STOP, "noise-not-measured", "It is to be cleaned, but its noise was not measured, and one amount never fits two clips. "
                "Measure it here, then choose how much.",
                Fix("Leave the noise", "develop", {"clean": None, "colour": None}))  # fmt: skip
        else:
            draft = _each(draft, lambda i: _cleaned(i, settings, sensor is not None))
            parts.append(f"cleaned {_amount(settings)}")
            if sensor is None:
                after = after.with_(bits=16)
    elif settings.even and sensor is None:
        draft = _each(draft, _evened)
        after = after.with_(bits=16)
        parts.append("steps made even")
    held = noise.found(context.measured)
    if held is not None and sensor is None:
        if new := [d for d in held.dots if d not in settings.dots]:
            many = f"{len(new)} dots stay where they are" if len(new) > 1 else "One dot stays where it is"
            say(Level.NOTE, "dots-stay", f"{many}, whatever the camera looks at.",
                Fix("Take what lies around them", "develop", {"dots": [list(d) for d in held.dots]}))  # fmt: skip
        if not (cleans(settings) or settings.even):
            _about_steps(say, held, context.facts.bits)
    if sensor is not None:
        made = values.developed(sensor, settings)
        _about_values(say, settings, context, made)
        draft = draft.with_(
            inputs=tuple(replace(i, prepares=(*i.prepares, made)) if i.by_its_clock else i for i in draft.inputs),
            top=float(made.curve.encode(np.array([float((made.matrix @ made.ceiling).max())]))[0]),
        )
        after = after.with_(
            mosaic="none", curve="float-log" if settings.into == "light" else settings.into, primaries=settings.primaries, range="full",
            matrix="rgb", bits=16, chroma="4:4:4", siting=None,
        )  # fmt: skip
        parts.append(says(made, settings))
    if not parts:
        return StepResult(after, "left as it is", tuple(findings), idle=True)
    return StepResult(after, ", ".join(parts), tuple(findings), draft=draft)


def _each(draft: Draft, made: Callable[[Input], Input]) -> Draft:
    """Every recorded stream of a draft made anew, those of a pair of eyes, too."""
    pair = draft.pair
    if pair is not None:
        pair = replace(pair, eyes=tuple(replace(eye, input=made(eye.input)) for eye in pair.eyes))
    return draft.with_(inputs=tuple(made(i) for i in draft.inputs), pair=pair)


def cleans(settings: DevelopSettings) -> bool:
    return bool(settings.clean) or bool(settings.colour)


def _about_steps(say: Say, held: noise.Noise, bits: int) -> None:
    """What coarse codes and a codec have left in smooth parts."""
    if held.stepped > STEPPED:
        say(Level.NOTE, "stepped", f"{held.stepped:.0%} of it is smooth and lies in single steps of its {bits}-bit codes, with no noise over "
            "them: a grade will show bands.", Fix("Make the steps even", "develop", {"even": True}))  # fmt: skip
    if held.blocks > BLOCKED:
        say(Level.NOTE, "blocks", f"Its codec shows: in plain parts steps on a grid of eight pixels are {held.blocks:.1f} times as large as others.",
            Fix("Make the steps even", "develop", {"even": True}))  # fmt: skip


def _healed(held: Input, dots: tuple[Dot, ...]) -> Input:
    """Of an eye's or a lens's own recording those that lie in it."""
    if held.still is not None:
        return held
    samples, (w, h) = held.as_recorded
    beside = held.recording.index(held.sources[0]) if len(held.recording) > 1 and held.sources else 0
    return replace(held, prepares=(*held.prepares, Healed(samples, (w, h), dots).sized((w, h), beside * w)))


def _evened(held: Input) -> Input:
    samples, raster = held.as_recorded
    return held if held.still is not None else replace(held, prepares=(*held.prepares, Evened(samples, raster)))


def _amount(settings: DevelopSettings) -> str:
    if settings.clean == 1 and settings.colour in (None, 1):
        return "as measured"
    luma, colour = settings.clean or 0.0, settings.clean or 0.0 if settings.colour is None else settings.colour
    return f"×{luma:g}" if luma == colour else f"×{luma:g}, colour ×{colour:g}"


def _cleaned(held: Input, settings: DevelopSettings, values_: bool) -> Input:
    """An input of the recording itself with its cleaning first."""
    if held.still is not None or settings.noise is None:
        return held
    samples, raster = held.as_recorded
    luma = settings.clean or 0.0
    colour = luma if settings.colour is None else settings.colour
    made = Cleaned(samples, raster, settings.noise, luma, colour, settings.detail, values_, settings.smooth)
    return replace(held, prepares=(*held.prepares, made))


def _about_values(say: Say, settings: DevelopSettings, context: Context, made: values.Developed) -> None:
    """What the file leaves open, and what its values contradict."""
    sensor, found = made.sensor, measure.found(context.measured)
    if not sensor.lights:
        say(Level.WARN, "no-camera-matrix", "Nothing says how this camera sees colours (no matrix): they are taken as BT.709's, balanced. "
            "Neutral things come out right, colours only roughly.")  # fmt: skip
    if sensor.neutral is None and sensor.white_xy is None and settings.white == "as shot":
        say(Level.WARN, "no-white", "The camera did not say what was white. Say the light, or click something neutral.")
    if context.facts.rebalanced and settings.white == "as shot":
        few = ", ".join(map(str, context.facts.rebalanced[:4]))
        say(Level.WARN, "balance-jumps", f"The camera changed its white or exposure at frame {few}: the first frame's is held for all of it.")
    if sensor.bend:
        bend = ", ".join(f"{k:+.3f}" for k in sensor.bend)
        say(Level.NOTE, "lens-bends", f"The file says that its lens bends straight lines ({bend}).",
            Fix("Undo it", "shape", {"bent": list(sensor.bend)}))  # fmt: skip
    if found is None:
        return
    if found.diagonal and settings.order is None:
        say(Level.WARN, "filter-order", f"Its filter is said to be {sensor.order.upper()}, but the cells that would be green differ more than "
            "the others: a chequered picture. Look, and say another order.")  # fmt: skip
    if found.ceiling is not None and settings.white_level is None:
        say(Level.WARN, "white-too-high", f"The file says that the sensor is full at {sensor.white[0]:g}, but its values pile up at "
            f"{found.ceiling:g}: highlights would turn magenta.",
            Fix(f"Take {found.ceiling:g} as full", "develop", {"white_level": found.ceiling}))  # fmt: skip
    if found.floor is not None and settings.black is None:
        say(Level.WARN, "black-too-high", f"The file says that black is {sensor.black[0]:g}, but much of it lies lower, down to {found.floor:g}.",
            Fix(f"Take {found.floor:g} as black", "develop", {"black": found.floor}))  # fmt: skip
    if (new := [place for place in found.hot if place not in settings.hot]) and len(new) > len(found.hot) // 20:
        many = f"{len(found.hot)} values are" if len(found.hot) > 1 else "One value is"
        say(Level.NOTE, "hot-values", f"{many} the same whatever the light: bright dots that stay where they are.",
            Fix("Take what lies around them", "develop", {"hot": [list(place) for place in found.hot]}))  # fmt: skip
    for name, off, own in (("row", found.rows, settings.rows), ("column", found.columns, settings.columns)):
        if off and not own:
            worst = max(map(abs, off))
            say(Level.NOTE, f"fixed-{name}s", f"Its {name}s lie up to {worst:.1f} codes too high or too low, the same in every frame: stripes in the "
                "shadows.", Fix(f"Take that off its {name}s", "develop", {f"{name}s": list(off)}))  # fmt: skip
    gone = sum(found.gone)
    if gone > 1e-4 and settings.highlights is None:
        say(Level.NOTE, "highlights-open", f"{gone:.2%} of it is full in the sensor ({found.gone[2]:.2%} in all three channels), and is delivered "
            "white, without a colour cast.", Fix("Rebuild where a channel lives", "develop", {"highlights": "rebuild"}))  # fmt: skip
    if settings.highlights == "rebuild" and found.gone[0] + found.gone[1] > 1e-4:
        say(Level.NOTE, "highlights-estimated", f"{found.gone[0] + found.gone[1]:.2%} of it is estimated: one or two channels were full there.")


def says(made: values.Developed, settings: DevelopSettings) -> str:
    kelvin, tint = camera.correlated(camera.white_of(made.sensor, made.neutral)) if made.sensor.lights else (0.0, 0.0)
    white = {"as shot": "as shot", "light": "light", "patch": "patch"}[settings.white] + (f" {kelvin:.0f} K {tint:+.0f}" if kelvin else "")
    exposure = f", {settings.exposure:+.1f} stops" if settings.exposure else ""
    into = "light" if settings.into == "light" else colour_cards.title(settings.into)
    return f"{white}{exposure} → {into}"
