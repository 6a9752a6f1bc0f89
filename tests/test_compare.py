"""Two files compared, the table, the report, and the chances of guessing."""

import csv
import io
import json
import re
from html.parser import HTMLParser

import msgspec
import numpy as np
import pytest
import soxr
from click.testing import CliRunner
from conftest import RATE, noise, session_on, sine, write_wav
from scipy import stats
from test_measures import done

from stonekite.cli import main
from stonekite.engine.offline.compare import compare
from stonekite.engine.offline.subjects import Subject, measured
from stonekite.files.audio import AudioError
from stonekite.measure.binomial import chance, fewest_right
from stonekite.reports.making import of_session, verdict, write
from stonekite.reports.table import ROWS, as_csv
from stonekite.session import edits
from stonekite.session.types import BlindTest, Desk, Split, Strip
from stonekite.stages.compressor import Compressor
from stonekite.stages.eq import Band, Eq, EqSide


@pytest.mark.parametrize("trials", [1, 7, 16, 100])
def test_the_chance_of_guessing_is_that_of_the_exact_binomial_test(trials):
    for right in range(trials + 1):
        assert chance(right, trials) == pytest.approx(
            stats.binomtest(right, trials, alternative="greater").pvalue
        )
        assert chance(right, trials, two_sided=True) == pytest.approx(stats.binomtest(right, trials).pvalue)


def test_the_fewest_right_answers_that_are_hardly_guessed():
    assert fewest_right(16, 0.05) == 12 and fewest_right(3, 0.05) is None
    assert chance(0, 0) == 1.0


@pytest.fixture
def files(tmp_path):
    a = noise(4.0)
    b = -0.5 * np.concatenate([np.zeros((2, 40)), a], axis=1)[:, : a.shape[1]]
    return write_wav(tmp_path / "a.wav", a, subtype="DOUBLE"), write_wav(
        tmp_path / "b.wav", b, subtype="DOUBLE"
    )


def test_a_file_changed_by_delay_gain_and_polarity_only_leaves_nothing(files):
    found = done(compare(*files))
    assert found.level_match_db == pytest.approx(6.02, abs=0.01)
    assert found.match.samples == 40 and found.match.polarity == -1
    assert all(level < -150 for level in found.residual_db.values())


def test_files_of_different_rates_are_compared(tmp_path):
    tone = sine(1000, 3.0, -20) + sine(313, 3.0, -20)
    other = sine(1000, 3.0, -20, rate=44_100) + sine(313, 3.0, -20, rate=44_100)
    a = write_wav(tmp_path / "a.wav", tone, subtype="DOUBLE")
    b = write_wav(tmp_path / "b.wav", other, rate=44_100, subtype="DOUBLE")
    found = done(compare(a, b))
    assert found.residual_db["all"] < -60 and found.level_match_db == pytest.approx(0, abs=0.02)


def test_the_command_prints_what_it_promises(files, tmp_path):
    result = CliRunner().invoke(main, ["compare", *map(str, files), "--json"])
    assert result.exit_code == 0, result.output
    printed = json.loads(result.stdout)
    assert {"a", "b", "level_match_db", "offset_samples", "polarity", "residual_db"} <= set(printed)
    assert printed["offset_samples"] == 40 and printed["polarity"] == -1
    assert set(printed["residual_components_db"]) == {"left", "right", "mid", "side"}
    assert printed["a"]["integrated_lufs"] == pytest.approx(printed["b"]["integrated_lufs"] + 6.02, abs=0.01)
    plain = CliRunner().invoke(main, ["compare", *map(str, files)])
    assert "level_match_db" in plain.stdout and "a.octaves.1000.mono_loss_db" in plain.stdout


@pytest.mark.slow
def test_a_report_is_written_whole_or_not_at_all(files, tmp_path):
    out = tmp_path / "report.html"
    arguments = ["compare", *map(str, files), "--report", str(out)]
    assert CliRunner().invoke(main, arguments).exit_code == 0
    first = out.read_text()
    again = CliRunner().invoke(main, arguments)
    assert again.exit_code == 1 and "exists already" in again.stderr and out.read_text() == first
    assert CliRunner().invoke(main, [*arguments, "--force"]).exit_code == 0
    wrong = CliRunner().invoke(main, ["compare", *map(str, files), "--report", str(tmp_path / "x.doc")])
    assert wrong.exit_code == 1 and "must end in" in wrong.stderr and not (tmp_path / "x.doc").exists()
    gone = CliRunner().invoke(main, ["compare", str(files[0]), str(tmp_path / "no.wav")])
    assert gone.exit_code == 1 and "is not there" in gone.stderr


def test_two_silent_files_and_one_sample_are_compared(tmp_path):
    still = write_wav(tmp_path / "still.wav", np.zeros((2, 5000)))
    one = write_wav(tmp_path / "one.wav", np.ones((2, 1)) * 0.5)
    for pair in ((still, still), (still, one), (one, one)):
        result = CliRunner().invoke(
            main, ["compare", *map(str, pair), "--json", "--report", str(tmp_path / "r.html"), "--force"]
        )
        assert result.exit_code == 0, result.output
        json.loads(result.stdout)


STRIP = Strip(
    split=Split(),
    stages=(
        Eq(id=2, lower=EqSide(bands=(Band(frequency_hz=3000, gain_db=5),))),
        Compressor(id=3, lower=None),
    ),
)


