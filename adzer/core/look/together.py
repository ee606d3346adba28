"""Two recordings of one moment: how their clocks stand to each other, by what both heard, or by how both moved.

``offset``: seconds by which the second's own start lies after the first's; ``drift``: by how much faster its clock runs, in millionths:
what the first records at t, the second has at (t − offset)·(1 + drift/10⁶).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .alike import vertex
from .motion import ROLL, SURE, Y
from .passes import Rows

Array = NDArray[np.float64]
Sound = NDArray[np.float32]
Curve = tuple[tuple[float, float], ...]

RATE = 8000  # samples a second that are listened to
BANDS = ((80, 400), (400, 1500), (1500, 3600))  # Hz
STEP = 40  # samples from one loudness to the next: 5 ms
WINDOW = 1 << 15  # samples that are compared at once: 4 s
NEAR = 0.25  # seconds about where it is expected that a window is looked for
WINDOWS, FIRST = 25, 5  # windows over the whole; of those that a guess is tried on
TRIED = 6  # guesses
APART = 0.05  # seconds between guesses, and between what agrees and what does not
AGREE = 0.002  # seconds within which windows agree
STANDS_OUT = 8.0  # times the noise of a correlation that a peak must be
PROOF = 16.0  # the same, of all windows together, up to which strangers come by chance (measured)
SURELY = 0.05e-3  # seconds, below which nobody should believe one stretch
LONG = 600 * RATE  # samples of both, up to which they are compared as they are, too
QUIET = 1e-4  # rms of full scale below which nothing is heard


@dataclass(frozen=True)
class Together:
    """``uncertainty``: of the offset, seconds (95 %); ``drift``: None where the overlap is too short to tell, and its own
    ``drift_uncertainty``, millionths; ``confidence``: 0 … 1; ``says``: what it rests on, or why it cannot be told. ``course``: (n, 2)
    moments of the first and the offset there, of each window that agrees. ``curve``: offsets about it, seconds, and how alike the two are
    there, at most 1. ``lost``: there was nothing to go by, as in silence, so that another witness should be asked."""

    offset: float
    uncertainty: float
    confidence: float
    says: str
    drift: float | None = None
    drift_uncertainty: float = 0.0
    course: tuple[tuple[float, float], ...] = ()
    curve: Curve = ()
    lost: bool = False


def cannot(why: str, lost: bool = True) -> Together:
    return Together(0.0, float("inf"), 0.0, why, lost=lost)


# --- by sound -------------------------------------------------------------------------------------------------------------
def by_sound(a: Sound, b: Sound) -> Together:
    """Of two mono sounds at ``RATE``. Where in time loudness rises alike is guessed over the whole; each guess is tried on windows by
    correlation weighted by phase (Knapp and Carter 1976), which rooms and microphones disturb least; all windows' answers make one line."""
    if min(len(a), len(b)) < WINDOW:
        return cannot(f"One of them lasts less than {WINDOW / RATE:.0f} s: too little to hear.")
    if any(float(np.sqrt(np.mean(v.astype(np.float64) ** 2))) < QUIET for v in (a, b)):
        return cannot("One of them is silent.")
    guesses = _guesses(_rises(a), _rises(b)) + (_straight(a, b) if len(a) + len(b) < LONG else [])
    tried = [_tried(a, b, guess) for guess in guesses] or [(0.0, 0.0)]
    best, guess = max(tried)
    other = max((s for s, g in tried if abs(g - guess) > APART), default=0.0)
    times, lags, heights = _listened(a, b, guess)
    if len(times) == 0:
        return cannot("Nothing that both heard stands out.", lost=False)
    agree, fit, spread = _line(times, lags)
    count, share = int(agree.sum()), float(agree.mean())
    lone = max(0.0, 1.0 - other / max(best, 1e-9))
    span = float(np.ptp(times[agree])) if count else 0.0
    # Windows lie over each other in short recordings: so many of them are witnesses of their own.
    proof = float(np.median(heights[agree])) * np.sqrt(1 + span * RATE / WINDOW) if count else 0.0
    confidence = min(1.0, share / 0.5) * min(1.0, lone / 0.3) * min(1.0, max(0.0, proof - PROOF) / (PROOF / 2))
    if confidence < 0.5 and lone < 0.3:
        return cannot(f"What is heard is the same again and again: {guess:+.2f} s and others fit alike.")
    if confidence < 0.5:
        return cannot("Nothing that both heard stands out.", lost=False)
    one = 2 * max(spread, SURELY)
    slope, at = fit
    drift = -slope * 1e6 if span >= 10 and count >= 4 else None
    start = float(at) if drift is None else float(at / (1 - slope))
    return Together(
        start, float(one / np.sqrt(count)) + (0.0 if drift is not None else 50e-6 * span), round(float(confidence), 3),
        f"{count} of {len(times)} stretches of {WINDOW / RATE:.0f} s that both heard agree to {1000 * spread:.2f} ms.", drift,
        float(one / span * np.sqrt(12 / count) * 1e6) if drift is not None else 0.0,
        tuple((round(float(t), 3), round(float(v), 6)) for t, v in zip(times[agree], lags[agree], strict=True)),
        _heard_about(a, b, times[agree], lags[agree]),
    )  # fmt: skip


