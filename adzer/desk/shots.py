"""Screenshots of every main view, made by driving the real window with the demo job.

``python -m adzer.desk.shots FOLDER`` writes them; ``./run shots`` calls it.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path
from typing import TypeVar

from PySide6.QtCore import QEventLoop, QTimer

from ..core.develop import measure
from ..core.finding import Fix
from ..core.intake.take import read_file
from ..core.job import Job
from ..core.records import to_plain
from ..core.route import Route
from ..core.sim import pairs
from ..core.sim.demo import demo_job
from ..core.space.path import Key, ViewPath
from .app import application
from .model import Desk
from .queueview import SlipRow
from .stages.base import StageBench
from .stages.colour.bench import ColourBench
from .stages.develop.bench import DevelopBench
from .stages.join.bench import JoinBench
from .stages.steady.bench import SteadyBench
from .startview import StartPage
from .window import Window

B = TypeVar("B", bound=StageBench)


def wait(until: Callable[[], bool], seconds: float = 60.0, settle: float = 0.6) -> bool:
    """Runs the event loop until something holds, then a little longer; False if it never did."""
    end = time.monotonic() + seconds
    while not until() and time.monotonic() < end:
        _spin(0.03)
    _spin(settle)
    return until()


def _spin(seconds: float) -> None:
    loop = QEventLoop()
    QTimer.singleShot(int(seconds * 1000), loop.quit)
    loop.exec()


def wander(window: Window) -> list[float]:
    """Milliseconds from beat to beat of a timer of 5 ms while benches and places are gone through, an answer is dragged and the
    shot is played. What the machine takes for others is not counted."""
    desk = window.desk
    gaps: list[float] = []
    last = [time.thread_time(), time.perf_counter()]

    def beat() -> None:
        now = [time.thread_time(), time.perf_counter()]
        gaps.append(min(now[0] - last[0], now[1] - last[1]) * 1000)
        last[:] = now

    timer = QTimer()
    timer.timeout.connect(beat)
    timer.start(5)
    desk.unfold("colour")
    bench = window.bench.bench
    assert isinstance(bench, ColourBench)
    for n in range(40):
        bench.exposure.drafted.emit(n / 20)
        _spin(0.02)
    desk.commit()
    window.bench.play()
    _spin(1.5)
    window.bench.play()
    for stage in ("shape", "deliver", "read", "colour"):
        desk.unfold(stage)
        _spin(0.1)
    for place in ("Queue", "Log", "Board"):
        window.go(place)
        _spin(0.05)
    timer.stop()
    return gaps


class Camera:
    """Drives a window through the demo and photographs it."""

    def __init__(self, folder: Path, say: Callable[[str], None]) -> None:
        self.folder, self.say = folder, say
        folder.mkdir(parents=True, exist_ok=True)
        self.home = tempfile.TemporaryDirectory(prefix="adzer-shots-")
        os.environ["XDG_DATA_HOME"] = str(Path(self.home.name) / "data")  # what is photographed is no job of the person's
        application()
        self.desk = Desk(Job.open(demo_job(Path(self.home.name))))
        self.window = Window(self.desk)
        self.window.show()

    def take(self, name: str) -> None:
        self.window.note.hide()
        path = self.folder / f"{name}.png"
        self.window.grab().save(str(path))
        self.say(f"wrote {path}")

    def start_page(self) -> None:
        """With the demo job as it is remembered."""
        self.window._remember()
        page = StartPage()
        page.show()
        _spin(0.3)
        path = self.folder / "start.png"
        page.grab().save(str(path))
        self.say(f"wrote {path}")
        page.close()

    def close(self) -> None:
        self.window.close()
        self.home.cleanup()

    def _thumbs(self) -> bool:
        held = self.window.thumbs._images
        return bool(held) and all(image is not None for _, image in held.values())

    def _card(self) -> None:
        """A card comes home, far enough to be seen."""
        from ..core.sim import card

        window, place = self.window, Path(self.home.name) / "card"
        card.make(place, 6)
        window.intake.set_card(str(place))
        window.intake.camera.setText("log body")
        window.go("Intake")
        window.intake.arrived.disconnect()
        window.intake.begin()
        wait(lambda: bool(window.intake.verdicts))
        self.take("intake")
        window.go("Board")

    def _shapes(self) -> bool:
        """Have all delivered shapes come?"""
        bench = self.window.bench.bench
        return bench is not None and bench.shapes is not None and all(f.picture for f in bench.shapes.frames)

    def _shake(self) -> None:
        """How the phone was held, measured."""
        desk, window = self.desk, self.window
        desk.select(next(i for i, s in enumerate(desk.shots) if s.name == "by the canal"))
        desk.unfold("steady")
        wait(lambda: window.bench.picture.after is not None)
        for shot in desk.shots[:3]:
            window.analysing.want(shot, "motion")
        wait(lambda: window.analysing.running is None, seconds=120, settle=1.0)
        bench = self._bench(SteadyBench)
        bench.method.choose("hold")
        wait(lambda: not desk.worker.busy, settle=0.5)
        bench.ways.compare.click()
        wait(lambda: not desk.worker.busy, seconds=120, settle=0.5)
        desk.go_to(50)
        bench.look.choose(True)
        wait(lambda: not desk.worker.busy, settle=0.8)
        self.take("bench-steady")
        bench.look.choose(False)
        desk.undo()
        desk.unfold(None)
        desk.select(0)

    def _sphere(self) -> None:
        """A view of the sphere that turns a little, from the mill to the wheel."""
        desk = self.desk
        desk.select(next(i for i, s in enumerate(desk.shots) if s.name == "all round"))
        desk.answer("read", projection="equirectangular", coverage="360")
        desk.unfold("shape")
        keys = (Key(0.2, -9, 8, 0, 76), Key(2.2, -3, 7, 0, 72))
        desk.answer("shape", view=to_plain(ViewPath(keys=keys, shape=Fraction(16, 9))))
        desk.go_to(30)
        wait(self._shapes, settle=1.5)
        self.take("bench-shape-sphere")
        desk.undo()
        desk.unfold(None)

    def _lenses(self) -> None:
        """Two lenses that do not stand quite back to back, matched, looked at where they meet."""
        home = Path(self.home.name)
        pair = pairs.lenses(pairs.Held(0.03, 0.8, -0.5, 1.2, stops=-0.5), 960)
        files = pairs.shoot(pair, 12, (home / "court-front.mp4", home / "court-rear.mp4"))
        facts, seen = read_file(files[0], rear=files[1])
        keys = {"keys": [{"heading": 90, "fov": 100}]}
        route = Route().with_("read", projection="fisheye").with_("shape", across=200.0, view=keys)
        desk = self.desk
        desk.record(lambda: desk.job.add_shot(facts, "court, both lenses", "lens pair", route, camera="lens pair", seen=seen), None)
        desk.select(len(desk.shots) - 1)
        desk.unfold("join")
        wait(lambda: self.window.bench.picture.after is not None, settle=1.0)
        self._bench(JoinBench).lenses.button.click()
        wait(lambda: desk.shot is not None and desk.shot.route.join.error is not None and not desk.worker.busy, seconds=120, settle=1.5)
        desk.answer("join", distance=2.0, base=0.03, close=False)
        wait(lambda: not desk.worker.busy, settle=3.0)
        self.take("bench-join")
        for _ in range(3):
            desk.undo()
        desk.unfold(None)
        desk.select(0)

    def _bench(self, kind: type[B]) -> B:
        assert isinstance(self.window.bench.bench, kind)
        return self.window.bench.bench

    def _eyes(self) -> None:
        """Two eyes in two files that do not lie in line, measured, and laid side by side for a screen in a room."""
        home = Path(self.home.name)
        pair = pairs.eyes(pairs.Held(0.065, 0.0, 0.5, 0.8, 1.6), (960, 540))
        files = pairs.shoot(pair, 12, (home / "wheel-left.mp4", home / "wheel-right.mp4"))
        facts, seen = read_file(files[0], rear=files[1])
        desk, route = self.desk, Route().with_("read", eyes="side by side", projection="flat")
        desk.record(lambda: desk.job.add_shot(facts, "wheel, both eyes", "eye pair", route, camera="eyes", seen=seen), None)
        desk.select(len(desk.shots) - 1)
        desk.unfold("join")
        wait(lambda: self.window.bench.picture.after is not None, settle=0.5)
        bench = self._bench(JoinBench).pair
        bench.button.click()
        wait(lambda: desk.shot is not None and desk.shot.route.join.align is not None and not desk.worker.busy, seconds=60, settle=0.5)
        desk.answer("join", laid="beside", pin=0.6)
        bench.looking.choice.choose("coloured")
        wait(lambda: bool(bench.looking.pictures) and not desk.worker.busy, settle=1.0)
        self.take("bench-join-eyes")
        bench.looking.choice.choose(None)
        for _ in range(4):
            desk.undo()
        desk.unfold(None)
        desk.select(0)

    def _develop(self) -> None:
        """Little light on a raw body: its values looked at, its noise measured and taken off, close to."""
        desk = self.desk
        desk.select(next(i for i, s in enumerate(desk.shots) if s.name == "reeds at dusk"))
        desk.unfold("develop")
        wait(lambda: self.window.bench.picture.after is not None, settle=0.5)
        bench = self._bench(DevelopBench)
        bench.looking.start()
        bench.measuring.start()
        wait(lambda: bool(bench.tried) and not desk.worker.busy, seconds=90, settle=0.5)
        found = measure.found(desk.found(desk.shots[desk.selected]))
        desk.answer("develop", exposure=1.2, highlights="rebuild", hot=[list(place) for place in found.hot] if found else [])
        bench.much.choose("best")
        bench.look_at(0.62, 0.6)
        wait(lambda: bench.loupe.pieces == 3 and not desk.worker.busy, settle=1.0)
        desk.go_to(9)
        wait(lambda: not desk.worker.busy, settle=1.5)
        self.take("bench-develop")
        for _ in range(2):
            desk.undo()
        desk.unfold(None)
        desk.select(0)

    def tour(self) -> None:
        """From the first look at the demo to two checked masters."""
        desk, window = self.desk, self.window
        wait(self._thumbs)
        self.take("board-first")
        desk.unfold("read")
        wait(lambda: window.bench.picture.after is not None)
        self.take("bench-read")
        for name, title in (("bench-read-sphere", "all round"), ("bench-read-eyes", "cartwheel")):
            desk.select(next(i for i, s in enumerate(desk.shots) if s.name == title))
            wait(lambda: window.bench.picture.after is not None and not desk.worker.busy, settle=1.0)
            self.take(name)
        self._shake()
        self._sphere()
        self._lenses()
        self._eyes()
        self._develop()
        self._card()
        desk.mend(desk.shots[0], Fix("Declare fen log", "read", {"curve": "fen-log"}))
        desk.unfold("shape")
        desk.go_to(40)
        wait(lambda: window.bench.side.after is not None, settle=1.5)
        window.bench.next_guide()
        wait(self._shapes, settle=0.5)
        self.take("bench-shape")
        desk.unfold("colour")
        window.bench.compare("wipe")
        wait(lambda: window.bench.picture.before is not None, settle=1.5)
        self.take("bench-colour")
        desk.unfold("deliver")
        desk.measure_trials()
        wait(lambda: not desk.worker.busy and len(desk.shots[0].trials) == 2)
        self.take("bench-deliver")
        desk.enqueue()
        window.go("Queue")
        wait(lambda: any(c.picture is not None for c in window.queue._cards.values()), settle=0)
        self.take("queue-rendering")
        wait(lambda: all(s.state in ("done", "failed") for s in desk.slips), seconds=180)
        slip = window.queue.findChildren(SlipRow)[0]
        slip.unfolded = True  # its proofs are shown
        slip.set_slip(slip.slip)
        _spin(0.5)
        self.take("queue-done")
        window.go("Log")
        wait(lambda: True)
        self.take("log")
        window.go("Board")
        desk.unfold(None)
        wait(self._thumbs)
        self.take("board")
        window.set_lights(True)
        _spin(0.3)
        self.take("board-dim")
        window.set_lights(False)


def shoot_desk(folder: Path, say: Callable[[str], None]) -> None:
    """The whole tour into ``folder``."""
    camera = Camera(folder, say)
    try:
        camera.tour()
        camera.start_page()
    finally:
        camera.close()


if __name__ == "__main__":
    shoot_desk(Path(sys.argv[1]), print)
