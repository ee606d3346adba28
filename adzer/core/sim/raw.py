"""Sensor values as a sequence of DNG files, one a frame, and other frame sequences, with numbers left out on request."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import cast

import av
import numpy as np

from ..light import names as colour_cards
from ..light.primaries import D65, adaptation, daylight, rgb_to_xyz, xy_to_xyz
from . import dng
from .camera import Array, Camera

BLACK, WHITE = 256, 4095
_CODECS = {"tif": ("tiff", "rgb48le"), "dpx": ("dpx", "gbrp10le"), "exr": ("exr", "gbrpf32le")}


@dataclass(frozen=True)
class Body:
    """A sensor and what its files say of it.

    warm, cold   XYZ → camera under light of 2856 K and 6504 K; ``kelvin``: of the light on the world, which the camera knows
    full         times the recorder's full well, of red, green and blue values
    hot, rows    share of values that are full whatever the light; standard deviation of what each row adds, in electrons
    """

    warm: tuple[float, ...] = (1.05, -0.38, -0.07, -0.42, 1.28, 0.16, -0.06, 0.18, 0.62)
    cold: tuple[float, ...] = (0.86, -0.26, -0.09, -0.47, 1.31, 0.18, -0.10, 0.24, 0.66)
    kelvin: float = 4800.0
    full: tuple[float, float, float] = (1.0, 1.0, 1.0)
    hot: float = 0.0
    rows: float = 0.0
    bits: int = 12
    order: str = "rggb"

    @property
    def to_camera(self) -> Array:
        """XYZ → camera under the world's light."""
        share = np.clip((1 / self.kelvin - 1 / 6504) / (1 / 2856 - 1 / 6504), 0, 1)
        return np.asarray(share * np.reshape(self.warm, (3, 3)) + (1 - share) * np.reshape(self.cold, (3, 3)))

    @property
    def neutral(self) -> Array:
        """What it says of white, its largest value 1."""
        seen = self.to_camera @ xy_to_xyz(daylight(self.kelvin))
        return np.asarray(seen / seen.max())

    def seen(self, light: Array) -> Array:
        """Light (…, 3) of BT.709 → the camera's own red, green and blue, 1 of green for white."""
        xy = daylight(self.kelvin)
        under = adaptation(D65, xy, "bradford") @ rgb_to_xyz(colour_cards.primaries("bt709"))
        matrix = self.to_camera @ under / (self.to_camera @ xy_to_xyz(xy)).max()
        return np.maximum(light @ matrix.T, 0)

    def writing(self, camera: Camera) -> dng.Writing:
        """How its frames are written."""
        rationals = [tuple(map(dng.rational, m)) for m in (self.warm, self.cold, self.neutral.tolist())]
        more: tuple[dng.Tag, ...] = (
            (50778, "H", 17), (50779, "H", 21), (50721, "r", rationals[0]), (50722, "r", rationals[1]), (50728, "R", rationals[2]),
            (51044, "r", (camera.rate.numerator, camera.rate.denominator)),
        )  # fmt: skip
        return dng.Writing(order=self.order, bits=self.bits, black=(float(BLACK),), white=WHITE, more=more)


def mosaic(camera: Camera, time: float, seed: int = 1, samples: int = 1, body: Body | None = None) -> np.ndarray:
    """12-bit values under the body's filter, (height, width) uint16, with photon and read noise, hot values and unequal rows."""
    r, body = camera.recorder, body or Body()
    light = body.seen(np.maximum(camera.light(time, samples), 0)) * 2.0**r.exposure
    h, w = light.shape[:2]
    picked, full = np.empty((h, w)), np.empty((h, w))
    for i, letter in enumerate(body.order):
        c = "rgb".index(letter)
        picked[i // 2 :: 2, i % 2 :: 2] = light[i // 2 :: 2, i % 2 :: 2, c] * r.full_well
        full[i // 2 :: 2, i % 2 :: 2] = body.full[c] * r.full_well
    picked = np.minimum(picked, full)  # a well that is full takes no more
    noise = np.random.default_rng([seed, round(time * 1000)]).standard_normal((h, w))
    electrons = picked + noise * np.sqrt(picked + r.read_noise**2)
    fixed = np.random.default_rng([seed, 99])  # the same in every frame
    electrons += body.rows * fixed.standard_normal((h, 1))
    values = BLACK + electrons / r.full_well * (WHITE - BLACK)
    values[fixed.random((h, w)) < body.hot] = WHITE
    return np.clip(values, 0, WHITE).astype(np.uint16)


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
        stream = cast(av.VideoStream, out.add_stream(codec, rate=25))
        stream.width, stream.height, stream.pix_fmt = w, h, fmt
        for packet in (*stream.encode(frame), *stream.encode(None)):
            out.mux(packet)


def shoot_sequence(
    camera: Camera, folder: Path, stem: str, ending: str, numbers: Iterable[int], samples: int = 1, body: Body | None = None
) -> None:
    """Frames ``stem``.NNNN.``ending`` of the given numbers; number n shows the moment n/rate."""
    folder.mkdir(parents=True, exist_ok=True)
    body = body or Body()
    for n in numbers:
        path, time = folder / f"{stem}.{n:04d}.{ending}", float(n / camera.rate)
        if ending == "dng":
            dng.write(path, mosaic(camera, time, samples=samples, body=body), body.writing(camera))
        else:
            write_picture(path, np.clip(camera.light(time, samples), 0, 1) ** (1 / 2.4 if ending != "exr" else 1.0))
