"""What is identified of an axis, in order: one row each, and nothing about it stands elsewhere."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Quantity:
    """One quantity: its names, and where its value belongs in the axis."""

    key: str  # of its runs, in files and on the command line
    path: str  # in the axis, what a finding tells first
    unit: str  # SI, as an estimate carries it
    name: str  # on buttons and in lists
    word: str  # within a sentence
    symbol: str  # marked up for drawing
    title: str  # the heading of its tile, marked up
    turns: bool = False  # its experiment turns the shaft


QUANTITIES = (
    Quantity(key="resistance", path="machine.R", unit="ohm", name="resistance", word="R",
             symbol="R", title="Resistance __R__, with cable"),
    Quantity(key="inductance_d", path="machine.Ld", unit="H", name="Ld", word="Ld",
             symbol="L~d~", title="Inductance __L__~d~"),
    Quantity(key="inductance_q", path="machine.Lq", unit="H", name="Lq", word="Lq",
             symbol="L~q~", title="Inductance __L__~q~"),
    Quantity(key="flux", path="machine.psi", unit="Wb", name="flux", word="the flux",
             symbol="ψ", title="Magnet flux __ψ__", turns=True),
    Quantity(key="inertia", path="machine.inertia", unit="kg m2", name="inertia", word="inertia",
             symbol="J", title="Inertia __J__, all that turns", turns=True),
    Quantity(key="resonance", path="mechanics.resonance", unit="rad/s", name="resonance",
             word="the resonance", symbol="shaft", title="Shaft resonance", turns=True),
)  # fmt: skip
KEYS = tuple(quantity.key for quantity in QUANTITIES)
BY_KEY = {quantity.key: quantity for quantity in QUANTITIES}
