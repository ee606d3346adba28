"""Proxies, intermediates and masters of a job's shots: made in the queue, linked, compared, and exchanged both ways."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from fractions import Fraction
from pathlib import Path

import msgspec

from .. import cards, records
from ..compile import Order, freeze_copy
from ..errors import AdzerError, UnreadableError
from ..job import Job, Part, Shot, Slip
from ..media import probe
from ..media.filenames import called_proxy
from ..media.probe import FileFacts
from ..read import baked
from ..read.step import assumed_samples
from ..route import Route, Walk
from .group import gather
from .relink import ALIKE, Match, likeness, relink
from .take import films, source_problem, take

SCALES = {"half": Fraction(1, 2), "quarter": Fraction(1, 4), "full": Fraction(1)}


def copy_order(job: Job, shot: Shot, card: str, size: str) -> Order:
    """A frozen order for a proxy (``half``, ``quarter``) or intermediate (``full``) beside the job, in ``proxies``."""
    if size not in SCALES:
        raise AdzerError(f"A copy of {shot.name} can be full, half or quarter, not {size!r}.")
    made = cards.find("copies", card, cards.DeliveryCard)
    out = job.free_path(job.path.parent / "proxies", f"{Path(shot.facts.path).stem}_{size}", made.container)
    return freeze_copy(shot.name, shot.facts, shot.route, card, SCALES[size], out)


def attach(job: Job, slip: Slip) -> None:
    """Links a finished copy to its shot, if that is still there and still the recording it was made of."""
    try:
        shot = job.shot(slip.shot_id)
        if shot.facts.fingerprint != slip.order.facts.fingerprint:
            return
        facts = probe.probe(slip.order.out)
    except UnreadableError:
        return
    part = Part("intermediate" if slip.order.card_name == "intermediate" else "proxy", facts.path, facts, "same")
    job.set_files([(shot, {"parts": (*shot.parts, part)})], f"{shot.name}: link {Path(facts.path).name}")


def stand_in(shot: Shot) -> Part | None:
    """The part that is shown while the job works on proxies."""
    return next((p for r in ("intermediate", "proxy") for p in reversed(shot.parts) if p.role == r and p.facts), None)


def shown_with(shot: Shot, walked: Walk, route: Route, on_proxies: bool) -> tuple[FileFacts, Route]:
    """What pictures are decoded from, and the route to show it with: a proxy is read as its master is, unless it carries
    a look already."""
    part = stand_in(shot) if on_proxies else None
    if part is None or part.facts is None:
        return shot.facts, route
    read = walked["read"].after
    if part.look == "look":
        look = {"curve": "bt709", "primaries": "bt709", "applied": None, "range": None, "matrix": None, "turn": read.turn}
        return part.facts, _uncleaned(route).with_("read", **look)
    held = {"turn": read.turn, "curve": read.curve, "primaries": read.primaries, "applied": None, "range": None, "matrix": None}
    return part.facts, _uncleaned(route).with_("read", **held)


def instead(shot: Shot, walked: Walk) -> tuple[FileFacts, Route] | None:
    """Its proxy, and the route to read that with, for what need not be looked at on the recording itself; None: it has none."""
    part = stand_in(shot)
    return None if part is None or not Path(part.path).exists() else shown_with(shot, walked, shot.route, True)


def _uncleaned(route: Route) -> Route:
    """A proxy has not the noise that was measured on its master, nor its codes: it is shown as it is."""
    return route.with_("develop", clean=None, colour=None, even=False) if route.develop != Route().develop else route


# --- relinking ---------------------------------------------------------------------------------------------------
def offered(paths: Iterable[str | Path]) -> tuple[list[FileFacts], list[str]]:
    """What lies in folders and files, probed; and a sentence for each that cannot be read."""
    paths = list(paths)
    said = list[str]()
    found = films(gather(paths), said.append)
    rolls = [t.facts for t in take(paths, say=lambda _: None) if t.facts.files or t.facts.beside]
    return found + rolls, said


def match(shots: Iterable[Shot], found: list[FileFacts]) -> list[Match]:
    """For each shot the offered file that is the same recording: its master, its proxy, or itself in a new place."""
    every = _takes(shots)
    shots = [takes[0] for takes in every.values()]  # takes of one recording are matched as one
    by_print = {f.fingerprint: f for f in found}
    healthy = {s.facts.path for s in shots if source_problem(s.facts) is None}
    linked = [
        Match(s.facts.path, path, "linked", "it is linked already")
        for s in shots
        if (path := next((f.path for f in found if f.path in {s.facts.path, *(p.path for t in every[s.facts.path] for p in t.parts)}), None))
    ]
    same = [
        Match(s.facts.path, by_print[s.facts.fingerprint].path, "matched", "it is the very same file")
        for s in shots
        if s.facts.path not in healthy and s.facts.fingerprint in by_print and by_print[s.facts.fingerprint].path != s.facts.path
    ]  # fmt: skip
    moved = {m.wanted for m in same}
    known = set(every) | {p.path for takes in every.values() for t in takes for p in t.parts}
    parts = [p for takes in every.values() for t in takes for p in t.parts if p.facts is not None]
    prints = {s.facts.fingerprint for s in shots} | {p.facts.fingerprint for p in parts if p.facts is not None and Path(p.path).exists()}
    rest = [f for f in found if f.path not in known and f.fingerprint not in prints]
    others = relink([s.facts for s in shots if s.facts.path not in moved], rest)
    by_path = {f.path: f for f in found}
    proved = [_proved(every[m.wanted], by_path[m.found], m) if m.state == "matched" and m.found else m for m in others]
    proved = [_as_it_was(every[m.wanted][0], m) if m.state != "matched" and m.wanted in healthy else m for m in proved]
    done = {m.wanted for m in linked}
    return same + [m for m in proved if m.state == "matched" or m.wanted not in done] + [
        m for m in linked if m.wanted not in moved | {p.wanted for p in proved if p.state == "matched"}
    ]  # fmt: skip


def _as_it_was(shot: Shot, match: Match) -> Match:
    """For a shot that needs nothing only what has a like name is offered; for a proxy whose master is to come, all that may be it."""
    like = any(likeness(match.wanted, c) >= ALIKE for c in (match.found, *match.candidates) if c is not None)
    if like or shot.route.read.master == "to come" or called_proxy(shot.facts.path):
        return match
    return msgspec.structs.replace(match, found=shot.facts.path, state="linked", why="its file is where it was")


def _takes(shots: Iterable[Shot]) -> dict[str, list[Shot]]:
    """A recording's shots, by its path."""
    of: dict[str, list[Shot]] = {}
    for shot in shots:
        of.setdefault(shot.facts.path, []).append(shot)
    return of


