"""Several files that are one recording.

A ``Source`` is what every opener in ``media`` takes: a single file's path, a ``Stream`` of one, or a ``Roll`` of files that follow each other.
"""

from __future__ import annotations

import io
from fractions import Fraction
from pathlib import Path

import av
import av.container
import msgspec


class Roll(msgspec.Struct, frozen=True):
    """Files in their order, each with how long its pictures last, in seconds."""

    files: tuple[str, ...]
    seconds: tuple[Fraction, ...]

    @property
    def name(self) -> str:
        return Path(self.files[0]).name

    def __str__(self) -> str:
        return self.files[0]

    def script(self) -> bytes:
        """The list that the library's joining reader takes; a quote in a name is closed, escaped and opened again."""
        lines = ["ffconcat version 1.0"]
        for file, seconds in zip(self.files, self.seconds, strict=True):
            quoted = file.replace("'", "'\\''")
            lines += [f"file '{quoted}'", f"duration {float(seconds):.6f}"]
        return "\n".join(lines).encode("utf-8", "surrogateescape") + b"\n"

    def open(self, options: dict[str, str], patience: float) -> av.container.InputContainer:
        """``options``: which containers and protocols its files may be of; ``patience``: seconds to wait for each next piece."""
        return av.open(io.BytesIO(self.script()), "r", format="concat", options=options | {"safe": "0"}, timeout=patience)


class Stream(msgspec.Struct, frozen=True):
    """One picture track of a file, counted from 0, from its frame ``start`` on."""

    file: str
    track: int = 0
    start: int = 0

    @property
    def name(self) -> str:
        return Path(self.file).name

    def __str__(self) -> str:
        return self.file

    @property
    def plain(self) -> Path | Stream:
        """As its file alone, where that says the same."""
        return self if self.track or self.start else Path(self.file)


Source = Path | Roll | Stream
Sources = tuple[Source, ...]  # one; or of two lenses or eyes, whose pictures lie side by side when they are looked at as one


def track_of(source: Source) -> int:
    """Which of its file's pictures is meant."""
    return source.track if isinstance(source, Stream) else 0


def start_of(source: Source) -> int:
    """The frame of its file that is its own first one."""
    return source.start if isinstance(source, Stream) else 0


def first_path(source: Source) -> Path:
    return all_paths(source)[0]


def all_paths(source: Source) -> list[Path]:
    if isinstance(source, Path):
        return [source]
    return [Path(f) for f in (source.files if isinstance(source, Roll) else (source.file,))]


def total_size(source: Source) -> int:
    """Bytes of all files together. OSError if one is gone."""
    return sum(p.stat().st_size for p in all_paths(source))
