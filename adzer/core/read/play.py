"""Will it play? Measured on this machine, and judged by player cards for the machines that are not here."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable
from pathlib import Path

import msgspec

from ..cards import DeliveryCard, PlayerCard, find, paths
from ..errors import Cancelled
from ..media.decode import opened
from ..media.encode import ENCODERS
from ..media.probe import FileFacts
from ..picture import Picture
from .seen import Play

CODECS = {
    "h264": "H.264", "hevc": "H.265", "mpeg2video": "H.262", "mpeg4": "MPEG-4 part 2", "av1": "AV1", ENCODERS["st2019"]: "SMPTE ST 2019",
    "ffv1": "FFV1 (RFC 9043)", "mjpeg": "Motion JPEG", "rawvideo": "uncompressed", "tiff": "TIFF frames", "dpx": "DPX frames",
    "exr": "EXR frames",
}  # fmt: skip


def codec_title(facts: FileFacts) -> str:
    """H.265, 10-bit 4:2:2."""
    if facts.mosaic:
        return "DNG sensor values"
    return f"{CODECS.get(facts.codec, 'another codec')}, {facts.bits}-bit {facts.chroma if not facts.rgb else 'RGB'}"


def measure(facts: FileFacts, seconds: float = 0.8, cancelled: Callable[[], bool] = lambda: False) -> Play:
    """Decodes on for ``seconds`` as playing does, then jumps to three places as a person does. Where other work on the machine made it
    wait for a processor, the rate is what it would have been without."""
    with opened(facts.sources, facts.fingerprint) as reader:
        n = len(reader)
        began, count, idle = 0.0, 0, (0, 0)
        for frame in reader.frames(0, n):
            if not count:
                idle, began = waited(), time.monotonic()  # opening and the first frame are not playing
            count += 1
            if time.monotonic() - began > seconds or cancelled():
                break
            del frame
        took = time.monotonic() - began
        ran, held_up = (b - a for a, b in zip(idle, waited(), strict=True))
        rate = (count - 1) / took * (1 + held_up / ran if ran > 0 else 1.0) if count > 1 and took > 0 else 0.0
        jumps = []
        for share in (0.83, 0.31, 0.62):
            if cancelled():
                raise Cancelled("Measuring was stopped.")
            start = time.monotonic()
            next(iter(reader.frames(int(share * (n - 1)), n)), None)
            jumps.append(time.monotonic() - start)
    return Play(round(rate, 2), round(1000 * sorted(jumps)[1], 1), count)


def waited() -> tuple[int, int]:
    """Nanoseconds that this process's threads ran, and that they waited for a processor (proc(5), schedstat); (0, 0) where that is unknown."""
    ran = held_up = 0
    try:
        for task in Path("/proc/self/task").iterdir():
            with contextlib.suppress(OSError, ValueError):  # a thread that has just ended
                words = (task / "schedstat").read_text("ascii").split()
                ran, held_up = ran + int(words[0]), held_up + int(words[1])
    except OSError:
        return 0, 0
    return ran, held_up


def judge(facts: FileFacts, card: PlayerCard) -> str | None:
    """Why a player of this kind cannot decode the file in hardware; None if it can. The nearest of its abilities counts."""
    same = [d for d in card.decodes if d.codec == facts.codec]
    if not same:
        return f"no {CODECS.get(facts.codec, 'such')} decoder is built into it"
    reasons: list[list[str]] = []
    for d in same:
        why = []
        if facts.bits > d.bits:
            why.append(f"{facts.bits}-bit samples (it takes {d.bits})")
        if facts.chroma not in d.chroma or facts.rgb:
            why.append(f"{'RGB' if facts.rgb else facts.chroma} chroma (it takes {' and '.join(d.chroma)})")
        long, short = max(facts.raster), min(facts.raster)
        if long > max(d.max_raster) or short > min(d.max_raster):
            why.append(f"{facts.raster[0]}×{facts.raster[1]} (at most {d.max_raster[0]}×{d.max_raster[1]})")
        pixels = facts.raster[0] * facts.raster[1] * float(facts.rate or 0)
        if not why and pixels > 1.02 * d.max_raster[0] * d.max_raster[1] * d.max_rate:
            why.append(
                f"{float(facts.rate or 0):g} frames a second at this size (at most {d.max_rate:g} at its largest)"
            )
        if not why:
            return None
        reasons.append(why)
    fewest = min(len(r) for r in reasons)
    return "; ".join(next(r for r in reasons if len(r) == fewest))


def players(facts: FileFacts, card: DeliveryCard, delivered: Picture) -> tuple[list[str], list[str]]:
    """Which kinds of players decode a delivery in hardware, and show it as what it is, and which do not: names of player cards."""
    made = msgspec.structs.replace(
        facts, codec={"h265": "hevc"}.get(card.encoder, card.encoder), bits=card.bits, chroma=card.chroma, rgb=False,
        raster=delivered.raster, rate=delivered.rate or facts.rate,
    )  # fmt: skip
    names = list(paths("players"))
    needs = {"spheres"} if delivered.projection == "equirectangular" else set()
    needs |= {"pairs"} if delivered.eyes not in (None, "one") else set()
    known = {n: find("players", n, PlayerCard) for n in names}
    plays = [n for n, card in known.items() if judge(made, card) is None and needs <= set(card.shows)]
    return plays, [n for n in names if n not in plays]
