"""Stereo files to component files and back: mid/side with a matrix, or left and right as they are."""

import json
import math
import secrets
from collections.abc import Callable, Generator, Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import Any, NamedTuple

import msgspec
import numpy as np

from stonekite.files.atomic import Together, sweep
from stonekite.files.audio import BLOCK, AudioError, Bits, Facts, Reader, Writer
from stonekite.signal.decibels import gain_of
from stonekite.signal.matrix import Matrix, decode, decoding, encode
from stonekite.words import said

Progress = Callable[[float], None]
_MARK = "stonekite components "


class Note(NamedTuple):
    """What the encoder writes into component files: matrix, sample type and depth of the source, and the trims in dB that
    Mid and Side were turned down by. `together` is the same in files that were written together."""

    matrix: Matrix
    source: str
    depth: int | None
    together: str = ""
    trims_db: tuple[float, float] = (0.0, 0.0)

    @property
    def gains(self) -> np.ndarray:
        """Of the trims, (2, 1)."""
        return np.array([[gain_of(trim)] for trim in self.trims_db])


MOST_TRIM_DB = 60.0
"""Components are turned down by this at the most."""


def exact_bits(source: Facts, matrix: Matrix, trims_db: tuple[float, float] = (0.0, 0.0)) -> Bits:
    """The sample type that keeps mid and side of a source without loss.

    Sums and differences of 24-bit integers fit the 24-bit significand of a 32-bit float, halved or not;
    products with 1/sqrt(2) or with a trim, and sums of floats, need 64-bit floats.
    """
    small = source.depth is not None and source.depth <= 24
    plain = matrix != "equal-power" and not any(trims_db)
    if small and (plain or source.depth == 16 or source.depth == 8):
        return "32f"
    return "64f"


def _integers_hold(source: Facts, matrix: Matrix, bits: int, trims_db: tuple[float, float]) -> bool:
    """Whether rounding components to integers leaves less than half a step of the source, when they are decoded."""
    if source.depth is None:
        return False
    if matrix != "equal-power" and not any(trims_db):
        return bits > source.depth  # halves of its steps are steps
    mid, side = (abs(gain) for gain in decoding(matrix)[2:])
    if matrix == "raised-side":
        mid, side = 1.0, 0.5
    step = 2.0 ** (1 - bits)
    off = 0.5 * step * (mid / gain_of(trims_db[0]) + side / gain_of(trims_db[1]))
    return off < 0.5 * 2.0 ** (1 - source.depth)


def usual_bits(source: Facts, matrix: Matrix) -> Bits:
    """The smallest common sample type that keeps mid and side without loss: integers where they do."""
    return "24" if _integers_hold(source, matrix, 24, (0.0, 0.0)) else exact_bits(source, matrix)


def loss(source: Facts, matrix: Matrix, bits: Bits, trims_db: tuple[float, float] = (0.0, 0.0)) -> str | None:
    """What writing components of a source with these samples loses, as a sentence; None if they come back bit for bit."""
    if bits in ("16", "24"):
        over = {
            "half-sum": "",
            "equal-power": said(" Correlated sound above −3 dBFS is cut off in Mid."),
            "raised-side": said(" Side above full scale (out of phase, over −6 dBFS) is cut off."),
        }[matrix]
        if _integers_hold(source, matrix, int(bits), trims_db):
            return over.strip() or None
        step = said("half a step") if matrix != "equal-power" else said("up to 0.7 of a step")
        return said(
            "As {bits}-bit integers, Mid and Side are rounded by {step}: decoding is not bit-exact.{over}"
        ).format(bits=bits, step=step, over=over)
    if bits == "32f" and exact_bits(source, matrix, trims_db) == "64f":
        return said(
            "As 32-bit floats, Mid and Side are rounded: decoding is not bit-exact. 64-bit floats hold more."
        )
    if source.subtype == "DOUBLE":
        return said(
            "Sums of 64-bit floats do not fit 64-bit floats: decoding comes back to about −300 dB, not bit "
            "for bit."
        )
    return None


class Encoded(NamedTuple):
    """Files that were written, samples that did not fit and were cut off, samples that will not come back as they were,
    and samples of the source that were damaged and read as silence. `residual_peak` is the largest difference of those
    that do not come back."""

    paths: list[Path]
    overs: int
    changed: int
    repaired: int
    residual_peak: float = 0.0


