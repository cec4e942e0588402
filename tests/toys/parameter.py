"""A parameter of the drive: how hard the cable may be pulled."""

from oarlock.drive.contract.entries import Entry, Group, Type

CABLE = Group(
    index=0x2060,
    name="Cable",
    entries=(
        Entry(name="Tension", type=Type.REAL32, unit="N", high=5000.0, meaning="of the cable"),
    ),
)
