"""A button whose first press says what will move, and whose second starts it."""

from collections.abc import Callable

from PySide6.QtWidgets import QPushButton

from oarlock.machine import Axis
from oarlock.session.bench import Bench
from oarlock.ui.stages.speed.play_bar import PlayBar

_ARMED = "Press again to start"


class TwoPresses:
    """Remembers for which axis the movement was said; another axis has to be asked anew."""

    def __init__(self, button: QPushButton, bench: Bench, bar: PlayBar) -> None:
        self._button, self._bench, self._bar = button, bench, bar
        self._ready = button.text()
        self._asked_for: Axis | None = None

    @property
    def armed(self) -> bool:
        """Whether the movement was said and the next press starts it."""
        return self._asked_for is not None

    def disarm(self) -> None:
        """Forget a first press."""
        self._asked_for = None
        self._button.setText(self._ready)

    def press(self, axis: Axis, said: str, start: Callable[[], None]) -> None:
        """Say what will move, or start it where it was said."""
        if not self._bench.connected:
            self._bar.say("No drive is connected. Connect one in the top bar")
        elif self._asked_for != axis:
            self._asked_for = axis
            self._button.setText(_ARMED)
            self._bar.say(said, calm=True)
        else:
            self.disarm()
            start()