def _proved(takes: list[Shot], new: FileFacts, match: Match) -> Match:
    """A match by name, length and timecode, held against the pictures themselves on three frames."""
    shot = takes[0]
    piece = new.frames != shot.facts.frames or match.offset != 0
    if piece and (lack := _lack(takes, new, match.offset)):
        return msgspec.structs.replace(match, state="doubtful", why=f"{match.why}, but {lack}")
    shapes = [Fraction(f.raster[0], f.raster[1]) * (f.pixel_aspect or 1) for f in (shot.facts, new)]
    if not Fraction(98, 100) < shapes[0] / shapes[1] < Fraction(102, 100):
        (w, h), (x, y) = shot.facts.raster, new.raster
        why = f"{match.why}, but its shape is another: {x}×{y} against {w}×{h}"
        return msgspec.structs.replace(match, state="doubtful", why=why)
    try:
        guess = baked.compare(shot.facts, new, assumed_samples(shot.facts, shot.route.read), assumed_samples(new),
                              offset=match.offset)  # fmt: skip
    except (UnreadableError, OSError):
        state = "doubtful" if piece else match.state
        return msgspec.structs.replace(match, state=state, why=f"{match.why}; {Path(shot.facts.path).name} is not there to be compared")
    if guess.value == "other":
        return msgspec.structs.replace(match, state="doubtful", why=f"{match.why}, but {guess.saw}")
    return msgspec.structs.replace(match, why=f"{match.why}, and three frames show the same")


def _lack(takes: list[Shot], new: FileFacts, offset: int) -> str | None:
    """What a recording of other moments lacks of what the job's takes use; None if nothing."""
    if not _richer(new, takes[0].facts):
        return "a poorer copy of another length cannot stand in for it"
    for shot in takes:
        if not offset <= shot.start < shot.stop <= offset + new.frames:
            return f"{shot.name} uses frames {shot.start} to {shot.stop - 1}, of which it does not have all"
        if shifted(shot.route, offset, new) is None:
            return f"keyframes of {shot.name} lie outside it"
    return None


