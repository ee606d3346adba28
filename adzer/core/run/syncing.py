"""Two recordings put in step: their timecode, what both heard, how both moved."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Literal

import av
import msgspec
import numpy as np

from ..errors import AdzerError, UnreadableError
from ..intake.group import gather
from ..join.find import partners
from ..look import together
from ..look.motion import Motion
from ..look.passes import Rows, rows, spans
from ..look.passes import key as named
from ..look.together import Array, Curve, Sound, Together
from ..media import audio, probe, timecode
from ..media.clock import clock_of
from ..media.probe import FileFacts
from ..route import Route
from .analysing import analyse

By = Literal["timecode", "sound", "motion"]
SURE = 0.5  # confidence from which an answer is one


class InStep(msgspec.Struct, frozen=True):
    """``offset``: seconds by which the second's own start lies after the first's, None if it cannot be told; ``uncertainty``: seconds,
    95 %; ``drift_ppm``: by how much faster the second's clock runs, None if that was not to be told; ``by`` what; ``says``: each witness's
    own sentence; ``curves``: offsets, and how alike the two are there, of each that was sure."""

    offset: float | None
    uncertainty: float | None
    drift_ppm: float | None
    drift_uncertainty: float | None
    by: By | None
    confidence: float
    says: dict[str, str]
    curves: dict[str, Curve] = {}

    def left_over(self, rate: float) -> tuple[int, float]:
        """(whole frames that the second must be moved by, share of a frame that these leave) at ``rate`` frames a second."""
        frames = (self.offset or 0.0) * rate
        return round(frames), abs(frames - round(frames))


def in_step(a: Path, b: Path, report: Callable[[str], None] = lambda _: None) -> InStep:
    """Of two recordings or plain sound files. Sound, and then movement, are believed before timecode, as cameras lose their clocks.
    UnreadableError if one is neither."""
    first, second = _facts(a), _facts(b)
    said: dict[str, str] = {}
    report("listening")
    heard = _heard((a, first), (b, second))
    said["sound"] = heard.says
    coded = _coded(first, second) if first is not None and second is not None else None
    if coded is not None:
        said["timecode"] = f"Their timecodes lie {coded[0]:+.3f} s apart.".replace("-", "−")
    witness: tuple[Together, By] | None = (heard, "sound") if heard.confidence >= SURE else None
    if witness is None and first is not None and second is not None:
        report("watching how they move")
        moved = _moved(first, second)
        said["motion"] = moved.says
        witness = (moved, "motion") if moved.confidence >= SURE else None
    if witness is not None:
        if coded is not None and abs(coded[0] - witness[0].offset) > coded[1] + witness[0].uncertainty:
            said["timecode"] += f" By {witness[1]} it is otherwise: a clock was not set."
        return _answer(*witness, said)
    if coded is not None:
        return InStep(round(coded[0], 6), round(coded[1], 6), None, None, "timecode", 0.6, said)
    return InStep(None, None, None, None, None, 0.0, said)


class Paired(msgspec.Struct, frozen=True):
    """``first`` and ``second``: files, one of each folder; the rest as of ``InStep``."""

    first: str
    second: str
    offset: float
    confidence: float
    by: By


class Pairs(msgspec.Struct, frozen=True):
    """``alone``: files that have no partner, as far as can be told."""

    pairs: list[Paired]
    alone: list[str]


def pairs(a: Path, b: Path, report: Callable[[str], None] = lambda _: None) -> Pairs:
    """Which recordings of two folders, and of folders below them, belong together, whatever they are called and whenever their clocks say
    that they were made. AdzerError if a folder holds none; one that cannot be read is reported."""
    sides: list[list[FileFacts]] = []
    for folder in (a, b):
        read = []
        for path in gather([folder]).films if folder.is_dir() else ():
            try:
                read.append(probe.probe(path))
            except AdzerError as error:
                report(str(error))
        if not read:
            raise AdzerError(f"{folder} is no folder with recordings in it.")
        sides.append(read)
    return pairs_of(sides[0], sides[1], report)


def pairs_of(firsts: Sequence[FileFacts], seconds: Sequence[FileFacts], report: Callable[[str], None] = lambda _: None) -> Pairs:
    """The same of recordings that were read."""
    sides = (firsts, seconds)
    sounds: dict[tuple[int, int], Sound | None] = {}
    motions: dict[tuple[int, int], tuple[Rows, Array]] = {}

    def sound(side: int, n: int) -> Sound | None:
        if (side, n) not in sounds:
            report(f"listening to {sides[side][n].name}")
            try:
                sounds[side, n] = _sound(Path(sides[side][n].path), sides[side][n])
            except AdzerError:
                sounds[side, n] = None
        return sounds[side, n]

    def motion(side: int, n: int) -> tuple[Rows, Array]:
        if (side, n) not in motions:
            report(f"watching {sides[side][n].name}")
            motions[side, n] = _motion(sides[side][n])
        return motions[side, n]

    def compare(i: int, j: int) -> tuple[float, float, str]:
        one, other = sound(0, i), sound(1, j)
        if one is not None and other is not None:
            heard = together.by_sound(one, other)
            if heard.confidence >= SURE or not heard.lost:
                return heard.offset, heard.confidence, "sound"
        moved = together.by_motion(*motion(0, i), *motion(1, j))
        return moved.offset, moved.confidence, "motion"

    found = partners(sides[0], sides[1], compare, SURE)
    made = [Paired(sides[0][f.first].path, sides[1][f.second].path, round(f.offset, 6), round(f.confidence, 3), f.by) for f in found]  # type: ignore[arg-type]
    paired = {p.first for p in made} | {p.second for p in made}
    return Pairs(made, [f.path for side in sides for f in side if f.path not in paired])


def _answer(found: Together, by: By, said: dict[str, str]) -> InStep:
    drift = None if found.drift is None else round(found.drift, 2)
    return InStep(
        round(found.offset, 6), round(found.uncertainty, 6), drift, None if drift is None else round(found.drift_uncertainty, 2), by,
        round(found.confidence, 3), said, {by: found.curve},
    )  # fmt: skip


def _facts(path: Path) -> FileFacts | None:
    """None: it holds sound alone. UnreadableError if it holds neither."""
    try:
        return probe.probe(path)
    except UnreadableError:
        with contextlib.suppress(av.FFmpegError, OSError), av.open(str(path), "r") as container:
            if container.streams.audio and not container.streams.video:
                return None
        raise


def _heard(*two: tuple[Path, FileFacts | None]) -> Together:
    """From each one's own start: a recording's first picture, a sound's first sample."""
    try:
        first, second = (_sound(path, facts) for path, facts in two)
    except AdzerError as error:
        return together.cannot(str(error))
    return together.by_sound(first, second)


