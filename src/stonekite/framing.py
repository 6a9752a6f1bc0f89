"""Values between processes: msgpack with a length in front."""

import struct
from typing import Any, BinaryIO

import msgspec


def write_frame(file: BinaryIO, value: Any) -> None:
    """Write one value. Raises OSError when the other end is gone."""
    body = msgspec.msgpack.encode(value)
    file.write(struct.pack("<I", len(body)) + body)
    file.flush()


def read_frame(file: BinaryIO, kind: Any) -> Any:
    """The next value of the given type, or None at the end."""
    head = file.read(4)
    if len(head) < 4:
        return None
    body = file.read(struct.unpack("<I", head)[0])
    return msgspec.msgpack.decode(body, type=kind)
