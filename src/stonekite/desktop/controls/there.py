"""Whether a part is there at all, said before it stands in a window."""

from PySide6.QtWidgets import QWidget


def there_if(part: QWidget, wanted: bool) -> None:
    """Hide a part that is not wanted. What is wanted is shown with what it is put into: told to be visible before that,
    it would become a window of its own for a moment.
    """
    if not wanted:
        part.hide()