class Page(HTMLParser):
    """What a page is made of."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.tags: list[str] = []
        self.outside: list[str] = []
        self.words: list[str] = []
        self.feed(text)

    def handle_starttag(self, tag, attributes):
        self.tags.append(tag)
        self.outside += [value for name, value in attributes if name in ("src", "href") and value]

    def handle_data(self, data):
        self.words.append(data)


@pytest.fixture
def report(tmp_path):
    session = session_on(write_wav(tmp_path / "quay <1>.wav", noise(4.0)), STRIP)
    session = edits.keep_version(session, "before <lunch>")
    session = edits.put(
        session, ("sound", "stems", 0, "strip", "stages", 0, "lower", "bands", 0, "gain_db"), 3.0
    )
    test = BlindTest(
        kind="abx",
        first="Version 1",
        second="Unprocessed",
        planned=4,
        order=(0, 1, 1, 0),
        answers=(0, 1, 1, 1),
    )
    session = msgspec.structs.replace(session, desk=Desk(blind_tests=(test,)))
    stem = session.sound.stems[0]
    columns = [
        ("Unprocessed", done(measured(Subject(stem.source)))),
        ("Processed", done(measured(Subject(stem.source, stem.strip)))),
        ("Version 1", done(measured(Subject(stem.source, session.versions[0].sound.stems[0].strip)))),
    ]
    return session, columns, of_session(session, session.sound.stems[0].id, columns, ["all of it"])


def test_the_page_needs_nothing_else_and_says_everything(report, tmp_path):
    _, columns, made = report
    write(made, tmp_path / "r.html")
    text = (tmp_path / "r.html").read_text()
    page = Page(text)
    assert not page.outside and "script" not in page.tags and "http" not in text
    assert page.tags.count("svg") == 6 and "quay <1>: is it better?" in page.words
    words = " ".join(page.words)
    assert "Side EQ, band 1, gain: +5.0 dB → +3.0 dB" in words and "before <lunch>" in words
    assert "told apart in 3 of 4 trials" in words and "0.312" in words
    assert "threshold −24.0 dB" in words
    for row in ROWS:
        assert row.label in page.words
        assert row.text(row.value(columns[1][1])) in page.words


def test_the_curve_on_the_page_is_that_of_the_measures(report, tmp_path):
    _, columns, made = report
    write(made, tmp_path / "r.html")
    line = re.search(
        r'<polyline class="curve" stroke="var\(--mid\)" points="([^"]+)"', (tmp_path / "r.html").read_text()
    )
    points = np.array([[float(v) for v in pair.split(",")] for pair in line.group(1).split()])
    levels = [level for level in columns[1][1].spectra_db[2] if level > -149]
    assert len(points) == len(levels)
    # From -100 dB at the bottom (240) to 0 dB at the top (4).
    assert points[:, 1] == pytest.approx(240 - (np.clip(levels, -100, 0) + 100) / 100 * 236, abs=0.1)


def test_the_table_as_csv_and_json(report, tmp_path):
    _, columns, made = report
    write(made, tmp_path / "t.csv")
    rows = list(csv.reader(io.StringIO((tmp_path / "t.csv").read_text())))
    assert rows[0] == ["group", "measure", "unit", "Unprocessed", "Processed", "Version 1"]
    assert len(rows) == len(ROWS) + 1 and as_csv(columns).startswith("group,")
    assert float(rows[1][3]) == pytest.approx(columns[0][1].integrated_lufs, abs=1e-4)
    write(made, tmp_path / "t.json")
    table = json.loads((tmp_path / "t.json").read_text())
    assert table["Version 1"]["true_peak_dbtp"] == columns[2][1].true_peak_dbtp
    with pytest.raises(AudioError, match="cannot be written"):
        write(made, tmp_path / "nowhere" / "t.json")


def test_verdicts_of_blind_tests():
    test = BlindTest(
        kind="preference",
        first="Version 1",
        second="Version 2",
        planned=5,
        order=(0, 1, 0),
        answers=(0, 0, 0),
    )
    assert verdict(test) == (
        "Version 1 preferred to Version 2 in 3 of 3 trials (stopped early: 5 were planned); without a preference, so uneven "
        "a result comes with a probability of 0.25."
    )


def compared(a, b):
    return done(compare(a, b))


@pytest.mark.slow
def test_an_excerpt_fits_its_whole_and_an_offset_of_25_seconds_is_found(tmp_path):
    whole = noise(40.0, seed=6)
    long = write_wav(tmp_path / "whole.wav", whole, subtype="FLOAT")
    part = write_wav(tmp_path / "part.wav", -0.5 * whole[:, 25 * RATE : 32 * RATE], subtype="FLOAT")
    for first, second, samples in ((long, part, -25 * RATE), (part, long, 25 * RATE)):
        found = compared(first, second)
        assert (found.match.samples, found.match.polarity) == (samples, -1)
        assert found.residual_db["all"] < -120
    unrelated = write_wav(tmp_path / "other.wav", noise(12.0, seed=77), subtype="FLOAT")
    found = compared(long, unrelated)
    assert not found.match.found and np.isnan(found.residual_db["all"])


@pytest.mark.slow
def test_the_same_at_two_rates_leaves_nothing_up_to_20_khz(tmp_path):
    t = np.arange(6 * 48_000) / 48_000
    sound = sum(
        np.sin(2 * np.pi * f * t + f) * np.exp(-((t * 1.7 + f) % 1)) for f in (110, 441, 1310, 5003, 12_007)
    )
    fade = np.minimum(1.0, np.minimum(t, t[::-1]) * 20)
    high = 0.1 * np.stack([sound, np.roll(sound, 30)]) * fade
    low = soxr.resample(high.T, 48_000, 44_100, quality="VHQ").T
    a = write_wav(tmp_path / "a.wav", low, rate=44_100, subtype="DOUBLE")
    b = write_wav(tmp_path / "b.wav", high, subtype="DOUBLE")
    for first, second in ((a, b), (b, a)):
        level = compared(first, second).residual_db["all"]
        print(f"{first.name} against {second.name}: {level:.1f} dB left")
        assert level <= -90
