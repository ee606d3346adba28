"""Files become shots: lens pairs, eye pairs, chapters, frame sequences, proxies and sound find their recording.

What names, numbers, folders, start times and timecodes agree on is done; where they disagree it is asked.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass, field
from fractions import Fraction
from itertools import pairwise
from pathlib import Path

import msgspec

from ..errors import AdzerError
from ..media import timecode
from ..media.filenames import copy_of, number, odd_token, paired, tokens
from ..media.probe import FileFacts
from ..media.stills import taken

FRAMES = {".dng", ".exr", ".tif", ".tiff", ".dpx"}
FILMS = {".mov", ".mp4", ".m4v", ".mkv", ".webm", ".mts", ".m2ts", ".ts", ".mpg", ".mpeg", ".m2v", ".mxf", ".avi", ".3gp", ".dv",
         ".y4m"}  # fmt: skip
STILLS = {".jpg", ".jpeg", ".png"}  # frames where many lie numbered beside each other, else what goes with other files
MANY = 12
SOUND = {".wav", ".bwf", ".aif", ".aiff", ".flac", ".mka"}
IGNORED = {".txt", ".xml", ".json", ".xxh128", ".md5", ".adzer", ".jpg", ".jpeg", ".png", ".thm", ".db", ".ini", ".pdf", ".toml", ".csv",
           ".gpx", ".srt"}  # fmt: skip
CLOCK = 2.0  # seconds that two cameras' clocks, or a file's date, may be off
HOLE = 25  # more missing frames than that in a row may be the end of one recording and the start of another


class Doubt(msgspec.Struct, frozen=True):
    """A question about files: do ``paths`` belong to this shot, as ``kind`` (lens pair · eye pair · chapters · sequence)?"""

    kind: str
    paths: tuple[str, ...]
    ask: str


@dataclass
class Group:
    """One shot-to-be. ``files``: its own recording (several: chapters); ``second``: the rear lens or the right eye."""

    kind: str
    files: list[FileFacts]
    why: str = ""
    second: FileFacts | None = None
    proxies: list[FileFacts] = field(default_factory=list)
    sounds: list[str] = field(default_factory=list)
    doubts: list[Doubt] = field(default_factory=list)

    @property
    def first(self) -> FileFacts:
        return self.files[0]


@dataclass(frozen=True)
class Sequence:
    """Numbered frames in one folder. ``missing``: numbers left out between the first and the last."""

    files: tuple[Path, ...]
    numbers: tuple[int, ...]
    name: str

    @property
    def missing(self) -> tuple[int, ...]:
        return tuple(n for a, b in pairwise(self.numbers) for n in range(a + 1, b))

    @property
    def holes(self) -> list[tuple[int, int]]:
        """Gaps so long that they may part two recordings: (first, last) missing number."""
        return [(a + 1, b - 1) for a, b in pairwise(self.numbers) if b - a - 1 > HOLE]

    @property
    def stills(self) -> bool:
        return self.files[0].suffix.lower() in STILLS

    def by_time(self) -> tuple[Sequence, bool]:
        """In the order in which they were taken, if all say when and it is another: counters start again after their last number. And are some
        that say so taken at uneven times, as single pictures are?"""
        if not self.stills and not self.holes:
            return self, False
        times = [taken(f) for f in self.files]
        known = [t for t in times if t is not None]
        if len(known) < len(times):
            return self, False
        order = sorted(range(len(known)), key=lambda n: (known[n], self.numbers[n]))
        steps = sorted(b - a for a, b in pairwise(sorted(known)))
        uneven = bool(steps) and steps[-max(1, len(steps) // 8)] > 3 * max(steps[len(steps) // 2], 1.0)
        return Sequence(tuple(self.files[n] for n in order), tuple(self.numbers[n] for n in order), self.name), uneven and self.stills


@dataclass(frozen=True)
class Sorted:
    """Paths by what they may be: frame sequences, films, sound; and what lay in folders without looking like any of them."""

    sequences: tuple[Sequence, ...]
    films: tuple[Path, ...]
    sounds: tuple[Path, ...]
    others: tuple[Path, ...] = ()


def _no_footage(part: str) -> bool:
    """Hidden files and folders, and what is being rendered."""
    return part.startswith(".") or part.endswith(".parts")


def gather(paths: Iterable[str | Path]) -> Sorted:
    """Files and everything in folders, links and hidden files left out, sorted by kind."""
    found: list[Path] = []
    named: set[Path] = set()
    for each in map(Path, paths):
        if each.is_dir():
            inside = (p for p in each.rglob("*") if p.is_file() and not p.is_symlink())
            found += [p for p in sorted(inside) if not any(_no_footage(part) for part in p.relative_to(each).parts)]
        else:
            found.append(each)
            named.add(each)
    frames: dict[tuple[Path, str, str, int], list[tuple[int, Path]]] = defaultdict(list)
    films, sounds, others = [], [], []
    for path in dict.fromkeys(found):
        ending = path.suffix.lower()
        match = re.fullmatch(r"(.*?)(\d+)", path.stem)
        if ending in FRAMES | STILLS and match:
            width = len(match[2]) if match[2].startswith("0") else 0
            frames[path.parent, match[1], ending, width].append((int(match[2]), path))
        elif ending in SOUND:
            sounds.append(path)
        elif ending in FILMS or path in named:
            films.append(path)
        elif ending not in IGNORED:
            others.append(path)
    # Numbers without leading zeros belong to the padded ones of the same width: 0998, 0999, 1000.
    for key in [k for k in frames if k[3] == 0]:
        for padded in [k for k in frames if k[:3] == key[:3] and k[3]]:
            moved = [f for f in frames[key] if len(str(f[0])) == padded[3]]
            frames[padded] += moved
            frames[key] = [f for f in frames[key] if f not in moved]
    sequences = []
    frames_or_films = {(p.parent, p.stem.lower()) for p in found if p.suffix.lower() in FRAMES | FILMS}
    for (folder, stem, ending, _), members in frames.items():
        beside = any((p.parent, p.stem.lower()) in frames_or_films for _, p in members)  # the same picture, small
        if ending in STILLS and (len(members) < MANY or beside):
            films += [p for _, p in members if p in named]
        elif members:
            members.sort()
            numbers, files = zip(*members, strict=True)
            sequences.append(Sequence(tuple(files), tuple(numbers), stem.rstrip("._- ") or folder.name))
    return Sorted(tuple(sequences), tuple(films), tuple(sounds), tuple(others))


# --- times -------------------------------------------------------------------------------------------------------
def _apart(a: FileFacts, b: FileFacts) -> float | None:
    """Seconds from the start of ``a`` to the start of ``b``: by timecode if both have one, else by clock."""
    if a.timecode and b.timecode and a.rate and a.rate == b.rate:
        try:
            return float((timecode.to_frames(b.timecode, a.rate) - timecode.to_frames(a.timecode, a.rate)) / a.rate)
        except AdzerError:
            pass
    return b.created - a.created if a.created is not None and b.created is not None else None


def _alike(a: FileFacts, b: FileFacts) -> bool:
    """Could one camera, or two of a kind, have recorded both in one mode?"""
    return (a.raster, a.codec, a.pix_fmt, a.constant_rate) == (b.raster, b.codec, b.pix_fmt, b.constant_rate) and (
        a.rate == b.rate or not a.constant_rate
    )


def _as_long(a: FileFacts, b: FileFacts) -> bool:
    return abs(a.frames - b.frames) <= max(3, 0.01 * a.frames)


# --- grouping ----------------------------------------------------------------------------------------------------
def group(films: Iterable[FileFacts], sounds: Iterable[str] = ()) -> list[Group]:
    """Shots made of films and sounds, in the order of their names."""
    rest = sorted(films, key=lambda f: f.path)
    rest, proxies, perhaps = _take_proxies(rest)
    groups = _chapters(rest)
    groups = _pairs(groups)
    _give_proxies(groups, proxies, perhaps)
    _give_sounds(groups, list(sounds))
    return groups


def _take_proxies(films: list[FileFacts]) -> tuple[list[FileFacts], list[tuple[FileFacts, FileFacts]], list[tuple[FileFacts, FileFacts]]]:
    """Small copies beside their masters: the same moment and rate, a like name, fewer pixels, as long or a frame more or less. What is left;
    (copy, master) pairs; and those of which only letters that are glued on say so, and no clock."""
    by_length: dict[tuple[int, Fraction | None], list[FileFacts]] = defaultdict(list)
    for f in films:
        by_length[f.frames, f.rate].append(f)
    sure: dict[str, FileFacts] = {}
    perhaps: list[tuple[FileFacts, FileFacts]] = []
    for small in films:
        area = small.raster[0] * small.raster[1] / 0.6
        for longer in (0, 1, -1):
            larger = [
                (big, by_name) for big in by_length.get((small.frames + longer, small.rate), ())
                if area < big.raster[0] * big.raster[1] and small.timecode == big.timecode and (by_name := copy_of(small.path, big.path)) is not False
            ]  # fmt: skip
            if larger:
                break
        named = [big for big, by_name in larger if by_name or _began_together(small, big)]
        if len(named) == 1:
            sure[small.path] = named[0]
        elif len(larger) == 1:
            perhaps.append((small, larger[0][0]))
    pairs = [(f, sure[f.path]) for f in films if f.path in sure]
    return [f for f in films if f.path not in sure], pairs, perhaps


def _began_together(a: FileFacts, b: FileFacts) -> bool:
    return bool(a.timecode) or (a.created is not None and b.created is not None and abs(a.created - b.created) <= CLOCK)


def _give_proxies(groups: list[Group], proxies: list[tuple[FileFacts, FileFacts]], perhaps: list[tuple[FileFacts, FileFacts]]) -> None:
    of = {f.path: g for g in groups for f in g.files}
    for small, big in proxies:
        if big.path in of:
            of[big.path].proxies.append(small)
    for small, big in perhaps:
        if big.path in of:
            ask = f"{small.name} is as long as {big.name} and named nearly like it, but no clock says that they began together. Is it its proxy?"
            of[big.path].doubts.append(Doubt("proxy", (small.path,), ask))


def _chapters(films: list[FileFacts]) -> list[Group]:
    """Recordings that a camera cut into pieces: each begins where the one before ended."""
    groups: list[Group] = []
    used: set[str] = set()
    by_place = sorted(films, key=lambda f: (str(Path(f.path).parent), tokens(Path(f.path).stem)))
    for start in by_place:
        if start.path in used:
            continue
        made = Group("film", [start])
        used.add(start.path)
        while (step := _next_piece(made.files, films, used)) is not None:
            piece, sure, why = step
            if not sure:
                made.doubts.append(Doubt("chapters", (piece.path,), why))
                break
            made.kind, made.why = "chapters", why
            made.files.append(piece)
            used.add(piece.path)
        groups.append(made)
    return groups


def _next_piece(files: list[FileFacts], films: list[FileFacts], used: set[str]) -> tuple[FileFacts, bool, str] | None:
    last = files[-1]
    for other in films:
        if (
            other.path in used
            or not _alike(last, other)
            or Path(other.path).suffix.lower() != Path(last.path).suffix.lower()
        ):
            continue
        odd = odd_token(tokens(Path(last.path).stem), tokens(Path(other.path).stem))
        follows = odd is not None and odd[0].isdigit() and odd[1].isdigit() and int(odd[1]) == int(odd[0]) + 1
        begins = _apart(last, other)
        if begins is None:
            continue
        length = float(last.duration)
        by_code = bool(last.timecode and other.timecode)
        exact = (
            abs(begins - length) < 0.5 / float(last.rate or 25)
            if by_code
            else length > 4 and abs(begins - length) < 1.2
        )
        # A file's date is the start of its recording or the end of its writing, by camera.
        lengths = (length, float(other.duration))
        clock = last.created is not None and other.created is not None and any(
            abs(other.created - last.created - step) < CLOCK + 1 for step in lengths
        )  # fmt: skip
        if not exact or last.frames < 2:
            continue
        names = f"{last.name} and {other.name}"
        how = "its timecode" if by_code else "its start time"
        same_number = follows and len(tokens(Path(last.path).stem)) > 2
        if follows and clock and (by_code or same_number):
            return other, True, f"{other.name} begins where {last.name} ends, by {how}, and is numbered after it"
        if clock and (follows or by_code):
            return other, False, f"{names}: the second begins where the first ends, by {how}. Are they one recording?"
    return None


def _pairs(groups: list[Group]) -> list[Group]:
    taken: set[int] = set()
    out: list[Group] = []
    by_core: dict[tuple[object, ...], list[int]] = defaultdict(list)
    for i, g in enumerate(groups):
        by_core[g.first.raster, g.first.rate, len(g.files), number(g.first.path)].append(i)
    for i, a in enumerate(groups):
        if i in taken:
            continue
        for j in by_core[a.first.raster, a.first.rate, len(a.files), number(a.first.path)]:
            b = groups[j]
            if j == i or j in taken or not _alike(a.first, b.first):
                continue
            named = paired(a.first.path, b.first.path)
            apart = _apart(a.first, b.first)
            if named is None:
                if _same_number_elsewhere(a, b, apart):
                    a.doubts.append(Doubt("eye pair", (b.first.path,), (
                        f"{a.first.name} in {Path(a.first.path).parent.name} and {b.first.name} in {Path(b.first.path).parent.name} "
                        "have one number, one length and began together. Are they two eyes?")))  # fmt: skip
                continue
            kind, main, other = named.kind, *((a, b) if named.first else (b, a))
            if not named.sure and not _as_long(a.first, b.first):
                continue
            if _as_long(a.first, b.first) and (abs(apart) <= CLOCK if apart is not None else named.sure):
                main.kind, main.second = kind, other.first
                main.why = (
                    f"{main.first.name} and {other.first.name} differ by one word, are as long and began together"
                )
                taken |= {i, j}
                out.append(main)
                break
            together = "began together" if abs(apart or 0) <= CLOCK else f"began {abs(apart or 0):.1f} s apart"
            began = "no clock says when they began" if apart is None else together
            long, other_long = main.first.frames, other.first.frames
            frames = f"{long} frames each" if long == other_long else f"{long} and {other_long} frames"
            main.doubts.append(Doubt(kind, (other.first.path,), (
                f"{main.first.name} and {other.first.name} are named like a pair, but {began}, and have {frames}. "
                "Do they belong together?")))  # fmt: skip
        if i not in taken:
            taken.add(i)
            out.append(a)
    return sorted(out, key=lambda g: g.first.path)


def _same_number_elsewhere(a: Group, b: Group, apart: float | None) -> bool:
    """Two folders, the same number, the same length, the same moment: perhaps two eyes, perhaps two cameras."""
    pa, pb = Path(a.first.path), Path(b.first.path)
    return (
        str(pa) < str(pb) and pa.parent != pb.parent and tokens(pa.stem)[-1:] == tokens(pb.stem)[-1:]
        and tokens(pa.stem)[-1:] != [] and apart is not None and abs(apart) < 0.5 and _as_long(a.first, b.first)
        and bool(a.first.timecode and b.first.timecode)
    )  # fmt: skip


def _give_sounds(groups: list[Group], sounds: list[str]) -> None:
    for sound in sounds:
        name = tokens(Path(sound).stem)
        mine = [g for g in groups if tokens(Path(g.first.path).stem) == name]
        if len(mine) != 1:
            longest = [g for g in groups if (t := tokens(Path(g.first.path).stem)) and name[: len(t)] == t]
            mine = longest if len(mine) == 0 else [g for g in mine if Path(g.first.path).parent == Path(sound).parent]
        if len(mine) == 1:
            mine[0].sounds.append(sound)
