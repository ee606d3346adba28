"""Several files that are one recording, opened as one: a roll, one after another; a pair of lenses, side by side.

A ``Source`` is what every opener in ``media`` takes: a single file's path, a ``Roll`` or a ``Pair``.
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


class Pair(msgspec.Struct, frozen=True):
    """Two lenses recorded at once to files of the same kind: the second's pictures lie to the right of the first's."""

    files: tuple[str, str]

    @property
    def name(self) -> str:
        return Path(self.files[0]).name

    def __str__(self) -> str:
        return self.files[0]


Source = Path | Roll | Pair


def first_path(source: Source) -> Path:
    return source if isinstance(source, Path) else Path(source.files[0])


def all_paths(source: Source) -> list[Path]:
    return [source] if isinstance(source, Path) else [Path(f) for f in source.files]


def total_size(source: Source) -> int:
    """Bytes of all files together. OSError if one is gone."""
    return sum(p.stat().st_size for p in all_paths(source))
