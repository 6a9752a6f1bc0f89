"""What a batch made, as a table: on paper for the browser (.html), for a spreadsheet (.csv) or for programs (.json)."""

import csv
import html
import io
import json
from collections.abc import Sequence
from pathlib import Path

from stonekite.engine.offline.batch import Row
from stonekite.files.atomic import replacing
from stonekite.files.audio import AudioError
from stonekite.words import clock, figure, said

COLUMNS = (
    said("Recording"),
    said("Length"),
    said("Loudness before"),
    said("after"),
    said("True peak before"),
    said("after"),
    said("What is to be known"),
)


def cells(row: Row) -> list[str]:
    """A row as it is shown."""
    before, after = row.before, row.after
    words = [row.fault] if row.fault else row.sentences
    return [
        Path(row.path).name,
        clock(row.seconds, 1) if row.seconds else "–",
        figure(None if before is None else before.lufs, "LUFS"),
        figure(None if after is None else after.lufs, "LUFS"),
        figure(None if before is None else before.true_peak_db, "dBTP"),
        figure(None if after is None else after.true_peak_db, "dBTP"),
        " ".join(words),
    ]


def plain(row: Row) -> dict:
    """A row for programs."""

    def levels(found) -> dict | None:
        return (
            None if found is None else {"integrated_lufs": found.lufs, "true_peak_dbtp": found.true_peak_db}
        )

    return {
        "file": row.path,
        "written": row.written,
        "before": levels(row.before),
        "after": levels(row.after),
        "seconds": row.seconds,
        "sentences": row.sentences,
        "fault": row.fault or None,
        "kept": row.kept,
    }


def text(rows: Sequence[Row], suffix: str, title: str) -> str:
    """The table of a suffix: .html, .csv or .json. Raises AudioError for another one."""
    if suffix == ".json":
        return json.dumps([plain(row) for row in rows], indent=2, ensure_ascii=False) + "\n"
    if suffix == ".csv":
        out = io.StringIO()
        writer = csv.writer(out)
        writer.writerow(
            ["file", "seconds", "lufs_before", "lufs_after", "dbtp_before", "dbtp_after", "fault", "known"]
        )
        for row in rows:
            levels = [
                None if one is None else value
                for key in ("lufs", "true_peak_db")
                for one in (row.before, row.after)
                for value in (getattr(one, key, None),)
            ]
            shown = ["" if level is None else f"{level:.2f}" for level in levels]
            writer.writerow(
                [
                    _safe(row.path),
                    f"{row.seconds:.3f}",
                    *shown,
                    _safe(row.fault),
                    _safe(" ".join(row.sentences)),
                ]
            )
        return out.getvalue()
    if suffix == ".html":
        return _page(rows, title)
    raise AudioError(said("A report ends in .html, .csv or .json."))


def _safe(words: str) -> str:
    """Words that no spreadsheet takes for a formula."""
    return f"'{words}" if words[:1] in ("=", "+", "-", "@", "\t", "\r") else words


def _page(rows: Sequence[Row], title: str) -> str:
    head = "".join(f"<th>{html.escape(name)}</th>" for name in COLUMNS)
    lines = []
    for row in rows:
        shown = "".join(f"<td>{html.escape(cell)}</td>" for cell in cells(row))
        lines.append(f'<tr class="{"fault" if row.fault else ""}">{shown}</tr>')
    body = "\n".join(lines)
    return f"""<!doctype html>
<html><head><meta charset="utf-8"><title>{html.escape(title)}</title><style>
body {{ background: #1E2427; color: #ECE7DB; font: 14px "B612", sans-serif; margin: 2em; }}
table {{ border-collapse: collapse; }}
th, td {{ border-bottom: 1px solid #414C52; padding: 4px 12px; text-align: right; }}
th {{ color: #97A1A5; font-weight: normal; }}
th:first-child, td:first-child, th:last-child, td:last-child {{ text-align: left; }}
tr.fault td {{ color: #F0B24A; }}
</style></head><body><h1>{html.escape(title)}</h1><table><tr>{head}</tr>
{body}
</table></body></html>
"""


def write(rows: Sequence[Row], path: Path, title: str) -> None:
    """Write the table to a file, completely or not at all. Raises AudioError, OSError."""
    content = text(rows, path.suffix.lower(), title)
    with replacing(path) as temporary:
        temporary.write_text(content, errors="replace")
