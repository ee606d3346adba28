"""The analyses that stages ask for: what each needs to know of a recording, and what is found of its rows."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from .. import records
from ..errors import AdzerError
from ..job import Job
from ..look import passes
from ..look.motion import Motion
from ..look.passes import Pass, Rows
from ..media.probe import FileFacts
from ..read.step import assumed_samples
from ..route import Route
from ..steady.measure import shake, trace
from .render import Progress, Report

PASSES: dict[str, Callable[[FileFacts, Route], Pass[Any]]] = {  # name → the pass over a recording, read as its route says
    "motion": lambda facts, route: Motion(assumed_samples(facts, route.read)),
}


def _shake(facts: FileFacts, rows: Rows) -> dict[str, bytes]:
    rate = float(facts.rate or 25)
    return {"": records.to_json(shake(rows, rate)).encode(), "trace": trace(rows, rate).astype("<f4").tobytes()}


# analysis → its kind, the name of the finding, and what makes it, by keys, of its rows
FINDINGS: dict[str, tuple[type[Pass[Any]], str, Callable[[FileFacts, Rows], dict[str, bytes]]]] = {
    "motion": (Motion, "shake", _shake),
}


def missing(job: Job, name: str, facts: FileFacts) -> list[tuple[int, int]]:
    """Spans that have still to be looked at."""
    kind = FINDINGS[name][0]
    return passes.missing(kind, facts.frames, job.measured(facts.fingerprint, name, kind.version))


def kept(job: Job, name: str, facts: FileFacts) -> dict[str, bytes]:
    return job.measured(facts.fingerprint, name, FINDINGS[name][0].version)


def keep(job: Job, name: str, facts: FileFacts, span: tuple[int, int], body: bytes) -> None:
    job.keep_measured(facts.fingerprint, name, body, passes.key(span), FINDINGS[name][0].version)


def found(name: str, facts: FileFacts, spans: dict[str, bytes]) -> dict[str, bytes]:
    """What all spans together say, by keys; to be kept as the finding. AdzerError if some are missing."""
    kind, _, make = FINDINGS[name]
    rows = passes.rows(kind, facts.frames, spans)
    if rows is None:
        raise AdzerError(f"{facts.path}: its {name} has not been looked at to its end.")
    return make(facts, rows)


def keep_found(job: Job, name: str, facts: FileFacts, bodies: dict[str, bytes]) -> None:
    for key, body in bodies.items():
        job.keep_measured(facts.fingerprint, FINDINGS[name][1], body, key)


def through(job: Job, name: str, facts: FileFacts, route: Route, report: Report = lambda _: None) -> None:
    """All of an analysis that the job does not have yet, each span kept as it comes, and its finding."""
    left = missing(job, name, facts)
    begun, done, total = time.monotonic(), 0, sum(b - a for a, b in left)
    for span in left:
        keep(job, name, facts, span, analyse(name, facts, route, span))
        done += span[1] - span[0]
        report(Progress("measuring", done, total, done / max(time.monotonic() - begun, 1e-6)))
    keep_found(job, name, facts, found(name, facts, kept(job, name, facts)))


def analyse(name: str, facts: FileFacts, route: Route, span: tuple[int, int]) -> bytes:
    """One span of an analysis, to be kept."""
    return passes.run(PASSES[name](facts, route), facts.source, facts.fingerprint, span)
