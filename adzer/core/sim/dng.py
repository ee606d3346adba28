"""Writes DNG files (specification, version 1.6) with everything in them known: a skeleton of tags laid down by hand, which shares nothing
with what reads it."""

from __future__ import annotations

import struct
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

Values = NDArray[np.uint16]
Tag = tuple[int, str, object]  # number, kind (B H I R r d s u, as ``_FORMS``), values
_FORMS = {"B": (1, "B"), "s": (2, "s"), "H": (3, "H"), "I": (4, "I"), "R": (5, "II"), "u": (7, "s"), "r": (10, "ii"), "d": (12, "d")}
_ORDERS = {"rggb": (0, 1, 1, 2), "bggr": (2, 1, 1, 0), "grbg": (1, 0, 2, 1), "gbrg": (1, 2, 0, 1)}


@dataclass(frozen=True)
class Writing:
    """How a frame is written.

    bits        a value takes; ``tile``: rows and columns of a piece, None: strips of ``strip`` rows
    lossless    as lossless JPEG (ITU-T T.81, process 14), one piece, predictor 1
    preview     a small picture comes first, and the values in a directory below it
    more        further tags
    """

    order: str = "rggb"
    bits: int = 16
    black: tuple[float, ...] = (256.0,)
    white: int = 4095
    tile: tuple[int, int] | None = None
    strip: int = 64
    little: bool = True
    lossless: bool = False
    preview: bool = False
    camera: str = "raw body"
    more: tuple[Tag, ...] = field(default=())


def rational(v: float) -> tuple[int, int]:
    return round(v * 100_000), 100_000


def packed(rows: Values, bits: int, little: bool) -> bytes:
    """Rows of values as bytes: 8 and 16 bits whole, others from the highest bit down, each row begun anew."""
    if bits == 8:
        return rows.astype(np.uint8).tobytes()
    if bits == 16:
        return rows.astype("<u2" if little else ">u2").tobytes()
    ones = (rows[..., None] >> np.arange(bits - 1, -1, -1)) & 1
    return np.packbits(ones.reshape(len(rows), -1).astype(np.uint8), axis=1).tobytes()


def lossless_jpeg(values: Values, bits: int) -> bytes:
    """One component, predictor 1 (the value to the left; above at a row's start), a Huffman table whose codes all have five bits."""
    h, w = values.shape
    v = values.astype(np.int64)
    before = np.empty_like(v)
    before[:, 1:] = v[:, :-1]
    before[1:, 0] = v[:-1, 0]
    before[0, 0] = 1 << (bits - 1)
    difference = (v - before + 32768) % 65536 - 32768
    size = np.where(difference == 0, 0, np.floor(np.log2(np.maximum(np.abs(difference), 1))).astype(int) + 1)
    text = []
    for d, s in zip(difference.ravel().tolist(), size.ravel().tolist(), strict=True):
        text.append(f"{s:05b}" + (f"{d if d > 0 else d + (1 << s) - 1:0{s}b}" if 0 < s < 16 else ""))
    joined = "".join(text)
    body = np.packbits(np.frombuffer((joined + "1" * (-len(joined) % 8)).encode(), np.uint8) - 48).tobytes()
    body = body.replace(b"\xff", b"\xff\x00")
    table = bytes([0, 0, 0, 0, 0, 17, *(0,) * 11, *range(17)])
    return (
        b"\xff\xd8" + b"\xff\xc4" + struct.pack(">H", 2 + len(table)) + table
        + b"\xff\xc3" + struct.pack(">HBHHB", 11, bits, h, w, 1) + bytes([0, 0x11, 0])
        + b"\xff\xda" + struct.pack(">HB", 8, 1) + bytes([0, 0, 1, 0, 0]) + body + b"\xff\xd9"
    )  # fmt: skip


