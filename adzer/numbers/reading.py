"""Measures what Read promises, in one run, and writes it into ``docs/numbers.md``. ``./run bench read`` calls it.

Offloading against copying and hashing with the usual tools; identification against two hundred untagged recordings of the
simulated world; a board of five thousand shots; a thousand proxies relinked.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from fractions import Fraction
from pathlib import Path

import msgspec
import numpy as np

from ..core.intake.offload import offload
from ..core.intake.relink import relink
from ..core.intake.take import look_at, read_file
from ..core.job import Job, Taken
from ..core.light.samples import Samples
from ..core.media import probe
from ..core.media.formats import PixelFormat
from ..core.read import identify
from ..core.read.seen import SURE, Guess
from ..core.route import Route
from ..core.sim import suite
from ..core.sim.demo import CLIPS
from .rendering import footage, verdict, write_part

Row = tuple[str, str, str, bool]
CASES, SEED = 200, 2026
FIELDS = ("projection", "coverage", "eyes", "packing", "first", "curve", "range")


def _forget(folder: Path) -> None:
    """Writes out and lets go of what memory holds of a folder's files, so that reading them reads the disk."""
    os.sync()
    for path in folder.rglob("*"):
        if path.is_file():
            handle = os.open(path, os.O_RDONLY)
            os.posix_fadvise(handle, 0, 0, os.POSIX_FADV_DONTNEED)
            os.close(handle)


def offloading(folder: Path, gigabytes: int = 20) -> Row:
    """cp, then the copy written out and hashed from the disk, against an offload that does all of that."""
    card, theirs, ours = folder / "card", folder / "cp", folder / "to"
    card.mkdir()
    for n in range(gigabytes):
        with (card / f"C{n:04d}.mov").open("wb") as file:
            for _ in range(100):
                file.write(os.urandom(10_000_000))
    _forget(card)
    began = time.perf_counter()
    subprocess.run(["cp", "-r", str(card), str(theirs)], check=True)
    _forget(theirs)
    subprocess.run(f"xxhsum -H2 '{theirs}'/* > /dev/null", shell=True, check=True)
    usual = time.perf_counter() - began
    shutil.rmtree(theirs)
    _forget(card)
    began = time.perf_counter()
    done = offload(card, [ours], "bench")
    took = time.perf_counter() - began
    shutil.rmtree(ours)
    shutil.rmtree(card)
    speed = usual / took
    return (
        f"(d) offload of {gigabytes} GB, copied, flushed, read back from the disk and compared, against `cp`, flush, and `xxhsum` from the disk",
        f"{took:.0f} s against {usual:.0f} s: {speed:.0%} of its speed", "≥ 85 %", speed >= 0.85 and done.safe,
    )  # fmt: skip


def judge(ask: tuple[int, str]) -> dict[str, tuple[str | None, Guess]]:
    """One case of the suite: what is true and what was seen, field by field."""
    number, folder = ask
    case = suite.case(number, SEED)
    path = suite.write(case, Path(folder) / f"{number}.mkv")
    facts = probe.probe(path)
    seen = identify.identify(facts, Samples(PixelFormat(facts.bits, facts.chroma), "bt709", True))
    path.unlink()
    return {f: (case.answers[f], getattr(seen, f)) for f in FIELDS}


def suite_rows(folder: Path) -> tuple[list[Row], str]:
    """How often each field is right, and the tables of what was taken for what."""
    with ProcessPoolExecutor(2) as pool:
        found = list(pool.map(judge, [(n, str(folder)) for n in range(CASES)]))
    rows: list[Row] = []
    text = f"{CASES} recordings without a tag, each of its own scene, moment, exposure, noise, raster and curve; no log curve and no scene "
    text += "of them is in the collection that the curve's kind is known by. *Best* is the likeliest answer, whatever its confidence; "
    text += f"*sure* is one of at least {SURE:.0%}, which stops until somebody says what it is; everything below that is only shown. "
    text += "No look is acted on.\n\n"
    text += "| field | asked of | best right | sure | sure and wrong |\n| --- | --- | --- | --- | --- |\n"
    for field in FIELDS:
        asked = [c[field] for c in found if c[field][0] is not None]
        best = sum(g.value == true for true, g in asked)
        sure = [(true, g) for true, g in asked if g.confidence >= SURE]
        wrong = sum(g.value != true for true, g in sure)
        text += f"| {field} | {len(asked)} | {best / len(asked):.1%} | {len(sure) / len(asked):.0%} | {wrong} |\n"
        if field in ("projection", "eyes", "curve"):
            rows.append((f"(e) {field} of {CASES} untagged recordings", f"best answer right in {best / len(asked):.1%}, {wrong} surely wrong",
                         "≥ 95 %", best >= 0.95 * len(asked)))  # fmt: skip
    for field in ("projection", "eyes", "curve"):
        pairs = Counter(
            (str(c[field][0]), str(c[field][1].value) if c[field][1].confidence >= SURE else "not known") for c in found
        )
        names = list(
            dict.fromkeys([*sorted({a for a, _ in pairs}), *sorted({b for _, b in pairs} - {"not known"}), "not known"])
        )
        text += f"\n| {field}: is ↓ taken as → | " + " | ".join(names) + " |\n| --- |" + " --- |" * len(names) + "\n"
        for true in sorted({a for a, _ in pairs}):
            text += f"| {true} | " + " | ".join(str(pairs[true, n] or "·") for n in names) + " |\n"
    return rows, text


