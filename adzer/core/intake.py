"""Taking recordings in: probe, measure, and the route they start with. Used by the desk and the command line alike."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path

from .errors import UnreadableError
from .finding import Finding, Level
from .job import Job, Shot
from .media import probe
from .media.probe import FileFacts
from .read.measure import Levels, measure
from .read.step import assumed_samples
from .route import Route


def read_file(path: str | Path, route: Route | None = None) -> tuple[FileFacts, Levels | None]:
    """Tags, time stamps and levels of a file; levels are None where its frames cannot be decoded."""
    facts = probe.probe(path)
    return facts, levels_of(facts, route or Route())


def levels_of(facts: FileFacts, route: Route) -> Levels | None:
    """Levels measured on a few frames; None where they cannot be decoded."""
    try:
        return measure(facts.path, assumed_samples(facts, route.read))
    except UnreadableError:
        return None


def source_problem(facts: FileFacts) -> Finding | None:
    """A *stop* if the file is gone or is not what it was when it was read."""
    path = Path(facts.path)
    try:
        if probe.fingerprint(path) == facts.fingerprint:
            return None
        text = f"{path.name} has changed since it was read. Take the shot out of the job and add the file again."
        return Finding(Level.STOP, "source-changed", text, "read")
    except OSError:
        text = f"{path} is not there. Plug its disk in, or put the file back."
        return Finding(Level.STOP, "source-missing", text, "read")


def kind_of(facts: FileFacts) -> str:
    """What a recording is called on the Board until the person says better."""
    return f"{facts.raster[0]}×{facts.raster[1]}"


def add_files(job: Job, paths: Iterable[str | Path], say: Callable[[str], None] = lambda _: None) -> list[Shot]:
    """Adds each readable file as a shot and measures it; ``say`` gets a sentence for each that cannot be read."""
    added = []
    for path in paths:
        try:
            facts, levels = read_file(path)
        except UnreadableError as error:
            say(str(error))
            continue
        shot = job.add_shot(facts, kind=kind_of(facts))
        if levels:
            job.keep_levels(shot.id, levels)
        added.append(job.shot(shot.id))
    return added
