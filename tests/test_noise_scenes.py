"""Noise reduction where the legs share little but noise is not all that differs: rooms, two voices, music, babble."""

from functools import cache

import numpy as np
import pytest
from conftest import THOROUGH
from scipy import signal
from test_noise import LEAD, LEFT_RIGHT, RATE, cleaned
from voices import voice

from stonekite.demos.demo import _add, _pluck
from stonekite.demos.wheelhouse import mixed, noises
from stonekite.measure.quality import si_sdr
from stonekite.session.types import Split
from stonekite.signal import matrix

SEEDS = range(3 if THOROUGH else 1)


def two_voices(seed: int) -> np.ndarray:
    """One to the left, one to the right, each 8 dB down on the other side, both talking at once."""
    one = voice(seed)
    other = np.resize(voice(seed + 1), len(one))
    return np.stack([one + 0.4 * other, 0.4 * one + other])


def two_rooms(seed: int) -> np.ndarray:
    """A voice with as much of a room as of itself, another one on each side."""
    talker, rng = voice(seed), np.random.default_rng(seed)
    t = np.arange(RATE // 4) / RATE
    sides = []
    for _ in range(2):
        room = 0.05 * rng.standard_normal(len(t)) * np.exp(-27.6 * t)
        room[:40], room[0] = 0.0, 1.0
        sides.append(signal.fftconvolve(talker, room)[: len(talker)])
    return np.stack(sides)


def music(seed: int) -> np.ndarray:
    """Plucked notes anywhere between left and right."""
    rng = np.random.default_rng(seed)
    track = np.zeros((2, 11 * RATE))
    for k in range(28):
        turn = 0.5 * np.pi * rng.uniform()
        note = (48, 52, 55, 60, 64, 67, 72)[rng.integers(7)]
        _add(track, _pluck(note, 0.7, rng), 0.2 + 0.27 * k, np.cos(turn), np.sin(turn))
    return track[:, : 8 * RATE]


@cache
def _scene(make, kind: str, snr_db: float, seed: int) -> tuple[np.ndarray, np.ndarray]:
    clean = np.concatenate([np.zeros((2, LEAD)), make(seed)], axis=1)
    return clean, mixed(clean, kind, snr_db, seed)


def _gained(clean: np.ndarray, noisy: np.ndarray, out: np.ndarray) -> float:
    n = slice(LEAD, None)
    return float(
        np.mean([si_sdr(c[n], o[n]) - si_sdr(c[n], x[n]) for c, x, o in zip(clean, noisy, out, strict=True)])
    )


@pytest.mark.slow
@pytest.mark.parametrize("follows", ["music", "speech"])
@pytest.mark.parametrize("kind", ["engine, wind", "white"])
@pytest.mark.parametrize("make", [two_voices, two_rooms, music])
def test_together_is_not_worse_than_each_its_own(make, kind, follows):
    found = []
    snrs = (0, 5, 10, 15) if THOROUGH else (10,)
    for seed in SEEDS:
        for snr_db in snrs:
            clean, noisy = _scene(make, kind, snr_db, seed)
            outs = [cleaned(noisy, analysis=a, follows=follows) for a in ("own", "together")]
            found.append([_gained(clean, noisy, out) for out in outs])
    own, together = np.mean(found, axis=0)
    worst = min(np.subtract(*reversed(pair)) for pair in found)
    print(f"{make.__name__}, {kind}: own {own:+.1f}, together {together:+.1f} dB, at least {worst:+.2f} more")
    assert together >= own
    assert worst > -0.3
    if make is music and kind == "white" and follows == "music":
        assert together >= 10.0


@pytest.mark.parametrize("follows", ["not", "music", "speech"])
@pytest.mark.parametrize("encoding", matrix.MATRICES)
def test_together_is_the_same_in_every_split(encoding, follows):
    """What legs have in common is a matter of left and right, however the strip is split."""
    _, noisy = _scene(two_rooms, "engine, wind", 5, 1)
    noisy = noisy[:, : 4 * RATE]
    plain = cleaned(noisy, follows=follows)
    split = cleaned(noisy, follows=follows, split=Split(mode="mid-side", matrix=encoding))
    error = 10 * np.log10(np.mean((split - plain) ** 2) / np.mean(plain**2))
    print(f"{encoding}, {follows}: {error:.0f} dB apart")
    assert error < -45.0


SIDES = {"mono": (1.0, 1.0), "inverted": (1.0, -1.0), "one side silent": (1.0, 0.0)}


@pytest.mark.parametrize("follows", ["not", "music", "speech"])
@pytest.mark.parametrize("name", SIDES)
def test_sides_that_are_alike_or_empty_are_cleaned_in_every_split(name, follows):
    noisy = mixed(np.concatenate([np.zeros(LEAD), voice(0)]), "engine, wind", 5, 0)[:1, : 3 * RATE]
    noisy = noisy * np.array(SIDES[name])[:, None]
    plain = cleaned(noisy, follows=follows)
    for encoding in matrix.MATRICES:
        split = cleaned(noisy, follows=follows, split=Split(mode="mid-side", matrix=encoding))
        error = 10 * np.log10(np.mean((split - plain) ** 2) / np.mean(plain**2) + 1e-30)
        print(f"{name}, {follows}, {encoding}: {error:.0f} dB apart")
        assert error < -25.0


@pytest.mark.parametrize("analysis", ["own", "together"])
@pytest.mark.parametrize("encoding", matrix.MATRICES)
def test_what_was_learned_holds_when_the_split_is_changed(encoding, analysis):
    """Learned in one split and used in another one, it is what would have been learned there."""
    _, noisy = _scene(two_rooms, "engine, wind", 5, 1)
    noisy = noisy[:, : 2 * RATE]
    split = Split(mode="mid-side", matrix=encoding)
    there = cleaned(noisy, analysis=analysis, split=split)
    another = "equal-power" if encoding != "equal-power" else "raised-side"
    for learned_in in (LEFT_RIGHT, Split(mode="mid-side", matrix=another)):
        moved = cleaned(noisy, analysis=analysis, split=split, learned_in=learned_in)
        error = 10 * np.log10(np.mean((moved - there) ** 2) / np.mean(there**2))
        print(f"{encoding}, {analysis}: {error:.0f} dB apart")
        assert error < -45.0


@pytest.mark.slow
def test_babble_is_not_made_worse():
    """Other talkers left, yet others right, 5 dB under a voice in the middle."""
    found = []
    for seed in SEEDS:
        talker = voice(seed)
        n = LEAD + len(talker)
        sides = [[np.resize(voice(seed + 7 + 5 * side + k), n) for k in range(4)] for side in range(2)]
        babble = np.stack([np.sum(voices, axis=0) for voices in sides])
        clean = np.concatenate([np.zeros((2, LEAD)), np.stack([talker, talker])], axis=1)
        noisy = clean + babble * np.std(talker) / np.std(babble) * 10 ** (-5 / 20)
        found.append([_gained(clean, noisy, cleaned(noisy, analysis=a)) for a in ("one", "own", "together")])
    one, own, together = np.mean(found, axis=0)
    print(f"babble, 5 dB: one {one:+.1f}, own {own:+.1f}, together {together:+.1f} dB")
    assert together > max(0.0, own)


@pytest.mark.slow
@pytest.mark.parametrize("analysis", ["own", "together"])
@pytest.mark.parametrize("kind", ["engine, wind", "white"])
def test_the_beginning_of_a_note_is_kept(analysis, kind):
    """The first 10 ms of plucked notes, against what they were: music at 10 dB, hits held."""
    clean, noisy = _scene(music, kind, 10, 2)
    out = cleaned(noisy, analysis=analysis, hold=100.0)
    starts = [LEAD + int((0.2 + 0.27 * k) * RATE) for k in range(28)]
    lost = []
    for at in starts:
        part = slice(at, at + RATE // 100)
        kept, whole = (np.sum(sound[:, part] * clean[:, part]) for sound in (out, noisy))
        lost.append(20 * np.log10(kept / whole))
    print(f"{analysis}, {kind}: {len(lost)} beginnings, worst {min(lost):+.2f}, mean {np.mean(lost):+.2f} dB")
    assert min(lost) > -1.0


@pytest.mark.parametrize("analysis", ["own", "together"])
@pytest.mark.parametrize("kind, most", [("white", 0.2), ("engine, wind", 4.5)])
def test_holding_what_is_struck_lets_hardly_any_noise_through(analysis, kind, most):
    """Noise alone goes down nearly alike, whether hits are held or not: gusts are struck, too."""
    noise = 0.02 * noises(kind, 6 * RATE, 3)
    downs = []
    for hold in (0.0, 30.0, 100.0):
        out = cleaned(noise, analysis=analysis, hold=hold)[:, RATE:]
        downs.append(10 * np.log10(np.mean(noise[:, RATE:] ** 2) / np.mean(out**2)))
    print(f"{analysis}, {kind}: down by", np.round(downs, 2))
    assert downs[0] - downs[1] < 0.4 * most and downs[0] - downs[2] < most


@pytest.mark.parametrize("step_db", [6.0, 12.0])
@pytest.mark.parametrize("analysis", ["one", "own", "together"])
def test_a_step_of_the_noise_is_followed_within_three_seconds(analysis, step_db):
    rng = np.random.default_rng(4)
    noise = 0.02 * rng.standard_normal((2, 8 * RATE))
    noise[:, 3 * RATE :] *= 10 ** (step_db / 20)
    out = cleaned(noise, analysis=analysis, follows="speech")
    late = slice(6 * RATE, 7 * RATE)
    down = 10 * np.log10(np.mean(out[:, late] ** 2) / np.mean(noise[:, late] ** 2))
    print(f"{analysis}, {step_db:g} dB: {down:.1f} dB after three seconds")
    assert down < -17.0


@pytest.mark.parametrize("place", [0.0, 0.25, 0.5])
@pytest.mark.parametrize("analysis", ["one", "own", "together"])
def test_a_held_tone_is_held_where_it_is_to_be(analysis, place):
    """20 dB over the noise of all bins together, left, between, and in the middle, for five seconds."""
    rng = np.random.default_rng(5)
    noise = 0.01 * rng.standard_normal((2, 7 * RATE))
    tone = 0.14 * np.sin(2 * np.pi * 880 * np.arange(7 * RATE) / RATE)
    tone[:RATE] = 0.0
    pan = np.array([np.cos(place * np.pi / 2), np.sin(place * np.pi / 2)])[:, None]
    out = cleaned(noise + pan * tone, analysis=analysis, follows="music")
    levels = []
    for start in (2 * RATE, 6 * RATE - RATE // 2):
        part = slice(start, start + RATE // 2)
        wave = np.exp(2j * np.pi * 880 * np.arange(RATE // 2) / RATE)
        levels.append(20 * np.log10(np.abs(out[:, part] @ wave) + 1e-12))
    moved = (levels[1] - levels[0])[pan[:, 0] > 0.1]
    assert np.abs(moved).max() < 0.2, moved
