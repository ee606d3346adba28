"""Packets known again wherever they lie: a hash that an encoder's output and a file's content share, and what an encoder states."""

from __future__ import annotations

from typing import Any

import xxhash

LIKE_LAMBDA = 118.0  # the library's factor between a quantiser and the quality that it states of a packet

_START = b"\0\0\1"
# Units that a container keeps in its header instead, or that only part packets: H.264 table 7-1, H.265 table 7-1.
_LEFT_OUT = {"h264": {7, 8, 9}, "h265": {32, 33, 34, 35}}


def packet_print(data: bytes, encoder: str, framed: bool) -> int:
    """Hash of a packet. ``framed``: units carry their length, as files hold them; else start codes part them (Annex B of
    H.264 and H.265), as encoders give them out. Both give the same."""
    if encoder not in _LEFT_OUT:
        return xxhash.xxh3_64_intdigest(data)
    digest = xxhash.xxh3_64()
    for unit in _framed(data) if framed else _started(data):
        kind = unit[0] & 31 if encoder == "h264" else unit[0] >> 1 & 63
        if kind not in _LEFT_OUT[encoder]:
            digest.update(len(unit).to_bytes(4, "big"))
            digest.update(unit)
    return digest.intdigest()


def _framed(data: bytes) -> list[bytes]:
    units, at = [], 0
    while at + 4 < len(data):
        size = int.from_bytes(data[at : at + 4], "big")
        units.append(data[at + 4 : at + 4 + size])
        at += 4 + size
    return [u for u in units if u]


def _started(data: bytes) -> list[bytes]:
    # A unit never ends in a zero byte, so that zeros before a start code belong to that.
    return [u for u in (part.rstrip(b"\0") for part in data.split(_START)) if u]


def quantiser(packet: Any) -> float:
    """The quantiser that the encoder states of a packet; 0 if it states none."""
    if not packet.has_sidedata("quality_stats"):
        return 0.0
    held = bytes(packet.get_sidedata("quality_stats"))
    return int.from_bytes(held[:4], "little") / LIKE_LAMBDA if len(held) >= 4 else 0.0
