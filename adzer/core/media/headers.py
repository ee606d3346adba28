"""What a stream's own sequence header says of its chroma, which the media library does not hand out.

H.264 (ITU-T H.264, 7.3.2.1 and E.1.1), H.265 (ITU-T H.265, 7.3.2.2 and E.2.1), AV1 (bitstream specification, 5.5), and the
Colour element of Matroska (RFC 9559, 5.1.4.1.28.16). None where a header says nothing, or cannot be followed.
"""

from __future__ import annotations

from collections.abc import Callable

SITINGS = ("left", "center", "topleft", "top", "bottomleft", "bottom")  # H.273, Chroma420SampleLocType 0 … 5
_PROFILES_WITH_CHROMA = {100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135}


class _Bits:
    """Bits of a payload, most significant first. EOFError past the end."""

    def __init__(self, data: bytes) -> None:
        self._value, self._length, self.at = int.from_bytes(data, "big"), 8 * len(data), 0

    def u(self, count: int) -> int:
        if self.at + count > self._length:
            raise EOFError
        self.at += count
        return (self._value >> (self._length - self.at)) & ((1 << count) - 1)

    def ue(self) -> int:
        zeros = 0
        while not self.u(1):
            zeros += 1
            if zeros > 32:
                raise EOFError
        return (1 << zeros) - 1 + self.u(zeros)

    def se(self) -> int:
        value = self.ue()
        return (value + 1) // 2 if value % 2 else -(value // 2)


def siting(codec: str, extradata: bytes | None, first_packet: bytes = b"") -> str | None:
    """Where chroma lies, from the codec's header beside the stream or, failing that, at the head of its first packet."""
    if (read := CODECS.get(codec)) is None:
        return None
    for data in (extradata or b"", first_packet):
        try:
            if (found := read(data)) is not None:
                return found
        except (EOFError, IndexError, ValueError):
            continue
    return None


def _units(data: bytes) -> list[bytes]:
    """Units of a configuration record or of a byte stream (Annex B)."""
    if data[:3] == b"\0\0\1" or data[:4] == b"\0\0\0\1":
        return [u for u in data.split(b"\0\0\1") if u]
    return []


def _payload(unit: bytes) -> bytes:
    """Without the bytes that keep start codes from arising."""
    return unit.replace(b"\0\0\3", b"\0\0")


def _found(units: list[bytes], wanted: Callable[[bytes], bool], read: Callable[[_Bits], str | None]) -> str | None:
    return next((read(_Bits(_payload(u))) for u in units if u and wanted(u)), None)


# --- H.264 -------------------------------------------------------------------------------------------------------
def _h264(data: bytes) -> str | None:
    units = _units(data)
    if not units and data[:1] == b"\1":  # ISO/IEC 14496-15, 5.3.3.1
        at, units = 6, []
        for _ in range(data[5] & 31):
            size = int.from_bytes(data[at : at + 2], "big")
            units.append(data[at + 2 : at + 2 + size])
            at += 2 + size
    return _found(units, lambda u: u[0] & 31 == 7, _h264_sequence)


def _h264_sequence(b: _Bits) -> str | None:
    b.u(8)
    profile = b.u(8)
    b.u(16)
    b.ue()
    form = 1
    if profile in _PROFILES_WITH_CHROMA:
        if (form := b.ue()) == 3:
            b.u(1)
        b.ue()
        b.ue()
        b.u(1)
        if b.u(1):
            for n in range(8 if form != 3 else 12):
                if b.u(1):
                    _h264_scaling(b, 16 if n < 6 else 64)
    b.ue()
    order = b.ue()
    if order == 0:
        b.ue()
    elif order == 1:
        b.u(1)
        b.se()
        b.se()
        for _ in range(b.ue()):
            b.se()
    b.ue()
    b.u(1)
    b.ue()
    b.ue()
    if not b.u(1):
        b.u(1)
    b.u(1)
    if b.u(1):
        for _ in range(4):
            b.ue()
    return _usability(b) if form == 1 and b.u(1) else None


def _h264_scaling(b: _Bits, size: int) -> None:
    last = following = 8
    for _ in range(size):
        if following:
            following = (last + b.se()) % 256
        last = following or last


def _usability(b: _Bits) -> str | None:
    """The beginning that the usability information of H.264 and H.265 share, to the place of chroma."""
    if b.u(1) and b.u(8) == 255:
        b.u(32)
    if b.u(1):
        b.u(1)
    if b.u(1):
        b.u(4)
        if b.u(1):
            b.u(24)
    if not b.u(1):
        return None
    top, _bottom = b.ue(), b.ue()
    return SITINGS[top] if top < len(SITINGS) else None


# --- H.265 -------------------------------------------------------------------------------------------------------
def _h265(data: bytes) -> str | None:
    units = _units(data)
    if not units and data[:1] == b"\1":  # ISO/IEC 14496-15, 8.3.3.1
        at = 23
        for _ in range(data[22]):
            count = int.from_bytes(data[at + 1 : at + 3], "big")
            at += 3
            for _ in range(count):
                size = int.from_bytes(data[at : at + 2], "big")
                units.append(data[at + 2 : at + 2 + size])
                at += 2 + size
    return _found(units, lambda u: u[0] >> 1 & 63 == 33, _h265_sequence)


