"""Throws at Adzer what nobody should: ``./run bench hostile`` writes what came of it into ``docs/numbers.md``; a few seeded
ones of each kind are among the tests.

Media with bytes changed, cut off and joined; renders, edits and offloads killed at any moment; rows and cards with values
changed; keys, clicks and typed values at random in the real window. What counts as a fault: anything but the work done or
a sentence that says why not; a process that dies or hangs; a master, copy or edit that is half there.
"""

from __future__ import annotations

import json
import multiprocessing
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
import tomllib
import traceback
from collections import Counter
from collections.abc import Callable, Iterator
from fractions import Fraction
from functools import partial
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

import numpy as np

from ..core import cards
from ..core.errors import AdzerError
from ..core.job import Job
from ..core.media.encode import VideoSpec, VideoTags, Writer

SEED, PATIENCE = 2026, 60.0
BATCH = 25
WRONG: tuple[object, ...] = (
    None,
    -1,
    0,
    2**63,
    1e308,
    "",
    "x" * 300,
    "1/0",
    "nan",
    [],
    {},
    True,
    "../../etc",
    "\u202e",
    [[[]]],
    "1e999999999",
    "9" * 5000,
    "1/1000000000000",
    1e-320,
    2**62,
    -(2**62),
    99_999,
    1_000_000_007,
    0.5,
    "\x00",
    "[" * 3000,
)


# --- media ----------------------------------------------------------------------------------------------------------------
def changed(data: bytes, chance: random.Random) -> bytes:
    """A file's bytes with one kind of harm done to them."""
    out = bytearray(data)
    kind = chance.randrange(5)
    if kind == 0:  # single bytes, most of them where headers are
        for _ in range(chance.randint(1, 40)):
            out[int(len(out) * chance.random() ** 3)] = chance.randrange(256)
    elif kind == 1:
        del out[chance.randrange(len(out)) :]
    elif kind == 2:  # a hole of noughts
        at = chance.randrange(len(out))
        out[at : at + 5000] = bytes(min(5000, len(out) - at))
    elif kind == 3:  # a piece again elsewhere
        a, b = sorted(chance.randrange(len(out)) for _ in range(2))
        out[a:a] = out[b : b + chance.randint(1, 20_000)]
    else:  # lengths and counts of 32 bits
        for _ in range(chance.randint(1, 6)):
            at = chance.randrange(max(1, min(len(out), 4000) - 4))
            out[at : at + 4] = chance.choice((b"\0\0\0\0", b"\xff\xff\xff\xff", b"\x7f\xff\xff\xff", b"\0\0\0\1"))
    return bytes(out)


