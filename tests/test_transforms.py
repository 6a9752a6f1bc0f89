"""Fourier transforms in kernels, against NumPy's and SciPy's."""

import numpy as np
import pytest
from scipy.fft import dct

from stonekite.signal.kernel import kernel
from stonekite.signal.vectors import transforms
from stonekite.signal.vectors.transforms import tables


@kernel
def forward(t, x, window, work, re, im):
    transforms.forward(t, x, window, work, re, im)


@kernel
def backward(t, re, im, work, window, out):
    transforms.backward(t, re, im, work, window, out)


@kernel
def cosines(t, x, work, ones, re, im, out):
    transforms.cosines(t, x, work, ones, re, im, out)


SIZES = [32 * 2**a * 3**b * 5**c for a in range(10) for b in range(3) for c in range(3)]


@pytest.mark.parametrize("size", [n for n in SIZES if n <= 16_384])
def test_there_and_back(size):
    rng = np.random.default_rng(size)
    t, x, window = tables(size), rng.standard_normal(size), rng.random(size)
    re, im, work = np.empty(size // 2 + 1), np.empty(size // 2 + 1), np.empty((5, size // 2 + 4))
    forward(t, x, window, work, re, im)
    wanted = np.fft.rfft(x * window)
    assert np.abs(re + 1j * im - wanted).max() < 2e-15 * np.abs(wanted).max()
    out = np.ones(size)
    backward(t, re, im, work, window, out)
    assert np.abs(out - 1.0 - x * window**2).max() < 5e-15
    y, found = rng.standard_normal(size + 1), np.empty(size + 1)
    cosines(t, y, np.empty((5, size)), np.ones(size), re, im, found)
    assert np.abs(found - 0.5 * dct(y, type=1)).max() < 1e-14 * size


@pytest.mark.parametrize("size", [0, 16, 33, 32 * 7])
def test_other_sizes_are_refused(size):
    with pytest.raises(ValueError, match="size must be"):
        tables(size)
