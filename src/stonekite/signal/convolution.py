"""Convolution with long responses: uniformly partitioned overlap-save.

After Stockham, "High-speed convolution and correlation", 1966, with the response cut into parts of one
block each, whose spectra meet the spectra of the last blocks (Gardner, "Efficient convolution without
input-output delay", J. Audio Eng. Soc. 43, 1995, section 1). Blocks lie on a grid of absolute sample
positions, so that the result does not depend on how the signal is cut up by others.
"""

import numpy as np
from numba import njit

from stonekite.signal.partitions import part_size


@njit(cache=True, nogil=True, error_model="numpy")
def _gather(past, newest, response, total):
    """total = sum over parts of past spectra (going round, newest first) times response spectra, row by row."""
    parts, rows, bins = response.shape
    for k in range(parts):
        for row in range(rows):
            spectrum = past[(newest - k) % parts, row]
            weight = response[k, row]
            if k == 0:
                for i in range(bins):
                    total[row, i] = spectrum[i] * weight[i]
            else:
                for i in range(bins):
                    total[row, i] += spectrum[i] * weight[i]


def spectra_of(responses: np.ndarray) -> np.ndarray:
    """Spectra (parts, rows, size + 1) of responses (rows, taps), for `Convolver`."""
    rows, taps = responses.shape
    size = part_size(taps)
    parts = -(-taps // size)
    padded = np.zeros((rows, parts * size))
    padded[:, :taps] = responses
    cut = np.zeros((parts, rows, 2 * size))
    cut[:, :, :size] = padded.reshape(rows, parts, size).transpose(1, 0, 2)
    return np.fft.rfft(cut, axis=2)


class Convolver:
    """Convolves rows of a signal, each with the spectra of its response, `size` samples late."""

    def __init__(self, spectra: np.ndarray) -> None:
        self._spectra = spectra
        parts, rows, bins = spectra.shape
        self._size = bins - 1
        self._input = np.zeros((rows, 2 * self._size))
        self._output = np.zeros((rows, 2 * self._size))
        self._past = np.zeros((parts, rows, bins), dtype=complex)
        self._total = np.zeros((rows, bins), dtype=complex)
        self._newest = 0

    def __deepcopy__(self, memo: object) -> "Convolver":
        other = Convolver.__new__(Convolver)
        own = ("_input", "_output", "_past", "_total")  # the spectra are never written to
        other.__dict__.update(self.__dict__, **{name: getattr(self, name).copy() for name in own})
        return other

    def process(self, signal: np.ndarray, position: int, spectra: np.ndarray) -> None:
        """Convolve signal (rows, frames) in place; its first frame is at the absolute `position`.

        Spectra of the same shape may be others than before: what comes is as if they had always been there.
        """
        if spectra is not self._spectra:
            self._spectra = spectra
            self._combine()
        size = self._size
        done = 0
        frames = signal.shape[1]
        while done < frames:
            place = (position + done) % size
            count = min(size - place, frames - done)
            self._input[:, size + place : size + place + count] = signal[:, done : done + count]
            signal[:, done : done + count] = self._output[:, size + place : size + place + count]
            done += count
            if place + count == size:
                self._newest = (self._newest + 1) % len(self._past)
                np.fft.rfft(self._input, axis=1, out=self._past[self._newest])
                self._input[:, :size] = self._input[:, size:]
                self._combine()

    def _combine(self) -> None:
        _gather(self._past, self._newest, self._spectra, self._total)
        np.fft.irfft(self._total, axis=1, out=self._output)
