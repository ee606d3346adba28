"""Sensor values as a sequence of DNG files, one a frame, and other frame sequences, with numbers left out on request."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any

import av
import numpy as np
import tifffile

from .camera import Array, Camera

BLACK, WHITE = 256, 4095
_CODECS = {"tif": ("tiff", "rgb48le"), "dpx": ("dpx", "gbrp10le"), "exr": ("exr", "gbrpf32le")}


def mosaic(camera: Camera, time: float, seed: int = 1, samples: int = 1) -> np.ndarray:
    """12-bit values under a red-green-green-blue filter, (height, width) uint16, with photon and read noise."""
    r = camera.recorder
    light = np.maximum(camera.light(time, samples), 0) * 2.0**r.exposure * r.full_well
    h, w = light.shape[:2]
    picked = np.empty((h, w))
    for y, x, channel in ((0, 0, 0), (0, 1, 1), (1, 0, 1), (1, 1, 2)):
        picked[y::2, x::2] = light[y::2, x::2, channel]
    noise = np.random.default_rng([seed, round(time * 1000)]).standard_normal((h, w))
    electrons = picked + noise * np.sqrt(picked + r.read_noise**2)
    return np.clip(BLACK + electrons / r.full_well * (WHITE - BLACK), 0, WHITE).astype(np.uint16)


def write_dng(path: Path, values: np.ndarray) -> None:
    """One frame of sensor values as an uncompressed DNG (version 1.4)."""
    tags = [
        (33421, "H", 2, (2, 2), True), (33422, "B", 4, bytes([0, 1, 1, 2]), True), (50706, "B", 4, bytes([1, 4, 0, 0]), True),
        (50707, "B", 4, bytes([1, 1, 0, 0]), True), (50708, "s", 0, "raw body", True), (50714, "H", 1, BLACK, True),
        (50717, "H", 1, WHITE, True),
    ]  # fmt: skip
    tifffile.imwrite(path, values, photometric=32803, metadata=None, extratags=tags)


def write_picture(path: Path, signal: Array) -> None:
    """One R′G′B′ frame (height, width, 3) of 0–1 as TIFF, DPX or EXR, by the name's ending."""
    codec, fmt = _CODECS[path.suffix[1:]]
    h, w = signal.shape[:2]
    if fmt == "gbrpf32le":
        frame = av.VideoFrame(w, h, fmt)
        for plane, channel in zip(frame.planes, (1, 2, 0), strict=True):
            line = plane.line_size // 4
            np.frombuffer(memoryview(plane), np.float32)[: h * line].reshape(h, line)[:, :w] = signal[..., channel]
    else:
        codes = (np.clip(signal, 0, 1) * 65535 + 0.5).astype(np.uint16)
        frame = av.VideoFrame.from_ndarray(codes, format="rgb48le").reformat(format=fmt)
    with av.open(str(path), "w", format="image2", options={"update": "1"}) as out:
        stream: Any = out.add_stream(codec, rate=25)
        stream.width, stream.height, stream.pix_fmt = w, h, fmt
        for packet in (*stream.encode(frame), *stream.encode(None)):
            out.mux(packet)


def shoot_sequence(
    camera: Camera, folder: Path, stem: str, ending: str, numbers: Iterable[int], samples: int = 1
) -> None:
    """Frames ``stem``.NNNN.``ending`` of the given numbers; number n shows the moment n/rate."""
    folder.mkdir(parents=True, exist_ok=True)
    for n in numbers:
        path, time = folder / f"{stem}.{n:04d}.{ending}", float(n / camera.rate)
        if ending == "dng":
            write_dng(path, mosaic(camera, time, samples=samples))
        else:
            write_picture(path, np.clip(camera.light(time, samples), 0, 1) ** (1 / 2.4 if ending != "exr" else 1.0))
