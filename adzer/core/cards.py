"""Cards: small TOML files that describe one thing of the world. Shipped ones are generic; people add their own.

A card's name is its file's name without ``.toml``; a person's card of the same name beats the shipped one.
``docs/cards.md`` documents every key.
"""

from __future__ import annotations

import math
import os
import tomllib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from fractions import Fraction
from functools import lru_cache
from pathlib import Path
from typing import Annotated, Any, Literal, TypeVar

import msgspec
import numpy as np
import platformdirs
from msgspec import Meta

from . import records
from .errors import UnreadableError
from .media import options, small

SHIPPED = Path(__file__).resolve().parent.parent / "cards"
MAX_BYTES = 1_000_000

XY = tuple[Annotated[float, Meta(ge=-1, le=2)], Annotated[float, Meta(ge=-1, le=2)]]
White = tuple[Annotated[float, Meta(gt=0.1, le=0.6)], Annotated[float, Meta(gt=0.1, le=0.6)]]
Edge = Annotated[float, Meta(ge=0.0, le=0.45)]
Side = Annotated[int, Meta(ge=16, le=16384, multiple_of=2)]  # of a raster
Readout = Annotated[float, Meta(ge=-100, le=100)]  # milliseconds from the first row to the last; below 0 upwards
Positive = Annotated[float, Meta(gt=0, le=1e6)]


