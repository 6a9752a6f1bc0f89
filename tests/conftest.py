"""Shared sounds and sessions. Windows are tested offscreen unless a test asks for more."""

import stonekite  # noqa: F401, I001  (first: it decides how many threads linear algebra uses)
import os

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["STONEKITE_TESTING"] = "1"

from pathlib import Path

import msgspec
import numpy as np
import pytest
import soundfile

from stonekite.session import tree
from stonekite.session.types import Session, Sound, Source, Stem, Strip

RATE = 48_000
THOROUGH = bool(os.environ.get("STONEKITE_THOROUGH"))
"""Whether the longest tests go round as often as is wanted of them."""


def noise(seconds: float, seed: int = 1, rate: int = RATE, level: float = 0.1) -> np.ndarray:
    """Stereo noise (2, frames): a common part and a part of its own on each side."""
    rng = np.random.default_rng(seed)
    frames = int(seconds * rate)
    return level * (rng.standard_normal((1, frames)) + 0.6 * rng.standard_normal((2, frames)))


def sine(hertz: float, seconds: float, level_db: float, rate: int = RATE, phase: float = 0.0) -> np.ndarray:
    """The same sine on both sides (2, frames); the level is that of its peak in dBFS."""
    t = np.arange(round(seconds * rate)) / rate
    return np.repeat(10 ** (level_db / 20) * np.sin(2 * np.pi * hertz * t + phase)[None], 2, axis=0)


def write_wav(path: Path, stereo: np.ndarray, rate: int = RATE, subtype: str = "PCM_24") -> Path:
    soundfile.write(path, stereo.T, rate, subtype=subtype)
    return path


def session_on(path: Path, strip: Strip | None = None) -> Session:
    info = soundfile.info(path)
    source = Source(
        path=str(path),
        rate=info.samplerate,
        frames=info.frames,
        channels=(0, info.channels - 1),
        channel_count=info.channels,
    )
    return Session(sound=Sound(stems=(Stem(id=1, name=path.stem, source=source, strip=strip or Strip()),)))


def play_of(transport, session: Session) -> None:
    """Have a session's first stem played."""
    transport.load(session.sound, session.sound.stems[0].id, session.sound.stems[0].id)


def hear_strip(transport, strip: Strip) -> None:
    """Have another strip of the first stem heard."""
    number = transport.sound.stems[0].id
    transport.update(tree.put_strip(transport.sound, number, strip), number, number)


def heard_strip(window) -> Strip:
    """The open strip as the player was told to play it."""
    return tree.strip_in(window.transport.sound, window.document.place)


def excerpt(path: Path, seconds: float, folder: Path) -> Path:
    """The beginning of a recording as a file of its own, of the same name: what measures all of it takes less time."""
    sound, rate = soundfile.read(path)
    return write_wav(folder / f"{path.stem}.wav", sound[: int(seconds * rate)].T, rate)


def excerpt_of(session: Session, seconds: float, folder: Path) -> Session:
    """A session on the beginning of its recording."""
    stem = session.sound.stems[0]
    path = excerpt(Path(stem.source.path), seconds, folder)
    short = session_on(path, stem.strip)
    kept = msgspec.structs.replace(stem, source=short.sound.stems[0].source)
    return msgspec.structs.replace(session, sound=msgspec.structs.replace(session.sound, stems=(kept,)))


IN_THE_WINDOW = {"qtbot", "qapp"}


def pytest_collection_modifyitems(items):
    """What needs no window, no other process and little time is marked `core`."""
    for item in items:
        if not IN_THE_WINDOW & set(item.fixturenames) and not any(
            item.get_closest_marker(name) for name in ("processes", "slow")
        ):
            item.add_marker(pytest.mark.core)


@pytest.fixture(autouse=True)
def own_preferences(tmp_path, monkeypatch):
    """No test reads or writes what the user of this machine prefers, or keeps."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    monkeypatch.setattr("stonekite.files.kept.folder", lambda: tmp_path / "results")


@pytest.fixture
def recording(tmp_path: Path) -> Path:
    """Two seconds of stereo noise as a 24-bit file."""
    return write_wav(tmp_path / "quay.wav", noise(2.0))


@pytest.fixture
def window(qtbot, qapp, tmp_path):
    from PySide6.QtCore import QEvent

    from stonekite.desktop.controls import theme
    from stonekite.desktop.shell.window import Window

    theme.apply(qapp)
    made = Window()
    made.preset_folder = tmp_path / "presets"
    made.show()
    qtbot.waitExposed(made)
    yield made
    made.document.discard()
    made.close()
    made.deleteLater()
    # At once: a style sheet costs as much for windows of tests that are over.
    qapp.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)


@pytest.fixture
def opened(window, tmp_path):
    """A window with four seconds of noise open."""
    window.opening.open_path(write_wav(tmp_path / "quay.wav", noise(4.0)))
    return window
