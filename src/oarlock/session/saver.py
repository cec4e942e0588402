"""Keep the project file up to date from a thread of its own, in order, losing nothing.

What cannot be written waits, and is tried again with the next save.
"""

import threading
from collections import deque
from collections.abc import Callable

from oarlock.errors import InputError

Write = Callable[[], None]


class Saver:
    """Runs writes one after another; tells `on_state` the trouble, or nothing once all is kept."""

    def __init__(self, on_state: Callable[[str], None]) -> None:
        self._on_state = on_state
        self._waiting: deque[Write] = deque()
        self._changed = threading.Condition()
        self._closing = False
        self._stuck = False
        self._thread = threading.Thread(target=self._run, name="saver", daemon=True)
        self._thread.start()

    def submit(self, write: Write) -> None:
        """Have `write` done after all that were submitted before."""
        with self._changed:
            self._waiting.append(write)
            self._stuck = False
            self._changed.notify_all()

    def flush(self, timeout: float = 5.0) -> bool:
        """Wait until all is kept; return whether it is."""
        with self._changed:
            self._stuck = False
            self._changed.notify_all()
            self._changed.wait_for(lambda: not self._waiting or self._stuck, timeout)
            return not self._waiting

    def close(self, timeout: float = 5.0) -> bool:
        """Flush and end the thread; return whether all was kept."""
        kept = self.flush(timeout)
        with self._changed:
            self._closing = True
            self._changed.notify_all()
        self._thread.join(timeout)
        return kept

    def _run(self) -> None:
        troubled = False
        while True:
            with self._changed:
                self._changed.wait_for(lambda: self._closing or (self._waiting and not self._stuck))
                if self._closing:
                    return
                write = self._waiting[0]
            try:
                write()
            except InputError as error:
                troubled = True
                self._on_state(f"Not saved: {error}")
                with self._changed:
                    self._stuck = True
                    self._changed.notify_all()
                continue
            with self._changed:
                self._waiting.popleft()
                done = not self._waiting
                self._changed.notify_all()
            if troubled and done:
                troubled = False
                self._on_state("")
