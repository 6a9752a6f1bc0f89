"""Component files that go out and come back: what is said beforehand, what happened elsewhere, what is joined."""

import json
import math

import numpy as np
import pytest
import soundfile
import soxr
from click.testing import CliRunner
from conftest import RATE, THOROUGH, noise, write_wav

from stonekite.cli import main
from stonekite.engine.offline import rejoining, returned
from stonekite.engine.offline.compare import source_of
from stonekite.files import components
from stonekite.files.audio import AudioError, Reader, facts
from stonekite.measure.headroom import Surveyor
from stonekite.signal.matrix import MATRICES, encode

SUBTYPES = ("PCM_U8", "PCM_16", "PCM_24", "PCM_32", "FLOAT", "DOUBLE")
PAIRS = 200 if THOROUGH else 10


def done(steps):
    while True:
        try:
            next(steps)
        except StopIteration as end:
            return end.value


def music(seconds: float, seed: int, rate: int = RATE) -> np.ndarray:
    """Notes of several voices at places of their own, over a little noise (2, frames)."""
    rng = np.random.default_rng(seed)
    frames = int(seconds * rate)
    out = 0.001 * rng.standard_normal((2, frames))
    t = np.arange(int(0.8 * rate)) / rate
    for _ in range(int(6 * seconds)):
        start = int(rng.integers(0, frames))
        hertz, place = 110 * 2 ** rng.uniform(0, 4), rng.uniform(0, 1)
        note = np.exp(-5 * t) * sum(np.sin(2 * np.pi * k * hertz * t) / k for k in range(1, 7))
        note = note[: frames - start]
        out[0, start : start + len(note)] += 0.12 * math.cos(place * math.pi / 2) * note
        out[1, start : start + len(note)] += 0.12 * math.sin(place * math.pi / 2) * note
    return 0.8 * out / np.abs(out).max()


def moved(sound: np.ndarray, samples: float) -> np.ndarray:
    """A sound that is late (or early) by parts of a sample, from its spectrum."""
    whole = math.floor(samples)
    sound = np.concatenate([np.zeros(whole), sound]) if whole >= 0 else sound[-whole:]
    if samples == whole:
        return sound
    padded = np.pad(sound, 4096)
    turn = np.exp(-2j * np.pi * np.fft.rfftfreq(len(padded)) * (samples - whole))
    return np.fft.irfft(np.fft.rfft(padded) * turn, len(padded))[4096:-4096]


# Out


@pytest.mark.parametrize("subtype", SUBTYPES)
@pytest.mark.parametrize("bits", ["16", "24", "32f", "64f"])
@pytest.mark.parametrize("matrix", MATRICES)
def test_what_encoding_loses_is_said_beforehand_and_is_what_the_files_have(tmp_path, subtype, bits, matrix):
    path = write_wav(tmp_path / "quay.wav", np.clip(1.4 * noise(0.5, level=0.3), -1, 0.999), subtype=subtype)
    for trims in ((0.0, 0.0), (-1.3, -6.5)):
        said = done(components.rehearsed(path, matrix=matrix, bits=bits, trims_db=trims))
        made = components.write_components(
            path, tmp_path, matrix=matrix, bits=bits, trims_db=trims, force=True
        )
        changed, peak = done(components.proved(path, made.paths))
        assert (said.overs, said.changed) == (made.overs, made.changed)
        assert (changed, peak) == (said.changed, pytest.approx(said.residual_peak, abs=1e-15))
        if (
            components.loss(facts(path), matrix, bits, trims) is None
            and not made.overs
            and subtype[:3] == "PCM"
        ):
            assert not changed
        back, _ = components.join_components(made.paths, tmp_path / "back.wav", force=True)
        with Reader(path) as one, Reader(back) as two:
            assert np.array_equal(one.read(0, 24000), two.read(0, 24000)) == (not changed)