def component_names(stem: str, *, interleaved: bool = False) -> list[str]:
    """The names of the files that a recording of that name is encoded to."""
    return [f"{stem}.{name}.wav" for name in (["midside"] if interleaved else ["mid", "side"])]


def _there_and_back(block: np.ndarray, note: Note, bits: Bits) -> tuple[np.ndarray, np.ndarray]:
    """Components (2, frames) of a block of the source, and the block as it will come back."""
    components = encode(block, note.matrix)
    if any(note.trims_db):
        components = components * note.gains
    return components, decoded(_as_written(components, bits), note)


def rehearsed(
    source: Path,
    *,
    matrix: Matrix,
    bits: Bits,
    trims_db: tuple[float, float] = (0.0, 0.0),
    channels: tuple[int, int] | None = None,
) -> Generator[float, None, Encoded]:
    """What encoding would do, with nothing written; yields progress 0 to 1. Raises AudioError."""
    with Reader(source, channels) as reader:
        facts = reader.facts
        note = Note(matrix, facts.subtype, facts.depth, trims_db=trims_db)
        scale = 2.0 ** (int(bits) - 1) if bits in ("16", "24") else math.inf
        overs = changed = done = 0
        peak = 0.0
        for block in reader.blocks(BLOCK):
            components, back = _there_and_back(block, note, bits)
            if scale < math.inf:
                rounded = np.rint(components * scale)
                overs += int(np.count_nonzero((rounded > scale - 1.0) | (rounded < -scale)))
            off = back != block
            if off.any():
                changed += int(np.count_nonzero(off))
                peak = max(peak, float(np.abs(back - block).max()))
            done += block.shape[1]
            yield done / facts.frames
        return Encoded([], overs, changed, reader.repaired, peak)


def encoded(
    source: Path,
    folder: Path,
    *,
    matrix: Matrix = "half-sum",
    interleaved: bool = False,
    bits: Bits | None = None,
    trims_db: tuple[float, float] = (0.0, 0.0),
    channels: tuple[int, int] | None = None,
    force: bool = False,
) -> Generator[float, None, Encoded]:
    """Encode a stereo file to NAME.mid.wav and NAME.side.wav, or to NAME.midside.wav; yields progress 0 to 1. Close it to
    cancel: nothing is left behind. Raises AudioError.

    Components that are turned down say so in the files, and decoding turns them up again.
    """
    with Reader(source, channels) as reader, Together() as together, ExitStack() as files:
        facts = reader.facts
        kind = bits or exact_bits(facts, matrix, trims_db)
        # Files that were not written together make no stereo: each pair has a name of its own.
        note = Note(matrix, facts.subtype, facts.depth, secrets.token_hex(4), trims_db)
        writers = [
            files.enter_context(
                Writer(
                    folder / name,
                    facts.rate,
                    channels=2 if interleaved else 1,
                    bits=kind,
                    force=force,
                    frames=facts.frames,
                    comment=_MARK + json.dumps(note._asdict()),
                    together=together,
                )
            )
            for name in component_names(source.stem, interleaved=interleaved)
        ]
        changed, peak, done = 0, 0.0, 0
        for block in reader.blocks(BLOCK):
            components, back = _there_and_back(block, note, kind)
            for row, writer in enumerate(writers):
                writer.write(components if interleaved else components[row : row + 1])
            off = back != block
            if off.any():
                changed += int(np.count_nonzero(off))
                peak = max(peak, float(np.abs(back - block).max()))
            done += block.shape[1]
            yield done / facts.frames
        finished = Encoded(
            [w.path for w in writers], sum(w.overs for w in writers), changed, reader.repaired, peak
        )
    return finished


def write_components(
    source: Path, folder: Path, *, progress: Progress = lambda done: None, **how: Any
) -> Encoded:
    """`encoded`, to its end. Raises AudioError."""
    steps = encoded(source, folder, **how)
    while True:
        try:
            progress(next(steps))
        except StopIteration as end:
            return end.value


