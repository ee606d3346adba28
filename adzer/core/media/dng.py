"""DNG files (specification, version 1.6): what they say of their sensor values, and the values themselves.

Only TIFF's own skeleton is read here, by hand, so that thousands of frames open at once and no absurd header can do harm; packed values
are unpacked here, compressed ones by LibRaw.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any, BinaryIO

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..errors import AdzerError, UnreadableError
from . import timecode as timecodes
from .sensor import Calibration, GainMap, Matrix, Sensor, Three, shifted

ENDING = ".dng"
_MOST_TAGS, _MOST_FIELD = 500, 4 << 20  # of one directory; bytes of one field
_TYPES = {1: "B", 2: "s", 3: "H", 4: "I", 5: "II", 6: "b", 7: "B", 8: "h", 9: "i", 10: "ii", 11: "f", 12: "d", 13: "I"}
MAX_SIDE = 16384
# Colour temperatures of CalibrationIlluminant (Exif 2.32, LightSource).
_KELVIN = {1: 5500, 2: 4200, 3: 2850, 4: 5500, 9: 5500, 10: 6500, 11: 7500, 12: 6430, 13: 5000, 14: 4230, 15: 3450, 17: 2856, 18: 4874,
           19: 6774, 20: 5500, 21: 6504, 22: 7504, 23: 5003, 24: 3200}  # fmt: skip

Field = tuple[Any, ...]
Values = NDArray[np.uint16]


@dataclass(frozen=True)
class Layout:
    """Where the stored values lie: ``full``: width and height of all of them; pieces of ``piece`` width and height, row by row."""

    full: tuple[int, int]
    piece: tuple[int, int]
    offsets: tuple[int, ...]
    counts: tuple[int, ...]
    bits: int
    compression: int
    little: bool


def is_dng(path: Path) -> bool:
    return path.suffix.lower() == ENDING


def header(path: str | Path) -> tuple[Sensor, Layout]:
    """What a file says. UnreadableError names it, and what is wrong."""
    path = Path(path)
    try:
        if not path.is_file():
            raise UnreadableError(f"{path} is not there, or is no file but a pipe or a device. Give a recording.")
        with path.open("rb") as file:
            return _header(path, file)
    except OSError as error:
        raise UnreadableError(f"{path} cannot be read ({error.strerror}). Check the disk and its permissions.") from None
    except (struct.error, ValueError, IndexError, KeyError, OverflowError, ZeroDivisionError, MemoryError):
        raise UnreadableError(f"{path} is no whole DNG file: its header is cut off or damaged. Copy it from the card again.") from None


def rebalanced(files: list[Path], first: Sensor) -> tuple[int, ...]:
    """Frames, at most 50, that begin another as-shot white or exposure. UnreadableError if one is of another camera or size, or damaged."""
    found, before = [], first
    for n, file in enumerate(files[1:], 1):
        own, _ = header(file)
        _same(file, own, first)
        if (own.neutral, own.white_xy, own.exposure) != (before.neutral, before.white_xy, before.exposure):
            found.append(n)
        before = own
    return tuple(found[:50])


def _same(path: Path, own: Sensor, sensor: Sensor) -> None:
    if (own.raster, own.order, own.bits, own.camera) != (sensor.raster, sensor.order, sensor.bits, sensor.camera):
        raise UnreadableError(
            f"{path} is of another camera or size than the frames before it. Put each camera's frames into a folder of their own."
        )


def values(path: str | Path, sensor: Sensor, layout: Layout | None = None) -> Values:
    """(height, width) of the values that count, linearised by the file's own table. UnreadableError if they are not all there, or not as
    ``sensor`` says: a sequence's frames are of one camera and one size."""
    path = Path(path)
    own, found = header(path) if layout is None else (sensor, layout)
    _same(path, own, sensor)
    try:
        whole = _packed(path, found) if found.compression == 1 else _compressed(path)
        if any(a + n > path.stat().st_size for a, n in zip(found.offsets, found.counts, strict=False)):
            whole = None  # what is compressed and cut off would come out black from there on
    except OSError as error:
        raise UnreadableError(f"{path} cannot be read ({error.strerror}). Check the disk and its permissions.") from None
    except (MemoryError, ValueError, OverflowError):
        whole = None
    if whole is None or whole.shape != found.full[::-1]:
        raise UnreadableError(f"{path}: its sensor values are cut off or damaged. Copy it from the card again.")
    (left, top), (w, h) = own.corner, own.raster
    part = whole[top : top + h, left : left + w]
    if own.table and found.compression == 1:  # what LibRaw unpacks went through the table already
        table = np.array(own.table, np.uint16)
        part = table[np.minimum(part, len(table) - 1)]
    return np.ascontiguousarray(part)


