"""What the status tells of what is heard now."""

from typing import Any

import numpy as np

from stonekite.engine.play.live import Live
from stonekite.player import protocol


def figures_of(live: Live, playing: bool) -> dict[str, Any]:
    """The fields of the status that come from hearing along, since they were asked for last."""
    if not playing:
        live.fade()
    scope = np.zeros((2, protocol.SCOPE), dtype=np.float32)
    points = live.scope()
    scope[:, : points.shape[1]] = points
    (peak_in, reduction), (band_levels, band_gains) = live.take_reduction(), live.take_bands()
    noise, noise_gains = live.look_at_noise()
    return {
        "ceiling": live.take_ceiling(),
        "follows": live.follows,
        "worked": live.worked_db,
        "band_levels": band_levels,
        "band_gains": band_gains,
        "noise": noise,
        "noise_gains": noise_gains,
        "peak_in": peak_in,
        "reduction": reduction,
        "momentary": live.momentary(),
        "correlation": live.correlation(),
        "image": live.look_at_image(),
        "leg_levels": live.leg_levels_db(),
        "spectra": live.look_at_spectra() if playing else live.spectra_db,
        "scope": scope,
    }
