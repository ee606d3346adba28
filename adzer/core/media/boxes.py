"""Sphere and eye metadata that the media library does not hand out: MP4 boxes of both published versions, and the
Matroska elements. Read here, and put into files that are whole already.

Version 1 is an XML text in a ``uuid`` box of the track; version 2 are the boxes ``st3d`` and ``sv3d`` in the sample
entry (ISO/IEC 14496-12 boxes). Matroska: RFC 9559, elements StereoMode 0x53B8 and Projection 0x7670.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

import msgspec

SPHERE_UUID = bytes.fromhex("ffcc8263f8554a938814587a02521fdd")
_INTO = {b"moov", b"trak", b"mdia", b"minf", b"stbl"}
_ENTRY_HEAD = 78  # a visual sample entry's own fields (14496-12, 12.1.3)
_MOST = 1 << 26  # a header larger than this is not one
STEREO_V2 = {0: "one", 1: "over under", 2: "side by side", 4: "side by side"}
STEREO_MKV = {0: ("one", None), 1: ("side by side", "left"), 2: ("over under", "right"), 3: ("over under", "left"),
              11: ("side by side", "right")}  # fmt: skip


class SphereTags(msgspec.Struct, frozen=True):
    """What a file says of sphere and eyes. ``bounds``: share cut off at top, bottom, left, right of the whole sphere."""

    form: str
    projection: str | None = None
    eyes: str | None = None
    first: str | None = None
    bounds: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0)

    @property
    def coverage(self) -> str | None:
        """``360`` or ``180``, by how much of the sphere's width is there."""
        if self.projection != "equirectangular":
            return None
        return "180" if 1 - self.bounds[2] - self.bounds[3] < 0.75 else "360"


def read(path: Path) -> SphereTags | None:
    """The tags of the first picture track that has some; None if there are none or the file is of another kind."""
    try:
        with path.open("rb") as file:
            head = file.read(12)
            if head[4:8] in (b"ftyp", b"moov", b"mdat", b"free", b"wide", b"skip"):
                return _mp4(_moov(path))
            if head[:4] == b"\x1a\x45\xdf\xa3":
                file.seek(0)
                return _matroska(file.read(1 << 20))
    except (OSError, struct.error, ValueError, IndexError, RecursionError):
        pass
    return None


# --- MP4 ---------------------------------------------------------------------------------------------------------
def _boxes(data: bytes | bytearray, start: int, stop: int) -> Iterator[tuple[bytes, int, int, int]]:
    """(kind, start, body, stop) of the boxes that lie whole between two places."""
    while start + 8 <= stop:
        size, kind = struct.unpack_from(">I4s", data, start)
        body = start + 8
        if size == 1 and start + 16 <= stop:
            size, body = struct.unpack_from(">Q", data, start + 8)[0], start + 16
        size = stop - start if size == 0 else size
        if size < body - start or start + size > stop:
            return
        yield kind, start, body, start + size
        start += size


def _outermost(file: BinaryIO, total: int) -> Iterator[tuple[bytes, int, int, int]]:
    """(kind, start, size, size as its first four bytes say it: 0 to the file's end, 1 further on) of a file's own boxes."""
    at = 0
    while at + 8 <= total:
        file.seek(at)
        head = file.read(16)
        said, kind = struct.unpack_from(">I4s", head)
        size = struct.unpack_from(">Q", head, 8)[0] if said == 1 else total - at if said == 0 else said
        if size < 8:
            return
        yield kind, at, size, said
        at += size


def _moov(path: Path) -> bytes:
    """The movie header's bytes, wherever it lies; empty if there is none."""
    with path.open("rb") as file:
        for kind, at, size, _ in _outermost(file, path.stat().st_size):
            if kind == b"moov" and size <= _MOST:
                file.seek(at)
                return file.read(size)
    return b""


def _walk(data: bytes, start: int, stop: int) -> Iterator[tuple[bytes, int, int]]:
    for kind, _, body, end in _boxes(data, start, stop):
        yield kind, body, end
        if kind in _INTO:
            yield from _walk(data, body, end)
        elif kind == b"stsd":
            for _, _, entry, entry_end in _boxes(data, body + 8, end):
                yield b"*entry", entry, entry_end
                yield from _walk(data, min(entry + _ENTRY_HEAD, entry_end), entry_end)
        elif kind in (b"sv3d", b"proj"):
            yield from _walk(data, body, end)


