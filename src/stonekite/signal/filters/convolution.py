"""Convolution with long responses: uniformly partitioned overlap-save.

After Stockham, "High-speed convolution and correlation", 1966, with the response cut into parts of one
block each, whose spectra meet the spectra of the last blocks (Gardner, "Efficient convolution without
input-output delay", J. Audio Eng. Soc. 43, 1995, section 1). Blocks lie on a grid of absolute sample
positions, so that the result does not depend on how the signal is cut up by others.
"""

from typing import NamedTuple

import numpy as np

from stonekite.signal.filters.partitions import part_size
from stonekite.signal.kernel import copied, filled, kernel, lesser
from stonekite.signal.vectors.lanes import LANES, fma, load, store, zero
from stonekite.signal.vectors.transforms import Packed, backward, forward, opened, packed


class _Work(NamedTuple):
    """What a convolver remembers: its last two blocks (rows, 2 size) as heard and as given, spectra of the last blocks
    (2, parts, rows, size + 16), real and imaginary, which is the newest, and scratch.
    """

    heard: np.ndarray
    given: np.ndarray
    past: np.ndarray
    newest: np.ndarray
    total: np.ndarray
    scratch: np.ndarray
    ones: np.ndarray


@kernel
def _combine(p, m, response):
    """Give the sum over parts of past spectra (going round, newest first) times response spectra, row by row."""
    t = opened(p)
    _, parts, rows, wide = response.shape
    past, known, half = m.past, response, parts * rows * wide
    for row in range(rows):
        x, y = m.total[0], m.total[1]
        for i in range(0, wide, LANES):
            re, im = zero(), zero()
            at, with_k = m.newest[0], row * wide + i
            for _ in range(parts):
                from_at = (at * rows + row) * wide + i
                a, b = load(past, from_at), load(past, half + from_at)
                c, d = load(known, with_k), load(known, half + with_k)
                re = fma(a, c, re) - b * d
                im = fma(a, d, fma(b, c, im))
                with_k += rows * wide
                at = at - 1 if at else parts - 1
            store(x, i, re)
            store(y, i, im)
        filled(0.0, m.given[row])
        backward(t, x, y, m.scratch, m.ones, m.given[row])


@kernel
def _convolve(p, m, response, signal, out, position):
    """Into out what signal (rows, frames) becomes; see `Convolver.process`."""
    t = opened(p)
    rows, frames = signal.shape
    size, done = t.size // 2, 0
    while done < frames:
        place = (position + done) % size
        count = lesser(size - place, frames - done)
        for row in range(rows):
            copied(signal[row, done : done + count], m.heard[row, size + place : size + place + count])
            copied(m.given[row, size + place : size + place + count], out[row, done : done + count])
        done += count
        if place + count == size:
            m.newest[0] = (m.newest[0] + 1) % response.shape[1]
            for row in range(rows):
                re, im = m.past[0, m.newest[0], row], m.past[1, m.newest[0], row]
                forward(t, m.heard[row], m.ones, m.scratch, re, im)
                copied(m.heard[row, size:], m.heard[row, :size])
            _combine(p, m, response)


def spectra_of(responses: np.ndarray) -> np.ndarray:
    """Spectra (2, parts, rows, size + 16) of responses (rows, taps), for `Convolver`: real and imaginary, nothing where
    it is beyond half the rate."""
    rows, taps = responses.shape
    size = part_size(taps)
    parts = -(-taps // size)
    padded = np.zeros((rows, parts * size))
    padded[:, :taps] = responses
    cut = np.zeros((parts, rows, 2 * size))
    cut[:, :, :size] = padded.reshape(rows, parts, size).transpose(1, 0, 2)
    spectra = np.fft.rfft(cut, axis=2)
    wide = np.zeros((2, parts, rows, size + 16))
    wide[0, :, :, : size + 1], wide[1, :, :, : size + 1] = spectra.real, spectra.imag
    return wide


class Convolver:
    """Convolves rows of a signal, each with the spectra of its response, `size` samples late."""

    def __init__(self, spectra: np.ndarray) -> None:
        self._spectra = spectra
        _, parts, rows, wide = spectra.shape
        size = wide - 16
        self._tables: Packed = packed(2 * size)
        self._memory = _Work(
            heard=np.zeros((rows, 2 * size)),
            given=np.zeros((rows, 2 * size)),
            past=np.zeros((2, parts, rows, wide)),
            newest=np.zeros(1, dtype=np.int64),
            total=np.zeros((2, wide)),
            scratch=np.zeros((4, wide)),
            ones=np.ones(2 * size),
        )

    def __deepcopy__(self, memo: object) -> "Convolver":
        other = Convolver.__new__(Convolver)
        # The spectra are never written to.
        other.__dict__.update(self.__dict__, _memory=_Work(*(array.copy() for array in self._memory)))
        return other

    def process(self, signal: np.ndarray, position: int, spectra: np.ndarray) -> None:
        """Convolve signal (rows, frames) in place; its first frame is at the absolute `position`.

        Spectra of the same shape may be others than before: what comes is as if they had always been there.
        """
        if spectra is not self._spectra:
            self._spectra = spectra
            _combine(self._tables, self._memory, spectra)
        heard = np.ascontiguousarray(signal)
        given = np.empty_like(heard)
        _convolve(self._tables, self._memory, spectra, heard, given, position)
        signal[:] = given