def _packed(path: Path, layout: Layout) -> Values | None:
    """Uncompressed values, in strips or tiles; None if some are not there."""
    (w, h), (pw, ph) = layout.full, layout.piece
    across, down = -(-w // pw), -(-h // ph)
    line = -(-pw * layout.bits // 8)
    if len(layout.offsets) < across * down:
        return None
    made: Values = np.empty((h, w), np.uint16)
    with path.open("rb") as file:
        for n, offset in enumerate(layout.offsets[: across * down]):
            y, x = n // across * ph, n % across * pw
            rows = ph if across > 1 else min(ph, h - y)
            file.seek(offset)
            body = np.frombuffer(file.read(line * rows), np.uint8)
            if len(body) < line * min(rows, h - y):
                return None
            body = body[: len(body) // line * line].reshape(-1, line)
            made[y : y + ph, x : x + pw] = _unpacked(body, layout, pw)[: h - y, : w - x]
    return made


def _unpacked(rows: NDArray[np.uint8], layout: Layout, width: int) -> Values:
    """Rows of bytes as values: whole bytes in the file's order, others from the highest bit down (TIFF 6.0, FillOrder 1)."""
    if layout.bits == 8:
        return rows.astype(np.uint16)
    if layout.bits == 16:
        return np.ascontiguousarray(rows).view("<u2" if layout.little else ">u2").astype(np.uint16)
    bits = layout.bits
    if bits % 2:  # nobody's usual way
        ones = np.unpackbits(rows, axis=1)[:, : width * bits].reshape(len(rows), width, bits)
        return np.asarray(ones @ (1 << np.arange(bits - 1, -1, -1)), np.uint16)
    if bits == 12:  # the usual way, quickly: three bytes hold two
        wide = np.pad(rows, ((0, 0), (0, -rows.shape[1] % 3)))
        words = np.ndarray((wide.size // 3,), ">u4", np.append(wide.ravel(), np.uint8(0)), 0, (3,)).astype(np.uint32)  # each and the byte after it
        both = np.empty((len(words), 2), np.uint16)
        np.right_shift(words, 20, out=both[:, 0], casting="unsafe")
        np.bitwise_and(words >> 8, 4095, out=both[:, 1], casting="unsafe")
        return both.reshape(len(rows), -1)[:, :width]
    many = 4  # values that fill whole bytes together
    each, groups = many * bits // 8, -(-width // many)
    held = np.pad(rows, ((0, 0), (0, max(0, groups * each - rows.shape[1]))))[:, : groups * each].reshape(len(rows), groups, each)
    word = np.zeros((len(rows), groups), np.uint32 if each < 5 else np.uint64)
    for n in range(each):
        word = (word << word.dtype.type(8)) | held[..., n]
    made: Values = np.empty((len(rows), groups, many), np.uint16)
    for n in range(many):
        made[..., n] = (word >> word.dtype.type(bits * (many - 1 - n))) & word.dtype.type((1 << bits) - 1)
    return made.reshape(len(rows), -1)[:, :width]


def _compressed(path: Path) -> Values | None:
    import rawpy  # here, as it is seldom needed

    try:
        with rawpy.imread(str(path)) as raw:
            image = raw.raw_image
            return None if image is None or image.ndim != 2 else np.array(image, np.uint16)
    except (rawpy.LibRawError, ValueError, MemoryError):
        return None


# --- the header ---------------------------------------------------------------------------------------------------
def _header(path: Path, file: BinaryIO) -> tuple[Sensor, Layout]:
    start = file.read(8)
    if start[:2] not in (b"II", b"MM"):
        raise UnreadableError(f"{path} is no DNG file, whatever its name says. Leave it out, or convert it.")
    order = "<" if start[:2] == b"II" else ">"
    magic, first = struct.unpack(order + "HI", start[2:])
    if magic != 42:
        raise UnreadableError(f"{path} is a TIFF of a kind that holds no DNG (its mark is {magic}). Convert it first.")
    top = _directory(file, order, first)
    rest = [_directory(file, order, at) for at in _whole(top.get(330, ()))[:16]]
    raws = [d for d in (top, *rest) if d.get(262, (0,))[0] in (32803, 34892) and not d.get(254, (0,))[0] & 1]
    if not raws:
        raise UnreadableError(f"{path} holds a picture, but no sensor values. Take it as a TIFF sequence, or find the recording itself.")
    tags = top | raws[0]
    if tags[262][0] == 34892 or tags.get(277, (1,))[0] != 1:
        raise UnreadableError(f"{path} holds values that were made to a picture already (linear DNG). Export it as TIFF or EXR.")
    if any(v != 1 for v in _whole(tags.get(339, (1,)))):
        raise UnreadableError(f"{path} holds its sensor values as floating-point numbers, which Adzer does not take. Convert it first.")
    layout = _layout(path, tags, order == "<")
    return _sensor(path, tags, layout), layout


def _directory(file: BinaryIO, order: str, at: int) -> dict[int, Field]:
    """Tag → its values; fields that are absurd are left out."""
    file.seek(at)
    (count,) = struct.unpack(order + "H", file.read(2))
    if count > _MOST_TAGS:
        raise ValueError("too many tags")
    entries = file.read(12 * count)
    found: dict[int, Field] = {}
    for n in range(len(entries) // 12):
        tag, kind, many, inline = struct.unpack(order + "HHI4s", entries[12 * n : 12 * n + 12])
        form = _TYPES.get(kind)
        if form is None or tag in found:
            continue
        size = struct.calcsize(order + form) * many
        if size > _MOST_FIELD:
            continue
        if size <= 4:
            body = inline[:size]
        else:
            file.seek(struct.unpack(order + "I", inline)[0])
            body = file.read(size)
            if len(body) < size:
                continue
        if kind in (2, 7, 1):
            found[tag] = (body,) if kind != 1 else tuple(body)
        else:
            plain = struct.unpack(f"{order}{many * len(form)}{form[0]}", body)
            pairs = zip(plain[::2], plain[1::2], strict=False)
            found[tag] = plain if len(form) == 1 else tuple(Fraction(a, b) if b else Fraction(0) for a, b in pairs)
    return found


def _whole(field: Field) -> tuple[int, ...]:
    return tuple(int(v) for v in (field[0] if field and isinstance(field[0], bytes) else field))


def _floats(field: Field | None) -> tuple[float, ...]:
    made = tuple(float(v) for v in field or ())
    return made if all(np.isfinite(made)) else ()


def _layout(path: Path, tags: dict[int, Field], little: bool) -> Layout:
    w, h, bits, compression = (int(tags[t][0]) for t in (256, 257, 258, 259))
    if not (2 <= w <= MAX_SIDE and 2 <= h <= MAX_SIDE):
        raise UnreadableError(f"{path} says its sensor is {w}×{h}; from 2 up to {MAX_SIDE} a side can be handled.")
    if not 8 <= bits <= 16:
        raise UnreadableError(f"{path} stores its sensor values in {bits} bits; 8 to 16 can be handled.")
    if 324 in tags:
        piece, offsets, counts = (int(tags[322][0]), int(tags[323][0])), tags[324], tags.get(325, ())
    else:
        piece, offsets, counts = (w, min(int(tags.get(278, (h,))[0]), h)), tags[273], tags.get(279, ())
    if min(piece) < 1:
        raise ValueError("empty pieces")
    if max(piece) > MAX_SIDE:
        raise ValueError("absurd pieces")
    return Layout((w, h), piece, _whole(offsets), _whole(counts), bits, compression, little)


def _order(path: Path, tags: dict[int, Field]) -> str:
    repeat, cells = _whole(tags.get(33421, (2, 2))), _whole(tags.get(33422, ()))
    colours = _whole(tags.get(50710, (bytes([0, 1, 2]),)))
    names = ["rgb"[colours[c]] if c < len(colours) and colours[c] < 3 else "?" for c in cells]
    if repeat != (2, 2) or "".join(names) not in ("rggb", "bggr", "grbg", "gbrg") or tags.get(50711, (1,))[0] != 1:
        raise UnreadableError(f"{path}: its sensor has a colour filter other than two by two of red, green and blue. Convert it first.")
    return "".join(names)


def _matrix(field: Field | None) -> Matrix | None:
    m = _floats(field)
    if len(m) != 9 or abs(float(np.linalg.det(np.reshape(m, (3, 3))))) < 1e-6:
        return None
    return ((m[0], m[1], m[2]), (m[3], m[4], m[5]), (m[6], m[7], m[8]))


def _three(field: Field | None) -> Three | None:
    v = _floats(field)
    return (v[0], v[1], v[2]) if len(v) == 3 and min(v) > 0 else None


def _lights(tags: dict[int, Field]) -> tuple[Calibration, ...]:
    made = []
    for light, colour, own, forward in ((50778, 50721, 50723, 50964), (50779, 50722, 50724, 50965)):
        matrix = _matrix(tags.get(colour))
        if matrix is not None:
            kelvin = _KELVIN.get(int(tags.get(light, (0,))[0]), 5000)
            made.append(Calibration(float(kelvin), matrix, _matrix(tags.get(forward)), _matrix(tags.get(own))))
    return tuple(sorted(made, key=lambda c: c.kelvin))


def _by_cell(field: Field | None, repeat: Field, corner: tuple[int, int], empty: float) -> tuple[float, float, float, float]:
    """Of levels that repeat every ``repeat`` rows and columns from the active area on, those at the corner's four cells."""
    found = _floats(field) or (empty,)
    rows, columns = _whole(repeat)
    if len(found) != rows * columns:
        found = (found[0],) * (rows * columns)
    if rows > 2 or columns > 2 or rows < 1 or columns < 1:
        found, rows, columns = (float(np.mean(found)),), 1, 1
    a, b, c, d = (found[(y + corner[1]) % rows * columns + (x + corner[0]) % columns] for y in (0, 1) for x in (0, 1))
    return a, b, c, d


def _sensor(path: Path, tags: dict[int, Field], layout: Layout) -> Sensor:
    w, h = layout.full
    top, left, bottom, right = _whole(tags.get(50829, (0, 0, h, w)))
    if not (0 <= top < bottom <= h and 0 <= left < right <= w):
        top, left, bottom, right = 0, 0, h, w
    x, y = (int(v) for v in _floats(tags.get(50719)) or (0, 0))
    cw, ch = (int(v) for v in _floats(tags.get(50720)) or (right - left, bottom - top))
    if not (x >= 0 and y >= 0 and 2 <= cw <= right - left - x and 2 <= ch <= bottom - top - y):
        x, y, cw, ch = 0, 0, right - left, bottom - top
    black = _by_cell(tags.get(50714), tags.get(50713, (1, 1)), (x, y), 0.0)
    given = _floats(tags.get(50717))
    top_code = float((1 << layout.bits) - 1)
    white = given[0] if given else float(max(_whole(tags[50712]))) if 50712 in tags else top_code
    if not max(black) < white:
        raise UnreadableError(
            f"{path} says that black lies at {max(black):g} and white at {white:g}: nothing is left between them. Its header is damaged."
        )
    down, across = _floats(tags.get(50716)), _floats(tags.get(50715))
    neutral, xy = _three(tags.get(50728)), _floats(tags.get(50729))
    scale = [Fraction(v).limit_denominator(10_000) for v in tags.get(50718, (1, 1))]
    rate = Fraction(tags[51044][0]).limit_denominator(100_000) if 51044 in tags else None
    rate = rate if rate and Fraction(1, 1000) <= rate <= 1000 else None
    maps, dead, dead_code, bend = _opcodes(tags)
    return Sensor(
        raster=(cw, ch), corner=(left + x, top + y), order=shifted(_order(path, tags), x, y), bits=layout.bits,
        black=black, white=(white,) * 4, table=_whole(tags.get(50712, ())),
        down=down[y : y + ch] if len(down) == bottom - top and any(down) else (),
        across=across[x : x + cw] if len(across) == right - left and any(across) else (),
        lights=_lights(tags), analog=_three(tags.get(50727)) or (1.0, 1.0, 1.0), neutral=neutral,
        white_xy=(xy[0], xy[1]) if len(xy) == 2 and min(xy) > 0.05 and neutral is None else None,
        exposure=float(np.clip((_floats(tags.get(50730)) or (0.0,))[0], -10, 10)),
        aspect=scale[0] / scale[1] if min(scale) > 0 else Fraction(1),
        dead=tuple((a - x, b - y) for a, b in dead if 0 <= a - x < cw and 0 <= b - y < ch),
        dead_code=dead_code, gains=tuple(_moved(g, x, y) for g in maps), bend=bend, noise=_noise(tags),
        camera=_text(tags.get(50708)) or _text(tags.get(272)),
        rate=rate, timecode=_timecode(tags, rate),
    )  # fmt: skip


def _text(field: Field | None) -> str:
    return bytes(field[0]).split(b"\0")[0].decode("utf-8", "replace") if field and isinstance(field[0], bytes) else ""


def _noise(tags: dict[int, Field]) -> tuple[tuple[float, float], ...]:
    v = _floats(tags.get(51041))
    return tuple((v[i], v[i + 1]) for i in range(0, len(v), 2)) if len(v) in (2, 6) and min(v) >= 0 else ()


def _timecode(tags: dict[int, Field], rate: Fraction | None) -> str | None:
    """SMPTE ST 331, table 4: eight bytes, frames first, binary-coded decimals; the frames' bit 6 marks drop-frame counting."""
    body = bytes(_whole(tags.get(51043, ())))[:4]
    if len(body) < 4:
        return None
    frames, seconds, minutes, hours = ((b >> 4 & m) * 10 + (b & 15) for b, m in zip(body, (3, 7, 7, 3), strict=True))
    label = f"{hours:02d}:{minutes:02d}:{seconds:02d}{';' if body[0] & 64 else ':'}{frames:02d}"
    try:
        timecodes.to_frames(label, rate or Fraction(60))
    except AdzerError:
        return None
    return label


def _moved(held: GainMap, x: int, y: int) -> GainMap:
    t, le, b, r = held.area
    return msgspec.structs.replace(held, area=(t - y, le - x, b - y, r - x))


def _opcodes(tags: dict[int, Field]) -> tuple[list[GainMap], list[tuple[int, int]], int | None, tuple[float, ...]]:
    """Gain maps, dead places, the code that dead values have, and the lens's bend of the three lists (chapter 7): those that we
    know; others are left, as they allow or not. Places are of the active area."""
    maps: list[GainMap] = []
    dead: list[tuple[int, int]] = []
    bend: tuple[float, ...] = ()
    dead_code: int | None = None
    for tag in (51008, 51009, 51022):
        field = tags.get(tag)
        body = bytes(field[0]) if field and isinstance(field[0], bytes) else b""
        at = 4
        for _ in range(min(struct.unpack(">I", body[:4])[0], 64) if len(body) >= 4 else 0):
            if at + 16 > len(body):
                break
            code, _, _, size = struct.unpack(">4I", body[at : at + 16])
            data = body[at + 16 : at + 16 + size]
            at += 16 + size
            if code == 9 and (made := _gain_map(data)) is not None:
                maps.append(made)
            elif code == 5 and len(data) >= 12:
                points = struct.unpack(">I", data[4:8])[0]
                rows = np.frombuffer(data[12 : 12 + 8 * min(points, 100_000)], ">u4")
                dead += [(int(c), int(r)) for r, c in rows[: len(rows) // 2 * 2].reshape(-1, 2)]
            elif code == 4 and len(data) >= 4:
                dead_code = struct.unpack(">I", data[:4])[0]
            elif code == 1:
                bend = _bend(data) or bend
    return maps, dead, dead_code, bend


def _bend(data: bytes) -> tuple[float, ...]:
    """Of the first plane, as ``space.sphere.Flat`` has it; empty if its middle is not the picture's, or it is not round about that."""
    if len(data) < 4 + 48:
        return ()
    planes = struct.unpack(">I", data[:4])[0]
    k, at = struct.unpack(">6d", data[4:52]), data[4 + 48 * planes : 4 + 48 * planes + 16]
    middle = struct.unpack(">2d", at) if len(at) == 16 else (0.5, 0.5)
    if not k[0] or not all(np.isfinite(k)) or any(abs(v) > 1e-6 for v in k[4:]) or max(abs(v - 0.5) for v in middle) > 0.02:
        return ()
    return tuple(float(np.clip(v / k[0], -1, 1)) for v in k[1:4])


def _gain_map(data: bytes) -> GainMap | None:
    top, left, bottom, right, _, planes, down, across, rows, columns = struct.unpack(">10I", data[:40])
    spacing_v, spacing_h, origin_v, origin_h = struct.unpack(">4d", data[40:72])
    (each,) = struct.unpack(">I", data[72:76])
    if planes < 1 or each != 1 or not (1 <= rows <= 256 and 1 <= columns <= 256) or min(down, across) < 1:
        return None
    gains = np.frombuffer(data[76 : 76 + 4 * rows * columns], ">f4")
    if len(gains) < rows * columns or not np.isfinite(gains).all() or gains.min() <= 0 or gains.max() > 64:
        return None
    return GainMap((top, left, bottom, right), (down, across), rows, columns, (spacing_v, spacing_h), (origin_v, origin_h), tuple(map(float, gains)))

