"""What the connect panel lists of what the finder found: pure."""

from dataclasses import dataclass

from oarlock.drive.finder import Way


@dataclass(frozen=True, slots=True, kw_only=True)
class WayRow:
    """One line of the list: what it is, and what a click does."""

    name: str
    said: str
    channel: str = ""  # to connect to, or to type on from
    connects: bool = False
    command: str = ""  # that mends it, to be copied


def way_rows(ways: tuple[Way, ...]) -> list[WayRow]:
    """Return the list's lines; one says what to do where nothing was found."""
    rows: list[WayRow] = []
    for way in ways:
        text = way.channel.text if way.channel else ""
        mending = way.mending
        said = f"{way.said}. {mending.said}" if mending else way.said
        rows.append(WayRow(name=way.name, said=said, channel=text,
                           command=mending.command if mending else ""))  # fmt: skip
        rows += [
            WayRow(name=f"node {node.channel.node}", said=node.said, channel=node.channel.text,
                   connects=node.usable)
            for node in way.nodes
        ]  # fmt: skip
    if not rows:
        rows.append(WayRow(name="Nothing found", said="no CAN interface and no serial adapter is "
                           "there: plug one in, or type where the drive is"))  # fmt: skip
    return rows
