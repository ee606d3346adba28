"""Several processes in one job at once, some of them killed: ``./run bench hostile`` does it for ten minutes, a test for some seconds.

Two editors change different answers of one shot from what they read a while ago, a third process takes edits back, a fourth looks on
with a new connection each time, and a renderer makes one master after another. What counts is the log, read row by row with nothing
but SQLite: each row says from what to what an answer was changed, so that the answers in the file must be what its rows add up to.
"""

from __future__ import annotations

import json
import random
import signal
import sqlite3
import subprocess
import sys
import time
from collections import Counter
from contextlib import closing
from pathlib import Path

from ..core.compile import freeze
from ..core.intake.take import read_file
from ..core.job import Job
from ..core.route import Route

START = "import sys, time, random\nfrom adzer.core.job import Job\nfrom adzer.core.ledger import EditConflict\nfrom adzer.core.run import queue\n"
EDITOR = START + """
field, first = sys.argv[2], int(sys.argv[3])
with Job.open(sys.argv[1]) as job:
    for n in range(first, 1_000_000):
        shot = job.shots()[0]
        time.sleep(random.random() / 50)  # somebody thinks
        try:
            job.decide(shot, shot.route.with_("colour", **{field: 0.5 + n % 1000 / 1000}), f"{field} {n}")
        except EditConflict:  # the undoer took this very answer back
            continue
        print(n, flush=True)
"""
UNDOER = START + """
with Job.open(sys.argv[1]) as job:
    while True:
        time.sleep(random.random() / 4)
        job.undo()
"""
WATCHER = START + """
while True:
    with Job.open(sys.argv[1]) as job:
        job.slips(), job.shots(), job.log_rows(5)
"""
RENDERER = START + """
with Job.open(sys.argv[1]) as job:
    while True:
        queue.run(job)
        time.sleep(0.05)
"""
PATIENCE = 100.0  # seconds longer, on a slow machine, until there is a master at all
FIELDS = ("contrast", "saturation")


def soak(folder: Path, clip: Path, seconds: float, kills: int, seed: int = 2026) -> Counter[str]:
    """What became of it: ``edits``, ``undone``, ``masters``, ``kills``, and a row for each fault."""
    chance, found = random.Random(seed), Counter[str]()
    path = folder / "busy.adzer"
    facts, seen = read_file(clip)
    with Job.create(path, "busy") as job:
        shot = job.add_shot(facts)
    with closing(sqlite3.connect(path)) as db, db:
        db.executescript("DELETE FROM changes; DELETE FROM edits;")  # the shot stays, however much is taken back
    commands = {
        **{field: (EDITOR, (field,)) for field in FIELDS}, "undo": (UNDOER, ()), "watch": (WATCHER, ()), "render": (RENDERER, ()),
    }  # fmt: skip
    said: dict[str, list[int]] = {field: [] for field in FIELDS}
    words = {name: folder / f"{name}.out" for name in commands}
    count = 0

    def begun(name: str) -> subprocess.Popen[bytes]:
        nonlocal count
        count += 1
        text, more = commands[name]
        with words[name].open("ab") as out, (folder / f"{name}.err").open("ab") as err:
            return subprocess.Popen([sys.executable, "-c", text, str(path), *more, str(count * 1000)], stdout=out, stderr=err)

    running = {name: begun(name) for name in commands}
    until, between = time.monotonic() + seconds, seconds / (kills + 1)
    slips, made, next_kill = 0, False, time.monotonic() + between
    try:
        with Job.open(path) as job:
            while time.monotonic() < until or (not made and time.monotonic() < until + PATIENCE):
                states = {s.state for s in job.slips()}
                made = "done" in states
                if states <= {"done", "failed"}:
                    slips += 1
                    job.enqueue(shot.id, freeze("busy", facts, Route(), "web-wide", folder / f"{slips}.mp4", 0, 20, seen))
                if time.monotonic() > next_kill:
                    name = chance.choice(sorted(commands))
                    running[name].send_signal(signal.SIGKILL)
                    running[name].wait()
                    running[name], next_kill = begun(name), next_kill + between
                    found["kills"] += 1
                for name, process in running.items():
                    if process.poll() is not None:
                        found[f"FAULT: {name} ended: {(folder / f'{name}.err').read_text()[-200:]}"] += 1
                        running[name] = begun(name)
                time.sleep(0.1)
    finally:
        for process in running.values():
            process.kill()
            process.wait()
    for field in FIELDS:
        said[field] = [int(v) for v in words[field].read_text().split()]
    _judge(path, said, found)
    return found


def _judge(path: Path, said: dict[str, list[int]], found: Counter[str]) -> None:
    with closing(sqlite3.connect(path)) as db:
        if (whole := db.execute("PRAGMA integrity_check").fetchone()[0]) != "ok":
            found[f"FAULT: {whole}"] += 1
            return
        rows = db.execute("SELECT kind, text, numbers FROM log ORDER BY id").fetchall()
        (route,) = db.execute("SELECT json_extract(route, '$.colour') FROM shots").fetchone()
        states = Counter(s for (s,) in db.execute("SELECT state FROM slips"))
    held = {f"colour.{f}": 1.0 for f in FIELDS}
    line: list[tuple[str, float]] = []
    kept = set[str]()
    for kind, text, numbers in rows:
        if kind == "decide":
            kept.add(text)
            ((key, (before, after)),) = json.loads(numbers).items()
            if held[key] != before:
                found["FAULT: an edit began from what was not there"] += 1
            line.append((key, before))
            held[key] = after
            found["edits"] += 1
        elif kind == "undo" and line:
            key, before = line.pop()
            held[key] = before
            found["undone"] += 1
    if any(json.loads(route)[f] != held[f"colour.{f}"] for f in FIELDS):
        found["FAULT: the answers are not what the log adds up to"] += 1
    lost = [f"{f} {n}" for f, numbers_ in said.items() for n in numbers_ if f"{f} {n}" not in kept]
    if lost:
        found["FAULT: an edit that was told is not in the log"] += len(lost)
    found["masters"] = states["done"]
    if states["failed"]:
        found["FAULT: a render failed"] += states["failed"]
