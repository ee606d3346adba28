"""Taking recordings in: files become shots, tags and time stamps are read, the footage is looked at.

Used by the desk and the command line alike. ``take`` is quick and says what there is; ``look_at`` is the closer look.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from fractions import Fraction
from pathlib import Path

import msgspec

from ..errors import UnreadableError
from ..finding import Finding, Level
from ..job import Job, Part, Shot, Taken
from ..media import dng, prints, probe, stills, unlike
from ..media.probe import FileFacts
from ..media.rolls import Roll, Stream
from ..read.identify import identify
from ..read.seen import Seen
from ..read.step import assumed_samples
from ..route import Route
from . import group as grouping

Say = Callable[[str], None]


def read_file(
    path: str | Path, route: Route | None = None, rear: str | Path | None = None, starts: tuple[int, int] = (0, 0)
) -> tuple[FileFacts, Seen | None]:
    """Tags and time stamps of a file, and what its footage says; None where its frames cannot be decoded. ``rear``: the
    file of the other lens or eye of a pair, which begins with the frames ``starts`` of the two. A folder holds one frame sequence."""
    facts = facts_of(path)
    if rear is not None:
        facts = join_files(facts.path, str(Path(rear).absolute()), starts)
    elif facts.tracks == 2:
        facts = join_tracks(facts)
    return facts, look_at(facts, route or Route())


def facts_of(path: str | Path) -> FileFacts:
    """Tags and time stamps of a file, or of a folder that holds one frame sequence."""
    return _sequence_in(Path(path)) if Path(path).is_dir() else probe.probe(path)


def _sequence_in(folder: Path) -> FileFacts:
    said: list[str] = []
    found = take([folder], say=said.append)
    if len(found) == 1 and not said:
        return found[0].facts
    why = said[0] if said else f"it holds {len(found)} recordings"
    raise UnreadableError(f"{folder} is not one recording: {why}" + ("" if said else ". Give one of them, or a folder of one frame sequence."))


def look_at(facts: FileFacts, route: Route, cancelled: Callable[[], bool] = lambda: False) -> Seen | None:
    """What the frames say; None where they cannot be decoded. Cancelled if it was stopped."""
    try:
        return identify(facts, assumed_samples(facts, route.read), cancelled)
    except UnreadableError:
        return None


def source_problem(facts: FileFacts) -> Finding | None:
    """A *stop* if the file is gone or is not what it was when it was read."""
    name = Path(facts.path).name
    try:
        if not prints.changed(facts):
            return None
        text = f"{name} has changed since it was read. Take the shot out of the job and add the file again."
        return Finding(Level.STOP, "source-changed", text, "read")
    except OSError:
        text = f"{facts.path} is not there. Plug its disk in, put the file back, or relink it from where it is now."
        return Finding(Level.STOP, "source-missing", text, "read")


def kind_of(facts: FileFacts) -> str:
    """What a recording is called on the Board until the person says better."""
    return f"{facts.raster[0]}×{facts.raster[1]}"


def take(paths: Iterable[str | Path], rate: Fraction = Fraction(25), say: Say = lambda _: None) -> list[Taken]:
    """Recordings for ``Job.add_shots`` from files and folders: probed and grouped, not yet looked at.

    ``say`` gets a sentence for each file that cannot be read. ``rate``: of frame sequences that do not say theirs.
    """
    found = grouping.gather(paths)
    made = []
    for sequence in found.sequences:
        try:
            made.append(_sequence(sequence, rate))
        except UnreadableError as error:
            say(str(error))
    made += [t for g in grouping.group(films(found, say), map(str, found.sounds)) if (t := _grouped(g, say)) is not None]
    return made


def films(found: grouping.Sorted, say: Say) -> list[FileFacts]:
    """The recordings among what lies there, probed. ``say`` gets a sentence for each that should be one and cannot be read, and
    one for all that is none."""
    made, single = list[FileFacts](), list[FileFacts]()
    for path in found.films:
        try:
            film = probe.probe(path)
        except UnreadableError as error:
            say(str(error))
            continue
        (single if path.suffix.lower() in grouping.STILLS and film.frames == 1 else made).append(film)
    if single:
        names = ", ".join(f.name for f in single[:3]) + (f" and {len(single) - 3} more" if len(single) > 3 else "")
        say(
            f"{names}: {'a single picture is' if len(single) == 1 else 'single pictures are'} no moving shot. {grouping.MANY} or more, numbered in "
            "one folder, are a sequence. Deliver can put one over a shot."
        )
    left = []
    for path in found.others:  # a recording may have any ending; what is none lay there for another reason
        facts: FileFacts | None = None
        try:
            facts = probe.probe(path)
        except UnreadableError:
            pass
        if facts is not None and facts.frames > 1:
            made.append(facts)
        elif facts is None and (said := unlike.told(path)) is not None and unlike.OWN_FORM in said:
            say(said)  # what it holds may be the best there is of a shot
        else:
            left.append(path.name)
    if left:
        some = ", ".join(left[:3]) + (f" and {len(left) - 3} more" if len(left) > 3 else "")
        say(f"No footage, and left where it is: {some}.")
    return made


def _sequence(sequence: grouping.Sequence, rate: Fraction) -> Taken:
    if sequence.stills and len(sizes := {s for f in sequence.files if (s := stills.size(f)) is not None}) > 1:
        some = " and ".join(f"{w}×{h}" for w, h in sorted(sizes)[:2])
        raise UnreadableError(f"{sequence.files[0].parent}: its numbered pictures are {some}, so they are no one shot. They are left where they are.")
    sequence, uneven = sequence.by_time()
    values = dng.is_dng(sequence.files[0])
    if values:
        rate = dng.header(sequence.files[0])[0].rate or rate
    elif len(sequence.files) < 2:
        raise UnreadableError(f"{sequence.files[0]} is a single picture. A frame sequence has two or more, numbered.")
    roll = Roll(tuple(str(p.absolute()) for p in sequence.files), (1 / rate,) * len(sequence.files))
    facts = msgspec.structs.replace(probe.probe_source(roll), missing=sequence.missing, rate=rate, constant_rate=True)
    doubts = tuple(
        grouping.Doubt("sequence", (), f"Frames {a} to {b} are missing: one recording with a hole, or two?")
        for a, b in sequence.holes
    )
    if uneven:
        ask = f"{len(sequence.files)} pictures, taken at uneven times: a moving shot? If they are single ones, drop it (D)."
        doubts = (*doubts, grouping.Doubt("sequence", (), ask))
    kind = f"{Path(facts.path).suffix[1:].upper()} {'sequence' if facts.frames > 1 else 'still'}"
    return Taken(facts, sequence.name, kind, doubts=doubts)


def _grouped(made: grouping.Group, say: Say) -> Taken | None:
    facts = made.first
    kind = kind_of(facts)
    if len(made.files) > 1:
        try:
            facts = join_chapters(made.files)
        except UnreadableError as error:
            say(str(error))
            return None
        kind = f"{len(made.files)} chapters"
    if facts.tracks == 2 and not facts.files:
        facts = join_tracks(facts)
    if made.second and made.kind == "lens pair":
        try:
            facts = join_files(facts.path, made.second.path)
        except UnreadableError as error:  # each is a recording all the same
            say(str(error))
    parts = [Part("second", made.second.path, made.second)] if made.second else []
    parts += [Part("proxy", p.path, p) for p in made.proxies]
    for p in made.proxies:
        if more := p.frames - facts.frames:
            how = "one frame longer" if more > 0 else "one frame shorter"
            say(f"{p.name} is {how} than {facts.name}. It is linked as its proxy; what it lacks is shown by its last frame.")
    parts += [Part("sound", s) for s in made.sounds]
    if made.second:
        kind = made.kind
        if facts.beside is None:
            facts = msgspec.structs.replace(facts, apart=made.second.path)
    return Taken(facts, Path(facts.path).stem, kind, tuple(parts), tuple(made.doubts), first_route(facts))


UPRIGHT = (1.3, 2.4)  # times as high as wide that a recording is which was held upright; twice: rather two pictures over each other


def first_route(facts: FileFacts) -> Route:
    """What a recording is delivered as until somebody says: a tagged sphere as one, what was held upright upright, all else wide; and pixels
    that its own tag says are wide made square by a wider picture, so that no recorded row is lost."""
    route = Route().with_("shape", school="stretch") if (facts.pixel_aspect or 1) > 1 else Route()
    w, h = facts.raster if facts.rotation % 180 == 0 else facts.raster[::-1]
    if facts.sphere is not None and facts.sphere.projection == "equirectangular":
        return route.with_("deliver", cards=["web-sphere"])
    upright = UPRIGHT[0] <= h / w <= UPRIGHT[1] and abs(h / w - 2) > 0.01 and facts.sphere is None and facts.beside is None
    return route.with_("deliver", cards=["web-upright"]) if upright else route


def join_files(first: str, second: str, starts: tuple[int, int] = (0, 0)) -> FileFacts:
    """One recording's facts from its two lenses' or eyes': their pictures side by side. ``starts``: the frames they begin with."""
    return probe.probe_beside(Stream(first, 0, starts[0]), Stream(second, 0, starts[1]))


