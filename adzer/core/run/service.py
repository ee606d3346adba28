"""The work behind the window, in a process of its own, so that nothing heavy ever runs beside the UI.

Two lines: *previews* (newest request wins) and *chores* (in order). Requests and replies are pickled records over a
socket that only the parent holds. ``desk.workers`` starts ``main`` in a process with that socket's number.
"""

from __future__ import annotations

import sys
import tempfile
import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any, Generic, TypeVar

import msgspec
import numpy as np
from numpy.typing import NDArray

from .. import cards, records
from ..compile import freeze, freeze_copy, preview_plan, recorded_plan
from ..develop.values import sensor_of
from ..errors import AdzerError
from ..intake import proxies
from ..intake.take import join_chapters, join_files, look_at, source_problem, take
from ..job import Part, Shot
from ..look import track
from ..media import probe
from ..media.clock import clock_of
from ..media.decode import Frame, Reader, opened, upright
from ..media.formats import Plane
from ..media.probe import FileFacts
from ..media.rolls import Sources
from ..plan import Plan, Planes
from ..read import play
from ..read.depth import level_marks
from ..read.seen import Seen
from ..read.step import assumed_samples
from ..route import Route, walk
from ..shape.measure import measure_squeeze
from . import analysing, developing, loops, matching, pacing, steadied, steadying, syncing, trying
from .frames import Prepared, numbers, still_planes
from .pixels import Processor
from .render import trial

T = TypeVar("T")

WAVE_COLUMNS, WAVE_LEVELS = 320, 192


@dataclass(frozen=True)
class Picturing:
    """A picture to make: the delivered frame ``number`` at a raster that fits ``size``.

    ``whole``: the whole desqueezed picture instead of the delivered crop. ``before``: also the picture as recorded.
    """

    key: str
    generation: int
    facts: FileFacts
    seen: Seen | None
    route: Route
    card: str
    number: int
    size: tuple[int, int]
    whole: bool = False
    before: bool = False
    scopes: bool = False
    marks: bool = False


def wholly(route: Route, card: cards.DeliveryCard) -> tuple[Route, cards.DeliveryCard]:
    """By which all of the recording is shown, desqueezed, whatever is delivered of it."""
    uncropped = route.with_("shape", shape=None, hold="native", view=None, moves=None, bent=(), enlarged=1.0, keep=None)
    return uncropped.with_("deliver", raster=None, over=()), msgspec.structs.replace(card, shape=None)


@dataclass(frozen=True)
class Chore:
    """``what``: take · look · play · analyse · found · sources · gaps · trial · copy trial · relink · baked · squeeze · follow · lenses · sync ·
    join all. ``key`` comes back."""

    key: str
    what: str
    args: tuple[Any, ...] = ()


def in_turn(request: Picturing | Chore) -> bool:
    """Whether it is done in its turn among the chores; otherwise only the newest of its key is."""
    return isinstance(request, Chore) or request.key.startswith("thumb")


@dataclass(frozen=True)
class Image:
    """8-bit B, G, R, 255 rows."""

    width: int
    height: int
    data: bytes


@dataclass(frozen=True)
class Scopes:
    """Of the delivered codes: counts per level and column, luma counts per code, share at or beyond white and black."""

    wave: NDArray[np.int32]
    histogram: NDArray[np.int64]
    over: float
    under: float


@dataclass(frozen=True)
class Reply:
    key: str
    generation: int = 0
    value: Any = None
    error: str | None = None
    after: Image | None = None
    before: Image | None = None
    scopes: Scopes | None = None
    number: int = 0
    marks: NDArray[np.int8] | None = None  # cells of the recorded picture: 1 at the top of its levels, −1 at the bottom


@dataclass
class _Kept(Generic[T]):
    """A few things worth keeping, the least used dropped."""

    most: int
    drop: Callable[[T], None] = lambda _: None
    items: OrderedDict[object, T] = field(default_factory=OrderedDict)

    def get(self, key: object, make: Callable[[], T]) -> T:
        if key in self.items:
            self.items.move_to_end(key)
            return self.items[key]
        value = self.items[key] = make()
        while len(self.items) > self.most:
            self.drop(self.items.popitem(last=False)[1])
        return value

    def empty(self) -> None:
        while self.items:
            self.drop(self.items.popitem()[1])