def _tried(path: Path) -> str:
    """What became of a file: ``read``, ``refused`` or the fault's name."""
    from ..core.intake.take import read_file
    from ..core.media.decode import opened
    from ..core.route import Route, walk

    try:
        facts, seen = read_file(path)
        walk(Route(), facts, seen)
        with opened(facts.sources, facts.fingerprint) as reader:
            for n in {0, facts.frames // 2, facts.frames - 1}:
                reader.frame(n)
    except AdzerError as error:
        return "refused" if path.name in str(error) or "frame" in str(error) else "a sentence that names nothing"
    except Exception as error:
        return f"traceback: {type(error).__name__}"
    return "read"


def _batch(paths: list[Path], line: Connection) -> None:
    """In a process of its own, as a decoder that crashes takes its process with it."""
    for path in paths:
        line.send(_tried(path))


KINDS = (("mp4", "h264", 8), ("mov", "h265", 10), ("mkv", "ffv1", 10), ("mov", "st2019", 10))


def clips(folder: Path, frames: int) -> list[Path]:
    """A clip of noise that moves in each container and codec."""
    made, rng = [], np.random.default_rng(SEED)
    field = rng.integers(40, 200, (144, 256)).astype(np.uint16)
    for n, (ending, encoder, bits) in enumerate(KINDS):
        path = folder / f"clip{n}.{ending}"
        chroma = "4:2:2" if encoder == "st2019" else "4:2:0"
        options = {"profile": "hqx"} if encoder == "st2019" else {}
        tags = VideoTags("bt709", "bt709", "bt709", "limited")
        with Writer(path, VideoSpec(encoder, (256, 144), bits, chroma, Fraction(25), Fraction(1, 25), tags, 12, options)) as writer:
            for k in range(frames):
                frame, planes = writer.blank()
                for plane in planes:
                    plane[:] = np.roll(np.resize(field, plane.shape), k) << (bits - 8)
                writer.write(frame, k)
        made.append(path)
    return made


def media(count: int, folder: Path, seed: int = SEED) -> Counter[str]:
    """What became of so many damaged files."""
    chance, found = random.Random(seed), Counter[str]()
    (folder / "whole").mkdir()
    sources = clips(folder / "whole", 12)
    paths = []
    for n in range(count):
        source = sources[n % len(sources)]
        path = folder / f"{n:04d}{source.suffix}"
        path.write_bytes(changed(source.read_bytes(), chance))
        paths.append(path)
    context = multiprocessing.get_context("spawn")
    while paths:
        here, there = context.Pipe(False)
        process = context.Process(target=_batch, args=(paths[:BATCH], there))
        process.start()
        there.close()
        done = 0
        for _ in paths[:BATCH]:
            try:
                if not here.poll(PATIENCE):
                    found["hangs"] += 1
                    break
                found[here.recv()] += 1
                done += 1
            except EOFError:
                found["process died"] += 1
                break
        else:
            done -= 1  # nothing to skip
        process.kill()
        process.join()
        paths = paths[done + 1 :]
    return found


# --- rows and cards -------------------------------------------------------------------------------------------------------
def _harmed(plain: object, chance: random.Random) -> object:
    """A record with one value of it replaced, left out or nested."""
    if isinstance(plain, dict) and plain and chance.random() < 0.85:
        key = chance.choice(sorted(plain))
        out = dict(plain)
        if chance.random() < 0.15:
            del out[key]
        else:
            out[key] = _harmed(plain[key], chance)
        return out
    if isinstance(plain, list) and plain and chance.random() < 0.85:
        at = chance.randrange(len(plain))
        return [*plain[:at], _harmed(plain[at], chance), *plain[at + 1 :]]
    return chance.choice(WRONG)


def _toml(plain: object) -> str:
    """As lines of TOML, values on one line each; what TOML has no word for as it would be typed wrongly."""

    def inline(value: object) -> str:
        if isinstance(value, dict):
            return "{" + ", ".join(f"{json.dumps(k)} = {inline(v)}" for k, v in value.items()) + "}"
        return "[" + ", ".join(map(inline, value)) + "]" if isinstance(value, list) else json.dumps(value)

    return (
        "\n".join(f"{json.dumps(k)} = {inline(v)}" for k, v in plain.items())
        if isinstance(plain, dict)
        else inline(plain)
    )


def _outcome(work: Callable[[], object]) -> str:
    try:
        work()
    except AdzerError:
        return "refused"
    except Exception as error:
        return f"traceback: {type(error).__name__}: {error}"[:120]
    return "read"


def rows(count: int, job: Path, folder: Path, seed: int = SEED) -> Counter[str]:
    """What became of opening copies of a job with one value in one row changed, and of what every command begins with: listing what is in
    it, and walking its shots."""
    chance, found = random.Random(seed), Counter[str]()

    def read(path: Path) -> None:
        with Job.open(path) as held:
            for shot in held.shots():
                held.seen(shot.id)
            held.slips()
            held.log_rows()
            walk = held.walker()
            for shot in held.shots():
                walk(shot)

    for n in range(count):
        path = folder / f"{n:03d}.adzer"
        shutil.copyfile(job, path)
        db = sqlite3.connect(path)
        tables = [t for (t,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
        table = chance.choice([t for t in tables if db.execute(f"SELECT count(*) FROM {t}").fetchone()[0]])
        columns = [c for _, c, *_ in db.execute(f"PRAGMA table_info({table})") if c != "id"]
        column = chance.choice(columns)
        row, value = chance.choice(db.execute(f"SELECT rowid, {column} FROM {table}").fetchall())
        try:
            harmed: object = (
                json.dumps(_harmed(json.loads(value), chance)) if chance.random() < 0.8 else chance.choice(WRONG)
            )
        except (TypeError, ValueError):
            harmed = chance.choice(WRONG)
        harmed = harmed if isinstance(harmed, str | int | float | None) and harmed != 2**63 else str(harmed)
        try:
            db.execute(f"UPDATE {table} SET {column} = ? WHERE rowid = ?", (harmed, row))
            db.commit()
        except sqlite3.IntegrityError:
            continue
        finally:
            db.close()
        outcome = _outcome(partial(read, path))
        found[f"{outcome} ({table}.{column})" if outcome.startswith("traceback") else outcome] += 1
        path.unlink()
    return found


def cards_(count: int, folder: Path, seed: int = SEED) -> Counter[str]:
    """The same of the cards that are shipped."""
    chance, found = random.Random(seed), Counter[str]()
    shipped = sorted(cards.SHIPPED.rglob("*.toml"))
    for n in range(count):
        source = chance.choice(shipped)
        kind = source.parent.name
        path = folder / kind / f"{n:03d}.toml"
        path.parent.mkdir(exist_ok=True)
        path.write_text(_toml(_harmed(tomllib.loads(source.read_text()), chance)))
        outcome = _outcome(partial(cards.read_card, path))
        found[f"{outcome} ({kind})" if outcome.startswith("traceback") else outcome] += 1
    return found


# --- kills ----------------------------------------------------------------------------------------------------------------
def _killed(command: list[str], after: float) -> int | None:
    """Exit code, or None where it had to be killed."""
    process = subprocess.Popen(
        [sys.executable, "-m", "adzer", *command], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    try:
        return process.wait(after)
    except subprocess.TimeoutExpired:
        process.send_signal(signal.SIGKILL)
        process.wait()
        return None


def kills(count: int, folder: Path, seed: int = SEED) -> Counter[str]:
    """Renders, edits and offloads killed at any moment, a third of each, each gone on with until it is done."""
    chance, found = random.Random(seed), Counter[str]()
    (folder / "whole").mkdir()
    clip = clips(folder / "whole", 100)[0]
    for n in range(0, count, 3):
        for kind in (_render_killed, _edit_killed, _offload_killed):
            place = folder / f"{n:04d}-{kind.__name__}"
            place.mkdir()
            for what in kind(place, chance, clip):
                found[what] += 1
            shutil.rmtree(place)
    return found


def _until_done(command: list[str], chance: random.Random, most: float) -> bool:
    """Killed once at any moment, then left alone; was it killed?"""
    killed = _killed(command, chance.uniform(0.2, most)) is None
    if killed and _killed(command, 120) not in (0, 1):
        raise AdzerError(f"{command[0]} does not go on after it was killed.")
    return killed


def _render_killed(folder: Path, chance: random.Random, clip: Path) -> Iterator[str]:
    from ..core.media import probe

    out = folder / "x.mp4"
    killed = _until_done(["convert", str(clip), "--card", "web-wide", "--out", str(out)], chance, 3.0)
    whole = out.exists() and probe.probe(out).frames == 100
    left = [p.name for p in folder.iterdir() if p != out]
    yield (
        ("render killed" if killed else "render finished first")
        if whole and not left
        else f"FAULT: render left {left}, {whole=}"
    )


def _edit_killed(folder: Path, chance: random.Random, clip: Path) -> Iterator[str]:
    job = folder / "x.adzer"
    killed = _killed(["add", str(job), str(clip.parent)], chance.uniform(0.2, 2.5)) is None
    ended = _killed(["add", str(job), str(clip.parent)], 120)
    with Job.open(job) as held:
        prints = [s.facts.fingerprint for s in held.shots()]
    sound = ended is not None and prints and len(prints) == len(set(prints))
    yield ("edit killed" if killed else "edit finished first") if sound else f"FAULT: edit left {len(prints)} shots"


def _offload_killed(folder: Path, chance: random.Random, clip: Path) -> Iterator[str]:
    card, to = folder / "card", folder / "to"
    card.mkdir()
    for n in range(6):
        (card / f"C{n}.bin").write_bytes(chance.randbytes(3_000_000))
    before = {p.name: p.read_bytes() for p in card.iterdir()}
    killed = _until_done(["offload", str(card), "--to", str(to)], chance, 1.5)
    copied = {p.name: p.read_bytes() for p in to.rglob("*.bin")}
    same = copied == before and {p.name: p.read_bytes() for p in card.iterdir()} == before
    left = [p for p in to.rglob("*") if p.name.startswith(".")]
    yield (
        ("offload killed" if killed else "offload finished first")
        if same and not left
        else f"FAULT: offload left {left}, {same=}"
    )


# --- the window -----------------------------------------------------------------------------------------------------------
def keys(window: Any, count: int, seed: int = SEED, most: float = 900.0) -> list[str]:
    """Sends keys, clicks and typed values at random to a window; the faults that came of it."""
    from PySide6.QtCore import QEvent, QPoint, Qt, QTimer
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QApplication, QFileDialog, QLineEdit, QWidget

    for top in QApplication.topLevelWidgets():  # what others left open is not this window's
        if top is not window and not window.isAncestorOf(top):
            top.hide()
            top.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    chance, faults = random.Random(seed), []
    typed = ("0", "-1", "1e9", "nan", "2.39", "16:9", "1/0", "", "٣", "x" * 200, "25")
    plain = [Qt.Key(k) for k in range(Qt.Key.Key_A, Qt.Key.Key_Z + 1)] + [
        Qt.Key(k) for k in range(Qt.Key.Key_0, Qt.Key.Key_9 + 1)
    ]
    other = [Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Tab, Qt.Key.Key_Return, Qt.Key.Key_Escape,
             Qt.Key.Key_Space, Qt.Key.Key_Home, Qt.Key.Key_End, Qt.Key.Key_Comma, Qt.Key.Key_Period]  # fmt: skip
    hook, begun = sys.excepthook, time.monotonic()
    asked = {
        name: getattr(QFileDialog, name)
        for name in ("getExistingDirectory", "getOpenFileName", "getOpenFileNames", "getSaveFileName")
    }
    for name in asked:  # the desktop's own sheets are sent away at once
        setattr(
            QFileDialog,
            name,
            lambda *_, name=name, **__: "" if name == "getExistingDirectory" else ([] if name.endswith("s") else "", ""),
        )
    waiting = QTimer()
    waiting.timeout.connect(lambda: (sheet := QApplication.activeModalWidget()) and sheet.close())
    waiting.start(500)
    sys.excepthook = lambda kind, value, trace: faults.append(f"{kind.__name__}: {value}\n" + "".join(traceback.format_tb(trace)))
    try:
        for _ in range(count):
            for top in QApplication.topLevelWidgets():  # sheets are seen, then sent away
                if top is not window and top.isVisible() and chance.random() < 0.3:
                    top.close()
            active = QApplication.activeModalWidget() or window
            seen = [w for w in active.findChildren(QWidget) if w.isVisible() and w.isEnabled()] or [active]
            what = chance.randrange(10)
            if what < 5:
                focus = QApplication.focusWidget() or active
                shift = Qt.KeyboardModifier.ShiftModifier if chance.random() < 0.15 else Qt.KeyboardModifier.NoModifier
                QTest.keyClick(focus, chance.choice(plain + other * 2), shift)
            elif what < 8:
                target = chance.choice(seen)
                place = QPoint(chance.randrange(max(1, target.width())), chance.randrange(max(1, target.height())))
                QTest.mouseClick(target, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, place)
            elif fields := [w for w in seen if isinstance(w, QLineEdit)]:
                field = chance.choice(fields)
                field.setText(chance.choice(typed))
                QTest.keyClick(field, Qt.Key.Key_Return)
            QApplication.processEvents()
            if time.monotonic() - begun > most:
                faults.append(f"{count} took longer than {most:.0f} s")
                break
    finally:
        sys.excepthook = hook
        waiting.stop()
        window._keep_rendering = lambda: False  # what was queued by chance is stopped: nobody is there to be asked
        for name, function in asked.items():
            setattr(QFileDialog, name, function)
    return faults


def _soaked(seconds: int, folder: Path) -> Counter[str]:
    from .soak import soak

    return soak(folder, clips(folder, 30)[0], seconds, 5)


def _told(found: Counter[str]) -> str:
    return ", ".join(f"{n} {what}" for what, n in found.most_common())


def _fault(found: Counter[str]) -> int:
    fine = ("read", "refused", "render killed", "edit killed", "offload killed", "edits", "undone", "masters", "kills")
    return sum(n for what, n in found.items() if what not in fine and not what.endswith("finished first"))


def main() -> None:
    from ..core.sim.demo import demo_job
    from .rendering import verdict, write_part

    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    lines = []
    with tempfile.TemporaryDirectory(prefix="adzer-hostile-") as name:
        folder = Path(name)
        job = demo_job(folder / "demo")
        for what, count, work in (
            ("damaged media", 1000, lambda n, where: media(n, where)),
            ("rows of a job", 200, lambda n, where: rows(n, job, where)),
            ("cards", 200, lambda n, where: cards_(n, where)),
            ("kills", 500, lambda n, where: kills(n, where)),
            ("seconds of five processes in one job, five killed", 600, lambda n, where: _soaked(n, where)),
        ):
            where, begun = folder / what.replace(" ", "-"), time.monotonic()
            where.mkdir()
            found = work(count, where)
            lines.append(
                (f"{count} {what}", f"{_told(found)}; {time.monotonic() - begun:.0f} s", "no fault", not _fault(found))
            )
            print(lines[-1], flush=True)
        lines.append(_in_the_window(job, 5000))
    text = "| what | what became of it | asked | |\n| --- | --- | --- | --- |\n"
    text += "".join(f"| {a} | {b} | {c} | {verdict(met)} |\n" for a, b, c, met in lines)
    write_part("hostile", f"## Hostile\n\n{text}")
    print(text)


def _in_the_window(job: Path, count: int) -> tuple[str, str, str, bool]:
    from ..desk.app import application
    from ..desk.model import Desk
    from ..desk.window import Window

    application()
    window = Window(Desk(Job.open(job)))
    window.show()
    begun = time.monotonic()
    faults = keys(window, count)
    window.close()
    told = f"{len(faults)} faults ({'; '.join(sorted(set(faults))[:3])})" if faults else "no fault"
    return f"{count} keys, clicks and typed values", f"{told}; {time.monotonic() - begun:.0f} s", "no fault", not faults


if __name__ == "__main__":
    main()