def _sound(path: Path, facts: FileFacts | None) -> Sound:
    """AdzerError if it has none that can be decoded."""
    if facts is not None and not facts.audio:
        raise AdzerError(f"{path.name} has no sound.")
    try:
        if facts is None:
            return _plain(path)
        index = probe.scan(facts.source, facts.fingerprint)
        start = int(index.pts[0]) * facts.time_base
        seconds = Fraction(clock_of(facts).time(facts.frames - 1)).limit_denominator(10**6) + 1 / (facts.rate or Fraction(25))
        return audio.mono(facts.source, start, seconds, together.RATE)
    except (AdzerError, av.FFmpegError) as error:
        raise AdzerError(f"{path.name}'s sound cannot be decoded ({error}).") from None


def _plain(path: Path) -> Sound:
    """All of a sound file."""
    taken = av.AudioResampler("fltp", "mono", together.RATE)
    with av.open(str(path), "r") as container:
        parts = [made.to_ndarray()[0] for frame in container.decode(audio=0) for made in taken.resample(frame)]
    parts += [made.to_ndarray()[0] for made in taken.resample(None)]
    return np.concatenate([np.zeros(0, np.float32), *parts])


def _coded(a: FileFacts, b: FileFacts) -> tuple[float, float] | None:
    """(offset, half a frame of each) by the timecodes of their first frames; None where one has none."""
    if not (a.timecode and b.timecode and a.rate and b.rate):
        return None
    try:
        starts = [timecode.to_frames(f.timecode or "", f.rate or Fraction(25)) / float(f.rate or 25) for f in (a, b)]
    except AdzerError:
        return None
    return starts[1] - starts[0], float((1 / a.rate + 1 / b.rate) / 2)


def _moved(a: FileFacts, b: FileFacts) -> Together:
    return together.by_motion(*_motion(a), *_motion(b))


def _motion(facts: FileFacts) -> tuple[Rows, Array]:
    """How it moves, and the seconds of its frames."""
    kept = {named(s): analyse("motion", facts, Route(), s) for s in spans(facts.frames)}
    found, clock = rows(Motion, facts.frames, kept), clock_of(facts)
    assert found is not None
    return found, np.array([clock.time(n) for n in range(facts.frames)])
