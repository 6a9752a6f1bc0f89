"""Three amplifiers from one component: in time to the sample, and what mono takes of them."""

from pathlib import Path

import msgspec
import numpy as np
import pytest
from conftest import noise, session_on, write_wav
from scipy import signal

from stonekite.desktop.model.demo_session import amps_session
from stonekite.engine.graph.chain import Chain
from stonekite.engine.offline.render import rendered
from stonekite.files.audio import Reader
from stonekite.measure.image_meter import OCTAVES_HZ
from stonekite.measure.meters import Meters
from stonekite.session import tree
from stonekite.session.types import Split, Strip
from stonekite.session.wide import three_amps

RATE = 48_000


def _through(strip: Strip, sound: np.ndarray) -> np.ndarray:
    chain = Chain(strip, RATE)
    return chain.process(np.pad(sound, ((0, 0), (0, chain.latency))), 0)[:, chain.latency :]


def test_three_amplifiers_are_in_time_to_the_sample(tmp_path):
    """With the same amplifier and cabinet in all three, each alone is the same sound elsewhere; and as they are, they
    begin as late after the pickup as their microphones stand away."""
    path = write_wav(tmp_path / "pickup.wav", noise(1.0))
    session, _ = three_amps(session_on(path, Strip(split=Split(mode="left-right"))), tree.FIRST, "left")
    strip = session.sound.stems[0].strip
    same = strip.spurs[0].branch.stages
    sound = noise(1.0)
    alike, onsets = [], []
    click = np.zeros((2, RATE))
    click[:, RATE // 2] = 0.5
    for k, one in enumerate(strip.spurs):
        alone = msgspec.structs.replace(one, alone=True)
        like = msgspec.structs.replace(alone, branch=msgspec.structs.replace(one.branch, stages=same))

        def with_spur(spur, k=k):
            return msgspec.structs.replace(strip, spurs=(*strip.spurs[:k], spur, *strip.spurs[k + 1 :]))

        out = _through(with_spur(like), sound)
        alike.append(out / np.sqrt(np.sum(out**2)))
        begun = np.abs(_through(with_spur(alone), click)).max(axis=0)
        onsets.append(int(np.argmax(begun > 0.02 * begun.max())))
    one, centre, other = (found.sum(axis=0) for found in alike)
    assert np.abs(one - other).max() < 1e-12 * np.abs(one).max()
    assert np.abs(one / np.std(one) - centre / np.std(centre)).max() < 1e-9
    print("first samples of the three:", onsets)
    assert max(onsets) - min(onsets) <= 3


@pytest.mark.slow
def test_no_band_loses_more_in_mono_than_is_said():
    """Octave by octave, of the demo of three amplifiers: what the figures say against powers by other filters."""
    stem = amps_session().sound.stems[0]
    with Reader(Path(stem.source.path)) as reader:
        parts = [out for _, out in rendered(reader, stem.strip, span=(0, 8 * RATE))]
    sound = np.concatenate(parts, axis=1)
    meters = Meters(RATE)
    meters.add(sound)
    worst = []
    for octave in meters.measures().octaves:
        if octave.mono_loss_db is None or octave.hertz >= 16_000:
            continue
        edges = octave.hertz * np.sqrt([0.5, 2.0])
        part = signal.sosfilt(signal.butter(6, edges, "bandpass", fs=RATE, output="sos"), sound, axis=1)
        lost = 10 * np.log10(np.mean(part**2) / np.mean(part.mean(axis=0) ** 2))
        worst.append((round(octave.mono_loss_db, 2), round(float(lost), 2), octave.hertz))
        assert lost <= octave.mono_loss_db + 0.5, octave
    assert len(worst) >= len(OCTAVES_HZ) - 3
    print("lost in mono, said and measured:", worst)
