"""The finite responses of signal/filters/long_designs.py at work."""

import copy

import numpy as np

from stonekite.signal.filters import convolution
from stonekite.signal.filters.long_designs import Pair, Phase, taps, works


class LongFilters:
    """Both legs' responses, ready to be convolved with; those of the dry part of a mix if told."""

    def __init__(self, sections: Pair, phase: Phase, rate: float, *, dry: bool = False) -> None:
        on = works(sections, phase)
        # The rows that are filtered: both, or the one.
        self._rows = slice(on.index(True), 2 if on[1] else 1) if any(on) else slice(0, 0)
        self._spectra = convolution.spectra_of(taps(sections, phase, rate, dry=dry)[self._rows])

    def start(self) -> convolution.Convolver:
        """The state of filters that have heard nothing."""
        return convolution.Convolver(self._spectra)

    def carry(self, old: "LongFilters", state: convolution.Convolver) -> convolution.Convolver | None:
        """Filters of the same rows and lengths go on from what the others heard."""
        same = (old._rows, old._spectra.shape) == (self._rows, self._spectra.shape)
        return copy.deepcopy(state) if same else None

    def process(self, state: convolution.Convolver, block: np.ndarray, clock: int) -> None:
        """Filter block (2, frames) in place."""
        state.process(block[self._rows], clock, self._spectra)
