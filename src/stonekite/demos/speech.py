"""Speech for the demo and the tests: formants that move, over a voice or breath. All synthesised here.

After D. H. Klatt, "Software for a cascade/parallel formant synthesizer", Journal of the Acoustical Society of America 67
(1980), much simplified: a source of pulses and noise goes through resonances that are moved every few milliseconds.
"""

from typing import NamedTuple

import numpy as np

RATE = 48_000
_HOP, _SIZE = 240, 1024
_WIDTHS = (80.0, 100.0, 140.0, 250.0)


class Phone(NamedTuple):
    """Formants in Hz, how much voice and how much breath, how long in seconds, and where the breath is in Hz."""

    formants: tuple[float, float, float, float]
    voice: float
    breath: float
    seconds: float
    breath_hz: float = 2500.0


PHONES = {
    "a": Phone((730, 1090, 2440, 3400), 1.0, 0.02, 0.15),
    "e": Phone((530, 1840, 2480, 3500), 1.0, 0.02, 0.12),
    "i": Phone((290, 2250, 3000, 3700), 0.9, 0.02, 0.12),
    "o": Phone((500, 900, 2410, 3300), 1.0, 0.02, 0.14),
    "u": Phone((310, 870, 2240, 3300), 0.9, 0.02, 0.13),
    "A": Phone((660, 1720, 2410, 3400), 1.0, 0.02, 0.14),
    "@": Phone((500, 1500, 2500, 3400), 0.8, 0.02, 0.07),
    "m": Phone((250, 1000, 2200, 3300), 0.45, 0.0, 0.08),
    "n": Phone((250, 1500, 2500, 3300), 0.45, 0.0, 0.07),
    "N": Phone((250, 1900, 2600, 3300), 0.45, 0.0, 0.08),
    "l": Phone((360, 1200, 2700, 3400), 0.6, 0.0, 0.07),
    "r": Phone((400, 1200, 1600, 3300), 0.6, 0.0, 0.07),
    "w": Phone((300, 650, 2200, 3300), 0.6, 0.0, 0.07),
    "v": Phone((300, 1200, 2300, 3300), 0.4, 0.12, 0.07, 4500.0),
    "z": Phone((300, 1700, 2500, 3400), 0.3, 0.3, 0.08, 6500.0),
    "D": Phone((300, 1400, 2500, 3400), 0.4, 0.06, 0.05, 5000.0),
    "s": Phone((300, 1700, 2500, 3400), 0.0, 0.5, 0.11, 6800.0),
    "S": Phone((300, 1900, 2500, 3400), 0.0, 0.5, 0.11, 3400.0),
    "f": Phone((300, 1200, 2300, 3300), 0.0, 0.25, 0.1, 5500.0),
    "T": Phone((300, 1400, 2500, 3400), 0.0, 0.22, 0.09, 6000.0),
    "h": Phone((500, 1500, 2500, 3400), 0.0, 0.2, 0.06, 1500.0),
    "b": Phone((250, 900, 2200, 3300), 0.15, 0.0, 0.06),
    "d": Phone((250, 1700, 2500, 3400), 0.15, 0.05, 0.05, 4000.0),
    "g": Phone((250, 1900, 2300, 3400), 0.15, 0.05, 0.06, 2500.0),
    "p": Phone((300, 900, 2200, 3300), 0.0, 0.02, 0.08, 1500.0),
    "t": Phone((300, 1700, 2500, 3400), 0.0, 0.08, 0.07, 5000.0),
    "k": Phone((300, 1900, 2300, 3400), 0.0, 0.06, 0.08, 2500.0),
    " ": Phone((500, 1500, 2500, 3400), 0.0, 0.0, 0.09),
    ".": Phone((500, 1500, 2500, 3400), 0.0, 0.0, 0.55),
}
LOG = (
    ".log @v D@ nait feri.wind west sauTwest faiv.wi liv D@ landiN at siks.fog ouv@ D@ keibl.enZin stedi tu@ s@v@n n@ts."
    "hApi on D@ left spik@ on D@ rait.sumwAn siNz on dek.nouT@ tu tu wiT@ w@ld.end @v D@ log."
)
"""What the pilot says, sound by sound: Log of the Night Ferry. Wind west-south-west five. We leave the landing at six.
Fog over the cable. Engine steady to seven knots…"""


