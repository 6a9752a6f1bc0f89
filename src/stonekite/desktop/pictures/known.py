"""What is known of a stage's responses where they are drawn."""

import numpy as np

from stonekite.stages.base import LEGS, Stage
from stonekite.stages.registry import heard_response, kind_of

LOW_HZ, HIGH_HZ = 20.0, 20_000.0
FREQUENCIES = np.geomspace(LOW_HZ, HIGH_HZ, 400)


def in_db(response: np.ndarray) -> np.ndarray:
    """Magnitudes of a complex response in dB."""
    return 20 * np.log10(np.maximum(np.abs(response), 1e-6))


def _drawn_at(stage: Stage, rate: float) -> np.ndarray:
    """Frequencies in Hz at which the responses of a stage are drawn."""
    sharp = kind_of(stage).offers.sharp
    if sharp is None:
        return FREQUENCIES
    points = np.concatenate([FREQUENCIES, *(sharp(stage, leg, rate) for leg in LEGS)])
    return np.unique(points[(points >= LOW_HZ) & (points <= HIGH_HZ)])


class Known:
    """The responses of both legs of a stage at the frequencies at which they are drawn."""

    def __init__(self, stage: Stage, rate: float) -> None:
        self.stage, self.rate = stage, rate
        self.hertz = _drawn_at(stage, rate)
        self.responses = {name: heard_response(stage, name, self.hertz, rate) for name in LEGS}
        self.levels_db = {name: in_db(response) for name, response in self.responses.items()}
