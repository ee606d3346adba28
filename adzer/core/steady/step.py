"""Steady: says how a shot shakes, and moves its picture so that it does not, as part of the one warp."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

import numpy as np
import xxhash

from .. import records
from ..finding import Finding, Fix, Level
from ..light import names
from ..look.motion import Box
from ..media.clock import Clock, clock_of
from ..media.probe import FileFacts
from ..picture import Picture
from ..plan import Draft
from ..space.looks import Lamp, Turning
from ..space.sphere import Directions, Equirect, Round, rotation
from ..stage import Context, StepResult
from . import lamp, solve, standing
from .measure import VERSION, Shake, Turned, turn_words, words
from .settings import SteadySettings
from .solve import Array, Pane

SAYS = {"hold": "held still", "drift": "its jitter gone", "path": "on an even way", "level": "level", "lock": "a thing stays"}
HEADED = {"world": "", "vehicle": ", headed as it rides", "travel": ", headed where it goes", "free": ", turned as it was"}
PULSES = 0.15  # share of sharpness that may come and go before it is warned of
ROUNDS = 0.002  # of width and height, which rounding may take
ILL = 45.0  # degrees a second from which being turned makes people feel ill (as of ``space.path``)
SHAKEN = 30.0  # from which on being turned to and fro does, most of all to 70 (Ujike, Yokoi and Saida 2004)


def lens_of(picture: Picture, draft: Draft) -> Directions | None:
    """What its pixels say about directions, where that is known before a view is taken; None of a flat picture, and of two round lenses that
    nobody has matched."""
    if picture.mosaic not in (None, "none"):
        return None
    _, _, w, h = picture.region("left")
    if picture.projection == "equirectangular" and picture.turn:
        return None
    if picture.projection == "equirectangular":
        return Equirect((w, h), 180.0 if picture.coverage == "180" else 360.0)
    if picture.projection == "fisheye" and draft.rig is not None and draft.rig.lenses:
        return Round((w, h), draft.rig.lenses)
    return draft.lens


def is_flat(picture: Picture, draft: Draft) -> bool:
    """One flat picture, developed: what can be held by moving it."""
    return draft.pair is None and picture.projection in (None, "flat") and picture.eyes in (None, "one") and picture.mosaic in (None, "none")


def pane_of(settings: SteadySettings, facts: FileFacts, turn: int) -> Pane:
    """A flat recording, turned clockwise by ``turn``, as it is held: by turning it as its camera was; shifted, where nobody knows what its lens sees,
    or as a thing in it is to keep its place to parts of a pixel."""
    quarter, (wide, high) = turn % 180, facts.raster
    focal = None
    if settings.view is not None and settings.method != "lock":
        focal = float(wide * (1.0 if quarter else settings.aspect) / 2 / np.tan(np.radians(settings.view / 2)))
    return Pane((high, wide) if quarter else (wide, high), focal, settings.aspect)


def lying(settings: SteadySettings, turn: int) -> Box | None:
    """What stands still, in shares of the recorded picture before it was turned clockwise by ``turn``."""
    if (box := settings.still) is None:
        return None
    for _ in range(turn // 90):  # what is above was on the left
        box = box[1], 1 - box[0] - box[2], box[3], box[2]
    return box


def named(what: str, seen: Directions | Box | None, turn: int = 0) -> str:
    """An analysis or its finding, of a recording through that lens, its pictures turned clockwise, or of that part of it: of another it would be
    another."""
    if seen is None or isinstance(seen, Equirect):
        return what
    return f"{what} {xxhash.xxh3_64_hexdigest(repr((turn, seen) if turn and not isinstance(seen, tuple) else seen).encode())}"


def step(picture: Picture, settings: SteadySettings, context: Context) -> StepResult:
    if (lens := lens_of(picture, context.draft)) is not None:
        return _standing(picture, settings, context, lens)
    if not is_flat(picture, context.draft):
        return StepResult(picture, "left as it is", idle=True)
    part = lying(settings, picture.turn)
    found, draft, facts = shaken(context.measured, part), context.draft, context.facts
    wants, findings, says = "" if found else named("motion", part), list[Finding](), list[str]()
    if settings.method != "off":
        kept, pane = 1 - settings.budget, pane_of(settings, facts, picture.turn)
        leave = Fix("Leave it as it was held", "steady", {"method": "off"})
        moves = _moves(settings.moves, facts.frames, pane.size)
        if moves is None:
            text = "It is to be steadied, but how it moves was not measured on this very recording. Measure it, and choose how again."
            return StepResult(picture, "not measured", (Finding(Level.STOP, "moves-missing", text, "steady", leave),), wants=wants)
        if not _fits(settings.moves, facts.frames, pane, kept):
            text = f"Its moves need more than {settings.budget:.0%} of the picture: something bare would enter. Choose how again."
            return StepResult(picture, "too far", (Finding(Level.STOP, "moves-too-far", text, "steady", leave),))
        held = _turning(settings.moves, settings.goes, facts.frames, pane, kept, clock_of(facts), (settings.readout or 0.0) / 1000)
        findings += _costs(settings, found, draft)
        draft = draft.with_(held=held, aspect=settings.aspect, **_read_out(settings, picture.turn))
        keeps = kept**2 if not settings.eases else float((solve.windows(moves, settings.budget) ** 2).mean())
        says.append(f"{SAYS[settings.method]}, keeps {keeps:.0%}")
    if settings.evens:
        made = _lamp(settings.light, facts.frames, clock_of(facts))
        if made is None:
            text = "Its light is to be made even, but how it flickers was not measured on this very recording. Measure it, and choose again."
            fix = Fix("Leave its light as it is", "steady", {"evens": False})
            return StepResult(picture, "not measured", (Finding(Level.STOP, "light-missing", text, "steady", fix),), wants=wants)
        draft = draft.with_(lamp=made, curve=draft.curve or names.recorded(picture))
        says.append("its light even")
    if not says:
        return StepResult(picture, words(found) if found else "left as it is", idle=True, wants=wants)
    return StepResult(picture, ", ".join(says), tuple(findings), draft=draft, wants=wants)


def _read_out(settings: SteadySettings, turn: int) -> dict[str, object]:
    """Of a draft, of pictures that were turned clockwise by ``turn``: the first row then lies at the right, or below, or at the left."""
    read = (settings.readout or 0.0) / 1000
    return {"readout": -read if turn in (90, 180) else read, "across": bool(turn % 180)}


def _costs(settings: SteadySettings, found: Shake | None, draft: Draft) -> list[Finding]:
    """What holding it spends, and what it cannot undo."""
    findings, kept = [], 1 - settings.budget
    if settings.budget == 0:
        text = "Nothing of the picture may be spent, so that it cannot be moved at all: it stays as it was held. Let it cost some."
        findings.append(Finding(Level.WARN, "nothing-spent", text, "steady"))
    elif settings.needs > settings.budget + ROUNDS:
        most = "more than half" if settings.needs > 0.5 else f"{settings.needs:.1%}"
        text = f"It goes on moving: to take all of it off takes {most} of width and height, and {settings.budget:.1%} may be spent. Let it cost "
        findings.append(Finding(Level.WARN, "held-less", text + "more, or take less off.", "steady"))
    if draft.pace is not None and settings.budget > 0.2:
        findings.append(Finding(Level.NOTE, "much-spent", f"{1 - kept**2:.0%} of the recorded picture is spent on holding it.", "steady"))
    if found is not None and found.blurs is not None:
        text = f"What moved fastest was drawn out while the shutter was open: {found.blurs:.0%} less sharp on those frames than on still ones. Held, "
        text += "that blur goes on pulsing. Keep more of the shake, or expose for a shorter time next time."
        findings.append(Finding(Level.NOTE if found.blurs < PULSES else Level.WARN, "blur-pulses", text, "steady"))
    return findings


def _standing(picture: Picture, settings: SteadySettings, context: Context, lens: Directions) -> StepResult:
    """Of a recording of directions."""
    found = turned(context.measured, lens, picture.turn)
    wants = "" if found else named("turns", lens, picture.turn)
    if settings.method == "off":
        text = "" if found is None else f"Left as it was turned, it shakes its viewers by up to {found.jerks:.0f}° a second. From {SHAKEN:.0f}° on, "
        text += "that makes most people ill, in headsets above all. Have it stand level, or take its jitter off."
        shakes = (Finding(Level.WARN, "shakes-viewers", text, "steady"),) if found is not None and found.jerks > SHAKEN else ()
        return StepResult(picture, turn_words(found) if found else "left as it is", shakes, idle=True, wants=wants)
    facts = context.facts
    leave = Fix("Leave it as it was turned", "steady", {"method": "off"})
    clock = clock_of(facts)
    held = _held(settings.moves, facts.frames, clock, settings.opens)
    if held is None:
        text = "It is to stand, but how it turns was not measured on this very recording. Measure it, and choose how again."
        return StepResult(picture, "not measured", (Finding(Level.STOP, "moves-missing", text, "steady", leave),), wants=wants)
    findings = []
    if settings.through and settings.through != named("", lens, picture.turn):
        text = "It was followed through other lenses than are said to be there now, at Shape or Join, and shakes by what lies between them. Choose "
        findings.append(Finding(Level.WARN, "steadied-otherwise", text + "at Steady again what it should do.", "steady"))
    follows = settings.method == "level" and settings.heading in ("vehicle", "travel", "free")
    if found is not None and follows and found.fastest > ILL:
        text = f"Headed like this it turns viewers by up to {found.fastest:.0f}° a second, which makes people ill, in headsets above all. Head it "
        text += "to the world, and let the view go where it is to."
        findings.append(Finding(Level.WARN, "turns-fast", text, "steady"))
    says = SAYS[settings.method] + (HEADED[settings.heading] if settings.method == "level" else "")
    if settings.method == "level" and settings.level < 1:
        says += f", {1 - settings.level:.0%} of its leaning kept"
    draft = context.draft.with_(held=held)
    if isinstance(lens, Round) and settings.readout:
        draft = draft.with_(stands=_stands(settings.goes, facts.frames, clock), **_read_out(settings, picture.turn))
    return StepResult(picture, says, tuple(findings), draft=draft, wants=wants)


# A route is walked at every change of any answer: what only hangs on what was solved is worked out once.
@lru_cache(maxsize=16)
def _moves(text: str, frames: int, size: tuple[int, int]) -> Array | None:
    return solve.unpacked(text, frames, size)


@lru_cache(maxsize=16)
def _fits(text: str, frames: int, pane: Pane, kept: float) -> bool:
    moves = _moves(text, frames, pane.size)
    return moves is not None and bool(solve.inside(moves, pane, kept - 1e-9).all())


@lru_cache(maxsize=16)
def _turning(text: str, goes: str, frames: int, pane: Pane, kept: float, clock: Clock, readout: float) -> Turning | None:
    moves, way = _moves(text, frames, pane.size), _moves(goes, frames, pane.size)
    return None if moves is None else solve.held(moves, pane, kept, np.array([clock.time(n) for n in range(frames)]), readout, way)


@lru_cache(maxsize=16)
def _lamp(text: str, frames: int, clock: Clock) -> Lamp | None:
    more = lamp.unpacked(text, frames)
    return None if more is None else Lamp(np.array([clock.time(n) for n in range(frames)]), more)


@lru_cache(maxsize=16)
def _held(text: str, frames: int, clock: Clock, opens: float) -> Turning | None:
    moves = _moves(text, frames, (1, 1))
    if moves is None:
        return None
    times = np.array([clock.time(n) for n in range(frames)])
    return Turning(times, standing.matrices(moves) @ rotation(opens, 0.0), frames=times)


@lru_cache(maxsize=16)
def _stands(text: str, frames: int, clock: Clock) -> Turning | None:
    moves = _moves(text, frames, (1, 1))
    return None if moves is None else standing.by_rows(standing.matrices(moves), np.array([clock.time(n) for n in range(frames)]))


def times_of(facts: FileFacts) -> np.ndarray[tuple[int, ...], np.dtype[np.float64]]:
    """Seconds of each recorded frame."""
    clock = clock_of(facts)
    return np.array([clock.time(n) for n in range(facts.frames)])


def shaken(measured: Mapping[str, bytes], part: Box | None = None) -> Shake | None:
    """What was found of a recording's shake, by this version's reckoning; what cannot be read is measured again."""
    return records.of_version(measured.get(named("shake", part)), Shake, VERSION)


def turned(measured: Mapping[str, bytes], lens: Directions, turn: int = 0) -> Turned | None:
    """The same of a recording of directions."""
    return records.of_version(measured.get(named("turned", lens, turn)), Turned, VERSION)


def found_of(picture: Picture, draft: Draft, settings: SteadySettings, measured: Mapping[str, bytes]) -> Shake | Turned | None:
    """What was found of whatever it is."""
    lens = lens_of(picture, draft)
    return shaken(measured, lying(settings, picture.turn)) if lens is None else turned(measured, lens, picture.turn)


def names_of(picture: Picture, draft: Draft, settings: SteadySettings) -> tuple[str, str]:
    """Of its analysis, and of what that finds."""
    lens, part = lens_of(picture, draft), lying(settings, picture.turn)
    if lens is None:
        return named("motion", part), named("shake", part)
    return named("turns", lens, picture.turn), named("turned", lens, picture.turn)