def shifted(route: Route, offset: int, new: FileFacts) -> Route | None:
    """The route for a recording that begins ``offset`` frames later and is as long as ``new``; None if keyframes fall outside."""
    shape, later = route.shape, float(offset / (new.rate or Fraction(25)))
    changes: dict[str, object] = {}
    for name in ("view", "moves"):
        path = getattr(shape, name)
        if path is None:
            continue
        one = len(path.keys) == 1  # it holds everywhere
        keys = tuple(msgspec.structs.replace(k, t=0.0 if one else round(k.t - later, 9)) for k in path.keys)
        if any(not -1e-6 <= k.t <= float(new.duration) for k in keys):
            return None
        changes[name] = records.to_plain(msgspec.structs.replace(path, keys=keys))
    for name in ("marks", "lengths"):
        moved = [msgspec.structs.replace(m, frame=m.frame - offset) for m in getattr(shape, name)]
        changes[name] = [records.to_plain(m) for m in moved if 0 <= m.frame < new.frames]
    return route.with_("shape", **changes)


DECLARED = ("curve", "primaries", "range", "matrix", "siting", "master")  # what holds of a proxy need not of its master


def _richer(new: FileFacts, old: FileFacts) -> bool:
    """Is it the master of the two? By pixels where they clearly differ, else by depth, chroma, and bits spent a second."""
    pixels = new.raster[0] * new.raster[1] / (old.raster[0] * old.raster[1])
    if not 0.8 < pixels < 1.25:
        return pixels > 1
    chroma = ("4:0:0", "4:2:0", "4:2:2", "4:4:4")

    def worth(f: FileFacts) -> tuple[int, int, float]:
        return f.bits, chroma.index(f.chroma) if f.chroma in chroma else 0, f.size / max(float(f.duration), 0.01)

    return worth(new) > worth(old)


def apply(job: Job, shots: Iterable[Shot], matches: list[Match], found: list[FileFacts]) -> list[Shot]:
    """Links what is matched, as one edit; doubtful and missing ones are left. Returns the shots that changed.

    A richer picture than the shot has becomes its master, and what it had its proxy; a poorer one becomes its proxy. A master
    of other moments brings in, out, marks and keyframes along; copies of the old moments are not linked any more.
    """
    by_path = {f.path: f for f in found}
    of = _takes(shots)
    changes: list[tuple[Shot, dict[str, object]]] = []
    for m, shot in ((found_, s) for found_ in matches for s in of.get(found_.wanted, ())):
        new = by_path.get(m.found or "")
        if m.state != "matched" or new is None:
            continue
        if new.fingerprint == shot.facts.fingerprint:
            changes.append((shot, {"facts": new}))
        elif new.frames != shot.facts.frames or m.offset:
            route = shifted(shot.route, m.offset, new)
            if route is None:
                continue
            marks = tuple(msgspec.structs.replace(k, frame=k.frame - m.offset) for k in shot.marks)
            changes.append((shot, {
                "facts": new, "start": shot.start - m.offset, "stop": shot.stop - m.offset, "route": _undeclared(route),
                "marks": tuple(k for k in marks if 0 <= k.frame < new.frames),
                "parts": tuple(p for p in shot.parts if p.role not in ("proxy", "intermediate")),
            }))  # fmt: skip
        elif _richer(new, shot.facts):
            parts = (*shot.parts, Part("proxy", shot.facts.path, shot.facts))
            changes.append((shot, {"facts": new, "parts": parts, "route": _undeclared(shot.route)}))
        else:
            changes.append((shot, {"parts": (*shot.parts, Part("proxy", new.path, new))}))
    if changes:
        job.set_files(changes, f"relink {len(changes)} {'shot' if len(changes) == 1 else 'shots'}")
    return job.shots([s.id for s, _ in changes])


def _undeclared(route: Route) -> Route:
    """What was declared of a proxy's samples is asked again of its master's."""
    return route.with_("read", **{name: None for name in DECLARED})


def look_of(shot: Shot, part: Part) -> Part:
    """The part with what comparing it with its master found."""
    assert part.facts is not None
    master = assumed_samples(shot.facts, shot.route.read)
    guess = baked.compare(shot.facts, part.facts, master, assumed_samples(part.facts))
    return msgspec.structs.replace(part, look=guess.value)


def look_at_parts(job: Job, shots: Iterable[Shot], say: Callable[[str], None] = lambda _: None) -> None:
    """Compares every proxy that has not been compared yet, and says which carry a look."""
    for shot in shots:
        parts = list(shot.parts)
        for i, part in enumerate(parts):
            if part.role == "proxy" and part.facts and part.look is None:
                try:
                    parts[i] = look_of(shot, part)
                except UnreadableError as error:
                    say(str(error))
                    continue
                if parts[i].look == "look":
                    say(f"{shot.name}: {Path(part.path).name} carries a look that its master does not have.")
        if parts != list(shot.parts):
            job.set_files([(shot, {"parts": tuple(parts)})], f"{shot.name}: proxies compared")