def _mp4(data: bytes) -> SphereTags | None:
    eyes = projection = first = None
    bounds = (0.0, 0.0, 0.0, 0.0)
    for kind, body, end in _walk(data, 0, len(data)):
        if kind == b"st3d" and end - body >= 5:
            mode = data[body + 4]
            eyes = STEREO_V2.get(mode)
            first = {1: "left", 2: "left", 4: "right"}.get(mode)
        elif kind == b"equi" and end - body >= 20:
            projection = "equirectangular"
            cut = struct.unpack_from(">4I", data, body + 4)
            bounds = (cut[0] / 2**32, cut[1] / 2**32, cut[2] / 2**32, cut[3] / 2**32)
        elif kind == b"cbmp":
            projection = "cube map"
        elif kind == b"mshp":
            projection = "mesh"
    if eyes or projection:
        return SphereTags("version 2 boxes", projection, eyes, first, bounds)
    for kind, body, end in _walk(data, 0, len(data)):
        if kind == b"uuid" and data[body : body + 16] == SPHERE_UUID:
            return _xml(data[body + 16 : end].decode("utf-8", "replace"))
    return None


def _xml(text: str) -> SphereTags | None:
    """Version 1: elements are known by their local names, whatever prefix they carry."""
    held = dict(re.findall(r"<(?:\w+:)?(\w+)>\s*([^<]*?)\s*(?=<)", text[:20000]))
    if held.get("Spherical", "").lower() != "true":
        return None
    eyes = {"left-right": "side by side", "top-bottom": "over under", "mono": "one"}.get(held.get("StereoMode", ""))
    bounds = (0.0, 0.0, 0.0, 0.0)
    try:
        full_w, full_h = int(held["FullPanoWidthPixels"]), int(held["FullPanoHeightPixels"])
        w, h = int(held["CroppedAreaImageWidthPixels"]), int(held["CroppedAreaImageHeightPixels"])
        left, top = int(held["CroppedAreaLeftPixels"]), int(held["CroppedAreaTopPixels"])
        if full_w > 0 and full_h > 0:
            bounds = (top / full_h, 1 - (top + h) / full_h, left / full_w, 1 - (left + w) / full_w)
    except (KeyError, ValueError):
        pass
    kind = held.get("ProjectionType", "equirectangular")
    return SphereTags("version 1 XML", kind, eyes or "one", "left" if eyes not in (None, "one") else None, bounds)


