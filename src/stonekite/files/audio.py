"""Reading and writing audio files through libsndfile. Arrays are float64, shape (2, frames)."""

import hashlib
import os
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal, Self

import numpy as np
import soundfile

from stonekite.files.atomic import Together, replacing
from stonekite.lazy import lazy
from stonekite.signal.sanity import damaged
from stonekite.words import said

quantise = lazy("stonekite.signal.quantise")

Bits = Literal["16", "24", "32f", "64f"]

FORMATS = {".wav": "WAV", ".flac": "FLAC", ".aiff": "AIFF", ".aif": "AIFF", ".ogg": "OGG"}
LEAST_RATE, MOST_RATE = 1_000, 1_000_000
"""Sample rates in Hz that can be worked with."""
MOST_FRAMES = 1 << 37
"""Eight days at 192 kHz."""
MOST_CHANNELS = 1024
READABLE = (".wav", ".flac", ".aiff", ".aif", ".ogg", ".mp3")
BLOCK = 16384

_DEPTHS = {"PCM_S8": 8, "PCM_U8": 8, "PCM_16": 16, "PCM_24": 24, "PCM_32": 32}
_WAV_LIMIT = 4_000_000_000


class AudioError(Exception):
    """An audio file cannot be read or written. The text is one sentence for the user."""


class ChannelsNeeded(AudioError):
    """The file has more than two channels and it was not said which two to use."""

    def __init__(self, path: Path, count: int) -> None:
        super().__init__(
            said("“{path}” has {count} channels: say which two to use.").format(
                path=shown_name(path), count=count
            )
        )
        self.path = path
        self.count = count


@dataclass(frozen=True)
class Facts:
    """What a file's header says. `depth` is the bits of an integer file, None for floats and lossy ones."""

    path: Path
    rate: int
    frames: int
    channels: int
    subtype: str
    depth: int | None
    comment: str = ""


def facts(path: Path) -> Facts:
    """Read a file's header. Raises AudioError with the reason."""
    with _opened(path) as file:
        return Facts(
            path,
            file.samplerate,
            file.frames,
            file.channels,
            file.subtype,
            _DEPTHS.get(file.subtype),
            file.comment or "",
        )


def opened_sound(path: Path, mode: str = "r", **more: Any) -> soundfile.SoundFile:
    """A sound file, opened by its name's bytes: names on old disks are not always UTF-8. Raises what soundfile does."""
    if mode == "r" and path.suffix.lower() == ".raw":
        raise TypeError("no header")
    name = str(path)
    try:
        name.encode()
    except UnicodeEncodeError:
        descriptor = os.open(path, os.O_RDONLY if mode == "r" else os.O_RDWR | os.O_CREAT | os.O_TRUNC, 0o666)
        return soundfile.SoundFile(descriptor, mode, closefd=True, **more)
    return soundfile.SoundFile(name, mode, **more)


def shown_name(path: Path) -> str:
    """A file's name as it can be shown: what is not UTF-8 is replaced, and long names are cut in the middle."""
    name = path.name.encode(errors="surrogateescape").decode(errors="replace")
    return name if len(name) <= 120 else f"{name[:80]}…{name[-35:]}"


@contextmanager
def _opened(path: Path) -> Iterator[soundfile.SoundFile]:
    name = f"“{shown_name(path)}”"
    if not os.path.exists(path):  # whatever the name is: a path of pathlib raises for those that cannot be
        raise AudioError(said("{name} is not there.").format(name=name))
    if path.is_dir():
        raise AudioError(said("{name} is a folder, not an audio file.").format(name=name))
    try:
        if path.stat().st_size == 0:
            raise AudioError(said("{name} is empty.").format(name=name))
        with path.open("rb"):
            pass
    except OSError as error:
        raise AudioError(
            said("{name} cannot be opened: {reason}.").format(
                name=name, reason=(error.strerror or "").lower()
            )
        ) from None
    try:
        file = opened_sound(path)
    except (soundfile.LibsndfileError, RuntimeError, TypeError) as error:
        # Without a header (.raw) soundfile asks for what the header would say, by a TypeError.
        text = getattr(
            error, "error_string", "it has no header" if isinstance(error, TypeError) else str(error)
        )
        raise AudioError(
            said("{name} is not an audio file that can be read ({reason}).").format(
                name=name, reason=text.rstrip(".")
            )
        ) from None
    with file:
        if file.frames < 1:
            raise AudioError(said("{name} contains no sound.").format(name=name))
        if not LEAST_RATE <= file.samplerate <= MOST_RATE:
            word = "low" if file.samplerate < LEAST_RATE else "high"
            raise AudioError(
                said("{name} has a sample rate of {samplerate} Hz, too {word} to work with.").format(
                    name=name, samplerate=file.samplerate, word=word
                )
            )
        if file.frames > MOST_FRAMES:
            raise AudioError(
                said("{name} says that it has {frames} frames, more than any recording.").format(
                    name=name, frames=file.frames
                )
            )
        if file.channels > MOST_CHANNELS:
            raise AudioError(
                said("{name} has {channels} channels; {most_channels} are the most.").format(
                    name=name, channels=file.channels, most_channels=MOST_CHANNELS
                )
            )
        yield file


