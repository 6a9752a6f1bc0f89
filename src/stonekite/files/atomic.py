"""Files that appear complete or not at all."""

import os
import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


@contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """Give a temporary path beside `path`; move it into place on success, remove it on any failure.

    Keeps the suffix, since some writers choose their format by it. Raises OSError as the writer does.
    """
    temporary = path.with_name(f".{path.stem}.{secrets.token_hex(4)}{path.suffix}")
    try:
        yield temporary
        with open(temporary, "rb") as written:
            os.fsync(written.fileno())
        os.replace(temporary, path)
    finally:
        temporary.unlink(missing_ok=True)