def _tract(formants: np.ndarray, scale: float) -> np.ndarray:
    """What the mouth does at the frequencies of a frame."""
    hz = np.fft.rfftfreq(_SIZE, 1 / RATE)
    z = np.exp(-2j * np.pi * hz / RATE)
    whole = np.ones(len(hz), dtype=complex)
    for formant, width in zip(formants * scale, _WIDTHS, strict=True):
        r = np.exp(-np.pi * width / RATE)
        turn = 2 * np.pi * formant / RATE
        whole *= (1 - 2 * r * np.cos(turn) + r * r) / (1 - 2 * r * np.cos(turn) * z + r * r * z * z)
    return whole


def spoken(text: str, pitch_hz: float, seed: int, speed: float = 1.0) -> np.ndarray:
    """A mono voice (frames,) that speaks sounds of PHONES (others are left out), with a root mean square of 0.05 while it
    speaks.
    """
    rng = np.random.default_rng(seed)
    phones = [PHONES[sound] for sound in text if sound in PHONES]
    lengths = np.array([p.seconds / speed * rng.uniform(0.85, 1.2) for p in phones])
    ends = np.cumsum(lengths)
    count = int(ends[-1] * RATE / _HOP) + 1
    times = np.arange(count) * _HOP / RATE
    which = np.minimum(np.searchsorted(ends, times, side="right"), len(phones) - 1)
    tracks = np.array([[*p.formants, p.voice, p.breath, p.breath_hz] for p in phones])[which]
    width = np.hanning(9)[1:-1] / np.hanning(9).sum()
    tracks = np.stack([np.convolve(np.pad(row, 3, mode="edge"), width, "valid") for row in tracks.T], axis=1)
    frames = count * _HOP + _SIZE
    t = np.arange(frames) / RATE
    pitch = pitch_hz * (
        1 + 0.1 * np.sin(2 * np.pi * 0.9 * t + rng.uniform(0, 6)) + 0.03 * np.sin(2 * np.pi * 3.1 * t)
    )
    phase = np.cumsum(pitch) / RATE
    pulses = np.diff(np.floor(phase), prepend=0.0)
    hz = np.fft.rfftfreq(frames, 1 / RATE)
    glottis = np.fft.irfft(np.fft.rfft(pulses) / (1 + (hz / 600) ** 2) * (hz > 40), frames)
    glottis /= np.sqrt(np.mean(glottis**2))
    noise = rng.standard_normal(frames)
    window, out = np.hanning(_SIZE), np.zeros(frames)
    scale = 0.9 + 0.2 * min(1.0, max(0.0, (pitch_hz - 90) / 130))
    bins = np.fft.rfftfreq(_SIZE, 1 / RATE)
    for k in range(count):
        if not tracks[k, 4] and not tracks[k, 5]:
            continue
        part = slice(k * _HOP, k * _HOP + _SIZE)
        mouth = _tract(tracks[k, :4], scale)
        voiced = np.fft.rfft(glottis[part] * window) * mouth * tracks[k, 4]
        hiss = np.fft.rfft(noise[part] * window) * tracks[k, 5] / (1 + ((bins - tracks[k, 6]) / 1200.0) ** 2)
        out[part] += np.fft.irfft(voiced * bins / 1500.0 + hiss, _SIZE)
    loud = np.abs(out) > 0.05 * np.abs(out).max()
    return out * (0.05 / np.sqrt(np.mean(out[loud] ** 2)))


def random_text(seed: int, sounds: int = 60) -> str:
    """Sounds that nobody means anything by, for other voices than the pilot's."""
    rng = np.random.default_rng(seed)
    vowels, others = "aeiouA@", "mnlrwvzsSfthdgkp"
    text = ""
    while len(text) < sounds:
        for _ in range(int(rng.integers(2, 5))):
            text += others[int(rng.integers(len(others)))] + vowels[int(rng.integers(len(vowels)))]
        text += "." if rng.random() < 0.25 else " "
    return text
