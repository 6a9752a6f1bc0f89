"""Both themes: readable, complete, and kept for the next start."""

import pytest
from PySide6.QtGui import QColor, QImage

from stonekite.desktop.controls import theme
from stonekite.desktop.controls.theme import THEMES, roles
from stonekite.desktop.model import preferences


def luminance(colour: QColor) -> float:
    """Relative luminance after WCAG 2."""
    parts = [c / 12.92 if c <= 0.03928 else ((c + 0.055) / 1.055) ** 2.4 for c in colour.getRgbF()[:3]]
    return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]


def contrast(one: QColor, two: QColor) -> float:
    low, high = sorted((luminance(one), luminance(two)))
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("name", list(THEMES))
def test_everything_that_is_written_can_be_read(name):
    used = THEMES[name]
    for role in ("chalk", "muted", "left", "right", "mid", "side", "warning", "fault"):
        for ground in ("panel", "ground"):
            least = 4.5 if role not in ("fault",) else 4.0
            assert contrast(getattr(used, role), getattr(used, ground)) >= least, (role, ground)
    # What is on is filled with a component's colour and written on in the ground's.
    assert all(contrast(used.component(c), used.ground) >= 4.5 for c in ("left", "right", "mid", "side"))


def share_of_dark(image: QImage) -> float:
    seen = [
        image.pixelColor(x, y).lightness()
        for x in range(0, image.width(), 7)
        for y in range(0, image.height(), 7)
    ]
    return sum(value < 90 for value in seen) / len(seen)


def test_the_theme_changes_at_once_everywhere_and_is_kept(opened, qtbot):
    opened.stages.add("eq")
    opened.panel.eq.picture.add_asked.emit(900.0, 4.0)

    def shares() -> dict[str, float]:
        """How dark each view is, the one in front first: it changes under the eyes."""
        found = {}
        for view in ("stage", "source", "output", "compare"):
            opened.show_view(view)
            qtbot.wait(30)
            found[view] = share_of_dark(opened.grab().toImage())
        opened.show_view("stage")
        return found

    try:
        dark = shares()
        opened.menus.set_light(True)
        at_once = share_of_dark(opened.grab().toImage())
        light = shares()
        assert min(dark.values()) > 0.75 and max(at_once, *light.values()) < 0.2, (dark, at_once, light)
        assert preferences.load().theme == "light"
        assert roles.ground == THEMES["light"].ground
    finally:
        opened.menus.set_light(False)
    assert preferences.load().theme == "dark" and theme.roles.chalk == THEMES["dark"].chalk


def test_preferences_that_cannot_be_read_are_the_usual_ones():
    preferences.place().parent.mkdir(parents=True)
    for text in ("", "{", '{"theme": "plaid"}', "[]"):
        preferences.place().write_text(text)
        assert preferences.load() == preferences.Preferences()
    preferences.place().write_text('{"theme": "light", "sails": 3}')
    assert preferences.load().theme == "light"
