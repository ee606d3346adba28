"""What a file tells players of sphere and eyes: as the media library's own reader says, which shares nothing with ``boxes``; what players
then show; and, in words, what an upload form must be told."""

from __future__ import annotations

import struct
from pathlib import Path
from typing import Any

import av
import msgspec

from ..errors import UnreadableError
from . import boxes, probe
from .boxes import SphereTags


class Told(msgspec.Struct, frozen=True):
    """``tags``: of the file as our reader finds them; ``projection``, ``bounds`` (share cut off at top, bottom, left, right), ``eyes`` and
    ``first``: of the first frame, as the media library does. ``knowing`` and ``others``: what players show that heed them, and that do not."""

    tags: SphereTags | None
    projection: str | None
    bounds: tuple[float, float, float, float] | None
    eyes: str | None
    first: str | None
    knowing: str
    others: str

    @property
    def words(self) -> list[str]:
        made = [] if self.projection is None else [f"{self.projection} without {self.bounds}"]
        return made + ([] if self.eyes is None else [self.eyes + (", right first" if self.first == "right" else "")])


def told(path: Path) -> Told:
    """UnreadableError if it is no recording."""
    with probe.open_container(path) as container:
        try:
            frame = next(container.decode(video=0), None)
        except av.FFmpegError as error:
            raise UnreadableError(f"{path}: its first picture cannot be decoded ({error.strerror}).") from None
    notes: Any = () if frame is None else frame.side_data
    held = {note.type.name: bytes(note) for note in notes}
    projection = bounds = eyes = first = None
    if (mapping := held.get("SPHERICAL")) is not None and len(mapping) >= 32:  # AVSphericalMapping
        kind, _, _, _, left, top, right, bottom = struct.unpack_from("=I3i4I", mapping)
        projection = {0: "equirectangular", 1: "cube map", 2: "equirectangular"}.get(kind, "another projection")
        cut = [round(v / 2**32, 3) for v in (top, bottom, left, right)]
        bounds = (cut[0], cut[1], cut[2], cut[3])
    if (stereo := held.get("STEREO3D")) is not None and len(stereo) >= 8:  # AVStereo3D
        number, flags = struct.unpack_from("=2i", stereo)
        eyes = {0: "one", 1: "side by side", 2: "over under"}.get(number, "other eyes")
        first = None if eyes == "one" else "right" if flags & 1 else "left"
    return Told(boxes.read(path), projection, bounds, eyes, first, *_shown(projection, bounds, eyes, first))


def _shown(
    projection: str | None, bounds: tuple[float, float, float, float] | None, eyes: str | None, first: str | None
) -> tuple[str, str]:
    two = eyes not in (None, "one")
    other = {"left": "right", "right": "left"}.get(first or "")
    packed = f"two pictures {eyes}, of which the {'left' if eyes == 'side by side' else 'upper'} one is for the {first} eye" if two else ""
    if projection is None:
        return (f"in depth: {packed}" if two else "a flat picture"), (packed or "a flat picture")
    across = 360 * (1 - (bounds[2] + bounds[3] if bounds else 0))
    looks = f"a picture to look around in, {across:.0f}° wide" + (f", in depth: the {first} eye's and the {other} eye's" if two else "")
    return looks, "a stretched rectangle" + (f", or {packed}" if two else "")


def sheet(tags: SphereTags | None, packed: tuple[str, str] | None, raster: tuple[int, int], half: bool) -> str:
    """What somebody must be told who takes the master and does not read its tags."""
    eyes, first = (tags.eyes, tags.first) if tags is not None else packed or (None, None)
    lines = [f"Raster: {raster[0]} × {raster[1]}"]
    if tags is not None and tags.projection:
        across = 360 * (1 - tags.bounds[2] - tags.bounds[3])
        lines += [f"Projection: {tags.projection}", f"Shows: {across:.0f}° across, {180 * (1 - tags.bounds[0] - tags.bounds[1]):.0f}° high"]
    else:
        lines += ["Projection: none, a flat picture"]
    if eyes in (None, "one"):
        lines += ["Eyes: one (not stereoscopic)"]
    else:
        lies = {"side by side": "left", "over under": "upper"}[eyes or ""]
        lines += [
            f"Eyes: two, {eyes}", f"First eye: the {first} one, in the {lies} half",
            f"Each eye: {'squeezed into its half' if half else 'at its full size'}",
        ]  # fmt: skip
    said = [word for word, there in (("by its container", tags), ("by its pictures", packed)) if there]
    lines += ["In the file itself: " + (", ".join(said) or "nothing says so")]
    return "\n".join(lines) + "\n"
