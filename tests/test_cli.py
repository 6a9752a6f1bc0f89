"""The command line's contract."""

import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import soundfile
from click.testing import CliRunner
from conftest import noise, session_on, sine, write_wav

from stonekite.cli import main
from stonekite.notes import seconds
from stonekite.session import storage
from stonekite.session.types import Leg, Strip


def run(*arguments: object, code: int = 0) -> str:
    result = CliRunner().invoke(main, [str(a) for a in arguments])
    assert result.exit_code == code, result.output + result.stderr
    return result.stdout if code == 0 else result.stderr


def test_measure_prints_the_contract(tmp_path):
    sound = np.roll(noise(3.0), 0, axis=1)
    sound[1] = np.roll(sound[0], 12)
    found = json.loads(run("measure", write_wav(tmp_path / "a.wav", sound), "--json"))
    assert {
        "integrated_lufs", "loudness_range_lu", "momentary_max_lufs", "short_term_max_lufs", "true_peak_dbtp",
        "sample_peak_dbfs", "correlation", "side_to_mid_db", "components", "offset",
    } <= set(found)  # fmt: skip
    assert set(found["components"]) == {"left", "right", "mid", "side"}
    assert set(found["components"]["mid"]) == {"rms_dbfs", "peak_dbfs", "crest_db", "noise_floor_dbfs"}
    assert found["offset"]["samples"] == pytest.approx(12, abs=0.05) and found["offset"]["polarity"] == 1
    assert "integrated_lufs" in run("measure", tmp_path / "a.wav")


def test_measure_of_silence_is_valid_json(tmp_path):
    found = json.loads(run("measure", write_wav(tmp_path / "a.wav", np.zeros((2, 9600))), "--json"))
    assert found["integrated_lufs"] is None and found["correlation"] is None


def test_measure_of_many_channels_asks(tmp_path):
    soundfile.write(tmp_path / "six.wav", np.tile(sine(440, 0.5, -20)[0][:, None], (1, 6)), 48_000)
    assert "6 channels" in run("measure", tmp_path / "six.wav", code=1)
    assert (
        json.loads(run("measure", tmp_path / "six.wav", "--channels", "3,4", "--json"))["correlation"] == 1.0
    )
    assert "channel numbers" in run("measure", tmp_path / "six.wav", "--channels", "x", code=2)


@pytest.mark.parametrize("layout", ["pair", "interleaved"])
@pytest.mark.parametrize("matrix", ["half-sum", "equal-power", "raised-side"])
def test_encode_and_decode(tmp_path, recording, layout, matrix):
    run("encode", recording, "-o", tmp_path / "parts", "--matrix", matrix, "--layout", layout)
    names = sorted(p.name for p in (tmp_path / "parts").iterdir())
    assert names == (["quay.mid.wav", "quay.side.wav"] if layout == "pair" else ["quay.midside.wav"])
    run("decode", *[tmp_path / "parts" / n for n in names], "-o", tmp_path / "back.wav")
    assert np.array_equal(soundfile.read(tmp_path / "back.wav")[0], soundfile.read(recording)[0])
    assert soundfile.info(tmp_path / "back.wav").subtype == "PCM_24"


def test_integer_components_say_what_is_lost(tmp_path, recording):
    result = CliRunner().invoke(main, ["encode", str(recording), "-o", str(tmp_path / "p"), "--bits", "24"])
    assert result.exit_code == 0 and "not bit-exact" in result.stderr


def test_roundtrip(recording):
    assert json.loads(run("roundtrip", recording, "--json")) == {
        "bit_exact": True,
        "residual_peak_dbfs": None,
    }


def test_separate_and_combine(tmp_path, recording):
    run("separate", recording, "-o", tmp_path)
    run(
        "combine", tmp_path / "quay.only-left.wav", tmp_path / "quay.only-right.wav", "-o", tmp_path / "b.wav"
    )
    assert np.array_equal(soundfile.read(tmp_path / "b.wav")[0], soundfile.read(recording)[0])
    assert "exists already" in run("separate", recording, "-o", tmp_path, code=1)
    run("separate", recording, "-o", tmp_path, "--force")


