"""Convolution with long responses: uniformly partitioned overlap-save.

After Stockham, "High-speed convolution and correlation", 1966, with the response cut into parts of one
block each, whose spectra meet the spectra of the last blocks (Gardner, "Efficient convolution without
input-output delay", J. Audio Eng. Soc. 43, 1995, section 1). Blocks lie on a grid of absolute sample
positions, so that the result does not depend on how the signal is cut up by others.
"""

import numpy as np
from numba import njit


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def _gather(past, newest, response, total):
    """total = sum over parts of past spectra (newest first, going round) times response spectra."""
    parts = response.shape[0]
    total[:] = 0.0
    for k in range(parts):
        spectrum = past[(newest - k) % parts]
        weight = response[k]
        for i in range(total.shape[0]):
            total[i] += spectrum[i] * weight[i]


def part_size(taps: int) -> int:
    """Frames in one part for a response of so many taps: the latency of the convolution."""
    return min(8192, max(1024, taps // 8))


def spectra_of(response: np.ndarray) -> np.ndarray:
    """Spectra (parts, size + 1) of a response (taps,), for `Convolver`."""
    size = part_size(len(response))
    parts = -(-len(response) // size)
    padded = np.zeros((parts, 2 * size))
    padded[:, :size] = np.concatenate([response, np.zeros(parts * size - len(response))]).reshape(parts, size)
    return np.fft.rfft(padded, axis=1)


class Convolver:
    """Convolves one signal with the spectra of a response, `size` samples late."""

    def __init__(self, spectra: np.ndarray) -> None:
        self._spectra = spectra
        self._size = spectra.shape[1] - 1
        self._input = np.zeros(2 * self._size)
        self._output = np.zeros(self._size)
        self._past = np.zeros_like(spectra)
        self._newest = 0

    def __deepcopy__(self, memo: object) -> "Convolver":
        other = Convolver.__new__(Convolver)
        other.__dict__.update(
            self.__dict__, _input=self._input.copy(), _output=self._output.copy(), _past=self._past.copy()
        )
        return other

    def process(self, signal: np.ndarray, position: int, spectra: np.ndarray) -> None:
        """Convolve signal (frames,) in place; its first frame is at the absolute `position`.

        Spectra of the same shape may be others than before: what comes is as if they had always been there.
        """
        if spectra is not self._spectra:
            self._spectra = spectra
            self._combine()
        size = self._size
        done = 0
        while done < len(signal):
            place = (position + done) % size
            count = min(size - place, len(signal) - done)
            self._input[size + place : size + place + count] = signal[done : done + count]
            signal[done : done + count] = self._output[place : place + count]
            done += count
            if place + count == size:
                self._newest = (self._newest + 1) % len(self._past)
                self._past[self._newest] = np.fft.rfft(self._input)
                self._input[:size] = self._input[size:]
                self._combine()

    def _combine(self) -> None:
        total = np.empty(self._size + 1, dtype=complex)
        _gather(self._past, self._newest, self._spectra, total)
        self._output = np.fft.irfft(total)[self._size :]
