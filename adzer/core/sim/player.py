"""A stand-in player: what somebody sees of a file, by a player that heeds its tags and by one that does not.

It knows nothing of how masters are made: the library reads the file and its tags (``media.told``), and the picture is laid out by formulas
of its own.
"""

from __future__ import annotations

from pathlib import Path

import av
import numpy as np
from numpy.typing import NDArray

from ..errors import UnreadableError
from ..media.told import Told, told

Picture = NDArray[np.uint8]

WINDOW = (16, 9)  # of the screen
ACROSS = 90.0  # degrees that the player's window shows of a sphere
SQUEEZED = 2.4  # width over height of a picture that holds two eyes beside each other, up to which each must be squeezed


def shown(path: Path, heeds: bool = True, heading: float = 0.0, tilt: float = 0.0, wide: int = 640) -> dict[str, Picture]:
    """Pictures (rows, ``wide``, 3) of the first frame for the ``left`` and the ``right`` eye; the same one if the player shows both alike.
    ``heading`` and ``tilt``: degrees that somebody looks to the right and up, in what can be looked around in.

    UnreadableError if it is no recording."""
    with av.open(str(path)) as container:
        frame = next(container.decode(video=0), None)
    if frame is None:
        raise UnreadableError(f"{path} holds no picture. Give another file.")
    picture, said = np.asarray(frame.to_ndarray(format="rgb24"), np.uint8), told(path)
    size = (wide, wide * WINDOW[1] // WINDOW[0])
    if not heeds or (said.projection is None and said.eyes in (None, "one")):
        flat = _fitted(picture, picture.shape[1] / picture.shape[0], size)
        return {"left": flat, "right": flat}
    return {eye: _for_eye(picture, said, eye, heading, tilt, size) for eye in ("left", "right")}


def _for_eye(picture: Picture, said: Told, eye: str, heading: float, tilt: float, size: tuple[int, int]) -> Picture:
    h, w = picture.shape[:2]
    half, aspect = picture, w / h
    if said.eyes in ("side by side", "over under"):
        second = eye != said.first
        if said.eyes == "side by side":
            half, aspect = picture[:, w // 2 :] if second else picture[:, : w // 2], aspect if aspect < SQUEEZED else aspect / 2
        else:
            half, aspect = picture[h // 2 :] if second else picture[: h // 2], aspect if aspect > 1.2 else aspect * 2
    if said.projection is None:
        return _fitted(half, aspect, size)
    return _looked(half, said.bounds or (0.0, 0.0, 0.0, 0.0), heading, tilt, size)


def _looked(sphere: Picture, bounds: tuple[float, float, float, float], heading: float, tilt: float, size: tuple[int, int]) -> Picture:
    """A straight view out of a sphere laid flat, of which ``bounds`` are cut off; black beyond."""
    from scipy.ndimage import map_coordinates

    (w, h), (rows, columns) = size, sphere.shape[:2]
    reach = np.tan(np.radians(ACROSS / 2))
    x, y = np.meshgrid(((np.arange(w) + 0.5) / w * 2 - 1) * reach, (1 - (np.arange(h) + 0.5) / h * 2) * reach * h / w)
    up, level = y * np.cos(np.radians(tilt)) + np.sin(np.radians(tilt)), np.cos(np.radians(tilt)) - y * np.sin(np.radians(tilt))
    around = np.arctan2(x, level) / (2 * np.pi) + heading / 360  # turns
    high = np.arctan2(up, np.hypot(x, level)) / np.pi  # half turns
    top, bottom, left, right = bounds
    u = (((around + 0.5) % 1.0) - left) / (1 - left - right)
    v = ((0.5 - high) - top) / (1 - top - bottom)
    wrapped = "grid-wrap" if left + right == 0 else "nearest"
    seen = [map_coordinates(sphere[..., c].astype(float), [v * rows - 0.5, u * columns - 0.5], order=1, mode=wrapped) for c in range(3)]
    inside = (u >= 0) & (u <= 1) & (v >= 0) & (v <= 1)
    return np.asarray(np.where(inside[..., None], np.stack(seen, axis=-1), 0).round(), np.uint8)


def _fitted(picture: Picture, aspect: float, size: tuple[int, int]) -> Picture:
    """The whole of it, ``aspect`` times as wide as high, in the middle of the window."""
    import cv2

    w, h = size
    wide, high = (w, max(1, round(w / aspect))) if aspect > w / h else (max(1, round(h * aspect)), h)
    made = np.zeros((h, w, 3), np.uint8)
    top, left = (h - high) // 2, (w - wide) // 2
    made[top : top + high, left : left + wide] = cv2.resize(picture, (wide, high), interpolation=cv2.INTER_AREA)
    return made
