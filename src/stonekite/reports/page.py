"""A comparison as one self-contained page: pictures, table, settings in words, versions, results of blind tests."""

import html
from collections.abc import Sequence
from math import log
from typing import NamedTuple

import numpy as np

from stonekite.measure.image_meter import OCTAVES_HZ
from stonekite.measure.measures import Measures
from stonekite.measure.spectrum import centres
from stonekite.reports.table import ROWS, Column, Row
from stonekite.words import NAMES, clock, mark, said

_STYLE = """
:root { --ground: #EFEBE1; --panel: #F9F6EF; --line: #CFC8B9; --ink: #23292D; --muted: #667075;
  --left: #1F7F70; --right: #B5502F; --mid: #8A6A00; --side: #6A55B8; }
@media (prefers-color-scheme: dark) { :root { --ground: #1E2427; --panel: #262D31; --line: #414C52; --ink: #ECE7DB;
  --muted: #97A1A5; --left: #6CC5B6; --right: #E88F74; --mid: #E6C868; --side: #AD9FE8; } }
body { background: var(--ground); color: var(--ink); font: 14px/1.45 B612, "DejaVu Sans", sans-serif; margin: 0; }
main { max-width: 1100px; margin: 0 auto; padding: 28px 20px 60px; }
h1 { font-size: 22px; margin: 0 0 4px; } h2 { font-size: 16px; margin: 34px 0 10px; }
p.sub { color: var(--muted); margin: 0; }
section { background: var(--panel); border-radius: 8px; padding: 14px 18px; margin: 14px 0; }
table { border-collapse: collapse; width: 100%; font-variant-numeric: tabular-nums; }
th, td { text-align: right; padding: 3px 10px; border-bottom: 1px solid var(--line); }
th:first-child, td:first-child { text-align: left; white-space: pre; }
tr.group td { font-weight: bold; border-bottom: 1px solid var(--muted); padding-top: 14px; }
td.unit, th.unit, td.was, th.was { color: var(--muted); }
figure { margin: 0 0 18px; } figcaption { font-weight: bold; margin-bottom: 4px; }
svg { width: 100%; height: auto; display: block; }
svg text { fill: var(--muted); font-size: 11px; }
.grid { stroke: var(--line); stroke-width: 1; } .curve { fill: none; stroke-width: 1.6; }
.was { stroke-dasharray: 5 4; opacity: 0.75; }
dt { font-weight: bold; margin-top: 8px; } dd { margin: 0 0 0 16px; color: var(--ink); }
ul { margin: 4px 0; padding-left: 20px; }
"""
_WIDE, _HIGH, _LEFT, _BOTTOM = 1000, 260, 44, 24


class Report(NamedTuple):
    """What stands on the page. `settings` are the parts of each strip with their lines, `notes` headings with sentences,
    such as what versions differ in, and results of blind tests.
    """

    title: str
    about: list[str]
    columns: list[Column]
    settings: list[tuple[str, list[tuple[str, list[str]]]]]
    notes: list[tuple[str, list[str]]]


