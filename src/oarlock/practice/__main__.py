"""`python -m oarlock.practice`: start the practice drive."""

import argparse
import json
import sys
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

from oarlock.drive.channel import Channel, parse_channel
from oarlock.drive.unix_bus import runtime_folder
from oarlock.errors import InputError, LinkError
from oarlock.practice.server import WATCHDOG, Server
from oarlock.practice.truth import AXES, draw
from oarlock.simulate.drive_model import DriveModel


def _frozen(value: object) -> Any:
    return tuple(value) if isinstance(value, list) else value


def _options() -> argparse.Namespace:
    parser = argparse.ArgumentParser(prog="oarlock practice-drive", description=__doc__)
    parser.add_argument("--axis", choices=sorted(AXES), default="winch")
    parser.add_argument("--seed", type=int, default=0, help="which drive: its hidden parameters")
    parser.add_argument("--socket", type=Path, help="where to listen")
    parser.add_argument("--tied", action="store_true", help="exit when standard input closes")
    parser.add_argument("--release-brake", action="store_true", help="let the shaft turn")
    parser.add_argument("--bus", help="a CAN bus to be a node of: udp_multicast:239.74.163.2")
    parser.add_argument("--volts", type=float, help="bus voltage that is really there, V")
    parser.add_argument("--sag", type=float, default=-1.0, help="s into a run: the bus collapses")
    parser.add_argument(
        "--watchdog", type=float, default=WATCHDOG, help="s of silence; more for a busy machine"
    )
    parser.add_argument("--pace", type=float, default=1.0, help="times real time, 0.1 to 8")
    parser.add_argument("--memory", type=Path, help="file that keeps its saved parameters")
    parser.add_argument("--faults", type=json.loads, default={}, help="JSON: plant = value")
    parser.add_argument("--reveal", action="store_true", help="print the truth and exit")
    return parser.parse_args()


def main() -> int:
    """Run the drive until it is interrupted, or until its parent is gone with --tied."""
    options = _options()
    plant = draw(options.axis, options.seed)
    if options.release_brake:
        plant = replace(plant, brake=0.0)
    plant = replace(plant, **{name: _frozen(value) for name, value in options.faults.items()})
    if options.volts is not None:
        plant = replace(plant, bus=options.volts)
    plant = replace(plant, sag_at=options.sag, sag_to=0.3 * plant.bus)
    if options.reveal:
        sys.stdout.write(json.dumps(asdict(plant), indent=1) + "\n")
        return 0
    path: Path | Channel = options.socket or runtime_folder() / f"{options.axis}.sock"
    model = DriveModel(plant, seed=options.seed)
    model.advance(1)  # compiles, or loads from the cache, before anybody waits for it
    try:
        if options.bus:
            path = parse_channel(options.bus)
        pace = min(max(options.pace, 0.1), 8.0)
        server = Server(
            path, model, tied=options.tied, watchdog=options.watchdog, pace=pace,
            memory=options.memory,
        )  # fmt: skip
        where = path.text if isinstance(path, Channel) else path
        sys.stdout.write(f"ready {where}\n")
        sys.stdout.flush()
        server.run()
    except KeyboardInterrupt:
        return 0
    except (InputError, LinkError) as error:
        sys.stderr.write(f"oarlock: {error}\n")
        return 2
    return 0


if __name__ == "__main__":
    sys.exit(main())