def _h265_sequence(b: _Bits) -> str | None:
    b.u(16 + 4)
    layers = b.u(3)
    b.u(1)
    b.u(88)
    b.u(8)
    present = [(b.u(1), b.u(1)) for _ in range(layers)]
    if layers:
        b.u(2 * (8 - layers))
    for profile, level in present:
        b.u(88 * profile + 8 * level)
    b.ue()
    form = b.ue()
    if form == 3:
        b.u(1)
    b.ue()
    b.ue()
    if b.u(1):
        for _ in range(4):
            b.ue()
    b.ue()
    b.ue()
    order = b.ue() + 4
    for _ in range(1 if not b.u(1) and layers else layers + 1):
        for _ in range(3):
            b.ue()
    for _ in range(6):
        b.ue()
    if b.u(1) and b.u(1):
        _h265_scaling(b)
    b.u(2)
    if b.u(1):
        b.u(8)
        b.ue()
        b.ue()
        b.u(1)
    counts: list[int] = []
    total = b.ue()
    for n in range(total):
        counts.append(_h265_references(b, n, counts))
    if b.u(1):
        for _ in range(b.ue()):
            b.u(order)
            b.u(1)
    b.u(2)
    return _usability(b) if form == 1 and b.u(1) else None


def _h265_scaling(b: _Bits) -> None:
    for size in range(4):
        for _ in range(0, 6, 3 if size == 3 else 1):
            if not b.u(1):
                b.ue()
                continue
            if size > 1:
                b.se()
            for _ in range(min(64, 1 << (4 + 2 * size))):
                b.se()


def _h265_references(b: _Bits, n: int, counts: list[int]) -> int:
    """A set of reference pictures (7.3.7); returns how many it has."""
    if n and b.u(1):
        b.u(1)
        b.ue()
        kept = 0
        for _ in range(counts[n - 1] + 1):
            used = b.u(1)
            kept += used or b.u(1)
        return kept
    before, after = b.ue(), b.ue()
    if before + after > 32:
        raise ValueError("more reference pictures than there can be")
    for _ in range(before + after):
        b.ue()
        b.u(1)
    return before + after


# --- AV1 ---------------------------------------------------------------------------------------------------------
def _av1(data: bytes) -> str | None:
    at = 4 if data[:1] == b"\x81" else 0
    while at < len(data):
        head = data[at]
        kind, extended, sized = head >> 3 & 15, head >> 2 & 1, head >> 1 & 1
        at += 1 + extended
        size = len(data) - at
        if sized:
            size, shift = 0, 0
            while True:
                byte = data[at]
                at += 1
                size |= (byte & 127) << shift
                shift += 7
                if not byte & 128:
                    break
        if kind == 1:
            return _av1_sequence(_Bits(data[at : at + size]))
        at += size
    return None


def _av1_sequence(b: _Bits) -> str | None:
    profile = b.u(3)
    b.u(1)
    if short := b.u(1):
        b.u(5)
    else:
        _av1_operation(b)
    across, down = b.u(4) + 1, b.u(4) + 1
    b.u(across + down)
    if not short and b.u(1):
        b.u(7)
    b.u(3)
    if not short:
        _av1_tools(b)
    b.u(3)
    return _av1_colour(b, profile)


def _av1_operation(b: _Bits) -> None:
    """Timing and operating points (5.5.1)."""
    delay = 0
    if b.u(1):
        b.u(64)
        if b.u(1):
            b.ue()
        if b.u(1):
            delay = b.u(5) + 1
            b.u(42)
    initial = b.u(1)
    for _ in range(b.u(5) + 1):
        b.u(12)
        if b.u(5) > 7:
            b.u(1)
        if delay and b.u(1):
            b.u(2 * delay + 1)
        if initial and b.u(1):
            b.u(4)


def _av1_tools(b: _Bits) -> None:
    b.u(4)
    if ordered := b.u(1):
        b.u(2)
    if (b.u(1) or b.u(1)) and not b.u(1):  # screen content: chosen, else forced; then whole vectors
        b.u(1)
    if ordered:
        b.u(3)


def _av1_colour(b: _Bits, profile: int) -> str | None:
    deep = b.u(1)
    twelve = b.u(1) if profile == 2 and deep else 0
    single = b.u(1) if profile != 1 else 0
    described = (b.u(8), b.u(8), b.u(8)) if b.u(1) else (2, 2, 2)
    if single or described == (1, 13, 0):
        return None
    b.u(1)
    halved = profile == 0 or (twelve and b.u(1) and b.u(1))
    return {1: "left", 2: "topleft"}.get(b.u(2)) if halved else None


# The library's names of decoders → who reads their headers. Several decode AV1.
CODECS = {"h264": _h264, "hevc": _h265, "av1": _av1, "libdav1d": _av1, "libaom-av1": _av1}
