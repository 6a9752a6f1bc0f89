"""Reading, writing and bad input."""

import os
import resource
import struct
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
import soundfile
from conftest import noise, session_on, sine, write_wav
from hypothesis import given, settings
from hypothesis import strategies as st

from stonekite.engine.offline.export import Exported, export
from stonekite.files import components
from stonekite.files.audio import AudioError, ChannelsNeeded, Reader, Writer, facts, fingerprint
from stonekite.measure.overview import STRETCH, Overview, sketch
from stonekite.session.types import Leg, Strip
from stonekite.signal.matrix import MATRICES
from stonekite.signal.quantise import to_integers


def read(path: Path) -> np.ndarray:
    return soundfile.read(path, always_2d=True)[0].T


@pytest.mark.parametrize(
    ("content", "said"),
    [(None, "is not there"), (b"", "is empty"), (b"RIFF....WAVEfmt nonsense", "not an audio file"), (b"x" * 5000, "not an audio file")],
)  # fmt: skip
def test_what_is_no_audio_file_is_said(tmp_path, content, said):
    path = tmp_path / "odd.wav"
    if content is not None:
        path.write_bytes(content)
    with pytest.raises(AudioError, match=said):
        Reader(path)


def test_a_folder_and_a_file_without_sound(tmp_path):
    with pytest.raises(AudioError, match="folder"):
        Reader(tmp_path)
    soundfile.write(tmp_path / "none.wav", np.zeros((0, 2)), 48_000)
    with pytest.raises(AudioError, match="no sound"):
        Reader(tmp_path / "none.wav")


def test_mono_opens_as_two_equal_legs(tmp_path):
    soundfile.write(tmp_path / "one.wav", noise(0.1)[0], 48_000)
    with Reader(tmp_path / "one.wav") as reader:
        block = reader.read(0, 100)
    assert reader.channels == (0, 0) and np.array_equal(block[0], block[1])


def test_more_than_two_channels_must_be_chosen(tmp_path):
    sound = np.random.default_rng(0).uniform(-0.5, 0.5, (400, 8))
    soundfile.write(tmp_path / "eight.wav", sound, 48_000, subtype="DOUBLE")
    with pytest.raises(ChannelsNeeded) as needed:
        Reader(tmp_path / "eight.wav")
    assert needed.value.count == 8
    with Reader(tmp_path / "eight.wav", (6, 2)) as reader:
        assert np.array_equal(reader.read(0, 400), sound[:, [6, 2]].T)
    with pytest.raises(AudioError, match="channel 9 is not there"):
        Reader(tmp_path / "eight.wav", (0, 8))


@pytest.mark.parametrize("rate", [8000, 192_000])
def test_unusual_rates_render(tmp_path, rate):
    path = write_wav(tmp_path / "a.wav", noise(0.5, rate=rate), rate)
    last = list(export(session_on(path, Strip(upper=Leg(level_db=-6))), tmp_path / "b.wav"))[-1]
    assert isinstance(last, Exported) and facts(tmp_path / "b.wav").rate == rate


def test_damaged_samples_are_read_as_silence_and_counted(tmp_path):
    sound = noise(0.1)
    sound[0, 10], sound[1, 20], sound[0, 30], sound[1, 40] = np.nan, np.inf, -np.inf, 1e30
    path = write_wav(tmp_path / "bad.wav", sound, subtype="DOUBLE")
    with Reader(path) as reader:
        block = reader.read(0, 4800)
    assert reader.repaired == 4 and np.isfinite(block).all()
    assert block[0, 10] == block[1, 20] == block[0, 30] == block[1, 40] == 0
    good = np.isfinite(sound) & (np.abs(sound) < 10)
    assert np.array_equal(block[good], sound[good])


def test_one_sample_and_silence(tmp_path):
    for name, sound in (("one", np.full((2, 1), 0.25)), ("silent", np.zeros((2, 4800)))):
        path = write_wav(tmp_path / f"{name}.wav", sound)
        list(export(session_on(path), tmp_path / f"{name} out.wav", bits="24"))
        assert np.array_equal(read(tmp_path / f"{name} out.wav"), sound)


def test_a_file_cut_short_gives_what_is_there(tmp_path):
    path = write_wav(tmp_path / "cut.flac", noise(2.0))
    path.write_bytes(path.read_bytes()[:-60_000])
    with pytest.raises(AudioError, match="damaged|not an audio file"), Reader(path) as reader:
        assert sum(b.shape[1] for b in reader.blocks()) == reader.facts.frames
    wav = write_wav(tmp_path / "cut.wav", noise(2.0))
    wav.write_bytes(wav.read_bytes()[:-60_000])
    with Reader(wav) as reader:
        assert sum(block.shape[1] for block in reader.blocks()) == 96_000 - 10_000


