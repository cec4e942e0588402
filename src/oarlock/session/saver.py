"""Keep the project file up to date from a thread of its own, in order, losing nothing.

What cannot be written for want of room, rights or a disk waits, and all that follows waits with
it; it is tried again by itself, with the next save, and when asked. What fails for a fault of the
program is set aside, said, and tried again too: it holds nothing else up, and it never ends the
thread.
"""

import threading
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass

from oarlock.errors import InputError

Write = Callable[[], None]
_AGAIN = 2.0  # s after which what waits is tried again


@dataclass(frozen=True, slots=True)
class _Item:
    write: Write
    on_done: Callable[[], None] | None


class Saver:
    """Runs writes one after another; tells `on_state` the trouble, or nothing once all is kept."""

    def __init__(self, on_state: Callable[[str], None]) -> None:
        self._on_state = on_state
        self._waiting: deque[_Item] = deque()
        self._aside: list[_Item] = []  # what failed for another reason than the disk
        self._changed = threading.Condition()
        self._closing = False
        self._stuck = False
        self._thread = threading.Thread(target=self._run, name="saver", daemon=True)
        self._thread.start()

    def submit(self, write: Write, on_done: Callable[[], None] | None = None) -> None:
        """Have `write` done after all that were submitted before; then tell `on_done`.

        `on_done` is called on the saver's thread.
        """
        with self._changed:
            self._waiting.append(_Item(write, on_done))
            self._stuck = False
            self._changed.notify_all()

    @property
    def pending(self) -> int:
        """How much is not written yet."""
        with self._changed:
            return len(self._waiting) + len(self._aside)

    def flush(self, timeout: float = 5.0) -> bool:
        """Wait until all is kept; return whether it is."""
        with self._changed:
            self._stuck = False
            self._waiting.extend(self._aside)
            self._aside.clear()
            self._changed.notify_all()
            self._changed.wait_for(lambda: not self._waiting or self._stuck, timeout)
            return not self._waiting and not self._aside

    def close(self, timeout: float = 5.0) -> bool:
        """Flush and end the thread; return whether all was kept."""
        kept = self.flush(timeout)
        with self._changed:
            self._closing = True
            self._changed.notify_all()
        self._thread.join(timeout)
        return kept

    def _next(self) -> _Item | None:
        """Return what is to be written now, or None at the end."""
        with self._changed:
            while not self._closing:
                if self._waiting and not self._stuck:
                    return self._waiting[0]
                if not self._changed.wait(_AGAIN if self._waiting else None):
                    self._stuck = False
            return None

    def _run(self) -> None:
        troubled = False
        while (item := self._next()) is not None:
            try:
                item.write()
            except InputError as error:
                troubled = True
                self._say(f"Not saved: {error}")
                with self._changed:
                    self._stuck = True
                    self._changed.notify_all()
                continue
            except Exception as error:  # noqa: BLE001 - whatever it is, the thread goes on
                troubled = True
                cause = f"{type(error).__name__}: {error}".replace("\n", " ")
                self._say(f"Not saved, by a fault of the program: {cause}")
                self._done(item, kept=False)
                continue
            self._done(item, kept=True)
            if troubled and not self.pending:
                troubled = False
                self._say("")

    def _done(self, item: _Item, *, kept: bool) -> None:
        if kept and item.on_done is not None:
            item.on_done()
        with self._changed:
            self._waiting.popleft()
            if not kept:
                self._aside.append(item)
            self._changed.notify_all()

    def _say(self, text: str) -> None:
        self._on_state(text)