def proved(
    source: Path, paths: list[Path], channels: tuple[int, int] | None = None
) -> Generator[float, None, tuple[int, float]]:
    """Read component files back, decode them and hold them against the recording; yields progress 0 to 1, and gives how
    many samples differ and by how much at the most. Raises AudioError.
    """
    with ExitStack() as files:
        own = files.enter_context(Reader(source, channels))
        readers = [files.enter_context(Reader(path)) for path in paths]
        note = noted(readers[0].facts)
        if note is None:
            raise AudioError(said("“{name}” does not say how it was encoded.").format(name=paths[0].name))
        changed, peak, done = 0, 0.0, 0
        for block, *parts in zip(own.blocks(), *(reader.blocks() for reader in readers), strict=True):
            components = parts[0] if len(parts) == 1 else np.stack([parts[0][0], parts[1][0]])
            off = decoded(components, note) - block
            changed += int(np.count_nonzero(off))
            peak = max(peak, float(np.abs(off).max(initial=0.0)))
            done += block.shape[1]
            yield done / own.facts.frames
        return changed, peak


def decoded(components: np.ndarray, note: Note) -> np.ndarray:
    """Stereo (2, frames) of components that were only written and read: to the nearest of the source's steps."""
    trimmed = components / note.gains if any(note.trims_db) else components
    return as_kept(decode(trimmed, note.matrix), note.depth, note.source)


def _as_written(block: np.ndarray, bits: Bits) -> np.ndarray:
    """Samples as a file of that type has them."""
    if bits == "64f":
        return block
    if bits == "32f":
        return block.astype(np.float32).astype(float)
    scale = 2.0 ** (int(bits) - 1)
    return np.clip(np.rint(block * scale), -scale, scale - 1.0) / scale


def as_kept(block: np.ndarray, depth: int | None, subtype: str) -> np.ndarray:
    """Samples as a source of that depth and type had them: to the nearest of its steps."""
    if depth is None:
        return block if subtype == "DOUBLE" else block.astype(np.float32).astype(float)
    scale = 2.0 ** (depth - 1)
    return np.clip(np.rint(block * scale), -scale, scale - 1.0) / scale


def noted(facts: Facts) -> Note | None:
    """What the encoder wrote into a component file; None if nothing, or nothing that can be."""
    if not facts.comment.startswith(_MARK):
        return None
    try:
        note = msgspec.json.decode(facts.comment[len(_MARK) :], type=_Noted)
    except (msgspec.DecodeError, ValueError, RecursionError):
        return None
    if note.depth not in (None, 8, 16, 24, 32) or any(not -MOST_TRIM_DB <= t <= 0.0 for t in note.trims_db):
        return None
    return Note(note.matrix, note.source, note.depth, note.together, note.trims_db)


class _Noted(msgspec.Struct):
    """A note as it stands in a file; older files have no trims."""

    matrix: Matrix
    source: str
    depth: int | None = None
    together: str = ""
    trims_db: tuple[float, float] = (0.0, 0.0)


def bits_of(depth: int | None, subtype: str) -> Bits:
    if depth is None:
        return "64f" if subtype == "DOUBLE" else "32f"
    if depth > 24:
        return "64f"  # integers of 32 bits fit no smaller float
    return "16" if depth <= 16 else "24"


def join_components(
    paths: list[Path],
    out: Path,
    *,
    matrix: Matrix | None = None,
    bits: Bits | None = None,
    force: bool = False,
    progress: Progress = lambda done: None,
) -> tuple[Path, int]:
    """Decode mid and side files, or one interleaved file, to stereo; returns the path and the overs.

    Matrix and sample type are those the encoder noted in the files, unless given. Raises AudioError, also for two files
    that were not encoded together, unless a matrix is given.
    """
    if any(path.exists() and out.exists() and path.samefile(out) for path in paths):
        raise AudioError(
            said("“{name}” is one of the files to join: choose another name.").format(name=out.name)
        )
    for folder in {path.absolute().parent for path in paths}:
        sweep(folder)  # a pair of which only one was moved into place is made whole
    with ExitStack() as files:
        readers = [files.enter_context(Reader(path)) for path in paths]
        _same_shape(readers)
        note = noted(readers[0].facts)
        if matrix is None and any(noted(other.facts) != note for other in readers[1:]):
            raise AudioError(
                said(
                    "“{name}” and “{name_2}” were not encoded together: encode the recording again, or say which "
                    "matrix to use."
                ).format(name=paths[0].name, name_2=paths[1].name)
            )
        used: Matrix = matrix or (note.matrix if note else "half-sum")
        if bits is None:
            facts = readers[0].facts
            bits = bits_of(note.depth, note.source) if note else bits_of(facts.depth, facts.subtype)
        if out.suffix.lower() == ".flac" and bits in ("32f", "64f"):
            bits = "24"
        writer = files.enter_context(
            Writer(out, readers[0].facts.rate, bits=bits, force=force, frames=readers[0].facts.frames)
        )
        for blocks in zip(*(_told(r, progress) for r in readers), strict=True):
            components = blocks[0] if len(blocks) == 1 else np.stack([blocks[0][0], blocks[1][0]])
            if note and any(note.trims_db):
                components = components / note.gains
            stereo = decode(components, used)
            if note and matrix in (None, note.matrix):
                stereo = as_kept(stereo, note.depth, note.source)
            writer.write(stereo)
        return writer.path, writer.overs


