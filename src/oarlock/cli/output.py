"""What commands print."""

import math
from typing import Any


def finite(value: Any) -> Any:
    """Return plain values with null where JSON has no such number."""
    if isinstance(value, dict):
        return {key: finite(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [finite(item) for item in value]
    return None if isinstance(value, float) and not math.isfinite(value) else value
