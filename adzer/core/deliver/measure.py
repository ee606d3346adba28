"""What is laid over a delivery, as its file says."""

from __future__ import annotations

from pathlib import Path

from .. import records
from ..errors import AdzerError
from ..media import still
from .settings import Laid

WORDS = {"x": "x", "y": "y", "wide": "wide", "from": "start", "to": "stop", "fade": "fade", "nearer": "nearer"}


def laid(file: str | Path, **answers: float | None) -> Laid:
    """A picture as it is now, to be laid over. UnreadableError if it is none, or an answer is out of bounds."""
    path = Path(file).absolute()
    w, h = still.shape(path)
    plain = {"file": str(path), "print": still.print_of(path), "shape": w / h, **answers}
    return records.from_plain(plain, Laid, f"What is laid over ({path.name})")


def told(text: str) -> Laid:
    """From ``FILE,x=0.5,y=0.85,wide=0.5,from=1,to=4,fade=0.5,nearer=0.4``, of which only the file must be there. AdzerError says what is
    wrong."""
    file, *given = text.split(",")
    answers: dict[str, float | None] = {}
    for word in given:
        name, _, value = word.partition("=")
        try:
            answers[WORDS[name.strip()]] = float(value)
        except (KeyError, ValueError):
            raise AdzerError(f"{word!r}: write it as NAME=NUMBER after the file, names being {', '.join(WORDS)}.") from None
    return laid(file, **answers)