def join_tracks(facts: FileFacts) -> FileFacts:
    """The same of a file that holds two pictures which play at once; as it was, if they are not alike."""
    try:
        return probe.probe_beside(Stream(facts.path), Stream(facts.path, 1))
    except UnreadableError:
        return facts


def join_chapters(files: list[FileFacts]) -> FileFacts:
    """One recording's facts from its chapters', which follow each other without a gap."""
    facts = probe.probe_source(Roll(tuple(f.path for f in files), tuple(f.duration for f in files)))
    expected = sum(f.frames for f in files)
    if facts.frames != expected:
        raise UnreadableError(
            f"{files[0].path} and its chapters have {expected} frames apart and {facts.frames} together; they were not joined."
        )
    return msgspec.structs.replace(facts, timecode=files[0].timecode, created=files[0].created, sphere=files[0].sphere,
                                   rate=files[0].rate if files[0].constant_rate else facts.rate,
                                   constant_rate=files[0].constant_rate, promised=0)  # fmt: skip


def _camera_of(path: str, paths: Sequence[str | Path], cameras: Sequence[str]) -> str:
    """The camera of the path under which a recording was found, the nearest if they lie in each other."""
    above = [(len(str(Path(p).absolute())), c) for p, c in zip(paths, cameras, strict=True)
             if Path(path).absolute().is_relative_to(Path(p).absolute())]  # fmt: skip
    return max(above)[1] if above else ""


def add_files(
    job: Job, paths: Iterable[str | Path], say: Say = lambda _: None, camera: str | Sequence[str] = ""
) -> list[Shot]:  # fmt: skip
    """Adds what the files are as shots and looks at each; ``say`` gets a sentence for each that cannot be read. ``camera``:
    of all, or one for each of ``paths``."""
    paths = list(paths)
    taken = take(paths, job.rate, say)
    held = {s.facts.fingerprint: s.name for s in job.shots()}
    for one in taken:
        if name := held.get(one.facts.fingerprint):
            say(f"{one.facts.path} is in the job already, as {name}.")
    new = [
        msgspec.structs.replace(one, camera=camera if isinstance(camera, str) else _camera_of(one.facts.path, paths, camera))
        for one in taken if one.facts.fingerprint not in held
    ]  # fmt: skip
    if not new:
        return []
    added = job.add_new(new)
    look_at_new(job, added)
    return added


def look_at_new(job: Job, shots: Iterable[Shot]) -> None:
    """Looks at the footage of shots that has not been looked at yet, as it is linked now."""
    for shot in shots:
        if job.seen(shot.id) is None and (seen := look_at(shot.facts, shot.route)):
            job.keep_seen(shot.id, seen)
