"""A test whose drive missed a heart-beat is told from one that found a fault."""

import re
from types import SimpleNamespace
from typing import Any

import pytest
from pytestqt.qtbot import QtBot

from oarlock.errors import LinkLost
from oarlock.session.session import Session
from tests.conftest import LOST, pytest_runtest_call, wait


def failing(item: Any) -> BaseException:
    """Return what becomes of a test that asserts something wrong."""
    called = pytest_runtest_call(item)
    next(called)
    with pytest.raises((AssertionError, LinkLost)) as caught:
        called.throw(AssertionError("0 == 1"))
    return caught.value


@pytest.mark.parametrize("within", ["itself", "window"])
def test_a_lost_heartbeat_is_named(
    session: Session, monkeypatch: pytest.MonkeyPatch, pytestconfig: pytest.Config, within: str
) -> None:
    given = session if within == "itself" else SimpleNamespace(session=session)
    item = SimpleNamespace(funcargs={"given": given, "other": 3})
    assert isinstance(failing(item), AssertionError)
    monkeypatch.setattr(session, "runs", [SimpleNamespace(ended="done")])
    assert isinstance(failing(item), AssertionError)
    monkeypatch.setattr(session, "runs", [SimpleNamespace(ended=LOST)])
    error = failing(item)
    told = f"{type(error).__name__}: {error}"
    assert "0 == 1" in told
    tried_again = pytestconfig.getoption("only_rerun") or ["heartbeat.lost"]
    assert any(re.search(pattern, told) for pattern in tried_again)


def test_what_a_lost_heartbeat_bars_is_not_waited_for(
    qtbot: QtBot, session: Session, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("tests.conftest.HOPELESS", 0.0)
    wait(qtbot, lambda: True)
    monkeypatch.setattr(session, "runs", [SimpleNamespace(ended=LOST)])
    wait(qtbot, lambda: True)
    with pytest.raises(LinkLost, match="heartbeat lost"):
        wait(qtbot, lambda: False, 60.0)
