"""The analyses that stages ask for: what each needs to know of a recording, and what is found of its rows."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import numpy as np

from .. import records
from ..errors import AdzerError, Cancelled
from ..job import Job
from ..look import motion, passes, turns
from ..look.motion import Motion, enlarged
from ..look.passes import Pass, Rows
from ..look.turns import Turns
from ..media.probe import FileFacts
from ..read.seen import Seen
from ..read.step import assumed_samples, turn_of
from ..route import Route, walk
from ..steady.measure import shake, trace, turned
from ..steady.step import lens_of, lying
from .render import Progress, Report

Instead = tuple[FileFacts, Route]  # a proxy, and the route it is read with


def turns_of(facts: FileFacts, route: Route, seen: Seen | None) -> Turns:
    """The pass over a recording of directions, as its route says what they are. AdzerError if it says that it is none."""
    walked = walk(route, facts, seen)
    picture = walked["steady"].before
    lens = lens_of(picture, walked.draft)
    if lens is None:
        raise AdzerError(f"{facts.path} is no sphere, or of lenses that have not been matched yet. Say at Read what it is, and match them at Join.")
    return Turns(assumed_samples(facts, route.read), lens, picture.region("left"), picture.turn)


def motion_of(facts: FileFacts, route: Route) -> Motion:
    """The pass over a flat recording, within what was said to stand still."""
    return Motion(assumed_samples(facts, route.read), lying(route.steady, turn_of(facts, route.read)))


PASSES: dict[str, Callable[[FileFacts, Route, Seen | None], Pass[Any]]] = {  # name → the pass over a recording, read as its route says
    "motion": lambda facts, route, _: motion_of(facts, route),
    "turns": turns_of,
}


WIDEST = {"motion": motion.WIDE, "turns": turns.WIDE}  # columns that are looked at


def _shake(facts: FileFacts, rows: Rows) -> dict[str, bytes]:
    rate = float(facts.rate or 25)
    return {"": records.to_json(shake(rows, rate, facts.raster)).encode(), "trace": trace(rows, rate).astype("<f4").tobytes()}


def _turned(facts: FileFacts, rows: Rows) -> dict[str, bytes]:
    found, off = turned(rows, float(facts.rate or 25))
    return {"": records.to_json(found).encode(), "trace": off.astype("<f4").tobytes()}


# analysis → its kind, the name of the finding, and what makes it, by keys, of its rows
FINDINGS: dict[str, tuple[type[Pass[Any]], str, Callable[[FileFacts, Rows], dict[str, bytes]]]] = {
    "motion": (Motion, "shake", _shake),
    "turns": (Turns, "turned", _turned),
}


def _of(name: str) -> tuple[type[Pass[Any]], str, Callable[[FileFacts, Rows], dict[str, bytes]]]:
    """What follows a blank in a name says through which lens."""
    what, blank, lens = name.partition(" ")
    kind, finding, make = FINDINGS[what]
    return kind, finding + blank + lens, make


def missing(job: Job, name: str, facts: FileFacts) -> list[tuple[int, int]]:
    """Spans that have still to be looked at."""
    kind = _of(name)[0]
    return passes.missing(kind, facts.frames, job.measured(facts.fingerprint, name, kind.version))


def kept(job: Job, name: str, facts: FileFacts) -> dict[str, bytes]:
    return job.measured(facts.fingerprint, name, _of(name)[0].version)


def kept_rows(job: Job, name: str, facts: FileFacts) -> Rows | None:
    """All frames' rows; None while some are missing."""
    return passes.rows(_of(name)[0], facts.frames, kept(job, name, facts))


def keep(job: Job, name: str, facts: FileFacts, span: tuple[int, int], body: bytes) -> None:
    job.keep_measured(facts.fingerprint, name, body, passes.key(span), _of(name)[0].version)


def found(name: str, facts: FileFacts, spans: dict[str, bytes]) -> dict[str, bytes]:
    """What all spans together say, by keys; to be kept as the finding. AdzerError if some are missing."""
    kind, _, make = _of(name)
    rows = passes.rows(kind, facts.frames, spans)
    if rows is None:
        raise AdzerError(f"{facts.path}: its {name} has not been looked at to its end.")
    return make(facts, rows)


def keep_found(job: Job, name: str, facts: FileFacts, bodies: dict[str, bytes]) -> None:
    for key, body in bodies.items():
        job.keep_measured(facts.fingerprint, _of(name)[1], body, key)


def through(
    job: Job, name: str, facts: FileFacts, route: Route, report: Report = lambda _: None, seen: Seen | None = None, instead: Instead | None = None
) -> None:
    """All of an analysis that the job does not have yet, each span kept as it comes, and its finding."""
    left = missing(job, name, facts)
    begun, done, total = time.monotonic(), 0, sum(b - a for a, b in left)
    for span in left:
        keep(job, name, facts, span, analyse(name, facts, route, span, seen, instead))
        done += span[1] - span[0]
        report(Progress("measuring", done, total, done / max(time.monotonic() - begun, 1e-6)))
    keep_found(job, name, facts, found(name, facts, kept(job, name, facts)))


def analyse(
    name: str, facts: FileFacts, route: Route, span: tuple[int, int], seen: Seen | None = None, instead: Instead | None = None
) -> bytes:
    """One span of an analysis, to be kept; from what may be looked at ``instead``, if that shows the same."""
    what, blank, _ = name.partition(" ")
    if instead is not None and (what == "motion" or not blank) and _shows(facts, instead[0], WIDEST[what]):  # lenses are those of one raster
        small, shown = instead
        try:
            body = passes.run(PASSES[what](small, shown, None), small.sources, small.fingerprint, span)
        except Cancelled:
            raise
        except AdzerError:  # what it cannot tell, the recording may
            body = b""
        if body and what == "motion":
            rows = np.frombuffer(body, "<f4").reshape(-1, len(Motion.columns))
            return enlarged(rows, facts.raster[0] / small.raster[0]).astype("<f4").tobytes()
        if body:
            return body
    return passes.run(PASSES[what](facts, route, seen), facts.sources, facts.fingerprint, span)


def _shows(facts: FileFacts, small: FileFacts, wide: int) -> bool:
    """Has a proxy the same frames of the same picture, and as much of it as is looked at?"""
    (w, h), (across, down) = facts.raster, small.raster
    alike = small.frames == facts.frames and small.rate == facts.rate and (small.pixel_aspect or 1) == (facts.pixel_aspect or 1)
    return alike and across >= 0.9 * min(w, wide) and abs(down * w / (across * h) - 1) < 0.01