class _Plot:
    """An SVG picture with a horizontal and a vertical axis."""

    def __init__(
        self, across: tuple[float, float], up: tuple[float, float], *, log_across: bool = False
    ) -> None:
        self._across, self._up, self._log = across, up, log_across
        self._parts: list[str] = []

    def x(self, value: float) -> float:
        low, high = self._across
        share = log(value / low) / log(high / low) if self._log else (value - low) / (high - low)
        return _LEFT + share * (_WIDE - _LEFT - 8)

    def y(self, value: float) -> float:
        low, high = self._up
        share = (min(high, max(low, value)) - low) / (high - low)
        return (_HIGH - _BOTTOM) * (1 - share) + 4

    def marks(self, across: Sequence[tuple[float, str]], up: Sequence[float]) -> None:
        for value, word in across:
            x = self.x(value)
            self._parts.append(
                f'<line class="grid" x1="{x:.1f}" x2="{x:.1f}" y1="4" y2="{_HIGH - _BOTTOM + 4}"/>'
            )
            self._parts.append(
                f'<text x="{x:.1f}" y="{_HIGH - 4}" text-anchor="middle">{html.escape(word)}</text>'
            )
        for value in up:
            y = self.y(value)
            self._parts.append(
                f'<line class="grid" x1="{_LEFT}" x2="{_WIDE - 8}" y1="{y:.1f}" y2="{y:.1f}"/>'
            )
            word = mark(value)
            self._parts.append(f'<text x="{_LEFT - 6}" y="{y + 4:.1f}" text-anchor="end">{word}</text>')

    def curve(self, xs: Sequence[float], ys: Sequence[float | None], colour: str, was: bool) -> None:
        """A line, broken where there is no value."""
        runs: list[list[str]] = [[]]
        for x, y in zip(xs, ys, strict=False):
            if y is None:
                runs.append([])
            else:
                runs[-1].append(f"{self.x(x):.1f},{self.y(y):.1f}")
        style = "curve was" if was else "curve"
        self._parts += [
            f'<polyline class="{style}" stroke="var(--{colour})" points="{" ".join(run)}"/>'
            for run in runs
            if len(run) > 1
        ]

    def word(self, word: str, colour: str, row: int) -> None:
        """A word of the legend, in the upper right corner."""
        self._parts.append(
            f'<text x="{_WIDE - 16}" y="{20 + 15 * row}" text-anchor="end" '
            f'style="fill: var(--{colour}); font-weight: bold">{html.escape(word)}</text>'
        )

    def bar(self, x: float, width: float, value: float, colour: str, opacity: float) -> None:
        top, bottom = sorted((self.y(value), self.y(0.0)))
        self._parts.append(
            f'<rect x="{x:.1f}" y="{top:.1f}" width="{width:.1f}" height="{max(0.5, bottom - top):.1f}" '
            f'fill="var(--{colour})" opacity="{opacity}"/>'
        )

    def svg(self, words: str) -> str:
        return (
            f'<svg viewBox="0 0 {_WIDE} {_HIGH}" role="img" aria-label="{html.escape(words)}">'
            f"{''.join(self._parts)}</svg>"
        )


_HERTZ = [
    (f, f"{f / 1000:g}k" if f >= 1000 else f"{f:g}") for f in (50, 100, 200, 500, 1000, 2000, 5000, 10_000)
]


def _spectrum_plot(before: Measures, after: Measures) -> str:
    plot = _Plot((20, 20_000), (-100, 0), log_across=True)
    plot.marks(_HERTZ, (-80, -60, -40, -20, 0))
    for row, name in ((2, "mid"), (3, "side")):
        for found, was in ((before, True), (after, False)):
            levels = [level if level > -149 else None for level in found.spectra_db[row]]
            plot.curve(centres().tolist(), levels, name, was)
        plot.word(NAMES[name], name, row - 2)
    return plot.svg(said("Long-term spectrum of Mid and Side before, dashed, and after"))


def _ratio_plot(before: Measures, after: Measures) -> str:
    plot = _Plot((20, 20_000), (-36, 12), log_across=True)
    plot.marks(_HERTZ, (-36, -24, -12, 0, 12))
    for found, was in ((before, True), (after, False)):
        mid, side = np.array(found.spectra_db[2]), np.array(found.spectra_db[3])
        levels = [d if m > -120 else None for d, m in zip((side - mid).tolist(), mid.tolist(), strict=True)]
        plot.curve(centres().tolist(), levels, "muted" if was else "ink", was)
    return plot.svg(said("Side against Mid by frequency before, dashed, and after"))


def _loss_plot(before: Measures, after: Measures) -> str:
    values = [[octave.mono_loss_db for octave in found.octaves] for found in (before, after)]
    most = max([6.0, *(value for part in values for value in part if value is not None and value < 30)])
    plot = _Plot((0, len(OCTAVES_HZ)), (-most, 0))
    words = [(k + 0.5, f"{hz / 1000:g}k" if hz >= 1000 else f"{hz:g}") for k, hz in enumerate(OCTAVES_HZ)]
    plot.marks(words, (0, -3, -6))
    for k in range(len(OCTAVES_HZ)):
        for part, shift, colour, opacity in ((0, -15.0, "muted", 0.8), (1, 1.0, "ink", 1.0)):
            value = values[part][k]
            if value is not None:
                plot.bar(plot.x(k + 0.5) + shift, 14.0, -min(most, value), colour, opacity)
    return plot.svg(said("Loss in mono by octave before and after"))