class Pictures:
    """Makes previews; keeps open readers, decoded frames and running processors."""

    def __init__(self, threads: int = 2) -> None:
        self.threads = threads
        self._readers: _Kept[Reader] = _Kept(4, lambda r: r.close())
        self._frames: _Kept[Frame] = _Kept(12)
        self._stills: _Kept[Planes] = _Kept(4)
        self._prepared: _Kept[Planes] = _Kept(2)  # what only colour or framing changes is not prepared again
        self._processors: _Kept[Processor] = _Kept(8, lambda p: p.close())

    def close(self) -> None:
        self._readers.empty()
        self._processors.empty()

    def frame(self, facts: FileFacts, number: int) -> Frame:
        return self._frames.get((facts.path, facts.fingerprint, number), lambda: self._reader(facts).frame(number))

    def _reader(self, facts: FileFacts, sources: Sources = ()) -> Reader:
        if sources:
            return self._readers.get(sources, lambda: opened(sources))
        key = (facts.path, facts.fingerprint)
        return self._readers.get(key, lambda: opened(facts.sources, facts.fingerprint))

    def _planes(self, plan: Plan, facts: FileFacts, frame: Frame, moment: float) -> list[Planes]:
        """Of every input at that moment, prepared as for a render."""
        made = []
        for held in plan.inputs:
            if held.by_its_clock and not held.prepares:
                made.append(frame.planes)
                continue
            if held.still is not None:
                made.append(self._stills.get(held, partial(still_planes, held.still, held.samples)))
                continue
            reader = self._reader(facts, held.sources)
            (number,) = numbers(held, reader, np.array([frame.number]), np.array([moment])).tolist()
            made.append(self._prepared.get((held, number), partial(Prepared(held, reader).planes, number)))
        return made

    def make(self, ask: Picturing) -> Reply:
        route, card = ask.route, cards.delivery(ask.card)
        if ask.whole:
            route, card = wholly(route, card)
        walked = walk(route, ask.facts, ask.seen, card)
        frame = self.frame(ask.facts, ask.number)
        moment = clock_of(ask.facts).time(frame.number)
        after = before = scopes = None
        # What only a delivery cannot hold, a whole sphere say, can still be looked at.
        if walked.stopped is None or (ask.whole and walked.stopped.stage == "deliver"):
            token = ("after", ask.facts.fingerprint, ask.size, _same(route, walked.card, ask.seen))
            image, codes, plan = self._run(token, lambda: preview_plan(walked, *ask.size), ask.facts, frame, moment)
            after = image
            if ask.scopes:
                scopes = self._scopes(codes, plan)
        if ask.before or after is None:
            token = ("before", ask.facts.fingerprint, ask.size, _same(route, walked.card, ask.seen))
            before, _, _ = self._run(token, lambda: recorded_plan(walked, *ask.size), ask.facts, frame, moment)
        marks = None
        if ask.marks and (sensor := sensor_of(ask.facts, route.develop)) is not None:
            marks = developing.gone_marks(frame, sensor)
        elif ask.marks:
            marks = level_marks(frame, assumed_samples(ask.facts, route.read))
        return Reply(ask.key, ask.generation, None, None, after, before, scopes, ask.number, marks)

    def _run(
        self, key: object, make: Callable[[], Plan], facts: FileFacts, frame: Frame, moment: float
    ) -> tuple[Image, list[Plane], Plan]:
        from ..kernels import screen

        processor: Processor = self._processors.get(key, lambda: Processor(make(), self.threads))
        plan = processor.plan
        w, h = plan.raster
        codes = [np.empty((h, w), plan.target.format.dtype) for _ in range(3)]
        processor.run(self._planes(plan, facts, frame, moment), tuple(codes), moment)
        out = np.empty((h, w, 4), np.uint8)
        screen.screen_rgb(codes[0], codes[1], codes[2], plan.target.to_signal().astype(np.float32), out, 0, h)
        return Image(w, h, out.tobytes()), codes, plan

    @staticmethod
    def _scopes(codes: list[Plane], plan: Plan) -> Scopes:
        """Measured on the pictures, without their bars."""
        from ..kernels import screen

        corner = [min(p.place[i] for p in plan.panels) for i in (0, 1)]
        end = [max(p.place[i] + p.size[i] for p in plan.panels) for i in (0, 1)]
        luma = np.ascontiguousarray(codes[0][corner[1] : end[1], corner[0] : end[0]])
        wave = np.zeros((WAVE_LEVELS, WAVE_COLUMNS), np.int32)
        screen.waveform(luma, plan.target.top, WAVE_COLUMNS, WAVE_LEVELS, wave)
        histogram = np.bincount(luma.ravel(), minlength=plan.target.top + 1)
        unit = 1 << (plan.target.format.bits - 8)
        black, white = (16 * unit, 235 * unit) if plan.target.limited else (0, plan.target.top)
        total = float(luma.size)
        return Scopes(
            wave, histogram, float(histogram[white:].sum()) / total, float(histogram[: black + 1].sum()) / total
        )


