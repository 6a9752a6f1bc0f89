"""What is known of a pair, in words and cards."""

from pathlib import Path

from stonekite.desktop.links.pairing import Pairing
from stonekite.desktop.pictures.pair_picture import Card, PairShown
from stonekite.desktop.views.matrix_card import room
from stonekite.session.types import Split
from stonekite.signal.matrix import COMPONENTS
from stonekite.stages.settings import settings_of
from stonekite.words import NAMES, clock, figure, number, said

MATRIX = settings_of(Split)["matrix"]
_ROWS = ("mid", "side")


class PairTelling:
    """Tells of a Pairing."""

    def __init__(self, pairing: Pairing) -> None:
        self._pairing = pairing

    def doing(self) -> str:
        pairing = self._pairing
        if pairing.busy:
            return f"{pairing.busy}…"
        if not pairing.usable:
            return said("a test generator has no file to encode")
        if pairing.fault:
            return pairing.fault
        return said("stereo out into components, worked on elsewhere, and back")

    def verdict(self) -> str:
        """What encoding like this does to the samples, before it is done."""
        pairing = self._pairing
        if not pairing.usable or pairing.survey is None:
            return ""
        sentences = []
        way = pairing.way
        for row, name in enumerate(_ROWS):
            if pairing.over[row]:
                sentences.append(
                    said(
                        "{name} would be cut off: a trim of {trim} makes it fit, undone when it comes back."
                    ).format(
                        name=NAMES[name],
                        trim=figure(pairing.survey.trim_db(row, way.matrix, way.bits), "dB"),
                    )
                )
            elif way.trims_db[row]:
                sentences.append(
                    said("{name} is turned down by {trim}; the file says so.").format(
                        name=NAMES[name], trim=figure(-way.trims_db[row], "dB")
                    )
                )
        found = pairing.rehearsed
        if found is None:
            sentences.append(said("Trying whether it comes back…"))
        elif not found.changed:
            sentences.append(said("Comes back bit for bit."))
        else:
            sentences.append(
                said(
                    "{changed} of {all} samples will not come back exactly: off by {peak} at the most."
                ).format(
                    changed=found.changed,
                    all=2 * pairing.survey.frames,
                    peak=figure(found.residual_db, "dBFS"),
                )
            )
        return " ".join(sentences)

    def shown(self) -> PairShown:
        """What the picture shows."""
        pairing, source = self._pairing, self._pairing.source
        if source is None:
            return PairShown()
        survey, way, back = pairing.survey, pairing.way, pairing.back
        length = clock(source.frames / source.rate, 0)
        depth = f" · {survey.depth} bit" if survey is not None and survey.depth else ""
        waves = [] if survey is None else list(zip(COMPONENTS, survey.pictures, strict=True))
        name = Path(source.path).name
        first = Card(name, (f"{length} · {source.rate / 1000:g} kHz{depth}",), tuple(waves[:2]))
        out = []
        for row, component in enumerate(_ROWS):
            lines: tuple[str, ...] = ()
            if survey is not None:
                level = survey.level_db(row, way.matrix) + way.trims_db[row]
                free = room(survey, row, way.matrix, way.bits, way.trims_db[row])
                lines = (f"{figure(level, 'dBFS')} · {free}" if level > -199 else said("silent"),)
            title = pairing.names[row] if pairing.names else ""
            out.append(
                Card(title, lines, ((component, waves[2 + row][1]),) if waves else (), pairing.over[row])
            )
        rows = _ROWS
        if back is not None and back.sides:
            rows = ("left", "right")
        shown = []
        for row, component in enumerate(rows):
            if back is None:
                shown.append(Card(said("elsewhere"), there=False))
                continue
            part = back.parts[row]
            short = "" if back.fault else self._short(row)
            shown.append(
                Card(
                    Path(part.path).name,
                    (short,) if short else (),
                    ((component, part.picture),) if part.picture[0] else (),
                    warned=bool(back.fault) or not self._settled(row),
                )
            )
        return PairShown(
            source=first,
            out=(out[0], out[1]),
            back=(shown[0], shown[1]),
            joined=self._joined(waves),
            rows=rows,  # type: ignore[arg-type]
            letters=("M/S", "L/R" if rows == _ROWS else "L+R"),
            written=pairing.written is not None,
        )

    def _settled(self, row: int) -> bool:
        return all(
            one.repair in self._pairing.repairs
            for one in self._pairing.findings()
            if one.row == row and one.what is not None
        )

    def _short(self, row: int) -> str:
        """In a word or two what happened to a part."""
        back = self._pairing.back
        assert back is not None and self._pairing.source is not None
        part = back.parts[row]
        words = []
        if part.change_db and not part.throughout:
            words.append(figure(part.change_db, "dB", sign=True))
        if part.samples:
            late = 1000 * part.samples / self._pairing.source.rate
            words.append(
                (said("{ms} late") if late > 0 else said("{ms} early")).format(ms=figure(abs(late), "ms"))
            )
        if part.inverted:
            words.append(said("inverted"))
        if part.rate != self._pairing.source.rate:
            words.append(f"{part.rate / 1000:g} kHz")
        if part.throughout:
            words.append(said("worked on"))
        if words and self._settled(row) and not part.throughout:
            words.append(said("repaired"))
        return " · ".join(words) or said("as it went")

    def _joined(self, waves: list) -> Card:
        pairing = self._pairing
        if pairing.back is None:
            if pairing.written is None:
                return Card(said("joined"), there=False)
            found = pairing.written
            total = number(found.samples / 1e6, 2)
            words = (said("round trip: exact"), said("0 of {total} M differ").format(total=total))
            if found.changed:
                off = said("round trip: off by {peak}").format(peak=figure(found.residual_db, "dBFS"))
                words = (
                    off,
                    said("{part} of {total} M differ").format(
                        part=number(found.changed / 1e6, 2), total=total
                    ),
                )
            return Card(said("read back"), words, tuple(waves[:2]))
        name = Path(pairing.joined).name if pairing.joined else said("joined")
        if pairing.refusal:
            return Card(name, (said("cannot be joined yet"),), there=False, warned=True)
        left = pairing.left
        if left is None:
            return Card(name, ("…",), there=False)
        sides = tuple(zip(("left", "right"), left.pictures, strict=True))
        if left.exact:
            return Card(name, (said("exactly the recording"),), sides)
        return Card(name, (said("left over: {peak}").format(peak=figure(left.peak_db, "dBFS")),), sides)

    def matrix(self) -> str:
        back = self._pairing.back
        if back is None:
            return said("drop the two files here, or take them back")
        if back.fault:
            return ""
        if back.matrix is None:
            return said("left and right, not mid and side")
        assert MATRIX.words is not None
        word = MATRIX.words[back.matrix].lower()
        if back.noted:
            return said("{matrix}, as noted").format(matrix=word)
        if back.others:
            names = said(" or ").join(MATRIX.words[other].lower() for other in back.others)
            return said("{matrix} or {others}: by the levels alone they are alike").format(
                matrix=word, others=names
            )
        return said("{matrix}, by measuring: sure by {sure:.0f} %").format(matrix=word, sure=100 * back.sure)

    def left(self) -> str:
        left = self._pairing.left
        assert left is not None
        if left.exact:
            return said("Exactly the recording: 0 of {all} samples differ.").format(all=2 * left.frames)
        words = said("Left over against the recording: {peak} at the most.").format(
            peak=figure(left.peak_db, "dBFS")
        )
        if left.worked:
            ranges = ", ".join(f"{clock(start, 1)}–{clock(end, 1)}" for start, end in left.worked[:3])
            more = (
                said(" and {count} more").format(count=len(left.worked) - 3) if len(left.worked) > 3 else ""
            )
            words += " " + said("Worked on: {ranges}{more}.").format(ranges=ranges, more=more)
        return words
