"""What the stage panel knows of an editor, whatever kind of stage it edits."""

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from stonekite.desktop.editors.view_bar import ViewBar
from stonekite.stages.base import LegName


class Editor(QWidget):
    """Shows and edits one stage of a document.

    `detector_asked` and `alone_asked` are wishes to hear the detector of a leg, or a leg's band, alone (None: no more);
    `leg_asked` to have the other leg in front; `enter_asked` to go into a path of the stage; `learn_asked` and
    `response_asked` to have something learned, or read; `ride_asked` to have the setting of a path ride.
    """

    refused = Signal(str)
    tie_asked = Signal(str, bool)
    ride_asked = Signal(str)
    detector_asked = Signal(object)
    alone_asked = Signal(object)
    enter_asked = Signal(int)
    leg_asked = Signal(str)
    learn_asked = Signal()
    response_asked = Signal()

    view: ViewBar

    def show_stage(self, number: int, leg: LegName) -> None:
        """Edit a stage, with one leg in front."""
        raise NotImplementedError

    def show_heard(self, what: str | None) -> None:
        """What is listened to alone: "band", "detector" or nothing of the kind."""
        raise NotImplementedError

    def show_live(self, status: np.void) -> None:
        """What the player says of the stage, 30 times a second, playing or not."""
        raise NotImplementedError
