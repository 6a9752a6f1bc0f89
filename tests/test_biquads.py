"""The cascade kernel against scipy, and its behaviour with blocks and silence."""

import itertools
import time

import numpy as np
import pytest
from conftest import noise
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from stonekite.signal.filters import biquads, design


def sections(count: int) -> np.ndarray:
    rows = [
        design.sections("bell", 60 * 1.5**k, 6 if k % 2 else -5, 0.6 + 0.3 * k, 48_000)[0]
        for k in range(count)
    ]
    return np.array(rows).reshape(-1, 5)


def filtered(sound: np.ndarray, coefficients: np.ndarray, cuts: list[int]) -> np.ndarray:
    state, out = biquads.rest(len(coefficients)), []
    edges = [0, *sorted(cuts), sound.shape[1]]
    for start, stop in itertools.pairwise(edges):
        block = np.array(sound[:, start:stop], order="C")
        biquads.cascade(block, start, coefficients, state)
        out.append(block)
    return np.concatenate(out, axis=1)


@pytest.mark.parametrize(("upper", "lower"), [(8, 8), (1, 0), (0, 3), (9, 2), (16, 24), (0, 0)])
def test_agrees_with_scipy(upper, lower):
    sound = noise(0.2)
    rows = sections(upper), sections(lower)
    made = filtered(sound, biquads.pack(*rows), [])
    for leg in range(2):
        full = np.insert(rows[leg], 3, 1.0, axis=1)
        wanted = signal.sosfilt(full, sound[leg]) if len(full) else sound[leg]
        assert np.abs(made[leg] - wanted).max() < 1e-12


def test_a_leg_without_sections_passes_bit_for_bit():
    sound = noise(0.1)
    assert np.array_equal(filtered(sound, biquads.pack(sections(3), sections(0)), [])[1], sound[1])


@given(st.lists(st.integers(0, 3000), max_size=12))
@settings(max_examples=30, deadline=None)
def test_block_size_does_not_change_a_bit(cuts):
    sound = noise(3000 / 48_000)
    coefficients = biquads.pack(sections(5), sections(9))
    assert np.array_equal(filtered(sound, coefficients, cuts), filtered(sound, coefficients, []))


@pytest.mark.processes
def test_silence_after_signal_costs_no_more_than_signal():
    coefficients = biquads.pack(sections(8), sections(8))
    state = biquads.rest(len(coefficients))
    loud = noise(1.0)
    biquads.cascade(loud.copy(), 0, coefficients, state)

    def spent(sound: np.ndarray) -> float:
        best = 1e9
        for _ in range(5):
            block = sound.copy()
            start = time.perf_counter()
            biquads.cascade(block, 0, coefficients, state)
            best = min(best, time.perf_counter() - start)
        return best

    while_loud = spent(loud)
    silent = np.zeros((2, 48_000))
    for _ in range(30):
        biquads.cascade(silent.copy(), 0, coefficients, state)
    assert np.all((state == 0) | (np.abs(state) > biquads.TINY))
    assert spent(silent) < 3 * while_loud  # denormals would cost fifty times as much