def test_what_would_be_cut_off_is_said_and_a_trim_makes_it_fit(tmp_path):
    rng = np.random.default_rng(3)
    for seed in range(100 if THOROUGH else 12):
        # A hot side: nearly the same upside down on the other channel.
        sound = 0.9 * noise(0.2, seed=seed, level=1.0)
        sound[1] *= -rng.uniform(0.3, 1.0)
        sound = np.clip(sound / np.abs(sound).max() * rng.uniform(0.6, 1.0), -1.0, 1.0 - 2**-15)
        subtype = "PCM_16" if seed % 2 else "PCM_24"
        path = write_wav(tmp_path / f"{seed}.wav", sound, subtype=subtype)
        with Reader(path) as reader:
            surveyor = Surveyor(reader.facts)
            for block in reader.blocks(777):
                surveyor.add(block)
        survey = surveyor.survey()
        for matrix in MATRICES:
            for bits in ("16", "24"):
                plain = done(components.rehearsed(path, matrix=matrix, bits=bits))
                fits = all(survey.fits(row, matrix, bits) for row in (0, 1))
                assert fits == (plain.overs == 0)
                trims = tuple(survey.trim_db(row, matrix, bits) for row in (0, 1))
                trimmed = done(components.rehearsed(path, matrix=matrix, bits=bits, trims_db=trims))
                assert trimmed.overs == 0
                # To half a step of the files, where nothing is cut off; a finer file gives back every bit.
                assert trimmed.residual_peak <= 2.0 * 10 ** (-min(trims) / 20) * 2.0 ** (1 - int(bits))
                if bits == "24" and subtype == "PCM_16":
                    assert trimmed.changed == 0


# Back


