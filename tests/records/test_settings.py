"""Settings of a record that may come from anyone: the right kind, or one clear line."""

import pytest

from oarlock.errors import InputError
from oarlock.records import Settings
from oarlock.records.settings import number, numbers, table, tables

SAID: Settings = {
    "current": 5, "speeds": [10.0, 20], "plant": {"R": 0.8}, "segments": [{"rows": 3}, 4],
    "hot": True, "name": "q", "mixed": [1.0, "x"], "nothing": None,
}  # fmt: skip


def test_what_is_of_its_kind() -> None:
    assert number(SAID, "current") == 5.0
    assert number(SAID, "absent", 2.5) == 2.5
    assert numbers(SAID, "speeds") == (10.0, 20.0)
    assert numbers(SAID, "absent") == ()
    assert table(SAID, "plant") == {"R": 0.8}
    assert table(SAID, "name") == {}
    assert tables(SAID, "segments") == ({"rows": 3},)
    assert tables(SAID, "name") == ()


@pytest.mark.parametrize("key", ["absent", "hot", "name", "speeds", "plant", "nothing"])
def test_what_is_no_number(key: str) -> None:
    with pytest.raises(InputError, match=key):
        number(SAID, key)


@pytest.mark.parametrize("key", ["current", "name", "mixed", "hot"])
def test_what_is_no_list_of_numbers(key: str) -> None:
    with pytest.raises(InputError, match=key):
        numbers(SAID, key)
