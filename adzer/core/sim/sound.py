"""The mill's voice: a knock each time a sail passes its lowest point, over wind. Mono, 48 kHz."""

from __future__ import annotations

import wave as wave_file
from pathlib import Path

import av
import numpy as np
from av.container import OutputContainer
from numpy.typing import NDArray

from . import world

RATE = 48000


def knocks(until: float) -> list[float]:
    """Times of the knocks in seconds."""
    quarter = np.pi / 2
    first = (-0.35 - np.pi / 2) % quarter / world.SAIL_SPEED
    return list(np.arange(first, until, quarter / world.SAIL_SPEED))


def wave(start: int, count: int) -> NDArray[np.float32]:
    """Samples ``start`` … ``start+count−1``; the same wherever it is cut."""
    t = (start + np.arange(count)) / RATE
    out = np.zeros(count)
    for at in knocks(float(t[-1]) if count else 0.0):
        dt = t - at
        ring = np.where(dt >= 0, np.exp(-np.maximum(dt, 0) * 18.0), 0.0)
        out += 0.35 * ring * (np.sin(2 * np.pi * 180 * dt) + 0.6 * np.sin(2 * np.pi * 431 * dt))
    n = (start + np.arange(count)).astype(np.uint64)
    noise = ((n * np.uint64(2654435761) >> np.uint64(7)) & np.uint64(0xFFFF)).astype(np.float64) / 65535 - 0.5
    return (out + 0.01 * noise).astype(np.float32)


def write_wav(path: Path, seconds: float) -> None:
    """The voice alone, 16 bits, as a separate recorder keeps it."""
    with wave_file.open(str(path), "wb") as out:
        out.setnchannels(1)
        out.setsampwidth(2)
        out.setframerate(RATE)
        out.writeframes((wave(0, int(seconds * RATE)) * 32767).astype("<i2").tobytes())


class Voice:
    """Writes the voice into an open container, alongside the picture."""

    def __init__(self, container: OutputContainer, kind: str) -> None:
        self.container = container
        self.stream = container.add_stream("pcm_s16le" if kind == "mov" else "aac", rate=RATE, layout="mono")
        self.done = 0

    def write_until(self, seconds: float, last: bool = False) -> None:
        end = int(seconds * RATE)
        while self.done + 1024 <= end:
            self._write(1024)
        if last and end > self.done:
            self._write(end - self.done)

    def _write(self, count: int) -> None:
        frame = av.AudioFrame.from_ndarray(wave(self.done, count)[None], format="fltp", layout="mono")
        frame.sample_rate, frame.pts = RATE, self.done
        for packet in self.stream.encode(frame):
            self.container.mux(packet)
        self.done += count

    def close(self) -> None:
        for packet in self.stream.encode(None):
            self.container.mux(packet)