def worked_on(part: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """A part in which a stretch was made louder, duller or driven."""
    start = int(rng.integers(0, len(part)))
    stop = min(len(part), start + int(len(part) * rng.uniform(0.05, 0.4)))
    part = part.copy()
    stretch = part[start:stop]
    if not len(stretch):
        return part
    how = rng.integers(3)
    if how == 0:
        part[start:stop] = stretch * 10 ** (rng.uniform(-6, 6) / 20)
    elif how == 1 and len(stretch) > 41:
        part[start:stop] = np.convolve(stretch, np.hanning(41) / np.hanning(41).sum(), "same")
    else:
        part[start:stop] = np.tanh(4 * stretch) / 4
    return part


def random_pair(folder, seed: int):
    """A recording, two files made of it, and what happened to them: (matrix, [(late, trim in dB, polarity)])."""
    rng = np.random.default_rng(seed)
    rate = int(rng.choice([44100, 48000]))
    path = write_wav(folder / f"{seed}.wav", music(rng.uniform(4, 9), seed, rate), rate)
    sound = soundfile.read(path)[0].T
    matrix = MATRICES[rng.integers(3)]
    parts = encode(sound, matrix)
    other = rate if rng.random() < 0.7 else int(rng.choice([44100, 48000, 96000]))
    truth, paths = [], []
    for row in (0, 1):
        trim = [0.0, round(-rng.uniform(0, 2.5), 1), -rng.uniform(0, 1.2)][rng.integers(3)]
        sign = 1 if rng.random() < 0.7 else -1
        late = [0.0, float(rng.integers(-3000, 3000)), round(rng.uniform(-3000, 3000), 2)][rng.integers(3)]
        part = moved(sign * parts[row] * 10 ** (trim / 20), late)
        if rng.random() < 0.5:
            part = worked_on(part, rng)
        how = rng.integers(3)
        if how == 1:
            part = np.concatenate([part, np.zeros(int(rng.integers(1, rate)))])
        elif how == 2:
            part = part[: len(part) - int(rng.integers(1, rate // 2))]
        if other != rate:
            part = soxr.resample(part, rate, other, quality="VHQ")
        subtype = "FLOAT" if np.abs(part).max() > 0.99 else ("FLOAT", "PCM_24", "PCM_16")[rng.integers(3)]
        name = folder / f"{seed} {'ab'[row]}.wav"
        soundfile.write(name, part, other, subtype=subtype)
        truth.append((late, trim, sign))
        paths.append(name)
    return path, (paths[::-1] if rng.random() < 0.4 else paths), matrix, truth


@pytest.mark.parametrize("seed", range(PAIRS))
def test_what_happened_elsewhere_is_told(tmp_path, seed):
    path, paths, matrix, truth = random_pair(tmp_path, seed)
    back = done(returned.taken_back(source_of(path), paths))
    assert not back.fault
    assert [part.component for part in back.parts] == ["mid", "side"]
    assert matrix == back.matrix or matrix in back.others, (back.matrix, back.sure)
    for row, part in enumerate(back.parts):
        late, trim, sign = truth[row]
        assert not part.throughout
        assert part.samples == pytest.approx(late, abs=0.01)
        assert part.inverted == (sign < 0)
        if back.matrix == matrix:
            assert part.change_db == pytest.approx(trim, abs=0.01)


def test_the_worked_on_part_is_found_and_the_rest_is_exact(tmp_path):
    path = write_wav(tmp_path / "quay.wav", music(8.0, 1))
    made = components.write_components(path, tmp_path, bits="24")
    mid, side = (soundfile.read(part)[0] for part in made.paths)
    side = np.concatenate([np.zeros(576), side])
    side[576 + 3 * RATE : 576 + 4 * RATE] *= 1.5
    soundfile.write(tmp_path / "m.wav", mid * 10 ** (-0.4 / 20), RATE, subtype="PCM_24")
    soundfile.write(tmp_path / "s.wav", side, RATE, subtype="PCM_24")
    source = source_of(path)
    back = done(returned.taken_back(source, [tmp_path / "s.wav", tmp_path / "m.wav"]))
    repairs = set(rejoining.repairs(back, source))
    assert repairs == {"level 0", "delay 1", "length 1"}
    assert "fit them first" in rejoining.refusal(back, source, frozenset())
    left = done(rejoining.leftover(back, source, frozenset(repairs)))
    ((start, end),) = left.worked
    assert (start, end) == (pytest.approx(3.0, abs=0.2), pytest.approx(4.0, abs=0.2))
    out, overs = done(rejoining.write_joined(back, source, frozenset(repairs), tmp_path / "joined.wav"))
    assert not overs
    sound, wanted = soundfile.read(out)[0], soundfile.read(path)[0]
    assert len(sound) == len(wanted)
    outside = np.r_[0 : int(2.9 * RATE), int(4.1 * RATE) : len(wanted)]
    # Both were rounded to 24 bits, Mid twice, and floats of 32 bits hold no more.
    assert np.abs(sound[outside] - wanted[outside]).max() <= 2.5 * 2.0**-23
    changed = sound[int(3.1 * RATE) : int(3.9 * RATE)] - wanted[int(3.1 * RATE) : int(3.9 * RATE)]
    side_of = 0.25 * (wanted[:, 0] - wanted[:, 1])[int(3.1 * RATE) : int(3.9 * RATE)]
    assert np.abs(changed[:, 0] - side_of).max() < 1e-6
    assert np.abs(changed[:, 1] + side_of).max() < 1e-6


def test_a_part_that_was_worked_on_throughout_is_still_found(tmp_path):
    path = write_wav(tmp_path / "quay.wav", music(8.0, 2))
    mid, side = encode(soundfile.read(path)[0].T)
    kernel = np.r_[1.0, 0.5 * np.exp(-np.arange(200) / 30.0)]
    side = np.tanh(3 * np.convolve(side, kernel / kernel.sum())[: len(side)]) / 3
    soundfile.write(tmp_path / "a.wav", side, RATE, subtype="FLOAT")
    soundfile.write(tmp_path / "b.wav", mid, RATE, subtype="FLOAT")
    source = source_of(path)
    back = done(returned.taken_back(source, [tmp_path / "a.wav", tmp_path / "b.wav"]))
    assert [part.component for part in back.parts] == ["mid", "side"]
    assert [part.throughout for part in back.parts] == [False, True]
    assert any("from beginning to end" in one.sentence for one in rejoining.findings(back, source))
    assert not any(one.what == "level" for one in rejoining.findings(back, source))


def test_what_is_of_another_recording_is_refused(tmp_path):
    sounds = [music(5.0, seed) for seed in range(20, 26)] + [noise(5.0, seed=4), noise(5.0, seed=9)]
    for seed in range(45 if THOROUGH else 3):
        one, two = np.random.default_rng(seed).permutation(len(sounds))[:2]
        path = write_wav(tmp_path / "mine.wav", sounds[one])
        for name, part in zip("ab", encode(sounds[two]), strict=True):
            soundfile.write(tmp_path / f"{name}.wav", part, RATE, subtype="PCM_24")
        back = done(returned.taken_back(source_of(path), [tmp_path / "a.wav", tmp_path / "b.wav"]))
        assert "not made from this recording" in back.fault


def test_left_and_right_are_not_taken_for_mid_and_side(tmp_path):
    for seed in range(2):
        path = write_wav(tmp_path / "quay.wav", music(5.0, 40 + seed))
        source = source_of(path)
        for place, part in zip("ba", soundfile.read(path)[0].T, strict=True):
            soundfile.write(tmp_path / f"{place}.wav", moved(part, 21.0), RATE, subtype="PCM_24")
        back = done(returned.taken_back(source, [tmp_path / "a.wav", tmp_path / "b.wav"]))
        assert [part.component for part in back.parts] == ["left", "right"] and back.matrix is None
        repairs = frozenset(rejoining.repairs(back, source))
        assert done(rejoining.leftover(back, source, repairs)).exact
        both = done(returned.taken_back(source, [tmp_path / "a.wav", tmp_path / "a.wav"]))
        assert "no way to join" in both.fault


def test_mono_and_strange_files_are_answered(tmp_path):
    path = write_wav(tmp_path / "mono.wav", np.repeat(music(3.0, 7)[:1], 2, axis=0))
    source = source_of(path)
    made = components.write_components(path, tmp_path)
    back = done(returned.taken_back(source, made.paths[::-1]))
    assert [part.component for part in back.parts] == ["mid", "side"] and back.parts[1].silent
    assert done(rejoining.leftover(back, source, frozenset())).exact
    write_wav(tmp_path / "three.wav", np.zeros((3, 100)))
    (tmp_path / "none.wav").write_bytes(b"RIFF")
    for paths, word in (
        ([made.paths[0]], "the other one is needed"),
        ([*made.paths, made.paths[0]], "Two component files"),
        ([tmp_path / "three.wav", made.paths[0]], "3 channels"),
        ([tmp_path / "none.wav", made.paths[0]], "cannot be read|can be read"),
    ):
        with pytest.raises(AudioError, match=word):
            done(returned.taken_back(source, paths))


def test_the_command_line_trims_and_takes_back(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    loud = music(4.0, 11)
    loud[1] = -0.95 * loud[0]
    path = write_wav(tmp_path / "quay.wav", loud)
    run = CliRunner()
    out = run.invoke(
        main,
        [
            "encode",
            str(path),
            "-o",
            ".",
            "--bits",
            "24",
            "--matrix",
            "raised-side",
            "--trim",
            "auto",
            "--json",
        ],
    )
    made = json.loads(out.stdout)
    assert made["overs"] == 0 and made["trims_db"][0] == 0.0 and made["trims_db"][1] < -3.0
    side, rate = soundfile.read(made["files"][1])
    soundfile.write("late.wav", np.concatenate([np.zeros(100), -side]), rate, subtype="PCM_24")
    out = run.invoke(
        main, ["decode", "late.wav", made["files"][0], "--against", "quay.wav", "-o", "back.wav", "--json"]
    )
    told = json.loads(out.stdout)
    assert told["parts"]["side"]["late_samples"] == 100.0 and told["parts"]["side"]["inverted"]
    assert told["repairs"] == ["delay 1", "length 1", "level 1", "polarity 1"]
    assert told["residual_peak_dbfs"] < -125.0
    out = run.invoke(main, ["encode", str(path), "-o", ".", "--trim", "3,0"])
    assert out.exit_code == 2 and "0 or under" in out.stderr