def separate(
    source: Path,
    folder: Path,
    *,
    channels: tuple[int, int] | None = None,
    force: bool = False,
    progress: Progress = lambda done: None,
) -> list[Path]:
    """Write left and right to two mono files with the source's samples, bit for bit. Raises AudioError.

    They are called NAME.only-left.wav and NAME.only-right.wav, which other programs do not take for the
    halves of one file.
    """
    with Reader(source, channels) as reader, Together() as together, ExitStack() as files:
        facts = reader.facts
        writers = [
            files.enter_context(
                Writer(
                    folder / f"{source.stem}.only-{name}.wav",
                    facts.rate,
                    channels=1,
                    bits=bits_of(facts.depth, facts.subtype),
                    force=force,
                    frames=facts.frames,
                    together=together,
                )
            )
            for name in ("left", "right")
        ]
        for block in _told(reader, progress):
            for row, writer in enumerate(writers):
                writer.write(block[row : row + 1])
        return [w.path for w in writers]


def combine(
    left: Path, right: Path, out: Path, *, force: bool = False, progress: Progress = lambda done: None
) -> Path:
    """Write two mono files as one stereo file with their samples, bit for bit. Raises AudioError."""
    if any(path.exists() and out.exists() and path.samefile(out) for path in (left, right)):
        raise AudioError(
            said("“{name}” is one of the files to join: choose another name.").format(name=out.name)
        )
    with Reader(left) as one, Reader(right) as two, ExitStack() as files:
        _same_shape([one, two])
        kinds = (bits_of(reader.facts.depth, reader.facts.subtype) for reader in (one, two))
        bits: Bits = max(kinds, key=["16", "24", "32f", "64f"].index)
        writer = files.enter_context(
            Writer(out, one.facts.rate, bits=bits, force=force, frames=one.facts.frames)
        )
        for a, b in zip(_told(one, progress), _told(two, progress), strict=True):
            writer.write(np.stack([a[0], b[0]]))
        return writer.path


def _same_shape(readers: list[Reader]) -> None:
    first = readers[0].facts
    for other in readers[1:]:
        if other.facts.rate != first.rate:
            raise AudioError(
                said("“{name}” has {rate} Hz and “{name_2}” {rate_2} Hz.").format(
                    name=first.path.name,
                    rate=first.rate,
                    name_2=other.facts.path.name,
                    rate_2=other.facts.rate,
                )
            )
        if other.facts.frames != first.frames:
            raise AudioError(
                said("“{name}” and “{name_2}” differ in length ({frames} and {frames_2} frames).").format(
                    name=first.path.name,
                    name_2=other.facts.path.name,
                    frames=first.frames,
                    frames_2=other.facts.frames,
                )
            )


def _told(reader: Reader, progress: Progress) -> Iterator[np.ndarray]:
    done = 0
    for block in reader.blocks(BLOCK):
        done += block.shape[1]
        yield block
        progress(done / reader.facts.frames)


def roundtrip(source: Path, matrix: Matrix, folder: Path) -> tuple[bool, float]:
    """Encode and decode a file through real files in `folder`.

    Returns whether every sample came back as it was, and the peak of what did not (an amplitude).
    """
    parts = write_components(source, folder, matrix=matrix, force=True).paths
    back, _ = join_components(parts, folder / "decoded again.wav", force=True)
    exact, worst = True, 0.0
    with Reader(source) as one, Reader(back) as two:
        for a, b in zip(one.blocks(), two.blocks(), strict=True):
            exact = exact and bool(np.array_equal(a, b))
            worst = max(worst, float(np.abs(a - b).max(initial=0.0)))
    return exact, worst
