"""Packets known again wherever they lie: a hash that an encoder's output and a file's content share, and what an encoder states."""

from __future__ import annotations

import re

import av
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


def quantiser(packet: av.Packet) -> float:
    """The quantiser that the encoder states of a packet; 0 if it states none."""
    if not packet.has_sidedata("quality_stats"):
        return 0.0
    held = bytes(packet.get_sidedata("quality_stats"))
    return int.from_bytes(held[:4], "little") / LIKE_LAMBDA if len(held) >= 4 else 0.0


def said_of_eyes(encoder: str, eyes: str, first: str) -> bytes:
    """A unit that says how two eyes lie in each picture from here on (frame packing arrangement SEI: ITU-T H.264, D.1.26; ITU-T
    H.265, D.2.16)."""
    bits = "1" + "0"  # its number 0; it is not cancelled
    bits += f"{ {'side by side': 3, 'over under': 4}[eyes]:07b}" + "0" + f"{1 if first == 'left' else 2:06b}"
    bits += "0" * 6 + "0" * 16 + "0" * 8  # nothing flipped, no fields, nothing predicted from itself alone; where samples lie; reserved
    bits += ("010" if encoder == "h264" else "1") + "0"  # stands until it is said again; no more follows
    bits += "1"
    body = int(bits.ljust(-(-len(bits) // 8) * 8, "0"), 2).to_bytes(-(-len(bits) // 8), "big")
    payload = bytes([45, len(body)]) + body + b"\x80"
    kept, zeros = bytearray(), 0
    for byte in payload:
        if zeros >= 2 and byte <= 3:
            kept.append(3)
            zeros = 0
        kept.append(byte)
        zeros = zeros + 1 if byte == 0 else 0
    return (b"\x06" if encoder == "h264" else b"\x4e\x01") + bytes(kept)


def with_note(data: bytes, encoder: str, unit: bytes) -> bytes:
    """A packet of start codes with a unit before its first note or slice."""
    at = 0
    for found in re.finditer(b"\0?" + _START, data):
        kind = data[found.end()]
        at = found.start()
        if (kind & 31 if encoder == "h264" else kind >> 1 & 63) not in _LEFT_OUT[encoder]:
            break
    return data[:at] + b"\0\0\0\1" + unit + data[at:]