def _time_plot(before: Measures, after: Measures, name: str, span: tuple[float, float], words: str) -> str:
    end = max(
        found.curves.start_s + found.curves.step_s * len(found.curves.correlation)
        for found in (before, after)
    )
    start = min(found.curves.start_s for found in (before, after))
    plot = _Plot((start, max(end, start + 0.1)), span)
    step = next(s for s in (1, 2, 5, 10, 30, 60, 120, 300, 600, 1800) if (end - start) / s <= 12 or s == 1800)
    first = int(start // step + 1) * step
    times = [(float(t), clock(t, 0)) for t in range(first, int(end) + 1, step)]
    plot.marks(times, np.linspace(*span, 5).tolist())
    for found, was in ((before, True), (after, False)):
        values = getattr(found.curves, name)
        xs = [found.curves.start_s + found.curves.step_s * k for k in range(len(values))]
        plot.curve(xs, values, "muted" if was else "ink", was)
    return plot.svg(words)


def _table(columns: list[Column]) -> str:
    changed = len(columns) > 1
    head = "".join(f"<th>{html.escape(name)}</th>" for name, _ in columns)
    change = f"<th>{said('change')}</th>" if changed else ""
    rows = [f"<tr><th>{said('Measure')}</th><th class='unit'></th>{head}{change}</tr>"]
    group = ""
    for row in ROWS:
        if row.group != group:
            group = row.group
            rows.append(f"<tr class='group'><td colspan='{len(columns) + 3}'>{html.escape(group)}</td></tr>")
        rows.append(_row(row, columns, changed))
    return f"<table>{''.join(rows)}</table>"


def _row(row: Row, columns: list[Column], changed: bool) -> str:
    values = [row.value(measures) for _, measures in columns]
    cells = "".join(f"<td>{row.text(value)}</td>" for value in values)
    change = f"<td>{row.change(values[0], values[1])}</td>" if changed else ""
    return f"<tr><td>{html.escape(row.label)}</td><td class='unit'>{row.unit}</td>{cells}{change}</tr>"


def page(report: Report) -> str:
    """The page as HTML text that needs nothing else. The first two columns are before and after."""
    esc = html.escape
    parts = [f"<h1>{esc(report.title)}</h1>", *(f"<p class='sub'>{esc(line)}</p>" for line in report.about)]
    if len(report.columns) > 1:
        (old, before), (new, after) = report.columns[:2]
        figures = (
            (said("Spectrum of Mid and Side, dBFS in 1/12 octaves"), _spectrum_plot(before, after)),
            (said("Side against Mid by frequency, dB"), _ratio_plot(before, after)),
            (said("Loss in mono by octave, dB"), _loss_plot(before, after)),
            (
                said("Short-term loudness, LUFS"),
                _time_plot(before, after, "short_term_lufs", (-48, 0), said("Short-term loudness over time")),
            ),
            (
                said("Correlation"),
                _time_plot(before, after, "correlation", (-1, 1), said("Correlation over time")),
            ),
            (
                said("Centre: left below, right above"),
                _time_plot(before, after, "centre", (-100, 100), said("Centre over time")),
            ),
        )
        shown = "".join(
            f"<figure><figcaption>{esc(words)}</figcaption>{svg}</figure>" for words, svg in figures
        )
        whose = said("dashed: {old}; solid: {new}").format(old=old, new=new)
        parts.append(f"<h2>{esc(said('Pictures'))}</h2><p class='sub'>{esc(whose)}</p>")
        parts.append(f"<section>{shown}</section>")
    parts.append(f"<h2>{esc(said('Measures'))}</h2><section>{_table(report.columns)}</section>")
    for heading, lines in report.notes:
        items = "".join(f"<li>{esc(line)}</li>" for line in lines)
        parts.append(f"<h2>{esc(heading)}</h2><section><ul>{items}</ul></section>")
    for heading, sections in report.settings:
        terms = "".join(
            f"<dt>{esc(name)}</dt>" + "".join(f"<dd>{esc(line)}</dd>" for line in lines)
            for name, lines in sections
        )
        parts.append(
            f"<h2>{esc(said('Settings: {name}').format(name=heading))}</h2><section><dl>{terms}</dl></section>"
        )
    return (
        "<!doctype html><html lang='en'><head><meta charset='utf-8'>"
        "<meta name='viewport' content='width=device-width, initial-scale=1'>"
        f"<title>{esc(report.title)}</title><style>{_STYLE}</style></head><body><main>{''.join(parts)}</main></body></html>\n"
    )
