"""A response that a user brings, made ready to stand in a session."""

from pathlib import Path

import numpy as np
import soxr

from stonekite.files.audio import BLOCK, Reader, fingerprint
from stonekite.signal.sanity import clean
from stonekite.stages.cabinet import LONGEST_S, MOST_GAIN_DB
from stonekite.stages.cabinet.settings import OwnResponse
from stonekite.words import said

HIGHEST_RATE = 48_000.0
"""Nothing of a cabinet is above half of it."""
_SILENT_DB, _ENDS_DB = -60.0, -80.0
"""So far under its peak a response has not begun, or is over."""
_CANCEL_DB = -20.0
"""Two sides of which so little is left together are refused."""
_JUDGED_HZ = (200.0, 4000.0)
SEARCHED_S = 300.0
"""So far into a file a response is looked for."""


class ResponseError(ValueError):
    """A file cannot be used as a response. The text is one sentence for the user."""


def _begins(reader: Reader) -> int:
    """The frame of a file, of its first minutes, from which on it is not silent; 0 where it is silent all along."""
    most = min(reader.facts.frames, int(SEARCHED_S * reader.facts.rate))
    tops = [float(np.abs(clean(block)).max(initial=0.0)) for block in reader.blocks(stop=most)]
    loudest = max(tops, default=0.0)
    return BLOCK * next((k for k, top in enumerate(tops) if top > loudest * 10 ** (_SILENT_DB / 20)), 0)


def _short(name: str) -> str:
    """A file's name as a session can hold it."""
    return name.encode("utf-8", "replace").decode()[:200]


def read_response(path: Path) -> OwnResponse:
    """A file as a response: without the silence before and behind, two seconds at the most, and as loud from 200 Hz to
    4 kHz as what goes in. Raises ResponseError, or AudioError for what is no audio."""
    with Reader(path) as reader:
        rate, mono = float(reader.facts.rate), reader.facts.channels == 1
        longest = int(2.0 * LONGEST_S * rate)
        begin = max(0, _begins(reader) - int(rate))
        rows = clean(reader.read(begin, longest + int(rate)))
    if mono or np.array_equal(rows[0], rows[1]):
        rows = rows[:1]
    peak = float(np.abs(rows).max(initial=0.0))
    if peak <= 1e-9:
        raise ResponseError(said("“{name}” is silent: it cannot be a response.").format(name=path.name))
    level = np.abs(rows).max(axis=0)
    first = max(0, int(np.argmax(level > peak * 10 ** (_SILENT_DB / 20))) - int(0.0005 * rate))
    last = int(np.flatnonzero(level > peak * 10 ** (_ENDS_DB / 20))[-1]) + 1
    rows = rows[:, first : min(last, first + int(LONGEST_S * rate))]
    if rows.shape[1] < 8:
        rows = np.pad(rows, ((0, 0), (0, 8 - rows.shape[1])))
    if rate > HIGHEST_RATE:
        rows = soxr.resample(rows.T, rate, HIGHEST_RATE, quality="VHQ").reshape(-1, len(rows)).T
        rows = rows * (rate / HIGHEST_RATE)
        rate = HIGHEST_RATE
    edge = min(rows.shape[1] // 4, int(0.01 * rate)) if last - first > int(LONGEST_S * rate) else 0
    if edge:
        rows[:, -edge:] *= 0.5 + 0.5 * np.cos(np.pi * np.arange(edge) / edge)
    size = max(4096, rows.shape[1])
    hz = np.fft.rfftfreq(size, 1.0 / rate)
    judged = (hz >= _JUDGED_HZ[0]) & (hz <= _JUDGED_HZ[1])

    def loudness(signals: np.ndarray) -> float:
        power = np.mean(np.abs(np.fft.rfft(signals, size)) ** 2, axis=0)
        return float(np.sqrt(np.average(power[judged], weights=1.0 / hz[judged])))  # every octave alike

    both = rows.mean(axis=0, keepdims=True)  # what a leg hears of two sides
    loud = loudness(both)
    if loud < 10 ** (_CANCEL_DB / 20) * loudness(rows):
        raise ResponseError(
            said(
                "The sides of “{name}” cancel each other, as one is the other one upside down: it cannot be a response. "
                "Turn one of them over, or take one side alone."
            ).format(name=path.name)
        )
    if loud <= 1e-9 * peak:
        raise ResponseError(
            said("“{name}” has nothing from 200 Hz to 4 kHz: it cannot be a cabinet's response.").format(
                name=path.name
            )
        )
    loudest = np.abs(np.fft.rfft(both / loud, size)).max()
    if loudest > 10 ** (MOST_GAIN_DB / 20):
        raise ResponseError(
            said(
                "“{name}” has next to nothing from 200 Hz to 4 kHz: as loud there as what goes in, it would be {db:.0f} "
                "dB louder elsewhere. It cannot be a cabinet's response."
            ).format(name=path.name, db=20 * np.log10(loudest))
        )
    return OwnResponse(
        name=_short(path.name),
        rate=rate,
        rows=len(rows),
        fingerprint=fingerprint(path),
        samples=(rows / loud).astype("<f4").tobytes(),
    )
