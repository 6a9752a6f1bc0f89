"""What is to be known of files that were written, in sentences that commands and windows share."""

from collections.abc import Sequence

from stonekite.words import said


def amiss(overs: int = 0, repaired: int = 0, guarded: Sequence[str] = ()) -> list[str]:
    """Samples that did not fit, damaged ones read as silence, and names of stages that their guards have silenced."""
    sentences = []
    if overs:
        sentences.append(
            said("{overs} samples were over full scale and were cut off there.").format(overs=overs)
        )
    if repaired:
        sentences.append(
            said("{repaired} damaged samples were written as silence.").format(repaired=repaired)
        )
    return sentences + [
        said("{name} was louder than +12 dBFS: its guard made it silent from there on.").format(name=name)
        for name in guarded
    ]