def _rises(x: Sound) -> Array:
    """How much louder it becomes, from 5 ms to 5 ms, in three bands together."""
    from scipy.signal import butter, sosfilt

    n = len(x) // STEP
    total = np.zeros(n)
    for low, high in BANDS:
        heard = sosfilt(butter(2, (low, high), "bandpass", fs=RATE, output="sos"), x)[: n * STEP]
        power = (heard.reshape(n, STEP) ** 2).mean(axis=1)
        level = np.log(power + 1e-3 * power.mean() + 1e-12)
        total[1:] += np.maximum(np.diff(level), 0.0)
    return np.asarray(total - total.mean())


def _guesses(a: Array, b: Array) -> list[float]:
    """Offsets, seconds, at which rises fall together, the likeliest first; at least 2 s, or a tenth of the shorter, must overlap."""
    n = 1 << int(np.ceil(np.log2(len(a) + len(b))))
    product = np.fft.irfft(np.fft.rfft(a, n) * np.conj(np.fft.rfft(b, n)), n)  # at k: b's start k steps after a's
    lags = np.arange(-len(b) + 1, len(a))
    product = product[lags]  # negative ones lie at the end
    both = np.minimum(len(a), lags + len(b)) - np.maximum(0, lags)
    least = min(max(2 * RATE / STEP, 0.1 * min(len(a), len(b))), 0.8 * min(len(a), len(b)))
    score = np.where(both >= least, product / np.sqrt(np.maximum(both, 1)), -np.inf)
    found: list[float] = []
    wide = round(APART * RATE / STEP)
    for _ in range(TRIED):
        k = int(score.argmax())
        if not np.isfinite(score[k]):
            break
        found.append(float(lags[k]) * STEP / RATE)
        score[max(0, k - wide) : k + wide + 1] = -np.inf
    return found


def _straight(a: Sound, b: Sound) -> list[float]:
    """Offsets by the sounds themselves, weighted by phase, over the whole: what is found under noise that hides all rises."""
    n = 1 << int(np.ceil(np.log2(len(a) + len(b))))
    hz = np.fft.rfftfreq(n, 1 / RATE)
    cross = np.where((hz >= BANDS[0][0]) & (hz <= BANDS[-1][1]), np.fft.rfft(a, n) * np.conj(np.fft.rfft(b, n)), 0.0)
    lag = np.fft.irfft(cross / np.maximum(np.abs(cross), 1e-6 * np.abs(cross).max() + 1e-30) ** 0.8, n)
    found = []
    for _ in range(2):
        k = int(lag.argmax())
        found.append((k if k < len(a) else k - n) / RATE)
        lag[np.arange(k - round(APART * RATE), k + round(APART * RATE)) % n] = -np.inf
    return [v for v in found if -len(b) / RATE < v < len(a) / RATE]


def _compared(a: Sound, b: Sound, time: float, offset: float) -> tuple[float, float] | None:
    """(offset, height in times the noise) by the window of ``a`` about ``time``, expected at ``offset``; None: too little is there."""
    found = _correlation(a, b, time, offset)
    if found is None:
        return None
    near, start = found
    k = int(near[1:-1].argmax()) + 1
    noise = 1.4826 * float(np.median(np.abs(near)))
    fine = float(vertex(*near[k - 1 : k + 2]))
    return start + (k + fine - round(NEAR * RATE)) / RATE, float(near[k]) / max(noise, 1e-12)


def _correlation(a: Sound, b: Sound, time: float, offset: float) -> tuple[Array, float] | None:
    """How alike that window and the other sound are up to ``NEAR`` from the offset of seconds that comes back with it."""
    first = round(time * RATE) - WINDOW // 2
    other = first - round(offset * RATE)
    x, y = (v[max(0, s) : max(0, s) + WINDOW] for v, s in ((a, first), (b, other)))
    if min(first, other) < 0 or min(len(x), len(y)) < WINDOW:
        return None
    if any(float(np.sqrt(np.mean(v.astype(np.float64) ** 2))) < QUIET for v in (x, y)):
        return None
    taper = np.hanning(WINDOW)
    fx, fy = np.fft.rfft(x * taper, 2 * WINDOW), np.fft.rfft(y * taper, 2 * WINDOW)
    hz = np.fft.rfftfreq(2 * WINDOW, 1 / RATE)
    heard = (hz >= BANDS[0][0]) & (hz <= BANDS[-1][1])
    cross = np.where(heard, fx * np.conj(fy), 0.0)
    cross /= np.maximum(np.abs(cross), 1e-6 * np.abs(cross).max() + 1e-30) ** 0.8
    lag = np.fft.irfft(cross, 2 * WINDOW)
    reach = round(NEAR * RATE)
    return np.concatenate([lag[-reach:], lag[: reach + 1]]), (first - other) / RATE


