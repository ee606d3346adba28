"""Shared footage: the committed demo clips, and small synthetic ones that are written once a session."""

from __future__ import annotations

import hashlib
import os
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, settings
from xdist.scheduler import LoadScopeScheduling

from adzer.core.media.encode import VideoSpec, VideoTags, Writer
from adzer.core.sim.demo import CLIPS

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
settings.register_profile(
    "adzer", deadline=None, max_examples=40, derandomize=True, suppress_health_check=list(HealthCheck)
)
settings.load_profile("adzer")


class _ByFootage(LoadScopeScheduling):
    """Tests of a file that shares footage within itself run in one process, so that it is made once; all others one by one."""

    def _split_scope(self, nodeid: str) -> str:
        file = nodeid.partition("::")[0]
        return file if 'scope="module"' in (self.config.rootpath / file).read_text() else nodeid


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_make_scheduler(config: pytest.Config, log: object) -> _ByFootage:
    return _ByFootage(config, log)


@pytest.fixture(scope="session", autouse=True)
def own_home(tmp_path_factory: pytest.TempPathFactory):
    """Caches, settings and cards of the tests never touch the person's own."""
    home = tmp_path_factory.mktemp("home")
    for name in ("XDG_CACHE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME"):
        os.environ[name] = str(home / name)


@pytest.fixture(scope="session", autouse=True)
def sources_untouched():
    """Sources are hashed before and after the whole run."""
    before = {p: hashlib.sha256(p.read_bytes()).hexdigest() for p in CLIPS.rglob("*") if p.is_file()}
    yield
    after = {p: hashlib.sha256(p.read_bytes()).hexdigest() for p in CLIPS.rglob("*") if p.is_file()}
    assert before == after


@pytest.fixture(scope="session")
def scope_clip() -> Path:
    return CLIPS / "sails-wide.mov"


@pytest.fixture(scope="session")
def phone_clip() -> Path:
    return CLIPS / "by-the-canal.mp4"


def parts_folder(out: Path) -> Path:
    """The folder of segments beside a master-to-be; of a name that nothing has if there is none."""
    from adzer.core.run.parts import folders

    return next(iter(folders(out)), out.with_name("there is none"))


def picture(n: int, w: int, h: int, top: int) -> list[np.ndarray]:
    """A frame that cannot be taken for its neighbours: ramps that move with ``n``, and its number in bright bars."""
    x, y = np.meshgrid(np.arange(w), np.arange(h))
    luma = (0.2 + 0.5 * ((x + 3 * n) % w) / w + 0.1 * y / h) * top
    for bit in range(8):
        luma[4:12, 4 + bit * 10 : 12 + bit * 10] = top * (0.85 if n >> bit & 1 else 0.1)
    return [luma, np.full_like(luma, 0.5 * top) + 0.1 * top * np.sin(x / 9), np.full_like(luma, 0.5 * top)]


def frame_number(luma: np.ndarray, scale: float, top: int) -> int:
    """Reads the number back off a delivered luma plane that is ``scale`` as large."""
    total = 0
    for bit in range(8):
        y, x = int(8 * scale), int((8 + bit * 10) * scale)
        total |= int(luma[y, x] > 0.5 * top) << bit
    return total


def write_clip(
    path: Path, frames: int, raster=(192, 108), encoder="h264", bits=8, chroma="4:2:0", rate=Fraction(25), stamps=None,
    time_base=None, options=None, tags=None, gop=12, timecode=None, sound=False,
) -> Path:  # fmt: skip
    """A clip of ``picture`` frames with any encoding that the product can write."""
    base = time_base or 1 / rate
    chosen = options if options is not None else {"crf": "12"} if "26" in encoder else {}
    spec = VideoSpec(
        encoder, raster, bits, chroma, rate, base, tags or VideoTags("bt709", "bt709", "bt709", "limited"), gop, chosen
    )
    with Writer(path, spec, timecode=timecode) as writer:
        voice = None
        if sound:
            from adzer.core.sim.sound import Voice

            voice = Voice(writer.container, "mov" if path.suffix == ".mov" else "mp4")
        for n in range(frames):
            frame, target = writer.blank()
            for i, plane in enumerate(picture(n, *raster, (1 << bits) - 1)):
                sx, sy = spec.format.sub if i else (1, 1)
                part = plane[::sy, ::sx]
                target[i][: part.shape[0], : part.shape[1]] = part.astype(spec.format.dtype)
            stamp = stamps[n] if stamps else n
            writer.write(frame, stamp)
            if voice:
                voice.write_until(float((stamp + 1) * base), last=n == frames - 1)
        if voice:
            voice.close()
    return path


@pytest.fixture(scope="session")
def small_clip(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """60 numbered frames with B-frames, sound and timecode."""
    return write_clip(tmp_path_factory.mktemp("clips") / "small.mov", 60, timecode="01:00:00:00", sound=True)