def fingerprint(path: Path) -> str:
    """Tells a file again after it was moved: its size and a hash of its first and last 64 KiB."""
    size = path.stat().st_size
    digest = hashlib.blake2b(str(size).encode(), digest_size=16)
    with path.open("rb") as file:
        digest.update(file.read(65536))
        if size > 65536:
            file.seek(max(65536, size - 65536))
            digest.update(file.read(65536))
    return digest.hexdigest()


def pick_channels(facts: Facts, wanted: tuple[int, int] | None) -> tuple[int, int]:
    """The two channels to use: those wanted, both of a stereo file, or twice the one of a mono file.

    Raises ChannelsNeeded if there are more than two and none were wanted, AudioError if one is not there.
    """
    if wanted is None:
        if facts.channels > 2:
            raise ChannelsNeeded(facts.path, facts.channels)
        return (0, facts.channels - 1)
    if max(wanted) >= facts.channels or min(wanted) < 0:
        raise AudioError(
            said("“{path}” has {channels} channels; channel {count} is not there.").format(
                path=shown_name(facts.path), channels=facts.channels, count=max(wanted) + 1
            )
        )
    return wanted


class Blocks:
    """Two channels that can be read in pieces. Close it, or use it in a with statement.

    `repaired` counts samples that were read as silence because they were damaged.
    """

    facts: Facts
    repaired = 0
    tail = 0
    """Frames for which it goes on to sound after its end: they can be read, and are no part of its length."""
    rows = 2
    """More where several recordings are read side by side."""
    keys: tuple[int, ...] = ()
    """The strips of which there is something to hear for detectors beside it."""
    beside = np.empty((0, 0))
    """That, of what was read last: (2 keys, frames)."""

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Let go of what is open."""

    def read(self, start: int, frames: int) -> np.ndarray:
        """Frames from `start` on, shape (2, n), n < frames at the end."""
        raise NotImplementedError

    def blocks(
        self, frames: int = BLOCK, start: int = 0, stop: int | None = None, beyond: bool = False
    ) -> Iterator[np.ndarray]:
        """All of it, or from one frame to another, in pieces; with what sounds `beyond` its end. A file cut short gives
        what is there."""
        last = self.facts.frames + (self.tail if beyond else 0)
        end = last if stop is None else min(stop, last)
        while start < end:
            block = self.read(start, min(frames, end - start))
            if not block.shape[1]:
                return
            start += block.shape[1]
            yield block


class Reader(Blocks):
    """Two channels of a file.

    `ahead` is how many frames are fetched at once for small reads (for playing: asking libsndfile often is
    slow). `repaired` counts samples that were not numbers, infinite or absurd and were read as silence.
    """

    def __init__(self, path: Path, channels: tuple[int, int] | None = None, *, ahead: int = 0) -> None:
        self._ahead = ahead
        self._kept = (0, np.empty((2, 0)))
        self.facts = facts(path)
        self.channels = pick_channels(self.facts, channels)
        self.repaired = 0
        self._file = opened_sound(path)
        self._place = 0

    def close(self) -> None:
        self._file.close()

    def read(self, start: int, frames: int) -> np.ndarray:
        """Frames from `start` on, shape (2, n), n < frames at the end of the file.

        Raises AudioError if the file turns out to be damaged.
        """
        start = max(0, start)
        frames = max(0, min(frames, self.facts.frames - start))
        if not frames:
            return np.empty((2, 0))
        if frames >= self._ahead:
            return self._fetch(start, frames)
        first, kept = self._kept
        if not first <= start <= start + frames <= first + kept.shape[1]:
            first, kept = self._kept = start, self._fetch(start, min(self._ahead, self.facts.frames - start))
        return kept[:, start - first : start - first + frames].copy()

    def _fetch(self, start: int, frames: int) -> np.ndarray:
        try:
            if start != self._place:
                self._file.seek(start)
            samples = self._file.read(frames, dtype="float64", always_2d=True)
        except (soundfile.LibsndfileError, RuntimeError, ValueError):
            self._place = -1
            raise AudioError(
                said("“{path}” is damaged near {count:.1f} s.").format(
                    path=shown_name(self.facts.path), count=start / self.facts.rate
                )
            ) from None
        self._place = start + len(samples)
        block = np.empty((2, len(samples)))
        block[0] = samples[:, self.channels[0]]
        block[1] = samples[:, self.channels[1]]
        bad = damaged(block)
        if bad is not None:
            self.repaired += int(np.count_nonzero(bad))
            block[bad] = 0.0
        return block


class Writer:
    """An audio file that appears complete, or not at all. Use it in a with statement.

    The suffix chooses the format (WAV, FLAC, AIFF, OGG), `bits` the sample type. Integers are rounded
    here, with TPDF dither where `dither` is true. `overs` counts samples that did not fit, `temporary` is
    where it stands until it appears. A WAV that would
    be larger than 4 GB is written as RF64. Raises AudioError with the reason, and never overwrites unless
    `force` is true.
    """

    def __init__(
        self,
        path: Path,
        rate: int,
        *,
        channels: int = 2,
        bits: Bits = "24",
        dither: bool = False,
        force: bool = False,
        frames: int = 0,
        comment: str = "",
        together: Together | None = None,
    ) -> None:
        suffix = path.suffix.lower()
        if suffix not in FORMATS:
            raise AudioError(
                said("“{path}” must end in one of {formats}.").format(
                    path=shown_name(path), formats=", ".join(FORMATS)
                )
            )
        if path.exists() and not force:
            raise AudioError(said("“{path}” exists already.").format(path=shown_name(path)))
        if not path.absolute().parent.is_dir():
            raise AudioError(said("The folder of “{name}” is not there.").format(name=path.name))
        format = FORMATS[suffix]
        if format == "FLAC" and bits in ("32f", "64f"):
            raise AudioError(said("FLAC holds integers: choose 16 or 24 bits, or a WAV file."))
        width = {"16": 2, "24": 3, "32f": 4, "64f": 8}[bits]
        if format == "WAV" and frames * channels * width > _WAV_LIMIT:
            format = "RF64"
        self.path, self.overs = path, 0
        self.temporary = path
        self._bits = bits
        self._subtype = (
            "VORBIS"
            if format == "OGG"
            else {"16": "PCM_16", "24": "PCM_24", "32f": "FLOAT", "64f": "DOUBLE"}[bits]
        )
        self._dither = (
            np.random.default_rng(quantise.DITHER_SEED) if dither and bits in ("16", "24") else None
        )
        self._arguments = {
            "samplerate": rate,
            "channels": channels,
            "format": format,
            "subtype": self._subtype,
        }
        self._comment = comment
        self._frames = 0
        self._replacing = replacing(path, together)

    def __enter__(self) -> "Writer":
        temporary = self._replacing.__enter__()
        try:
            self.temporary = temporary
            self._file = opened_sound(temporary, "w", **self._arguments)
            if self._comment:
                self._file.comment = self._comment
        except (soundfile.LibsndfileError, RuntimeError, OSError) as error:
            self._replacing.__exit__(AudioError, AudioError(), None)
            raise AudioError(
                said("“{path}” cannot be written: {error}.").format(
                    path=shown_name(self.path), error=_reason(error)
                )
            ) from None
        return self

    def write(self, block: np.ndarray) -> None:
        """Append samples of shape (channels, frames). Raises AudioError, for example on a full disk."""
        if self._subtype in ("PCM_16", "PCM_24"):
            samples, overs = quantise.to_integers(block, int(self._bits), self._dither)
            self.overs += overs
        else:
            kind = np.float32 if self._subtype == "FLOAT" else np.float64
            samples = np.ascontiguousarray(block.T, dtype=kind)
        self._frames += samples.shape[0]
        try:
            self._file.write(samples)
        except (soundfile.LibsndfileError, RuntimeError, OSError) as error:
            raise AudioError(
                said("“{path}” cannot be written: {error}.").format(
                    path=shown_name(self.path), error=_reason(error)
                )
            ) from None

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: object) -> None:
        try:
            try:
                self._file.close()
                if error is None:
                    self._look()
            except (soundfile.LibsndfileError, RuntimeError, OSError) as closing:
                failure = AudioError(
                    said("“{path}” cannot be written: {closing}.").format(
                        path=shown_name(self.path), closing=_reason(closing)
                    )
                )
                if error is None:
                    raise failure from None
        except AudioError as failure:
            self._replacing.__exit__(AudioError, failure, None)
            raise
        try:
            # A cancelled or failed file is removed; only a complete one is moved into place.
            self._replacing.__exit__(kind, error, trace)  # type: ignore[arg-type]
        except OSError as moving:
            raise AudioError(
                said("“{path}” cannot be written: {moving}.").format(
                    path=shown_name(self.path), moving=_reason(moving)
                )
            ) from None

    def _look(self) -> None:
        """Whether all is there: closing a FLAC or OGG file on a full disk does not tell. Raises OSError."""
        try:
            with opened_sound(self.temporary) as written:
                complete = written.frames == self._frames
                if complete and self._frames:
                    last = min(self._frames, 4096)
                    written.seek(self._frames - last)
                    complete = len(written.read(last)) == last
        except (soundfile.LibsndfileError, RuntimeError):
            complete = False
        if not complete:
            raise OSError(said("the disk is full or not writable"))


def _reason(error: Exception) -> str:
    text = getattr(error, "strerror", None) or getattr(error, "error_string", None) or str(error)
    if "System error" in text or "psf_fwrite" in text:
        text = said("the disk is full or not writable")
    return text[:1].lower() + text[1:].rstrip(".")
