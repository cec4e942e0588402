"""Old records are read again a few at a time, each once, and so are those that come later."""

from types import SimpleNamespace
from typing import Any, cast

from oarlock.errors import InputError
from oarlock.session.jobs import Done, Failed
from oarlock.ui.frame.reader import Reader


class Desk:
    """Stands for session and jobs: keeps what was begun until it is ended by hand."""

    def __init__(self) -> None:
        self.axis, self.begun, self.taken, self.told = None, [], [], []  # type: ignore[var-annotated]
        self.wanted = [SimpleNamespace(id=n) for n in range(5)]

    def wanted_readings(self) -> list[Any]:
        return [run for run in self.wanted if run.id not in self.taken]

    def record_source(self, _number: int) -> Any:
        return lambda: None

    def take_reading(self, number: int, _reading: object) -> None:
        self.taken.append(number)

    def start(self, _work: object, *, on_end: Any, name: str) -> None:
        assert name
        self.begun.append(on_end)

    def end(self, outcome: object) -> None:
        self.begun.pop(0)(outcome)


def test_two_are_read_at_a_time_until_all_are_and_again_when_others_come() -> None:
    desk = Desk()
    reader = Reader(cast(Any, desk), cast(Any, desk), desk.told.append)
    reader.read()
    reader.read()  # once more, as every change of the logbook asks
    assert len(desk.begun) == 2
    for left in (2, 2, 2, 1, 0):
        desk.end(Done(None))
        assert len(desk.begun) == left
    assert sorted(desk.taken) == [0, 1, 2, 3, 4]
    desk.wanted += [SimpleNamespace(id=n) for n in (7, 8, 9)]
    reader.read()
    assert len(desk.begun) == 2
    desk.end(Failed(InputError("it is damaged", place="run 7")))
    assert len(desk.begun) == 2  # one that cannot be read stops no other
    assert "damaged" in desk.told[0]
    desk.end(Done(None))
    desk.end(Done(None))
    assert not desk.begun
    assert sorted(desk.taken) == [0, 1, 2, 3, 4, 7, 8, 9]  # nobody waits for it any longer