def test_render(tmp_path, recording):
    storage.save(session_on(recording, Strip(lower=Leg(muted=True))), tmp_path / "s.kite")
    told = json.loads(run("render", tmp_path / "s.kite", "-o", tmp_path / "r.wav", "--bits", "32f", "--json"))
    assert told["overs"] == 0 and told["files"] == [str(tmp_path / "r.wav")]
    out = soundfile.read(tmp_path / "r.wav")[0]
    source = soundfile.read(recording)[0]
    assert np.array_equal(out[:, 0], out[:, 1])
    assert out[:, 0] == pytest.approx(source.mean(axis=1), abs=1e-7)
    run(
        "render",
        tmp_path / "s.kite",
        "-o",
        tmp_path / "r.flac",
        "--bits",
        "16",
        "--set",
        "all",
        "--rate",
        "44100",
    )
    assert soundfile.info(tmp_path / "r.side.flac").samplerate == 44_100


def test_faults_are_one_sentence_and_exit_1(tmp_path):
    (tmp_path / "bad.kite").write_text("{}")
    for arguments in (
        ["measure", tmp_path / "no.wav"],
        ["render", tmp_path / "bad.kite", "-o", tmp_path / "x.wav"],
    ):
        said = run(*arguments, code=1)
        assert said.startswith("stonekite: ") and said.count("\n") == 1


def test_bad_use_exits_2(tmp_path, recording):
    run("encode", recording, code=2)
    run("roundtrip", recording, "--matrix", "thirds", code=2)
    run("stages", "reverse", code=2)
    assert "neither a file nor a command" in run("mesure", code=2)


def test_stages_and_schema():
    assert "eq" in json.loads(run("stages", "--json"))
    assert "frequency_hz" in run("stages", "eq")
    assert json.loads(run("schema"))["$defs"]


def imported(*arguments: str) -> set[str]:
    """Modules that a command imports, in a fresh process."""
    code = (
        "import sys\nfrom stonekite.cli import main\n"
        "try: main(sys.argv[1:])\nexcept SystemExit: pass\n"
        "print('|'.join(sys.modules), file=sys.stderr)"
    )
    done = subprocess.run([sys.executable, "-c", code, *arguments], capture_output=True, text=True)
    return set(done.stderr.strip().splitlines()[-1].split("|"))


@pytest.mark.slow
def test_commands_do_not_import_qt_and_help_imports_nothing_heavy(recording: Path):
    assert not {"PySide6", "numba", "numpy"} & imported("--help")
    assert "PySide6" not in imported("measure", str(recording))


@pytest.mark.parametrize("bpm", [20.0, 84.5, 120.0, 400.0])
def test_tempo_gives_the_length_of_every_note(bpm):
    found = json.loads(run("tempo", bpm, "--json"))
    beat = 60_000 / bpm
    assert found["1/4"] == found["1 beat"] == pytest.approx(beat, abs=1e-4)
    assert found["1/1"] == found["4 beats"] == pytest.approx(4 * beat, abs=1e-4)
    assert found["1/8 dotted"] == pytest.approx(0.75 * beat, abs=1e-4)
    assert found["1/64 triplet"] == pytest.approx(beat / 24, abs=1e-4)
    assert len(found) == 7 * 3 + 8
    assert seconds("1.5 beats", bpm) == pytest.approx(1.5 * 60 / bpm)


@pytest.mark.parametrize(
    "text", ["", "1/3", "2/4", "1/8 dotted triplet", "0 beats", "-1 beats", "fast", "1/128"]
)
def test_what_is_no_note_is_refused_with_a_sentence(text):
    with pytest.raises(ValueError, match="is no note"):
        seconds(text, 120.0)
    run("tempo", 1, code=2)