def _same(route: Route, card: cards.DeliveryCard, seen: Seen | None) -> tuple[object, ...]:
    """All that a plan is made of: answers, the cards as they are now, and what was measured."""
    measured = (seen.discs, seen.levels.top()) if seen is not None else None
    held = (cards.stamp("curves"), cards.stamp("primaries"), records.to_json(card))
    return (msgspec.structs.replace(route, deliver=msgspec.structs.replace(Route().deliver, over=route.deliver.over)), held, measured)


def _joined(kind: str, shot: Shot, other: Shot) -> FileFacts | Part:
    """What a shot's recording is together with another's; of a proxy, the part that it is."""
    if kind == "lens pair":
        return join_files(shot.facts.path, other.facts.path)
    if kind == "chapters":
        return join_chapters([shot.facts, other.facts])
    if kind == "eye pair":
        return msgspec.structs.replace(shot.facts, apart=other.facts.path)
    return proxies.look_of(shot, Part("proxy", other.facts.path, other.facts))


def _gaps(facts: FileFacts, most: int = 600) -> NDArray[np.float64]:
    """Milliseconds between frames; of a long file the widest and narrowest of each stretch."""
    gaps = np.diff(probe.scan(facts.source, facts.fingerprint).pts) * float(facts.time_base) * 1000
    if len(gaps) <= most:
        return gaps
    parts = np.array_split(gaps, most // 2)
    return np.array([v for p in parts for v in (p.min(), p.max())])


FOLLOW_AT_ONCE = 20  # frames, so that it can be seen how far it is, and stopped


def _follow(
    facts: FileFacts, begun: track.Follower | track.Marked, first: int, stop: int, turn: int
) -> tuple[track.Follower, list[track.Point]]:
    """Some frames on from a mark on frame ``first``, or from where it was left off before it; never beyond ``stop``."""
    last = min(stop, first + FOLLOW_AT_ONCE)
    with opened(facts.sources, facts.fingerprint) as reader:
        frames = ((f.number, upright(f, turn)) for f in reader.frames(first, last))
        return track.through(begun, frames)


MATCHING: dict[str, Callable[..., object]] = {
    "rig": matching.calibrate_lenses, "eyes": matching.look_at_eyes, "depth": matching.depth_at, "eyes look": matching.both_looked,
    "along": matching.along_seam, "lenses look": matching.overlap_looked, "apart": matching.apart_at,
}  # fmt: skip


OF_A_STAGE: dict[str, Callable[..., object]] = {
    "steady": steadied.solved, "lean": steadying.lean_through, "ways": lambda facts, seen, route, card, budget, rows, times: trying.compared(
        facts, seen, route, cards.delivery(card), budget, rows=rows, times=times
    ),
    "drawn": steadied.drawn, "followed": steadied.followed, "evenly": pacing.evenly, "loop": loops.loop, "ways looped": loops.ways,
    "noise": lambda facts, route, seen: developing.noise_of(facts, route), "values": lambda facts, route, seen: developing.values_of(facts, route),
    "range": lambda facts, route, seen: developing.range_of(facts, route),
    "seen": developing.seen_of, "taken": developing.taken, "close": developing.close, "neutral": developing.neutral_at,
    "tone": developing.tone_at,
}  # fmt: skip


def do_chore(chore: Chore) -> object:
    """The answer to a chore; AdzerError with a sentence."""
    if chore.what == "take":
        said: list[str] = []
        paths, rate = chore.args
        return take(paths, rate, said.append), said
    if chore.what == "look":
        return look_at(*chore.args)
    if chore.what == "play":
        return play.measure(*chore.args)
    if chore.what == "relink":
        shots, paths = chore.args
        found, said = proxies.offered(paths)
        return proxies.match(shots, found), found, said
    if chore.what == "baked":
        return proxies.look_of(*chore.args)
    if chore.what == "follow":
        return _follow(*chore.args)
    if chore.what == "squeeze":
        return measure_squeeze(*chore.args)
    if chore.what == "analyse":
        return analysing.analyse(*chore.args)
    if chore.what == "found":
        return analysing.found(*chore.args)
    if chore.what == "sync":
        return syncing.in_step(*chore.args)
    if chore.what in MATCHING:
        return MATCHING[chore.what](*chore.args)
    if chore.what in OF_A_STAGE:
        return OF_A_STAGE[chore.what](*chore.args)
    if chore.what == "pair":
        return join_files(*chore.args)
    if chore.what == "partners":
        return syncing.pairs_of(*chore.args)
    if chore.what == "pair all":
        return [join_files(*each) for each in chore.args[0]]
    if chore.what == "join all":
        return [_joined(*each) for each in chore.args[0]]
    if chore.what == "sources":
        return {shot_id: source_problem(facts) for shot_id, facts in chore.args[0]}
    if chore.what == "gaps":
        return _gaps(*chore.args)
    if chore.what == "trial":
        shot, seen, card, rate = chore.args
        delivery = cards.delivery(card)
        with tempfile.TemporaryDirectory(prefix="adzer-") as folder:
            out = Path(folder) / f"x.{delivery.container}"
            order = freeze(shot.name, shot.facts, shot.route, card, out, shot.start, shot.stop, seen, rate)
            return trial(order, Path(folder))
    if chore.what == "copy trial":
        shot, card, size = chore.args
        with tempfile.TemporaryDirectory(prefix="adzer-") as folder:
            out = Path(folder) / "x.mov"
            return trial(freeze_copy(shot.name, shot.facts, shot.route, card, proxies.SCALES[size], out), Path(folder))
    raise AdzerError(f"There is no chore {chore.what!r}.")


class Service:
    """Two threads over one connection."""

    def __init__(self, link: Connection) -> None:
        self.link = link
        self._send = threading.Lock()
        self._wake = threading.Condition()
        self._pictures: OrderedDict[str, Picturing] = OrderedDict()
        self._chores: list[Chore | Picturing] = []
        self._over = False

    def run(self) -> None:
        """Takes requests until the parent closes the line."""
        for work in (self._picture_line, self._chore_line):
            threading.Thread(target=work, daemon=True).start()
        try:
            while True:
                request = self.link.recv()
                with self._wake:
                    if in_turn(request):
                        self._chores.append(request)
                    else:
                        self._pictures[request.key] = request
                    self._wake.notify_all()
        except (EOFError, OSError):
            self._over = True

    def _reply(self, reply: Reply) -> None:
        with self._send:
            try:
                self.link.send(reply)
            except OSError:
                self._over = True

    def _line(self, ready: Callable[[], Any], work: Callable[[Any], Reply]) -> None:
        while not self._over:
            with self._wake:
                while (request := ready()) is None:
                    self._wake.wait()
            try:
                reply = work(request)
            except AdzerError as error:
                reply = Reply(request.key, getattr(request, "generation", 0), error=str(error))
            except Exception as error:  # noqa: BLE001 - the window must hear of it, whatever it was
                reply = Reply(
                    request.key, getattr(request, "generation", 0), error=f"Something went wrong inside: {error!r}."
                )
            self._reply(reply)

    def _picture_line(self) -> None:
        pictures = Pictures()
        self._line(lambda: self._pictures.popitem(last=False)[1] if self._pictures else None, pictures.make)

    def _chore_line(self) -> None:
        pictures = Pictures(threads=1)

        def work(request: Chore | Picturing) -> Reply:
            if isinstance(request, Picturing):
                return pictures.make(request)
            return Reply(request.key, value=do_chore(request))

        self._line(lambda: self._chores.pop(0) if self._chores else None, work)


def main() -> None:
    Service(Connection(int(sys.argv[1]))).run()