def write(path: Path, values: Values, how: Writing) -> None:
    """One frame. Values (height, width) as they are to be stored."""
    h, w = values.shape
    pieces: list[bytes] = []
    if how.lossless:
        pieces, layout = [lossless_jpeg(values, how.bits)], [(273, "I", None), (278, "I", h), (279, "I", None)]
    elif how.tile:
        th, tw = how.tile
        wide = np.pad(values, ((0, -h % th), (0, -w % tw)), mode="edge")
        pieces = [packed(wide[y : y + th, x : x + tw], how.bits, how.little) for y in range(0, h, th) for x in range(0, w, tw)]
        layout = [(322, "I", tw), (323, "I", th), (324, "I", None), (325, "I", None)]
    else:
        pieces = [packed(values[y : y + how.strip], how.bits, how.little) for y in range(0, h, how.strip)]
        layout = [(273, "I", None), (278, "I", how.strip), (279, "I", None)]
    side = round(len(how.black) ** 0.5)
    raw: list[Tag] = [
        (254, "I", 0), (256, "I", w), (257, "I", h), (258, "H", how.bits), (259, "H", 7 if how.lossless else 1), (262, "H", 32803), (277, "H", 1),
        *layout, (33421, "H", (2, 2)), (33422, "B", _ORDERS[how.order]), (50711, "H", 1), (50713, "H", (side, side)),
        (50714, "R", tuple(rational(b) for b in how.black)), (50717, "I", how.white),
    ]  # fmt: skip
    about: list[Tag] = [(50706, "B", (1, 6, 0, 0)), (50707, "B", (1, 4, 0, 0)), (50708, "s", how.camera)]
    sensor = {50712, 50715, 50716, 50718, 50719, 50720, 50829, 51008, 51009, 51022}
    for tag in how.more:
        (raw if tag[0] in sensor else about).append(tag)
    path.write_bytes(_file(how, raw, about, pieces))


def _file(how: Writing, raw: list[Tag], about: list[Tag], pieces: list[bytes]) -> bytes:
    order = "<" if how.little else ">"
    at = 8
    offsets = []
    for piece in pieces:
        offsets.append(at)
        at += len(piece) + len(piece) % 2
    body = b"".join(p + b"\0" * (len(p) % 2) for p in pieces)
    raw = [(n, k, tuple(offsets) if n in (273, 324) else tuple(map(len, pieces)) if n in (279, 325) else v) for n, k, v in raw]
    if not how.preview:
        first = _directory(raw + about, order, at)
    else:
        small = b"\x80" * 192
        body, at = body + small, at + len(small)
        below = _directory(raw, order, at)
        shown: list[Tag] = [(254, "I", 1), (256, "I", 8), (257, "I", 8), (258, "H", (8, 8, 8)), (259, "H", 1), (262, "H", 2), (273, "I", at - 192),
                            (277, "H", 3), (278, "I", 8), (279, "I", 192), (330, "I", at)]  # fmt: skip
        first = _directory(shown + about, order, at + len(below))
        body, at = body + below, at + len(below)
    return (b"II" if how.little else b"MM") + struct.pack(order + "HI", 42, at) + body + first


def _directory(tags: list[Tag], order: str, at: int) -> bytes:
    entries, beyond = b"", b""
    start = at + 2 + 12 * len(tags) + 4
    for number, kind, value in sorted(tags, key=lambda t: t[0]):
        code, form = _FORMS[kind]
        if kind in "su":
            data = value.encode() + b"\0" if isinstance(value, str) else bytes(value)  # type: ignore[call-overload]
            count = len(data)
        else:
            many = value if isinstance(value, tuple) else (value,)
            flat = [n for v in many for n in (v if isinstance(v, tuple) else (v,))]
            data = struct.pack(f"{order}{len(flat)}{form[0]}", *flat)
            count = len(flat) // len(form)
        if len(data) <= 4:
            inline = data.ljust(4, b"\0")
        else:
            inline = struct.pack(order + "I", start + len(beyond))
            beyond += data + b"\0" * (len(data) % 2)
        entries += struct.pack(order + "HHI", number, code, count) + inline
    return struct.pack(order + "H", len(tags)) + entries + b"\0\0\0\0" + beyond