def _version_2(tags: SphereTags) -> bytes:
    """``st3d`` and ``sv3d`` for a sample entry."""

    def box(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I4s", 8 + len(body), kind) + body

    mode = {("over under", "left"): 1, ("side by side", "left"): 2, ("side by side", "right"): 4}
    made = box(b"st3d", bytes(4) + bytes([mode.get((tags.eyes or "", tags.first or "left"), 0)]))
    if tags.projection == "equirectangular":
        cut = struct.pack(">4I", *(min(int(b * 2**32), 2**32 - 1) for b in tags.bounds))
        proj = box(b"proj", box(b"prhd", bytes(16)) + box(b"equi", bytes(4) + cut))
        made += box(b"sv3d", box(b"svhd", bytes(4) + b"Adzer\0") + proj)
    return made


def _version_1(tags: SphereTags) -> bytes:
    """The prefix is the version's own, and what its readers look for; a part of a sphere is read in different ways, and not said."""
    stereo = {"side by side": "left-right", "over under": "top-bottom"}.get(tags.eyes or "", "mono")
    said = {"Spherical": "true", "Stitched": "true", "StitchingSoftware": "Adzer", "ProjectionType": tags.projection, "StereoMode": stereo}
    text = (
        "<?xml version='1.0'?><rdf:SphericalVideo xmlns:rdf='urn:rdf' xmlns:GSpherical='urn:spherical-video'>"
        + "".join(f"<GSpherical:{name}>{value}</GSpherical:{name}>" for name, value in said.items()) + "</rdf:SphericalVideo>"
    ).encode()
    return struct.pack(">I4s", 24 + len(text), b"uuid") + SPHERE_UUID + text


def put_into_mp4(path: Path, tags: SphereTags, versions: tuple[int, ...] = (2,)) -> None:
    """Adds the tags to the first picture track of a finished MP4 or MOV. Only the movie header is read and written: into the free room
    behind it, or, where there is none, to the file's end, what was there becoming free room. The media's bytes stay where they are, and so
    do all offsets to them. ValueError if there is no such track, or a box says no size of its own."""
    total = path.stat().st_size
    with path.open("r+b") as file:
        at, size, behind = _header_place(file, total)
        file.seek(at)
        header = bytearray(file.read(size))
        for version in versions:
            _grow(header, _version_2(tags) if version == 2 else _version_1(tags), version == 2)
        more = len(header) - size
        if at + size == total:  # nothing lies behind it
            file.seek(at)
            file.write(header)
        elif behind == more or behind >= more + 8:
            file.seek(at)
            file.write(header)
            if behind > more:
                file.write(struct.pack(">I4s", behind - more, b"free"))
        else:
            file.seek(total)
            file.write(header)
            file.seek(at + 4)
            file.write(b"free")


def _header_place(file: BinaryIO, total: int) -> tuple[int, int, int]:
    """Where the movie header lies, its size, and the size of the free box right behind it. ValueError if there is none."""
    found: tuple[int, int] | None = None
    behind = last = 0
    for kind, at, size, said in _outermost(file, total):
        if said == 0 or at + size > total or (kind == b"moov" and (said == 1 or size > _MOST)):
            raise ValueError(f"there is no saying where its {kind.decode('latin-1')} ends")
        if found is None and kind == b"moov":
            found, last = (at, size), at + size
        elif found is not None and at == last and kind in (b"free", b"skip") and said != 1:
            behind = size
    if found is None:
        raise ValueError("there is no movie header")
    return *found, behind


def _grow(header: bytearray, more: bytes, entry: bool) -> None:
    """Puts boxes at the end of the first picture track, or of its sample entry, in a movie header; all boxes around grow."""
    trail = [0]
    place = 0
    for kind, start, inner, stop in _boxes(header, 8, len(header)):
        if kind == b"trak" and _of_pictures(header, inner, stop):
            trail.append(start)
            place = stop
            if entry:
                for name in (b"mdia", b"minf", b"stbl", b"stsd"):
                    found = next(((s, i, e) for k, s, i, e in _boxes(header, inner, stop) if k == name), None)
                    if found is None:
                        raise ValueError(f"there is no {name.decode()} in its picture track")
                    start, inner, stop = found
                    trail.append(start)
                _, start, inner, stop = next(_boxes(header, inner + 8, stop), (b"", 0, 0, 0))
                trail.append(start)
                place = min(inner + _ENTRY_HEAD, stop)
                while place + 8 <= stop and (size := struct.unpack_from(">I", header, place)[0]) >= 8:
                    place += size  # some writers end the entry's own boxes with a size of 0
            break
    if not place:
        raise ValueError("there is no picture track")
    for box in trail:
        struct.pack_into(">I", header, box, struct.unpack_from(">I", header, box)[0] + len(more))
    header[place:place] = more


def _of_pictures(header: bytearray, start: int, stop: int) -> bool:
    """Does a track's handler say that it shows pictures (14496-12, 8.4.3)?"""
    return any(kind == b"hdlr" and header[body + 8 : body + 12] == b"vide" for kind, body, _ in _walk(bytes(header), start, stop))


# --- Matroska ----------------------------------------------------------------------------------------------------
_MASTERS = {0x18538067, 0x1654AE6B, 0xAE, 0xE0, 0x7670, 0x55B0}  # Segment, Tracks, TrackEntry, Video, Projection, Colour


def _number(data: bytes, at: int, keep: bool) -> tuple[int, int]:
    """A variable-length number and where it ends; its marker bit stays for an ID."""
    first = data[at]
    length = 9 - first.bit_length() if first else 9
    if length > 8:
        raise ValueError("not an EBML number")
    value = int.from_bytes(data[at : at + length], "big")
    if not keep:
        value &= (1 << (7 * length)) - 1
        if value == (1 << (7 * length)) - 1:
            value = -1
    return value, at + length


def _elements(data: bytes, at: int, stop: int) -> Iterator[tuple[int, int, int, int]]:
    """(id, start, body, stop) of elements, going into masters; a size that is not known reaches to the end."""
    while at < stop:
        start = at
        number, at = _number(data, at, True)
        size, body = _number(data, at, False)
        end = stop if size < 0 else min(body + size, stop)
        yield number, start, body, end
        if number in _MASTERS:
            yield from _elements(data, body, end)
        at = end


def _matroska(data: bytes) -> SphereTags | None:
    eyes = first = projection = None
    bounds = (0.0, 0.0, 0.0, 0.0)
    try:
        for number, _, body, end in _elements(data, 0, len(data)):
            value = int.from_bytes(data[body : min(end, body + 8)], "big")
            if number == 0x53B8 and value in STEREO_MKV:
                eyes, first = STEREO_MKV[value]
            elif number == 0x7671:
                projection = {0: None, 1: "equirectangular", 2: "cube map", 3: "mesh"}.get(value)
            elif number == 0x7672 and end - body >= 20:
                top, bottom, left, right = struct.unpack_from(">4I", data, body + 4)
                bounds = (top / 2**32, bottom / 2**32, left / 2**32, right / 2**32)
            elif number == 0x1F43B675:  # the first cluster: the headers are over
                break
    except (ValueError, IndexError, RecursionError):
        pass
    return SphereTags("Matroska elements", projection, eyes, first, bounds) if eyes or projection else None


def matroska_siting(path: Path) -> str | None:
    """Where a Matroska file says that chroma lies: ChromaSitingHorz 0x55B7 and ChromaSitingVert 0x55B8 (1: co-sited, 2: half)."""
    held = {}
    try:
        with path.open("rb") as file:
            data = file.read(1 << 20)
        if data[:4] != b"\x1a\x45\xdf\xa3":
            return None
        for number, _, body, end in _elements(data, 0, len(data)):
            if number in (0x55B7, 0x55B8):
                held[number] = int.from_bytes(data[body : min(end, body + 8)], "big")
            elif number == 0x1F43B675:
                break
    except (OSError, ValueError, IndexError, RecursionError):
        pass
    return {(1, 1): "topleft", (1, 2): "left", (2, 2): "center", (2, 1): "top"}.get(
        (held.get(0x55B7, 0), held.get(0x55B8, 0))
    )


def matroska_cut(path: Path) -> bool:
    """Does a Matroska file end before its segment does?"""
    try:
        with path.open("rb") as file:
            data = file.read(4096)
        if data[:4] != b"\x1a\x45\xdf\xa3":
            return False
        size, body = _number(data, 4, False)
        number, at = _number(data, body + size, True)
        size, body = _number(data, at, False)
        return number == 0x18538067 and size >= 0 and body + size > path.stat().st_size
    except (OSError, ValueError, IndexError, RecursionError):
        return False


def say_square(path: Path) -> None:
    """Corrects, in place, a Matroska file that says its display size were in no known unit (DisplayUnit 0x54B2): it is in pixels."""
    with path.open("r+b") as file:
        data = file.read(1 << 20)
        for number, _, body, end in _elements(data, 0, len(data)):
            if number == 0x54B2 and end - body == 1 and data[body] == 4:
                file.seek(body)
                file.write(b"\0")
            elif number == 0x1F43B675:
                break


ROOM = "." * 160  # a name of the picture track that stands for what is told later


def _element(number: int, body: bytes) -> bytes:
    name = number.to_bytes((number.bit_length() + 7) // 8, "big")
    return name + (len(body) | 1 << 56).to_bytes(8, "big") + body


def _children(data: bytes, at: int, stop: int) -> Iterator[tuple[int, int, int, int]]:
    """(id, start, body, stop) of the elements of one master."""
    while at < stop:
        number, body = _number(data, at, True)
        size, body = _number(data, body, False)
        if size < 0 or body + size > stop:
            raise ValueError("an element says no size of its own")
        yield number, at, body, body + size
        at = body + size


def put_into_matroska(path: Path, tags: SphereTags) -> None:
    """Adds the tags to the first picture track of a finished Matroska file, in place of its name if that is ``ROOM``, or of what else
    stands for nothing in it (Void 0xEC): only its header is read and written. ValueError if there is no room."""
    mode = {v: k for k, v in STEREO_MKV.items()}.get((tags.eyes or "one", tags.first), 0)
    more = _element(0x53B8, bytes([mode]))
    if tags.projection == "equirectangular":
        cut = bytes(4) + struct.pack(">4I", *(min(int(b * 2**32), 2**32 - 1) for b in tags.bounds))
        more += _element(0x7670, _element(0x7671, b"\1") + (_element(0x7672, cut) if any(tags.bounds) else b""))
    with path.open("r+b") as file:
        data = file.read(_MOST)
        for number, _, body, stop in _elements(data, 0, len(data)):
            if number != 0xAE or not any(n == 0xE0 for n, *_ in _children(data, body, stop)):
                continue
            made = b""
            for n, start, inner, end in _children(data, body, stop):
                if n == 0xE0:
                    held = {k: data[b:e] for k, _, b, e in _children(data, inner, end) if k not in (0x53B8, 0x7670)}
                    for pixels, shown, eyes in ((0xB0, 0x54B0, "side by side"), (0xBA, 0x54BA, "over under")):
                        size = int.from_bytes(held.get(shown, held.get(pixels, b"")), "big")
                        if tags.eyes == eyes:  # what is shown is meant of one eye
                            size //= 2
                        held[shown] = size.to_bytes(4, "big")
                    made += _element(0xE0, b"".join(_element(k, v) for k, v in held.items()) + more)
                elif n != 0xEC and not (n == 0x536E and data[inner:end] == ROOM.encode()):
                    made += data[start:end]
            left = stop - body - len(made)
            if left and left < 9:
                raise ValueError("there is no room for it in its picture track")
            file.seek(body)
            file.write(made + (_element(0xEC, bytes(left - 9)) if left else b""))
            return
    raise ValueError("there is no picture track")
