"""The checksums that FFV1 carries with each slice of a frame, which the library's decoder only writes into its own log."""

from __future__ import annotations

import zlib

FOOTER = 8  # bytes: the slice's size (24 bits), an error status (8), a checksum (32): RFC 9043, 4.9
_REVERSED = bytes(int(f"{n:08b}"[::-1], 2) for n in range(256))


def remainder(data: bytes) -> int:
    """CRC with the polynomial 0x04C11DB7, the highest bit first, from 0 (RFC 9043, 4.9.3), its bits in reverse; 0 of a whole slice.

    >>> remainder(bytes(8)), remainder(bytes.fromhex("0000000104c11db7"))
    (0, 0)
    """
    return zlib.crc32(data.translate(_REVERSED), 0xFFFFFFFF) ^ 0xFFFFFFFF


def whole(frame: bytes) -> bool:
    """Are all slices of a coded frame what their checksums say? Only of a stream that has checksums."""
    end = len(frame)
    while end > 0:
        if end < FOOTER:
            return False
        size = int.from_bytes(frame[end - FOOTER : end - FOOTER + 3], "big") + FOOTER
        if size > end or remainder(frame[end - size : end]):
            return False
        end -= size
    return True