def looking(folder: Path) -> Row:
    facts = probe.probe(footage(folder, 5))
    times = []
    for _ in range(4):
        began = time.perf_counter()
        look_at(facts, Route())
        times.append(time.perf_counter() - began)
    took = float(np.median(times[1:]))
    return "(f) looking at a UHD 10-bit 4:2:2 recording", f"{took:.2f} s", "≤ 2 s", took <= 2.0


def board(folder: Path) -> list[Row]:
    """A job of 5,000 shots in the real window, offscreen, in a process of its own."""
    path = folder / "many.adzer"
    made = [read_file(CLIPS / name) for name in ("sails-wide.mov", "by-the-canal.mp4")]
    with Job.create(path, "many") as job:
        job.add_shots([
            Taken(made[n % 2][0], f"shot {n}", seen=made[n % 2][1], camera=("scope lens", "phone")[n % 2])
            for n in range(5000)
        ])  # fmt: skip
    code = f"""
import time, json
from adzer.desk.app import application
from adzer.desk.model import Desk
from adzer.desk.window import Window
from adzer.core.job import Job
app = application()
began = time.perf_counter()
window = Window(Desk(Job.open({str(path)!r}))); window.show(); app.processEvents()
opened = time.perf_counter() - began
while window.desk._to_count: app.processEvents()
bar, steps = window.board.verticalScrollBar(), []
for k in range(300):
    t = time.perf_counter(); bar.setValue(k * 331); app.processEvents(); steps.append(time.perf_counter() - t)
finds = []
for words in ('shot 12', 'warn', 'phone', 'scope keep', ''):
    t = time.perf_counter(); window.desk.arrange(filter_=words); app.processEvents(); finds.append(time.perf_counter() - t)
print(json.dumps([opened, max(steps[5:]), max(finds)])); window.close()
"""
    env = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    results = [
        msgspec.json.decode(
            subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, check=True).stdout
        )
        for _ in range(3)
    ]
    opened, scroll, find = np.median(results, axis=0).tolist()
    return [
        ("(g) a job of 5,000 shots opens", f"{opened:.2f} s", "≤ 1 s", opened <= 1),
        ("(g) its longest stall while scrolling", f"{scroll * 1000:.0f} ms", "≤ 50 ms", scroll <= 0.05),
        ("(g) its slowest filter", f"{find * 1000:.0f} ms", "≤ 100 ms", find <= 0.1),
    ]


def crowd(count: int) -> tuple[list[probe.FileFacts], list[probe.FileFacts], dict[str, str]]:
    """Masters and proxies of a made-up shoot whose names were mangled in five ways, and which belongs to which."""
    base = probe.probe(CLIPS / "sails-wide.mov")
    rng = np.random.default_rng(5)
    masters, small, truth = [], [], {}
    for n in range(count):
        code = None if n % 10 == 9 else f"{10 + n // 3600:02d}:{n // 60 % 60:02d}:{n % 60:02d}:{n % 25:02d}"
        change: dict[str, object] = {"frames": int(rng.integers(50, 400)), "created": 1e6 + 30 * n, "rate": Fraction(25)}
        stem = f"A{n // 100:03d}_C{n:04d}"
        masters.append(
            msgspec.structs.replace(base, path=f"/m/{stem}.mov", fingerprint=f"m{n}", timecode=code, **change)
        )
        mangled = (stem.lower() if n % 2 else stem) + ("_proxy", "_s03", "-LOW", " small", "_v2_half")[n % 5]
        small.append(msgspec.structs.replace(
            base, path=f"/p/{mangled}.mp4", fingerprint=f"p{n}", timecode=code if n % 7 else None, raster=(720, 540), **change))  # fmt: skip
        truth[small[-1].path] = masters[-1].path
    rng.shuffle(small)
    return masters, small, truth


def relinking() -> Row:
    masters, small, truth = crowd(1000)
    began = time.perf_counter()
    there, back = relink(small, masters), relink(masters, small)
    took = (time.perf_counter() - began) / 2
    right = sum(m.found == truth[m.wanted] and m.state == "matched" for m in there)
    right += sum(m.state == "matched" and truth.get(m.found or "") == m.wanted for m in back)
    words = f"{took:.2f} s each way, {right} of {2 * len(masters)} right"
    return (
        "(h) 1,000 proxies against 1,000 masters with mangled names",
        words,
        "≤ 5 s, all",
        took <= 5 and right == 2 * len(masters),
    )


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="adzer-bench-") as name:
        folder = Path(name)
        rows = [offloading(folder)]
        print(rows[-1], flush=True)
        rows.append(looking(folder))
        rows += board(folder)
        rows.append(relinking())
        print(rows[1:], flush=True)
        judged, tables = suite_rows(folder)
        rows[1:1] = judged
    text = "| what | measured | asked | |\n| --- | --- | --- | --- |\n"
    text += "".join(f"| {what} | {found} | {asked} | {verdict(met)} |\n" for what, found, asked, met in rows)
    write_part("read", f"## Read\n\n{text}\n### What untagged footage was taken for\n\n{tables}")
    print(text, tables)


if __name__ == "__main__":
    main()