@given(st.integers(0, 4000), st.integers(0, 900), st.integers(0, 2000))
@settings(max_examples=40, deadline=None)
def test_reading_ahead_gives_the_same_samples(tmp_path_factory, start, count, ahead):
    path = tmp_path_factory.getbasetemp() / "ahead.wav"
    if not path.exists():
        write_wav(path, noise(4000 / 48_000))
    with Reader(path) as plain, Reader(path, ahead=ahead) as fetching:
        for place in (start, start + count, max(0, start - 50)):
            assert np.array_equal(fetching.read(place, count), plain.read(place, count))


def test_rounding_is_ours_and_dither_is_triangular():
    def rounded(values, dither=None):
        integers, overs = to_integers(np.array([values]), 16, dither)
        assert not np.any(integers & 0xFFFF)  # they stand in the upper bits
        return (integers[:, 0] >> 16), overs

    assert rounded(np.array([0.4, 0.6, -0.4, -0.6, 1.5, 2.5]) / 2**15)[0].tolist() == [0, 1, 0, -1, 2, 2]
    integers, overs = rounded([1.0, -1.0, 0.99999, -1.2])
    assert integers.tolist() == [32767, -32768, 32767, -32768] and overs == 3
    errors = rounded(np.full(400_000, 0.3 / 2**15), np.random.default_rng(1))[0] - 0.3
    assert errors.mean() == pytest.approx(0, abs=0.005)
    # TPDF of two steps plus rounding: a total error power of a quarter of a squared step, whatever the signal.
    assert errors.var() == pytest.approx(0.25, abs=0.005)


@pytest.mark.parametrize("suffix", [".wav", ".flac", ".aiff"])
@pytest.mark.parametrize(("bits", "subtype"), [("16", "PCM_16"), ("24", "PCM_24")])
def test_an_untouched_session_exports_bit_for_bit(tmp_path, suffix, bits, subtype):
    path = write_wav(tmp_path / "a.wav", noise(0.5), subtype=subtype)
    done = list(export(session_on(path), tmp_path / f"b{suffix}", bits=bits))[-1]
    assert np.array_equal(read(done.paths[0]), read(path)) and not done.dithered
    assert facts(done.paths[0]).subtype == subtype


def test_float_export_and_lossy_input(tmp_path):
    sound = noise(0.5, level=0.9).astype(np.float32).astype(float)
    path = write_wav(tmp_path / "a.wav", sound, subtype="FLOAT")
    list(export(session_on(path), tmp_path / "b.wav", bits="32f"))
    assert np.array_equal(read(tmp_path / "b.wav"), sound)
    for name in ("c.ogg", "c.mp3"):
        soundfile.write(tmp_path / name, noise(1.0).T, 48_000)
        list(export(session_on(tmp_path / name), tmp_path / f"{name}.wav"))
        assert facts(tmp_path / f"{name}.wav").frames == facts(tmp_path / name).frames


def test_export_in_another_rate(tmp_path):
    path = write_wav(tmp_path / "a.wav", sine(1000, 1.0, -6))
    done = list(export(session_on(path), tmp_path / "b.wav", bits="32f", rate=44_100))[-1]
    out = read(done.paths[0])
    assert out.shape[1] == 44_100
    wanted = sine(1000, 1.0, -6, 44_100)
    assert np.abs(out - wanted)[:, 2000:-2000].max() < 1e-4


def test_export_of_components(tmp_path):
    path = write_wav(tmp_path / "a.wav", noise(0.2))
    done = list(export(session_on(path), tmp_path / "b.wav", bits="32f", parts="all"))[-1]
    assert [p.name for p in done.paths] == ["b.wav", "b.mid.wav", "b.side.wav"]
    stereo, mid, side = (read(p) for p in done.paths)
    assert np.array_equal(mid[0] + side[0], stereo[0]) and np.array_equal(mid[0] - side[0], stereo[1])


def test_overs_are_counted(tmp_path):
    path = write_wav(tmp_path / "a.wav", sine(100, 0.5, -1))
    done = list(export(session_on(path, Strip(upper=Leg(level_db=6))), tmp_path / "b.wav"))[-1]
    assert done.overs > 1000 and np.abs(read(done.paths[0])).max() <= 1.0