def _heard_about(a: Sound, b: Sound, times: Array, lags: Array) -> Curve:
    """The mean of a few windows' correlations, the highest of each 2 ms, about where each is found."""
    total, reach, each = np.zeros(2 * round(NEAR * RATE) + 1), round(NEAR * RATE), RATE // 500
    for t, lag in list(zip(times, lags, strict=True))[:: max(1, len(times) // FIRST)]:
        near = _correlation(a, b, float(t), float(lag))
        if near is not None:
            total += near[0] / max(float(near[0].max()), 1e-12)
    bins = total[: len(total) // each * each].reshape(-1, each).max(axis=1)
    offsets = float(np.median(lags)) + ((np.arange(len(bins)) + 0.5) * each - reach) / RATE
    return _told(offsets, bins / max(float(bins.max()), 1e-12))


def _told(offsets: Array, heights: Array) -> Curve:
    return tuple((round(float(t), 4), round(float(v), 3)) for t, v in zip(offsets, heights, strict=True))


def _overlap(a: Sound, b: Sound, offset: float, count: int) -> Array:
    """Middles of windows, moments of ``a``, spread over what both heard."""
    half = WINDOW / RATE / 2
    start, stop = max(0.0, offset) + half, min(len(a) / RATE, offset + len(b) / RATE) - half
    if stop < start:
        return np.zeros(0)
    return np.unique(np.linspace(start, stop, count))


def _tried(a: Sound, b: Sound, offset: float) -> tuple[float, float]:
    """How well a guess stands on a few windows, the median height of those that agree, times their share; and the offset that these
    found near it."""
    found = [v for t in _overlap(a, b, offset, FIRST) if (v := _compared(a, b, float(t), offset)) is not None]
    if not found:
        return 0.0, offset
    lags, heights = np.array(found).T
    middle = float(lags[heights.argmax()])
    agree = (np.abs(lags - middle) < 5 * AGREE) & (heights > STANDS_OUT)
    return (float(np.median(heights[agree]) * agree.mean()), middle) if agree.any() else (0.0, offset)


def _listened(a: Sound, b: Sound, offset: float) -> tuple[Array, Array, Array]:
    """(moments, offsets, heights) of windows that stand out, followed outwards from the middle, so that a clock that drifts is kept."""
    times = _overlap(a, b, offset, WINDOWS)
    found: list[tuple[float, float, float]] = []
    for t in times[np.argsort(np.abs(times - times.mean()), kind="stable")] if len(times) else ():
        expected = offset
        if found:
            near = sorted(found, key=lambda v: abs(v[0] - t))[:5]
            expected = float(np.median([v[1] for v in near]))
        at = _compared(a, b, float(t), expected)
        if at is not None and at[1] > STANDS_OUT:
            found.append((float(t), *at))
    if not found:
        return np.zeros(0), np.zeros(0), np.zeros(0)
    made = np.array(sorted(found))
    return made[:, 0], made[:, 1], made[:, 2]


def _line(times: Array, lags: Array) -> tuple[NDArray[np.bool_], tuple[float, float], float]:
    """(which agree, (slope, value at 0), their rms off it): the line that most windows lie on, which must be a clock's: at most 500
    millionths steep."""
    best, kept = -1, np.zeros(len(times), bool)
    pairs = [(i, j) for i in range(len(times)) for j in range(i + 1, len(times)) if times[j] - times[i] > 5] or [(i, i) for i in range(len(times))]
    for i, j in pairs:
        slope = 0.0 if i == j else (lags[j] - lags[i]) / (times[j] - times[i])
        if abs(slope) > 500e-6:
            continue
        on = np.abs(lags - lags[i] - slope * (times - times[i])) < AGREE / 2
        if int(on.sum()) > best:
            best, kept = int(on.sum()), on
    if best < 1:
        return kept, (0.0, float(np.median(lags))), AGREE
    t, v = times[kept], lags[kept]
    if best < 4 or np.ptp(t) < 10:
        return kept, (0.0, float(v.mean())), float(v.std()) if best > 1 else AGREE / 4
    slope, at = np.polyfit(t, v, 1)
    return kept, (float(slope), float(at)), float(np.sqrt(((v - slope * t - at) ** 2).sum() / (best - 2)))


# --- by movement ----------------------------------------------------------------------------------------------------------
FINER = 8  # steps of the comparison in a frame
MOVES = 0.15  # pixels, or hundredths of a degree, a frame that a camera must move by for it to count
MOVED = 1.5  # seconds about an answer that its curve goes
LONE = 0.3  # seconds between one answer and another


def by_motion(a: Rows, at: Array, b: Rows, bt: Array) -> Together:
    """Of the rows of ``look.motion`` of two recordings, and of the seconds of their frames. Only what moves up and down and what rolls
    is compared: what moves sideways, depth can fake."""
    if min(len(a), len(b)) < 12:
        return cannot("Too few frames to compare how they move.")
    step = min(float(np.median(np.diff(t))) for t in (at, bt)) / FINER
    moves = [_moving(rows, t, step) for rows, t in ((a, at), (b, bt))]
    one, other = moves
    used = [c for c in (0, 1) if min(float(one[:, c].std()), float(other[:, c].std())) * step * FINER > (MOVES, MOVES / 15)[c]]
    if not used:
        return cannot("The cameras hardly move: there is nothing to compare.")
    score, lags = _correlated(one[:, used], other[:, used], step)
    k = int(score.argmax())
    top = float(score[k])
    fine = float(vertex(*score[k - 1 : k + 2])) if 0 < k < len(score) - 1 else 0.0
    away = np.abs(lags - lags[k]) * step > LONE
    second = float(score[away].max(initial=0.0))
    confidence = min(1.0, max(0.0, (top - 0.5) / 0.3)) * min(1.0, max(0.0, (1 - second / max(top, 1e-9)) / 0.25))
    if confidence < 0.5:
        return cannot(f"How they move does not settle it: alike to {top:.2f} at best, and to {second:.2f} elsewhere.")
    about = slice(max(0, k - round(MOVED / step)), k + round(MOVED / step) + 1)
    ways = " and ".join(("up and down", "rolling")[c] for c in used)
    return Together(
        float((lags[k] + fine) * step + at[0] - bt[0]), 2 * step * FINER * max(0.02, float(np.sqrt(max(1 - top, 0))) / 4), round(confidence, 3),
        f"They move alike, {ways}, to {top:.2f}; at no other moment to more than {second:.2f}.",
        curve=_told(*((lags * step + at[0] - bt[0])[about], score[about])),
    )  # fmt: skip


def _moving(rows: Rows, times: Array, step: float) -> Array:
    """(n, 2) pixels down and degrees clockwise a second, on an even grid from the first frame on; 0 where it is not known."""
    from scipy.interpolate import PchipInterpolator

    lasts = np.diff(times)
    speed = np.where(rows[1:, SURE, None] > 0, rows[1:, [Y, ROLL]], 0.0) / np.maximum(lasts, 1e-6)[:, None]
    middle = (times[1:] + times[:-1]) / 2
    grid = np.arange(0, times[-1] - times[0], step) + times[0]
    made = PchipInterpolator(middle, speed, extrapolate=False)(grid)
    return np.nan_to_num(made)


def _correlated(a: Array, b: Array, step: float) -> tuple[Array, NDArray[np.int64]]:
    """Likeness (−1 … 1) of the channels together at each offset in steps, of which at least 1.5 s and a quarter must overlap."""
    n = 1 << int(np.ceil(np.log2(len(a) + len(b))))
    lags = np.arange(-len(b) + 1, len(a))
    total, weight = np.zeros(len(lags)), 0.0
    for c in range(a.shape[1]):
        x, y = a[:, c] - a[:, c].mean(), b[:, c] - b[:, c].mean()
        product = np.fft.irfft(np.fft.rfft(x, n) * np.conj(np.fft.rfft(y, n)), n)[lags]
        # The energy of each within what overlaps, by sums from the start.
        sums = [np.concatenate([[0.0], np.cumsum(v * v)]) for v in (x, y)]
        lo, hi = np.maximum(0, lags), np.minimum(len(a), lags + len(b))
        energy = (sums[0][hi] - sums[0][lo]) * (sums[1][hi - lags] - sums[1][lo - lags])
        total += product / np.sqrt(np.maximum(energy, 1e-12 * (x @ x) * (y @ y) + 1e-30))
        weight += 1.0
    both = np.minimum(len(a), lags + len(b)) - np.maximum(0, lags)
    least = max(1.5 / step, 0.25 * min(len(a), len(b)))
    return np.where(both >= least, total / weight, -1.0), lags
