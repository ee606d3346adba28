"""What a delivered file is to be: its samples, encoder and tags, and what therefore has to be found in it again."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction

from .cards import DeliveryCard
from .light.samples import Samples
from .media.boxes import SphereTags
from .media.encode import TAG_CURVES, TAG_PRIMARIES, VideoSpec, VideoTags
from .media.formats import PixelFormat
from .media.probe import FileFacts
from .pace import Paced

Pair = tuple[int, int]


@dataclass(frozen=True)
class Wanted:
    """One thing that a finished file says of itself. ``alike``: may two words mean the same?"""

    name: str
    value: str
    found: Callable[[FileFacts], str]
    alike: Callable[[str, str], bool] = lambda a, b: a == b


@dataclass(frozen=True)
class Target:
    """``gop_seconds``: from keyframe to keyframe; ``turn``: degrees clockwise that players are asked to turn it by.

    shown    what the container tells players of sphere and eyes; ``packed``: how two eyes lie and which is first, as the coded pictures say;
             ``half``: each is squeezed into its half
    """

    samples: Samples
    encoder: str
    options: tuple[tuple[str, str], ...]
    gop_seconds: float
    tags: VideoTags
    pixel_aspect: Fraction = Fraction(1)
    turn: int = 0
    shown: SphereTags | None = None
    packed: tuple[str, str] | None = None
    half: bool = False

    @staticmethod
    def of(card: DeliveryCard) -> Target:
        samples = Samples(PixelFormat(card.bits, card.chroma), card.matrix, card.range == "limited", card.sited)
        tags = VideoTags(card.curve, card.primaries, card.matrix, card.range, card.sited)
        return Target(samples, card.encoder, tuple(card.options.items()), card.gop_seconds, tags)

    def spec(self, raster: Pair, when: Paced) -> VideoSpec:
        form = self.samples.format
        return VideoSpec(
            encoder=self.encoder, raster=raster, bits=form.bits, chroma=form.chroma, rate=when.rate, time_base=when.time_base,
            gop=max(1, round(self.gop_seconds * when.rate)), options=dict(self.options), tags=self.tags, pixel_aspect=self.pixel_aspect,
            packed=self.packed,
        )  # fmt: skip

    def wanted(self, raster: Pair, when: Paced, timecode: str | None, sounds: int) -> list[Wanted]:
        """What the file is asked for. A check of a new kind of master is a line here."""
        form, tags = self.samples.format, self.tags
        wanted = [
            Wanted("frames", str(len(when)), lambda f: str(f.frames)),
            Wanted("raster", f"{raster[0]}×{raster[1]}", lambda f: f"{f.raster[0]}×{f.raster[1]}"),
            Wanted("samples", f"{form.bits}-bit {form.chroma}", lambda f: f"{f.bits}-bit {f.chroma}"),
            Wanted("curve", str(tags.curve), lambda f: str(f.curve), _same_number(TAG_CURVES)),
            Wanted("primaries", str(tags.primaries), lambda f: str(f.primaries), _same_number(TAG_PRIMARIES)),
            Wanted("matrix", str(tags.matrix), lambda f: str(f.matrix)),
            Wanted("range", str(tags.range), lambda f: str(f.range)),
        ]
        if self.pixel_aspect == 1:
            wanted.append(Wanted("pixel aspect", "1/1", lambda f: "/".join(map(str, (f.pixel_aspect or Fraction(1)).as_integer_ratio()))))
        if (s := self.shown) is not None:
            wanted.append(Wanted("sphere" if s.projection else "eyes", _said(s), lambda f: "nothing" if f.sphere is None else _said(f.sphere)))
        wanted.append(Wanted("turn", f"{self.turn % 360}°", lambda f: f"{-f.rotation % 360}°" + (f", {f.odd_matrix}" if f.odd_matrix else "")))
        if timecode:
            wanted.append(Wanted("timecode", timecode, lambda f: str(f.timecode)))
        return [*wanted, Wanted("sound streams", str(sounds), lambda f: str(len(f.audio)))]


def _said(s: SphereTags) -> str:
    """equirectangular, 180° across, side by side, left first"""
    eyes = "one eye" if s.eyes in (None, "one") else f"{s.eyes}, {s.first} first"
    if s.projection is None:
        return eyes
    return f"{s.projection}, {360 * (1 - s.bounds[2] - s.bounds[3]):.0f}° across, {180 * (1 - s.bounds[0] - s.bounds[1]):.0f}° high, {eyes}"


def _same_number(numbers: dict[str, int]) -> Callable[[str, str], bool]:
    """Two names of one code point of H.273 cannot be told apart in a file."""
    return lambda a, b: a == b or (a in numbers and numbers[a] == numbers.get(b))
