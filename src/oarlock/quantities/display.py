"""Numbers as people read them: engineering prefixes, digits by uncertainty, SI unit beside."""

import math

_PREFIXES = {-9: "n", -6: "µ", -3: "m", 0: "", 3: "k", 6: "M"}
_SYMBOLS = {
    "ohm": "Ω",
    "rad/s": "rad/s",
    "1": "",
    "deg": "°",
    "kg m2": "kg·m²",
    "V/(A s)": "V/(A·s)",
}
_PLAIN = {"rad", "rad/s", "1", "deg", "%", "kg m2", "rpm", "°C", "V/A", "V/(A s)", "N m"}
MINUS = "\N{MINUS SIGN}"


def unit_symbol(unit: str) -> str:
    """Return the unit as it is printed: `ohm` as Ω, products with a dot."""
    return _SYMBOLS.get(unit, unit.replace(" ", "·"))


def digits(value: float, figures: int = 3) -> str:
    """Return `value` to so many significant figures, never in exponent form."""
    if not math.isfinite(value):
        return "–"
    if value == 0.0:
        return "0"
    places = figures - 1 - math.floor(math.log10(abs(value)))
    rounded = round(value, places)
    places = figures - 1 - math.floor(math.log10(abs(rounded)))
    text = f"{rounded:.{max(places, 0)}f}"
    return text.replace("-", MINUS)


def fixed(value: float, places: int) -> str:
    """Return `value` with so many decimals and a true minus sign."""
    return f"{value:.{places}f}".replace("-", MINUS) if math.isfinite(value) else "–"


def engineering(value: float, unit: str, figures: int = 3) -> tuple[str, str]:
    """Return (number, unit) with an engineering prefix where the unit takes one.

    >>> engineering(0.01562, "H", 4)
    ('15.62', 'mH')
    """
    if unit == "kg m2":
        return digits(value * 1e3, figures), "g·m²"
    if unit in _PLAIN or not math.isfinite(value) or value == 0.0:
        return digits(value, figures), unit_symbol(unit)
    exponent = 3 * math.floor(math.log10(abs(value) * (1 + 0.5 * 10**-figures)) / 3)
    if unit == "ohm" and exponent == -3 and abs(value) >= 0.1:
        exponent = 0
    exponent = min(max(exponent, -9), 6)
    return digits(value / 10**exponent, figures), _PREFIXES[exponent] + unit_symbol(unit)


def with_std(value: float, std: float | None, unit: str) -> tuple[str, str, str]:
    """Return (number, ± number, unit): as many digits as the uncertainty allows, five at most.

    >>> with_std(0.01562, 0.00006, "H")
    ('15.62', '0.06', 'mH')
    """
    if std is None or not std > 0.0 or not math.isfinite(std) or value == 0.0:
        number, shown = engineering(value, unit)
        return number, "", shown
    figures = math.floor(math.log10(abs(value) + 0.5 * std)) - math.floor(math.log10(std)) + 1
    figures = min(max(figures, 2), 5)
    number, shown = engineering(value, unit, figures)
    places = len(number.split(".")[1]) if "." in number else 0
    # What the prefix makes of it: a power of ten, whatever the number was rounded by.
    scale = 10.0 ** round(math.log10(abs(float(number.replace(MINUS, "-")) / value)))
    return number, digits_or_places(std * scale, places), shown


def digits_or_places(value: float, places: int) -> str:
    """Return `value` with `places` decimals, or one figure where that would show zero."""
    text = fixed(value, places)
    return digits(value, 1) if float(text) == 0.0 else text


def whole_degrees(angle: float, places: int = 0) -> str:
    """Return degrees of margin rounded down, so that 59.6° is nowhere 60°, nor 32.98° 33.0°.

    >>> whole_degrees(59.6), whole_degrees(60.0), whole_degrees(32.98, 1)
    ('59', '60', '32.9')
    """
    if not math.isfinite(angle):
        return "–"
    worth = 10.0**places
    return fixed(math.floor(angle * worth + 1e-6) / worth, places)


def signed(value: float, places: int) -> str:
    """Return `value` with its sign always shown."""
    return f"{value:+.{places}f}".replace("-", MINUS) if math.isfinite(value) else "–"


def sentence(value: float, unit: str, figures: int = 3) -> str:
    """Return number and unit as running text: `849 Hz`."""
    number, shown = engineering(value, unit, figures)
    return f"{number} {shown}".strip()
