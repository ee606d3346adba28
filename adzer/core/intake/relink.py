"""Which proxy belongs to which master, whichever way names were changed.

What the camera wrote decides first: source timecode, frame count and rate. Where that leaves more than one, or there is
no timecode, start time and then the names' likeness. What is not certain is said to be doubtful and never done in silence.
A recording of another length is matched by timecode alone: as a piece of the wanted one, or one that it is a piece of.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable
from pathlib import Path

import msgspec

from ..errors import AdzerError
from ..media import timecode
from ..media.probe import FileFacts

CLOCK = 2.0
SHORTEST = 8  # frames that a piece must have in common with what it is a piece of
ALIKE, CLEAR = 0.5, 0.12  # names at least so alike, and by so much more than the next


class Match(msgspec.Struct, frozen=True):
    """``state`` matched · doubtful · missing · linked (already). ``candidates``: what else it could be; ``why``: the reason, as a clause.
    ``offset``: the wanted recording's frame at which the found one begins, where it is of another length or start."""

    wanted: str
    found: str | None
    state: str
    why: str
    candidates: tuple[str, ...] = ()
    offset: int = 0


def relink(wanted: Iterable[FileFacts], offered: Iterable[FileFacts]) -> list[Match]:
    """For each wanted recording the offered one that is the same moments. Each is given away once."""
    wanted, offered = list(wanted), list(offered)
    by_time: dict[tuple[object, ...], list[FileFacts]] = defaultdict(list)
    by_length: dict[tuple[object, ...], list[FileFacts]] = defaultdict(list)
    for f in offered:
        by_time[f.timecode, f.frames, f.rate].append(f)
        by_length[f.frames, f.rate].append(f)
    chosen: dict[str, tuple[FileFacts | None, str, str, list[FileFacts]]] = {}
    for w in wanted:
        same = by_time[w.timecode, w.frames, w.rate] if w.timecode else []
        how = "timecode, length and rate agree"
        if not same:
            fitting = by_length[w.frames, w.rate]
            # A timecode that disagrees speaks against it; one that was lost does not.
            same = [f for f in fitting if not (w.timecode and f.timecode)]
            how = "length and rate agree, there is no timecode to compare"
        chosen[w.path] = _choose(w, same, how)
    claims: dict[str, list[str]] = defaultdict(list)
    for path, (found, *_) in chosen.items():
        if found is not None:
            claims[found.path].append(path)
    out = []
    for w in wanted:
        found, state, why, others = chosen[w.path]
        names = tuple(f.path for f in others if found is None or f.path != found.path)
        if found is not None and len(claims[found.path]) > 1:
            rivals = ", ".join(Path(p).name for p in claims[found.path] if p != w.path)
            state, why = "doubtful", f"{why}; {rivals} fits {Path(found.path).name} as well"
        offset = 0
        if found is None and not others and (pieces := _pieces(w, offered)):
            state, names, offset = "doubtful", tuple(f.path for f, _ in pieces), pieces[0][1]
            why = f"{len(pieces)} recordings hold a piece of it, by timecode"
            if len(pieces) == 1:
                why = _piece_text(w, *pieces[0])
                if likeness(w.path, pieces[0][0].path) >= ALIKE:
                    found, state, names = pieces[0][0], "matched", ()
                else:  # another camera on the same clock would say so, too
                    why = f"{why}, but the names are not alike"
        elif found is None and not others:
            lengths = [f for f in offered if likeness(w.path, f.path) > 0.8 and f.frames != w.frames]
            if lengths:
                why = f"{Path(lengths[0].path).name} has a like name, but {lengths[0].frames} frames instead of {w.frames}"
        out.append(Match(w.path, found.path if found else None, state, why, names, offset))
    return out


def _pieces(w: FileFacts, offered: list[FileFacts]) -> list[tuple[FileFacts, int]]:
    """Recordings whose timecode says that they hold a good part of the wanted one's moments, and where in it they begin."""
    if not w.timecode or not w.rate:
        return []
    found = []
    for f in offered:
        if not f.timecode or f.rate != w.rate or not (w.constant_rate and f.constant_rate):
            continue
        try:
            offset = timecode.to_frames(f.timecode, w.rate) - timecode.to_frames(w.timecode, w.rate)
        except AdzerError:
            continue
        both = min(w.frames, offset + f.frames) - max(0, offset)
        if both >= max(SHORTEST, 0.5 * min(w.frames, f.frames)):
            found.append((f, offset))
    named = [p for p in found if likeness(w.path, p[0].path) >= ALIKE]
    return named or found


def _piece_text(w: FileFacts, f: FileFacts, offset: int) -> str:
    both = min(w.frames, offset + f.frames) - max(0, offset)
    where = f"begins at its frame {offset}" if offset >= 0 else f"begins {-offset} frames before it"
    return f"by timecode it {where} and holds {both} of its {w.frames} frames"


def _choose(w: FileFacts, same: list[FileFacts], how: str) -> tuple[FileFacts | None, str, str, list[FileFacts]]:
    """(found, state, why, all that fit)"""
    if not same:
        return None, "missing", "nothing of its length, rate and timecode is there", []
    by_code = how.startswith("timecode")
    if len(same) == 1 and by_code:
        return same[0], "matched", how, same
    clock = [f for f in same if w.created is not None and f.created is not None and abs(f.created - w.created) <= CLOCK]
    if len(clock) == 1 and (by_code or likeness(w.path, clock[0].path) >= ALIKE):
        return clock[0], "matched", f"{how}, and it was begun at the same time", same
    pool = clock or same
    ranked = sorted(((likeness(w.path, f.path), f.path, f) for f in pool), key=lambda t: t[:2], reverse=True)
    best, second = ranked[0], ranked[1] if len(ranked) > 1 else (0.0, "", None)
    if best[0] >= ALIKE and best[0] - second[0] >= CLEAR:
        return best[2], "matched", f"{how}, and the names are {best[0]:.0%} alike", same
    if len(pool) == 1:
        return best[2], "doubtful", f"{how}, but the names are only {best[0]:.0%} alike", same
    return None, "doubtful", f"{len(pool)} recordings fit equally: {how}", same


def likeness(a: str, b: str) -> float:
    """How alike two file names are, 0–1: numbers in common count most, then pairs of neighbouring letters."""
    na, nb = Path(a).stem.lower(), Path(b).stem.lower()
    numbers_a, numbers_b = (re.findall(r"\d+", n) for n in (na, nb))
    shared = len(set(numbers_a) & set(numbers_b)) / max(min(len(set(numbers_a)), len(set(numbers_b))), 1)
    pairs_a, pairs_b = _pairs(na), _pairs(nb)
    letters = len(pairs_a & pairs_b) / max(min(len(pairs_a), len(pairs_b)), 1)
    if na == nb:
        return 1.0
    return min(0.99, 0.6 * shared + 0.4 * letters) if numbers_a and numbers_b else 0.9 * letters


def _pairs(name: str) -> set[str]:
    kept = re.sub(r"[^a-z0-9]+", "", name)
    return {kept[i : i + 2] for i in range(len(kept) - 1)} or {kept}


def report_text(matches: list[Match]) -> str:
    """The report, for people."""
    lines = []
    for state in ("missing", "doubtful", "matched", "linked"):
        rows = [m for m in matches if m.state == state]
        if rows:
            lines.append(f"{len(rows)} {state}" + (" already" if state == "linked" else ""))
        for m in rows:
            target = Path(m.found).name if m.found else " or ".join(Path(c).name for c in m.candidates[:3]) or "–"
            lines.append(f"  {Path(m.wanted).name} → {target}: {m.why}")
    return "\n".join(lines)
