"""A camera's own record of how it turned, beside the recording (``docs/motion.md``): put in step with the picture, and used instead of it.

Its clock, its axes and its bias are not believed: all three are found against what the picture shows.
"""

from __future__ import annotations

import csv
import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ..errors import AdzerError, UnreadableError
from ..look import motion, turns
from ..look.passes import Rows
from ..media import small
from ..space.sphere import Array, turned_about, turning

LARGEST = 256_000_000  # bytes: days of a sensor that is read a thousand times a second
LEAST = 8  # rows, and frames that both know
ALIKE = 0.5  # share of how the picture turns that it has to tell
FINE = 20  # steps each way, twice, to a part of a frame that is lost among how well frames are followed


@dataclass(frozen=True)
class Rates:
    """``times`` (n,) seconds, rising; ``rates`` (n, 3) degrees a second about three axes that stay with the camera."""

    times: Array
    rates: Array


@dataclass(frozen=True)
class Fitted:
    """``offset``: at moment t of the recording the record's clock says t + offset; ``axes`` (3, 3) from its axes to right, forward and up;
    ``bias`` (3,) degrees a second that it says of a camera at rest; ``told``: share of how the picture turns that it tells."""

    offset: float
    axes: Array
    bias: Array
    told: float


def load(path: Path) -> Rates:
    """CSV with the columns time, x, y, z, or JSON with lists of those names. UnreadableError names the file and what is wrong with it."""
    text = small.text(path, LARGEST, "a motion file, CSV or JSON as docs/motion.md says")
    columns = _json(text, path) if text.lstrip().startswith(("{", "[")) else _csv(text, path)
    if len(columns) < LEAST:
        raise UnreadableError(f"{path} holds {len(columns)} rows; at least {LEAST} are needed to put it in step.")
    bad = np.flatnonzero(~np.isfinite(columns).all(axis=1))
    if len(bad):
        raise UnreadableError(f"{path}: row {bad[0] + 1} holds something that is not a number. Correct or remove it.")
    back = np.flatnonzero(np.diff(columns[:, 0]) <= 0)
    if len(back):
        raise UnreadableError(f"{path}: time does not go on from row {back[0] + 1} to {back[0] + 2}. Rows have to rise in time.")
    return Rates(columns[:, 0], columns[:, 1:])


def _csv(text: str, path: Path) -> Array:
    try:
        rows = [r for r in csv.reader(line for line in text.splitlines() if line.strip() and not line.startswith("#")) if r]
    except csv.Error as error:
        raise UnreadableError(f"{path} cannot be read as a table ({error}).") from None
    names = [c.strip().lower() for c in rows[0]] if rows else []
    if not {"time", "x", "y", "z"} <= set(names):
        raise UnreadableError(f"{path}: its first row has to name the columns time, x, y and z.")
    where = [names.index(c) for c in ("time", "x", "y", "z")]

    def number(row: list[str], n: int) -> float:
        try:
            return float(row[n])
        except (ValueError, IndexError):
            return float("nan")

    return np.array([[number(row, n) for n in where] for row in rows[1:]], np.float64).reshape(-1, 4)


def _json(text: str, path: Path) -> Array:
    try:
        plain: Any = json.loads(text)
        return np.stack([np.asarray(plain[c], np.float64) for c in ("time", "x", "y", "z")], axis=1)
    except (ValueError, TypeError, KeyError, OverflowError, RecursionError):
        raise UnreadableError(f"{path}: it has to hold lists of numbers, all equally long, named time, x, y and z.") from None


def as_turns(rows: Rows, focal: tuple[float, float]) -> Rows:
    """Rows of a flat picture (``look.motion``) as of ``look.turns``, its lens ``focal`` widths and heights of a pixel from its picture: where that
    moves to the right the camera turned to the left."""
    made = np.zeros((len(rows), len(turns.Turns.columns)), np.float32)
    x, y = np.degrees(rows[:, motion.X] / focal[0]), np.degrees(rows[:, motion.Y] / focal[1])
    made[:, turns.TURN] = np.stack([y, -rows[:, motion.ROLL], x], axis=1)
    made[:, turns.SURE] = rows[:, motion.SURE]
    return made