def test_a_cancelled_export_leaves_nothing_and_keeps_the_old_file(tmp_path):
    path = write_wav(tmp_path / "a.wav", noise(3.0))
    out = tmp_path / "b.wav"
    out.write_text("old")
    steps = export(session_on(path), out, force=True)
    next(steps)
    steps.close()
    assert out.read_text() == "old" and sorted(os.listdir(tmp_path)) == ["a.wav", "b.wav"]


def test_the_source_is_never_written_to_and_nothing_is_overwritten_unasked(tmp_path):
    path = write_wav(tmp_path / "a.wav", noise(0.1))
    with pytest.raises(AudioError, match="a recording of this session"):
        list(export(session_on(path), path, force=True))
    (tmp_path / "b.wav").write_text("old")
    with pytest.raises(AudioError, match="exists already"):
        list(export(session_on(path), tmp_path / "b.wav"))
    with pytest.raises(AudioError, match="folder"):
        list(export(session_on(path), tmp_path / "no" / "b.wav"))
    with pytest.raises(AudioError, match="must end in"):
        list(export(session_on(path), tmp_path / "b.txt"))
    with pytest.raises(AudioError, match="FLAC holds integers"):
        list(export(session_on(path), tmp_path / "b.flac", bits="32f"))


@pytest.mark.slow
def test_a_full_disk_is_said_and_leaves_nothing(tmp_path):
    """The limit on file size stands in for the disk: writes fail in the same way."""
    source = write_wav(tmp_path / "a.wav", noise(4.0))
    code = (
        "import resource, sys; resource.setrlimit(resource.RLIMIT_FSIZE, (300_000, 300_000));"
        "from stonekite.cli import main; main(sys.argv[1:])"
    )
    (tmp_path / "out").mkdir()
    done = subprocess.run(
        [sys.executable, "-c", code, "separate", str(source), "-o", str(tmp_path / "out")],
        capture_output=True,
        text=True,
    )
    assert done.returncode == 1
    assert "cannot be written" in done.stderr and "Traceback" not in done.stderr
    assert os.listdir(tmp_path / "out") == []


def test_a_wav_beyond_4_gb_becomes_rf64(tmp_path):
    with Writer(tmp_path / "big.wav", 48_000, bits="24", frames=800_000_000) as writer:
        writer.write(noise(0.1))
    assert soundfile.info(tmp_path / "big.wav").format == "RF64"


@pytest.mark.parametrize("matrix", ["half-sum", "equal-power", "raised-side"])
@pytest.mark.parametrize("subtype", ["PCM_16", "PCM_24", "FLOAT"])
def test_round_trip_through_real_files_is_bit_exact(tmp_path, matrix, subtype):
    rng = np.random.default_rng(3)
    sound = rng.uniform(-1, 1, (2, 20_000))
    sound[:, :4] = [[1, -1, 1, -1], [1, -1, -1, 1]]  # full scale, in and out of phase
    path = write_wav(tmp_path / "a.wav", sound, subtype=subtype)
    assert components.roundtrip(path, matrix, tmp_path) == (True, 0.0)


def test_components_are_small_floats_where_that_is_exact(tmp_path):
    path = write_wav(tmp_path / "a.wav", noise(0.1))
    for matrix, subtype in (("half-sum", "FLOAT"), ("raised-side", "FLOAT"), ("equal-power", "DOUBLE")):
        paths = components.write_components(path, tmp_path, matrix=matrix, force=True).paths
        assert {facts(p).subtype for p in paths} == {subtype}


def test_separate_and_combine_keep_every_sample(tmp_path):
    path = write_wav(tmp_path / "pair.wav", noise(0.3))
    left, right = components.separate(path, tmp_path)
    assert left.name == "pair.only-left.wav" and facts(left).channels == 1
    back = components.combine(left, right, tmp_path / "back.wav")
    assert np.array_equal(read(back), read(path))
    short = write_wav(tmp_path / "short.wav", noise(0.1))
    with pytest.raises(AudioError, match="differ in length"):
        components.combine(left, short, tmp_path / "no.wav")


def test_fingerprints_tell_recordings_apart(tmp_path):
    one = write_wav(tmp_path / "a.wav", noise(0.5))
    two = write_wav(tmp_path / "b.wav", noise(0.5, seed=2))
    copy = tmp_path / "c.wav"
    copy.write_bytes(one.read_bytes())
    assert fingerprint(one) == fingerprint(copy) != fingerprint(two)


