"""What a record or run was made with: plain values, which may come from a file of anyone's."""

from collections.abc import Mapping, Sequence
from typing import TypeAlias

from oarlock.errors import InputError

Plain: TypeAlias = "str | int | float | bool | Sequence[Plain] | Mapping[str, Plain] | None"
Settings: TypeAlias = Mapping[str, Plain]


def number(settings: Settings, key: str, missing: float | None = None) -> float:
    """Return a number of the settings, or `missing` where there is none under the key.

    Raises
    ------
    InputError : something else stands there, or nothing and nothing may not stand there

    """
    value = settings.get(key, missing)
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise _odd(key, value, "a number")
    return float(value)


def numbers(settings: Settings, key: str) -> tuple[float, ...]:
    """Return a list of numbers, empty where there is none under the key.

    Raises
    ------
    InputError : something else stands there

    """
    values = settings.get(key, [])
    if isinstance(values, str) or not isinstance(values, Sequence):
        raise _odd(key, values, "a list of numbers")
    found: list[float] = []
    for value in values:
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise _odd(key, values, "a list of numbers")
        found.append(float(value))
    return tuple(found)


def table(settings: Settings, key: str) -> Settings:
    """Return a table of the settings, empty where there is none under the key."""
    value = settings.get(key)
    return value if isinstance(value, Mapping) else {}


def tables(settings: Settings, key: str) -> tuple[Settings, ...]:
    """Return a list of tables, empty where there is none under the key."""
    values = settings.get(key)
    if isinstance(values, str) or not isinstance(values, Sequence):
        return ()
    return tuple(value for value in values if isinstance(value, Mapping))


def _odd(key: str, value: Plain, wanted: str) -> InputError:
    cause = f"{key} is missing" if value is None else f"{key} = {value!r} is not {wanted}"
    return InputError(cause, place="settings", remedy=f"Give {wanted} for {key}")