def as_moves(rows: Rows, told: Rows, focal: tuple[float, float]) -> Rows:
    """The other way: the rows of a flat picture, with how the camera turned as ``told`` of it."""
    made, turn = np.array(rows), told[:, turns.TURN]
    made[:, motion.X], made[:, motion.Y], made[:, motion.ROLL] = np.radians(turn[:, 2]) * focal[0], np.radians(turn[:, 0]) * focal[1], -turn[:, 1]
    made[:, motion.SURE], made[:, motion.FIRM] = told[:, turns.SURE], 0.0
    return made


def fitted(rates: Rates, rows: Rows, times: Array, name: str) -> Fitted:
    """How a record belongs to a recording's rows (``look.turns``) at ``times``. AdzerError if it is of another, or tells too little."""
    known = np.flatnonzero(rows[1:, turns.SURE] > 0) + 1
    steps = np.diff(times)[known - 1]
    seen = turns.steps(rows)[known] / steps[:, None]
    whole = np.concatenate([np.zeros((1, 3)), np.cumsum((rates.rates[1:] + rates.rates[:-1]) / 2 * np.diff(rates.times)[:, None], axis=0)])

    def told(offset: float) -> tuple[Array, Array] | None:
        """What the record says of each frame it covers, and which those are."""
        a, b = times[known - 1] + offset, times[known] + offset
        inside = (a >= rates.times[0]) & (b <= rates.times[-1])
        if inside.sum() < max(LEAST, len(known) // 2):
            return None
        ends = [np.stack([np.interp(t[inside], rates.times, whole[:, c]) for c in range(3)], axis=1) for t in (a, b)]
        return (ends[1] - ends[0]) / steps[inside, None], inside

    def better(best: float | None, score: float, offsets: Array) -> tuple[float | None, float]:
        for offset in offsets:
            if (found := told(float(offset))) is not None and (alike := _alike(seen[found[1]], found[0])[0]) > score:
                best, score = float(offset), alike
        return best, score

    frame = float(np.median(steps)) if len(steps) else 1.0
    best, score = better(None, 0.0, np.arange(rates.times[0] - times[-1], rates.times[-1] - times[0], frame / 4))
    for fine in (4 * FINE, 40 * FINE):
        if best is not None:
            best, score = better(best, score, best + np.arange(-FINE, FINE + 1) * frame / fine)
    if best is None or score < ALIKE:
        raise AdzerError(
            f"{name} does not turn as the picture does (it tells {score:.0%} of it): it is of another shot, or hardly anything turns. Leave it out."
        )
    says, inside = told(best) or (seen, np.ones(len(seen), bool))
    _, axes = _alike(seen[inside], says)
    return Fitted(round(best, 4), axes, says.mean(axis=0) - axes.T @ seen[inside].mean(axis=0), round(score, 3))


def _alike(seen: Array, says: Array) -> tuple[float, Array]:
    """Share of the turning that the record tells once its axes are laid over the camera's (Kabsch 1976), and those."""
    a, b = says - says.mean(axis=0), seen - seen.mean(axis=0)
    axes = turns.turned_to(a, b)
    return float(1 - ((b - a @ axes.T) ** 2).sum() / max((b**2).sum(), 1e-12)), axes


def used(rows: Rows, rates: Rates, fit: Fitted, times: Array) -> Rows:
    """The rows with how the camera turned as the record says, wherever it says something."""
    made = np.array(rows)
    for n in range(1, len(rows)):
        a, b = times[n - 1] + fit.offset, times[n] + fit.offset
        if a < rates.times[0] or b > rates.times[-1]:
            continue
        at = np.concatenate([[a], rates.times[(rates.times > a) & (rates.times < b)], [b]])
        middle = (at[1:] + at[:-1]) / 2
        speed = np.stack([np.interp(middle, rates.times, rates.rates[:, c]) for c in range(3)], axis=1) - fit.bias
        turn = np.eye(3)
        for step in turning(np.radians(speed @ fit.axes.T * np.diff(at)[:, None])):
            turn = turn @ step
        made[n, turns.TURN], made[n, turns.SURE] = np.degrees(turned_about(turn)), 1.0
    made[:, turns.FIRM] = 0.0  # it drifts less than what is followed from frame to frame
    return made
