"""How a stage's picture shows the spectrum: width of its bands, peaks, stillness, and what the image does."""

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QWidget

from stonekite.desktop.controls.choices import Segments, Toggle
from stonekite.desktop.pictures.response_picture import ResponsePicture
from stonekite.engine.play.smoothing import DEFAULT_SMOOTHING, SMOOTHINGS
from stonekite.words import said


class ViewBar(QWidget):
    """Controls of one picture. `smoothing_asked` gives the parts of an octave."""

    smoothing_asked = Signal(object)

    def __init__(self, picture: ResponsePicture) -> None:
        super().__init__()
        words = {parts: f"1/{parts}" for parts in SMOOTHINGS}
        self.smoothing = Segments(
            words, said("Spectrum bands"), said("Width of the spectrum's bands in octaves")
        )
        self.smoothing.show_value(DEFAULT_SMOOTHING)
        self.peaks = Toggle(
            said("Peaks"), said("Hold peaks"), said("Keep the highest level that came out at every frequency")
        )
        self.freeze = Toggle(
            said("Freeze"), said("Freeze the spectrum"), said("Let the spectrum stand still")
        )
        self.image = Toggle(
            said("Image"),
            said("What it does to the image"),
            said("Show by how much the legs turn against each other, and what that does to the joined image"),
        )
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(8)
        for widget in (self.smoothing, self.peaks, self.freeze, self.image):
            row.addWidget(widget)
        self.smoothing.chosen.connect(self.smoothing_asked)
        self.peaks.clicked.connect(picture.hold_peaks)
        self.freeze.clicked.connect(picture.freeze)
        self.image.clicked.connect(picture.show_image)
