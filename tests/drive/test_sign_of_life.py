"""A heartbeat that comes late is waited for a moment: this process may have stood still."""

import pytest

from oarlock.drive import canopen_link
from oarlock.drive.canopen_link import SILENCE, CanopenLink


class Clock:
    """Time that passes where one sleeps; a heartbeat comes at its own moment."""

    def __init__(self, link: CanopenLink, beats_at: float) -> None:
        self._link, self._beats_at, self._now = link, beats_at, 100.0

    def monotonic(self) -> float:
        return self._now

    def sleep(self, seconds: float) -> None:
        self._now += seconds
        if self._now >= 100.0 + self._beats_at:
            self._link._seen = self._now


@pytest.mark.parametrize(("beats_at", "lives"), [(0.02, True), (0.2, True), (0.4, False)])
def test_a_late_heartbeat_is_waited_for_and_a_missing_one_is_not_for_long(
    monkeypatch: pytest.MonkeyPatch, beats_at: float, lives: bool
) -> None:
    link = CanopenLink.__new__(CanopenLink)
    link._lost_reason, link._seen = "", 100.0 - 2.0 * SILENCE
    monkeypatch.setattr(canopen_link, "time", Clock(link, beats_at))
    assert link._sign_of_life() is lives


def test_a_line_that_broke_is_not_waited_for(monkeypatch: pytest.MonkeyPatch) -> None:
    link = CanopenLink.__new__(CanopenLink)
    link._lost_reason, link._seen = "unplugged", 100.0
    monkeypatch.setattr(canopen_link, "time", Clock(link, 0.02))
    assert not link._sign_of_life()
