"""Sound at another speed, by arithmetic: an event at sample x is heard at x / speed."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest

from adzer.core.media.stretch import stretched

RATE, SECONDS = 48000, 5


def beds() -> dict[str, np.ndarray]:
    t = np.arange(RATE * SECONDS) / RATE
    rng = np.random.default_rng(2)
    pitch = 2 * np.pi * np.cumsum(110 * (1 + 0.1 * np.sin(2 * np.pi * 0.7 * t))) / RATE
    voice = sum(np.sin(k * pitch) / k for k in range(1, 20)) * (0.06 + 0.04 * np.sin(2 * np.pi * 3 * t))
    wind = rng.standard_normal(len(t)) * 0.02
    music = sum(0.05 * np.sin(2 * np.pi * f * t) for f in (220, 277, 330, 1000))
    return {"voice": voice, "wind": wind, "music": music}


def play(sound: np.ndarray, speed: Fraction) -> np.ndarray:
    total = int(sound.shape[1] / speed)
    pieces = (sound[:, n : n + 1024].astype(np.float32) for n in range(0, sound.shape[1], 1024))
    out = np.concatenate(list(stretched(pieces, RATE, speed, total)), axis=1)
    assert out.shape == (len(sound), total)
    return out


@pytest.mark.parametrize("speed", [Fraction(1, 2), Fraction(2), Fraction(4, 5), Fraction(24, 25), Fraction(1001, 1000)])
@pytest.mark.parametrize("bed", ["voice", "wind", "music"])
def test_clicks_are_heard_where_and_as_loud_as_they_should_be_and_channels_keep_their_distance(bed, speed):
    under, rng = beds()[bed], np.random.default_rng(7)
    places = np.cumsum(rng.integers(4000, 16000, 60))
    places = places[places < RATE * SECONDS - 3000]
    left = under.copy()
    for at in places:
        left[at : at + 40] += 0.6 * np.exp(-np.arange(40) / 8) * rng.choice([-1, 1], 40)
    right = np.concatenate([np.zeros(12), 0.5 * left[:-12]])
    heard = play(np.stack([left, right]), speed)
    steep, was = np.abs(np.diff(heard[0])), np.abs(np.diff(left))
    for at in places:
        due = round(float(at / speed))
        near = steep[due - 960 : due + 960]
        assert abs(int(near.argmax()) - 960) <= 0.003 * RATE
        assert abs(20 * np.log10(near.max() / was[at - 1 : at + 40].max())) < 3
        beside = np.concatenate([near[: near.argmax() - 240], near[near.argmax() + 240 :]])
        assert beside.max() < 0.5 * near.max()  # heard once
    product = np.fft.irfft(np.conj(np.fft.rfft(heard[0])) * np.fft.rfft(heard[1]))
    assert product.argmax() == 12


@pytest.mark.parametrize("speed", [Fraction(1, 2), Fraction(2), Fraction(24, 25), Fraction(3, 10)])
def test_what_swells_and_fades_does_so_in_time_all_the_way(speed):
    """The centre of gravity of each of many swells of noise, and of tone, over the whole take."""
    t = np.arange(RATE * SECONDS) / RATE
    swell = np.clip(np.sin(2 * np.pi * 2 * t), 0, 1) ** 2
    for carrier in (np.random.default_rng(3).standard_normal(len(t)) * 0.1, 0.2 * np.sin(2 * np.pi * 440 * t)):
        heard = play((carrier * swell)[None], speed)[0]
        for k in range(1, 2 * SECONDS - 1):
            first, last = (int((k / 2 + d) * RATE) for d in (-0.075, 0.325))  # the swell lies between 0 and 0.25
            a, b = int(first / speed), int(last / speed)
            assert abs(_centre(heard[a:b]) + a - (_centre((carrier * swell)[first:last]) + first) / float(speed)) < 0.005 * RATE
    assert np.array_equal(play(np.ones((2, 9000)) * 0.5, Fraction(1)).round(3)[:, 100:-100], np.full((2, 8800), 0.5, np.float32))


def _centre(sound: np.ndarray) -> float:
    power = sound.astype(np.float64) ** 2
    return float((power * np.arange(len(power))).sum() / power.sum())


@pytest.mark.parametrize("speed", [Fraction(1, 16), Fraction(1, 3), Fraction(7), Fraction(1)])
def test_pitch_and_level_stay(speed):
    t = np.arange(RATE * SECONDS) / RATE
    heard = play((0.3 * np.sin(2 * np.pi * 440 * t))[None], speed)[0]
    middle = heard[len(heard) // 4 : len(heard) // 4 + 16384]
    spectrum = np.abs(np.fft.rfft(middle * np.hanning(len(middle))))
    assert abs(spectrum.argmax() * RATE / len(middle) - 440) < 4 and abs(20 * np.log10(middle.std() / 0.212)) < 0.5


def test_nothing_and_next_to_nothing_are_stretched_too():
    assert play(np.zeros((2, 1)), Fraction(1, 2)).shape == (2, 2)
    assert sum(p.shape[1] for p in stretched(iter(()), RATE, Fraction(2), 500)) == 500
