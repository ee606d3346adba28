"""Reading a master back: is it what was ordered? Only a file that passes gets its name."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import msgspec
import numpy as np

from .compile import Order, RenderPlan, sound_span
from .errors import AdzerError
from .media import audio, probe
from .media.decode import Reader
from .media.encode import TAG_CURVES, TAG_PRIMARIES
from .media.formats import Plane

LOOKS = 24
LEVEL_STRIDE = 8
AUDIO_REACH = Fraction(1, 4)
AUDIO_SLACK = Fraction(1, 500)


class Check(msgspec.Struct, frozen=True):
    """One comparison, in words with both numbers."""

    name: str
    passed: bool
    text: str


class Report(msgspec.Struct, frozen=True):
    checks: tuple[Check, ...]
    checksum: str
    size: int
    frames: int
    duration: float
    raster: tuple[int, int]

    @property
    def passed(self) -> bool:
        return all(c.passed for c in self.checks)


def mean_levels(planes: tuple[Plane, ...], raster: tuple[int, int], sub: tuple[int, int]) -> tuple[float, float, float]:
    """Mean code of each plane on a coarse grid: enough to know a frame again."""
    w, h = raster
    sx, sy = sub
    sizes = [(w, h), (-(-w // sx), -(-h // sy)), (-(-w // sx), -(-h // sy))]
    y, b, r = (
        float(p[: s[1] : LEVEL_STRIDE, : s[0] : LEVEL_STRIDE].mean()) for p, s in zip(planes, sizes, strict=False)
    )
    return round(y, 3), round(b, 3), round(r, 3)


def check(path: Path, plan: RenderPlan, order: Order, levels: list[tuple[float, float, float]]) -> Report:
    """Frame count, raster, samples, tags, every time stamp, timecode, sound offset, levels of sampled frames."""
    checks: list[Check] = []

    def compare(name: str, wanted: object, found: object, passed: bool | None = None) -> None:
        ok = wanted == found if passed is None else passed
        checks.append(Check(name, ok, f"{name} {found}" if ok else f"{name} is {found}, {wanted} was ordered"))

    try:
        facts = probe.probe(path)
    except AdzerError as error:
        return Report((Check("opens", False, str(error)),), "", path.stat().st_size, 0, 0.0, (0, 0))
    spec = plan.spec
    compare("frames", len(plan.timing), facts.frames)
    compare("raster", f"{spec.raster[0]}×{spec.raster[1]}", f"{facts.raster[0]}×{facts.raster[1]}")
    compare("samples", f"{spec.bits}-bit {spec.chroma}", f"{facts.bits}-bit {facts.chroma}")
    for name, wanted, found, known in (
        ("curve", spec.tags.curve, facts.curve, TAG_CURVES),
        ("primaries", spec.tags.primaries, facts.primaries, TAG_PRIMARIES),
        ("matrix", spec.tags.matrix, facts.matrix, None),
        ("range", spec.tags.range, facts.range, None),
    ):
        if known is not None and wanted is not None:
            compare(name, wanted, found, found == wanted or known.get(wanted) == known.get(found or ""))
        else:
            compare(name, wanted, found)
    if spec.pixel_aspect == 1:
        compare(
            "pixel aspect",
            "1/1",
            str(facts.pixel_aspect or "1")
            + ("" if facts.pixel_aspect and facts.pixel_aspect.denominator > 1 else "/1"),
        )
    _check_time(checks, path, plan, facts)
    if plan.timecode and path.suffix in (".mov", ".mp4", ".mkv"):
        compare("timecode", plan.timecode, facts.timecode)
    compare("sound streams", len(order.facts.audio), len(facts.audio))
    if facts.audio and order.facts.audio:
        _check_sound(checks, path, plan, order, facts)
    if facts.frames == len(plan.timing):
        _check_levels(checks, path, levels, spec.bits)
    return Report(
        tuple(checks),
        probe.checksum(path),
        path.stat().st_size,
        facts.frames,
        round(float(facts.duration), 6),
        facts.raster,
    )


def _check_time(checks: list[Check], path: Path, plan: RenderPlan, facts: probe.FileFacts) -> None:
    index = probe.scan(path, facts.fingerprint)
    found = (index.pts - index.pts[0]).astype(np.float64) * float(facts.time_base)
    wanted = plan.timing.stamps.astype(np.float64) * float(plan.timing.time_base)
    if len(found) == len(wanted):
        worst = float(np.abs(found - wanted).max())
        slack = float(facts.time_base) + 1e-9
        checks.append(Check("time stamps", worst <= slack, f"time stamps are off by {worst * 1000:.2f} ms at most"))


def _check_sound(checks: list[Check], path: Path, plan: RenderPlan, order: Order, facts: probe.FileFacts) -> None:
    start, stop = sound_span(order, plan)
    seconds = min((stop - start) / order.speed, Fraction(20))
    rate = 48000
    before = audio.mono(plan.source, start, seconds, rate, order.speed)
    after = audio.mono(path, facts.start, seconds, rate)
    if float(np.abs(before).max(initial=0)) < 1e-4:
        checks.append(Check("sound offset", True, "sound is silent, its offset cannot be heard"))
        return
    lag, alike = audio.shift(before, after, min(int(AUDIO_REACH * rate), len(before) // 2))
    ok = abs(lag) <= AUDIO_SLACK * rate and alike > 0.5
    checks.append(Check("sound offset", ok, f"sound is {lag / rate * 1000:+.2f} ms off and {alike:.0%} alike"))


def _check_levels(checks: list[Check], path: Path, levels: list[tuple[float, float, float]], bits: int) -> None:
    slack = 1.5 * 2 ** (bits - 8)
    worst, at = 0.0, 0
    with Reader(path) as reader:
        for n in sorted({round(i) for i in np.linspace(0, len(levels) - 1, min(LOOKS, len(levels)))}):
            frame = reader.frame(n)
            found = mean_levels(frame.planes, frame.raster, frame.format.sub)
            off = max(abs(a - b) for a, b in zip(found, levels[n], strict=True))
            worst, at = max((worst, at), (off, n))
    checks.append(Check("levels", worst <= slack, f"mean levels differ by {worst:.2f} codes at most (frame {at})"))