class CurveCard(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A transfer curve with every constant open; see ``colour.curves`` for the forms."""

    title: str
    form: Literal["lin-log", "mirrored-log", "power-toe", "table"]
    a: float = 1.0
    b: float = 0.0
    c: float = 1.0
    d: float = 0.0
    e: float = 0.0
    f: float = 0.0
    g: float = 1.0
    cut: float = 0.0
    linear: tuple[float, ...] = ()
    signal: tuple[float, ...] = ()
    levels: Literal["signal", "code"] = "signal"
    primaries: str | None = None
    note: str = ""


class PrimariesCard(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    title: str
    red: XY
    green: XY
    blue: XY
    white: White
    note: str = ""


class LensCard(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """``squeeze`` focused far away; ``focus``: pairs of metres and the squeeze there, nearest first. ``bent``: k1, k2 … by
    which straight lines are bent (``shape.sphere.Flat``). ``view``: degrees that it sees across the desqueezed picture, and ``readout``:
    milliseconds from the first row read out to the last, on the camera that it was measured on; None: the footage is asked."""

    title: str
    squeeze: Annotated[float, Meta(ge=1, le=4)]
    note: str = ""
    focus: tuple[tuple[Annotated[float, Meta(gt=0)], Annotated[float, Meta(ge=1, le=4)]], ...] = ()
    bent: Annotated[tuple[Annotated[float, Meta(ge=-1, le=1)], ...], Meta(max_length=3)] = ()
    view: Annotated[float, Meta(ge=5, le=150)] | None = None
    readout: Readout | None = None

    def squeeze_at(self, metres: float | None) -> float:
        """Between the card's distances it goes evenly with 1/distance, as a lens's travel does; beyond the nearest it holds."""
        if metres is None or not self.focus:
            return self.squeeze
        near = sorted((1 / m, s) for m, s in self.focus)
        return float(np.interp(1 / metres, [0.0, *(d for d, _ in near)], [self.squeeze, *(s for _, s in near)]))


Black = Annotated[float, Meta(ge=-0.1, le=0.1)]


class RigLens(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A round lens in the picture of both: ``x``, ``y`` and ``radius`` as shares of its height; ``across`` and ``bend`` as of
    ``sphere.Lens``."""

    x: Annotated[float, Meta(ge=-1, le=5)]
    y: Annotated[float, Meta(ge=-1, le=5)]
    radius: Annotated[float, Meta(gt=0, le=4)]
    across: Annotated[float, Meta(ge=60, le=280)]
    bend: Annotated[tuple[Annotated[float, Meta(ge=-1, le=1)], ...], Meta(max_length=4)] = ()


class RigCard(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How two round lenses of a camera stand: ``turn``, ``gain``, ``black``, ``falls`` and ``error`` as of ``JoinSettings``; ``base``: metres
    between them; ``variant``: what the camera is in, or has before it, where that makes other lenses of them; ``readout`` as of ``LensCard``;
    ``whole``: degrees by which directions may be off over the whole of each lens, None: only where both see was looked at."""

    title: str
    lenses: tuple[RigLens, RigLens]
    turn: tuple[float, float, float]
    gain: tuple[Positive, Positive, Positive]
    error: Annotated[float, Meta(ge=0, le=180)]
    black: tuple[Black, Black, Black] = (0.0, 0.0, 0.0)
    falls: Annotated[float, Meta(ge=-2, le=4)] = 0.0
    base: Annotated[float, Meta(gt=0, le=2)] | None = None
    note: str = ""
    variant: Annotated[str, Meta(max_length=80)] = ""
    readout: Readout | None = None
    whole: Annotated[float, Meta(ge=0, le=180)] | None = None


class DeliveryCard(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a place that shows the picture asks for.

    ``shape``: width and height, where it has a shape of its own; ``title_safe``: share of width and height within which
    titles are surely seen; ``exact``: the file has ``max_raster``, whatever lies in it; ``rasters``: others that the place
    takes; ``shows``: flat pictures, or whole spheres that can be looked around in; ``covered``: shares at left, top, right and
    bottom that a usual player lays its own things over.
    """

    title: str
    codec: str
    encoder: Literal["h264", "h265", "st2019", "ffv1"]
    container: Literal["mp4", "mov", "mkv"]
    bits: Literal[8, 10]
    chroma: Literal["4:2:0", "4:2:2"]
    hold: Literal["native", "frame"]
    max_raster: tuple[Side, Side]
    audio: Literal["aac", "pcm_s24le", "flac"]
    why: str
    curve: str = "bt709"
    primaries: str = "bt709"
    matrix: Literal["bt709", "bt2020"] = "bt709"
    range: Literal["limited", "full"] = "limited"
    siting: Literal["left", "center", "topleft"] = "left"
    gop_seconds: Annotated[float, Meta(gt=0, le=20)] = 2.0
    audio_kbits: Annotated[int, Meta(ge=32, le=512)] = 256
    options: dict[str, str] = {}
    others: str = ""
    exact: bool = False
    rasters: Annotated[tuple[tuple[Side, Side], ...], Meta(max_length=12)] = ()
    shows: Literal["flat", "spheres"] = "flat"
    shape: tuple[Annotated[int, Meta(ge=1, le=100)], Annotated[int, Meta(ge=1, le=100)]] | None = None
    title_safe: Annotated[float, Meta(ge=0.2, le=1.0)] | None = None
    covered: tuple[Edge, Edge, Edge, Edge] = (0.0, 0.0, 0.0, 0.0)

    @property
    def wanted(self) -> Fraction | None:
        """The shape that this place shows, width over height; None: whatever the shot is given."""
        return Fraction(*self.shape) if self.shape else None

    @property
    def sited(self) -> str:
        """Where its chroma lies; at every line it can only lie at the left."""
        return self.siting if self.chroma == "4:2:0" else "left"


class Decodes(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One thing that a kind of player decodes in hardware: a codec up to a depth, with these chromas, up to a size."""

    codec: str
    bits: Annotated[int, Meta(ge=8, le=16)]
    chroma: tuple[Literal["4:2:0", "4:2:2", "4:4:4"], ...]
    max_raster: tuple[Annotated[int, Meta(ge=16, le=16384)], Annotated[int, Meta(ge=16, le=16384)]]
    max_rate: Annotated[float, Meta(gt=0, le=1000)] = 60.0


class PlayerCard(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a kind of device plays without effort; ``shows``: what it does not only play flat, if the file says so."""

    title: str
    decodes: tuple[Decodes, ...]
    why: str = ""
    shows: tuple[Literal["spheres", "pairs"], ...] = ()


Card = CurveCard | PrimariesCard | LensCard | RigCard | DeliveryCard | PlayerCard
KINDS: dict[str, type] = {
    "curves": CurveCard, "primaries": PrimariesCard, "lenses": LensCard, "rigs": RigCard, "deliveries": DeliveryCard,
    "copies": DeliveryCard, "players": PlayerCard,
}  # fmt: skip
C = TypeVar("C")


def own_folder() -> Path:
    """Where a person's own cards live, one folder a kind."""
    return _own_folder(os.environ.get("XDG_CONFIG_HOME"))


@lru_cache(maxsize=4)
def _own_folder(_: str | None) -> Path:
    return platformdirs.user_config_path("adzer") / "cards"


def _finite(value: object, where: str) -> None:
    if isinstance(value, float) and not math.isfinite(value):
        raise UnreadableError(f"{where} holds a number that is not finite. Write an ordinary number there.")
    for part in value.values() if isinstance(value, dict) else value if isinstance(value, list) else ():
        _finite(part, where)


def read_card(path: Path, kind: str | None = None) -> Card:
    """The card in ``path``; its kind is given, or is the name of its folder. UnreadableError names file and fault."""
    kind = kind or path.parent.name
    if kind not in KINDS:
        raise UnreadableError(f"{path}: a card lies in a folder named after its kind: {', '.join(KINDS)}.")
    try:
        plain = tomllib.loads(small.text(path, MAX_BYTES, "a card"))
        _finite(plain, str(path))
    except (ValueError, RecursionError) as error:  # what is no TOML, numbers of thousands of digits, tables within tables within tables
        raise UnreadableError(f"{path} is not a TOML text: {error}.") from None
    try:
        card: Card = records.converted(plain, KINDS[kind], strict=False)
    except (msgspec.MsgspecError, ValueError, OverflowError, RecursionError) as error:
        raise UnreadableError(f"{path}: {records.plainly(error)}. docs/cards.md says what a card of this kind holds.") from None
    if isinstance(card, DeliveryCard):
        options.check(card.encoder, card.options, str(path))
    return card


def kind_of(path: Path) -> str:
    """The kind of the card in a file that lies outside a kind's folder, by the keys it has."""
    if path.parent.name in KINDS:
        return path.parent.name
    try:
        keys = set(tomllib.loads(small.text(path, MAX_BYTES, "a card")))
    except (UnreadableError, ValueError, RecursionError):
        return "curves"
    for mark, kind in (("decodes", "players"), ("encoder", "deliveries"), ("squeeze", "lenses"), ("turn", "rigs"), ("red", "primaries")):
        if mark in keys:
            return kind
    return "curves"


def _files(kind: str) -> Iterator[Path]:
    for folder in (SHIPPED / kind, own_folder() / kind):
        if folder.is_dir():
            yield from sorted(folder.glob("*.toml"))


_settled: ContextVar[dict[object, Any] | None] = ContextVar("settled", default=None)


@contextmanager
def settled() -> Iterator[None]:
    """Within, the folders are looked at once: whoever asks for many cards in one go does not wait for the disk each time."""
    token = _settled.set({} if _settled.get() is None else _settled.get())
    try:
        yield
    finally:
        _settled.reset(token)


def _once(key: object, ask: Callable[[], C]) -> C:
    held = _settled.get()
    if held is None:
        return ask()
    if key not in held:
        held[key] = ask()
    return held[key]


def stamp(kind: str) -> tuple[str, float, float]:
    """Changes when a card of a kind comes or goes."""
    return _once(kind, lambda: _stamp(kind))


def _stamp(kind: str) -> tuple[str, float, float]:
    own = own_folder() / kind
    try:
        touched = own.stat().st_mtime
    except OSError:
        touched = 0.0
    shipped = SHIPPED / kind
    return str(own), shipped.stat().st_mtime if shipped.is_dir() else 0.0, touched


def paths(kind: str) -> dict[str, Path]:
    """Name → file of every card of a kind, a person's own last and so first in right."""
    return _paths(kind, stamp(kind))


@lru_cache(maxsize=16)
def _paths(kind: str, _: tuple[str, float, float]) -> dict[str, Path]:
    return {path.stem: path for path in _files(kind)}


@lru_cache(maxsize=256)
def _cached(path: Path, kind: str, stamp: float) -> Card:
    return read_card(path, kind)


_pinned: ContextVar[dict[str, Card]] = ContextVar("pinned")


@contextmanager
def pinned(held: dict[str, Card]) -> Iterator[None]:
    """Within, cards named ``kind/name`` in ``held`` are these and no others: a frozen order keeps its own."""
    token = _pinned.set(held)
    try:
        yield
    finally:
        _pinned.reset(token)


def _changed(path: Path) -> float | None:
    """When a file was last written; None if it is not there."""
    try:
        return path.stat().st_mtime
    except OSError:
        return None


def find(kind: str, name: str, type_: type[C]) -> C:
    """The card of that name (or file path); UnreadableError lists the names there are."""
    held = _pinned.get({}).get(f"{kind}/{name}")
    if isinstance(held, type_):
        return held
    known = paths(kind)
    path = known.get(name) or (Path(name) if name.endswith(".toml") else None)
    changed = _once(path, lambda: _changed(path)) if path is not None else None
    if path is None or changed is None:
        raise UnreadableError(f"There is no card {name!r} among the {kind}. There are: {', '.join(sorted(known))}.")
    card = _cached(path, kind, changed)
    assert isinstance(card, type_)
    return card


def delivery(name: str) -> DeliveryCard:
    return find("deliveries", name, DeliveryCard)
