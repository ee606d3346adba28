"""The one exception that people see: a sentence that names the thing and says what to do now."""

from __future__ import annotations

import unicodedata


class AdzerError(Exception):
    """Bad input or a machine that will not do what was asked.

    The message is a complete sentence for the person: what happened, to which file, and what now.
    """


class UnreadableError(AdzerError):
    """A source, card or job file that cannot be read as what it claims to be."""


class Stopped(AdzerError):
    """A *stop* finding stands in the way of rendering."""


class RenderFailed(AdzerError):
    """A render that could not be finished or a master that failed its check."""


class DamagedError(RenderFailed):
    """Frames of a recording decode with errors. ``spans``: from, and up to which, of each run of frames; ``fingerprint``: of what."""

    def __init__(self, text: str, fingerprint: str, spans: tuple[tuple[int, int], ...]) -> None:
        super().__init__(text)
        self.fingerprint, self.spans = fingerprint, spans


class Cancelled(AdzerError):
    """The person stopped it; finished segments are kept."""


def shown(text: str) -> str:
    """A path for a sentence: bytes that are no text, and invisible characters, as question marks."""
    return "".join("?" if 0xDC80 <= ord(c) <= 0xDCFF or unicodedata.category(c) in ("Cc", "Cf") else c for c in text)


def as_text(path: str) -> str:
    """The path itself; UnreadableError if its bytes are no text, which no job, card or report can hold."""
    if any(0xDC80 <= ord(c) <= 0xDCFF for c in path):
        raise UnreadableError(f"{shown(path)}: its name is not text (UTF-8), so that no job can hold it. Rename it, or its folder.")
    return path
