"""Values between processes: msgpack with a length in front."""

import struct
from typing import IO, Any

import msgspec

from stonekite.words import said


def framed(value: Any) -> bytes:
    """A value as it is written. Raises ValueError, with a sentence, for what cannot be."""
    try:
        body = msgspec.msgpack.encode(value)
    except (OverflowError, UnicodeEncodeError) as error:  # nothing that the other end could read
        raise ValueError(
            said("This cannot be given to the processes that play and measure: {reason}.").format(
                reason=said("a name is not UTF-8") if isinstance(error, UnicodeEncodeError) else error
            )
        ) from None
    return struct.pack("<I", len(body)) + body


def write_frame(file: IO[bytes], value: Any) -> None:
    """Write one value. Raises OSError when the other end is gone, ValueError for what cannot be written."""
    file.write(framed(value))
    file.flush()


MOST_BYTES = 1 << 28
"""No value is longer: a longer one is a broken frame."""


def read_frame(file: IO[bytes], kind: Any) -> Any:
    """The next value of the given type, or None at the end, which a frame that cannot be read is, too: nothing behind it
    could be understood."""
    head = file.read(4)
    if len(head) < 4:
        return None
    size = struct.unpack("<I", head)[0]
    if size > MOST_BYTES:
        return None
    body = file.read(size)
    if len(body) < size:
        return None
    try:
        return msgspec.msgpack.decode(body, type=kind)
    except (msgspec.DecodeError, RecursionError, UnicodeDecodeError):
        return None
