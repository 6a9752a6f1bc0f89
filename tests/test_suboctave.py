"""The octave below: plucked and bowed notes, with and without noise, and what is no note at all."""

import numpy as np
import pytest
from conftest import RATE, THOROUGH

from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.probing import Tap
from stonekite.session.types import Split, Strip
from stonekite.signal import following
from stonekite.stages.suboctave import Suboctave, SuboctaveSide

SIDE = SuboctaveSide(level_db=0.0, keeps=False, low_pass_hz=400.0)
STRIP = Strip(split=Split(mode="left-right"), stages=(Suboctave(id=2, upper=SIDE, lower=None),))
NOTES = [28 + 2 * k for k in range(21)] + [69]  # E1 to A4


def hertz(note: int) -> float:
    return 440.0 * 2 ** ((note - 69) / 12)


def plucked(hz: float, rate: float = RATE) -> np.ndarray:
    t = np.arange(int(1.6 * rate)) / rate
    sound = np.zeros_like(t)
    for k in range(1, int(min(30, 8000 / hz)) + 1):
        partial = np.sin(2 * np.pi * hz * k * np.sqrt(1 + 1e-4 * k * k) * t + k)
        sound += np.sin(np.pi * k * 0.2) / k * np.exp(-t * (0.5 + 0.3 * k)) * partial
    return 0.2 * sound * np.minimum(1, t * 500)


def bowed(hz: float, rate: float = RATE) -> np.ndarray:
    t = np.arange(int(1.6 * rate)) / rate
    phase = 2 * np.pi * hz * np.cumsum(1 + 0.004 * np.sin(2 * np.pi * 5 * t)) / rate
    sound = sum(np.sin(k * phase) / k for k in range(1, int(min(30, 8000 / hz)) + 1))
    return 0.15 * sound * np.minimum(1, t / 0.08)


def followed(sound: np.ndarray, rate: float = RATE) -> tuple[np.ndarray, np.ndarray]:
    """The octave under a sound, and the notes that were followed, one for each block of 10 ms."""
    chain, tap = Chain(STRIP, rate), Tap(2)
    size, notes, out = int(rate / 100), [], []
    both = np.stack([sound, np.zeros_like(sound)])
    for start in range(0, len(sound) - size, size):
        out.append(chain.process(both[:, start : start + size], start, tap)[0])
        tap.take()
        notes.append(tap.node.follows[0])
    return np.concatenate(out), np.array(notes)


@pytest.mark.slow
@pytest.mark.parametrize("make", [plucked, bowed])
@pytest.mark.parametrize("noise_db", [None, -30.0, -20.0])
def test_notes_are_followed_and_sound_an_octave_lower(make, noise_db):
    rng = np.random.default_rng(1)
    cents, wrong, frames, silent, lower = [], 0, 0, 0, []
    for number in NOTES if THOROUGH else NOTES[::5]:
        hz = hertz(number)
        sound = make(hz)
        if noise_db is not None:
            level = np.sqrt(np.mean(sound**2)) * 10 ** (noise_db / 20)
            sound = sound + level * rng.standard_normal(len(sound))
        out, notes = followed(sound)
        steady = notes[25:110]  # from a quarter of a second on, while it sounds
        on = steady[steady > 0]
        frames += len(steady)
        silent += len(steady) - len(on)
        off = 1200 * np.abs(np.log2(on / hz))
        wrong += int(np.sum(off > 400))
        cents += off[off <= 400].tolist()
        # The strongest tone that comes out is the one an octave lower.
        part = out[RATE // 3 : RATE // 3 + RATE // 2 * 2]
        spectrum = np.abs(np.fft.rfft(part * np.hanning(len(part)), 8 * RATE))
        peak = np.argmax(spectrum) / 8
        lower.append(1200 * abs(np.log2(peak / (hz / 2))))
    print(
        f"{make.__name__}, noise {noise_db}: pitch off by {np.median(cents):.1f} cents in the middle, "
        f"{np.percentile(cents, 99):.0f} in the worst hundredth; wrong octave {100 * wrong / frames:.2f} %, "
        f"not followed {100 * silent / frames:.1f} %; octave below off by {max(lower):.0f} cents at the most"
    )
    assert np.median(cents) < 5 and wrong / frames < 0.01
    assert silent / frames < (0.05 if noise_db != -20.0 else 0.3)
    assert max(lower) < 25


def test_nothing_comes_of_silence_or_noise():
    rng = np.random.default_rng(2)
    seconds = 6 * RATE
    white = 0.2 * rng.standard_normal(seconds)
    pink = np.fft.irfft(np.fft.rfft(white) / np.sqrt(np.arange(seconds // 2 + 1) + 30.0)) * 40
    hiss = np.convolve(white, np.ones(12) / 12, "same")
    for sound in (np.zeros(seconds), white, pink, hiss):
        out, notes = followed(sound)
        share = np.mean(notes > 0)
        level = np.sqrt(np.mean(out**2)) / (np.sqrt(np.mean(sound**2)) + 1e-12)
        print(f"followed {100 * share:.2f} % of the time, {20 * np.log10(level + 1e-9):.0f} dB of the sound")
        assert share < 0.005 and level < 10 ** (-40 / 20)


@pytest.mark.parametrize("rate", [8_000, 44_100, 96_000, 192_000])
def test_notes_are_followed_at_every_rate(rate):
    sound = bowed(110.0, rate)
    _, notes = followed(sound, rate)
    on = notes[30:110]
    assert np.all(on > 0) and np.abs(1200 * np.log2(on / 110.0)).max() < 25
    assert following.late(rate) < 0.06 * rate


def test_it_adds_up_in_mono_and_only_under_what_is_heard():
    """Both legs alike give both octaves alike; a leg in which nothing sounds has none."""
    side = SuboctaveSide(level_db=0.0, keeps=False)
    strip = Strip(split=Split(mode="left-right"), stages=(Suboctave(id=2, upper=side, lower=side),))
    sound = bowed(82.4)
    alike = Chain(strip, RATE).process(np.stack([sound, sound]), 0)
    assert np.array_equal(alike[0], alike[1])
    one = Chain(strip, RATE).process(np.stack([sound, 0 * sound]), 0)
    assert np.array_equal(one[0], alike[0]) and not one[1].any()