def test_overviews_hold_the_extremes(tmp_path):
    sound = noise(1.0)
    overview = Overview()
    for start in range(0, sound.shape[1], 1000):
        overview.add(sound[:, start : start + 1000])
    table = overview.table()
    assert table.shape == (4, 2, -(-sound.shape[1] // STRETCH))
    assert table[0, 1].max() == np.float32(sound[0].max())
    assert table[3, 0, 5] == np.float32(((sound[0] - sound[1]) / 2)[5 * STRETCH : 6 * STRETCH].min())
    with Reader(write_wav(tmp_path / "a.wav", sound)) as reader:
        rough = sketch(reader, columns=50)
    assert rough.shape == (4, 2, 50) and (rough[:, 0] < 0).all() and (rough[:, 1] > 0).all()


def test_a_first_picture_takes_no_longer_than_it_may_and_has_no_holes(tmp_path):
    """Of a file in which each place takes long to be found: the first half of it is loud, and so is that of the picture."""
    sound = noise(1.0) * np.repeat([1.0, 0.001], 24_000)
    with Reader(write_wav(tmp_path / "a.wav", sound)) as reader:
        whole = sketch(reader, within_s=60.0)
        read, looks = reader.read, []

        def slowly(start: int, frames: int) -> np.ndarray:
            looks.append(start)
            time.sleep(0.002)
            return read(start, frames)

        reader.read = slowly
        begun = time.perf_counter()
        rough = sketch(reader, within_s=0.05)
        assert time.perf_counter() - begun < 1.0 and 2 < len(looks) <= 30
    assert rough.shape == whole.shape == (4, 2, 600)
    heights = (rough[0, 1] - rough[0, 0]) > 0.05
    assert heights[:280].all() and not heights[320:].any()


def test_a_huge_file_opens_at_once_and_in_little_memory(tmp_path):
    """Nearly 4 GB (6 hours) that take no room on disk."""
    frames = 990_000_000
    data = frames * 4
    header = (
        b"RIFF"
        + struct.pack("<I", data + 36)
        + b"WAVEfmt "
        + struct.pack("<IHHIIHH", 16, 1, 2, 48_000, 192_000, 4, 16)
    )
    path = tmp_path / "huge.wav"
    with path.open("wb") as file:
        file.write(header + b"data" + struct.pack("<I", data))
        file.truncate(44 + data)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    with Reader(path) as reader:
        assert reader.facts.frames == frames
        assert sketch(reader).shape == (4, 2, 600)
        assert reader.read(frames - 10, 100).shape == (2, 10)
    assert fingerprint(path)
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 50_000


SUBTYPES = ["PCM_U8", "PCM_16", "PCM_24", "PCM_32", "FLOAT", "DOUBLE"]


@pytest.mark.parametrize("subtype", SUBTYPES)
@pytest.mark.parametrize("matrix", MATRICES)
def test_every_round_trip_is_exact_or_said_beforehand(tmp_path, subtype, matrix):
    rng = np.random.default_rng(5)
    sound = rng.uniform(-1, 1, (2, 20_000)) * 10 ** rng.uniform(-5, 0, (2, 20_000))
    sound[:, :3] = [[1.0, -1.0, 1.0], [-1.0, -1.0, 1.0]]
    path = write_wav(tmp_path / "tape.wav", sound, subtype=subtype)
    source = facts(path)
    kind = components.exact_bits(source, matrix)
    made = components.write_components(path, tmp_path / ".", matrix=matrix)
    back, overs = components.join_components(made.paths, tmp_path / "back.wav")
    with Reader(path) as one, Reader(back) as two:
        changed = int(np.count_nonzero(one.read(0, 30_000) != two.read(0, 30_000)))
    exact, _ = components.roundtrip(path, matrix, tmp_path)
    assert exact == (changed == 0) and made.changed == changed
    assert changed == 0 or components.loss(source, matrix, kind) is not None
    assert subtype == "DOUBLE" or changed == 0
    assert overs == made.overs == 0


def test_parts_of_two_encodings_are_not_joined_without_a_word(tmp_path):
    path = write_wav(tmp_path / "quay.wav", noise(0.5))
    (tmp_path / "old").mkdir()
    old = components.write_components(path, tmp_path / "old", matrix="half-sum")
    new = components.write_components(path, tmp_path, matrix="raised-side")
    mixed = [new.paths[0], old.paths[1]]
    with pytest.raises(AudioError, match="not encoded together"):
        components.join_components(mixed, tmp_path / "back.wav")
    components.join_components(mixed, tmp_path / "back.wav", matrix="half-sum")
    with pytest.raises(AudioError, match="one of the files"):
        components.join_components(new.paths, new.paths[0], force=True)
