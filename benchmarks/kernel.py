"""`python -m benchmarks.kernel`: the practice drive's loop against the same arithmetic in C."""

import ctypes
import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

from oarlock.practice.truth import draw
from oarlock.simulate import layout as k
from oarlock.simulate.drive_model import DriveModel
from oarlock.simulate.plant_parameters import Modulation

SAMPLES = 40_000
SAME = 1e-9  # by which the states may differ, whatever their unit: it is one arithmetic
BAR = 1.15
FIRM = {
    "KP_D": 20.0, "KI_D": 3000.0, "KP_Q": 25.0, "KI_Q": 3000.0, "F_LD": 8e-3, "F_LQ": 15e-3,
    "F_PSI": 0.1, "DECOUPLE": 1.0, "KP_W": 0.3, "KI_W": 2.0, "W_SHARE": 0.01, "W_FRICTION": 0.2,
    "O_STEP": 0.007, "O_SPEED": 0.06, "O_LOAD": 0.14,
}  # fmt: skip
ROWS = {
    "speed controlled": {"MODE": k.MODE_SPEED, "REF_W": 10.0},
    "turned by force": {"MODE": k.MODE_FIXED, "REF_D": 5.0, "REF_W": 30.0},
    "beyond what the bus gives": {"MODE": k.MODE_SPEED, "REF_W": 800.0},
}
CASES = [(name, row, bridge) for bridge in ("averaged", "space vector")
         for name, row in ROWS.items()]  # fmt: skip


def compiled(folder: Path) -> ctypes.CDLL:
    """Compile the C with the kernel's own indices."""
    names = {n: v for n, v in vars(k).items() if isinstance(v, int | float) and n.isupper()}
    lines = [f"#define {name} {value}" for name, value in names.items()]
    (folder / "layout.h").write_text("\n".join(lines) + "\n")
    source, library = Path(__file__).with_name("kernel.c"), folder / "kernel.so"
    # No contraction of a·b + c, as in the kernel: the same roundings.
    flags = ["-O3", "-march=native", "-ffp-contract=off", "-shared", "-fPIC", f"-I{folder}"]
    subprocess.run(["gcc", *flags, str(source), "-o", str(library), "-lm"], check=True)
    loaded = ctypes.CDLL(str(library))
    loaded.prepare()
    return loaded


def prepared(row: dict[str, float], bridge: str = "averaged") -> DriveModel:
    """Return a drive that has just started to play one row, on a bridge so modulated."""
    plant = replace(draw("winch", 3), across=2e-5, iron=5e-4, heating=1e-3, cooling=0.01,
                    flux_heat=1e-3, output_late=0.1, modulation=Modulation(bridge),
                    dead_time=1e-6)  # fmt: skip
    model = DriveModel(plant, seed=3)
    model.firm[k.MAX_CURRENT : k.MAX_TIME + 1] = [60.0, 900.0, 1e6, 1e3]
    model.firm[[k.F_PAIRS, k.F_KIND, k.F_COUNTS]] = [plant.pole_pairs, 1.0, plant.encoder_counts]
    for name, value in FIRM.items():
        model.firm[getattr(k, name)] = np.float32(value)
    beyond = row["REF_W"] > 100.0
    model.firm[[k.W_LIMIT, k.C_CIRCLE]] = [12.0, 1.0] if beyond else [0.0, 0.0]
    model._plant[k.KIND] = k.SENSOR_ENCODER
    table = np.zeros((1, k.ROW_SIZE), dtype=np.float32)
    table[0, [k.SAMPLES, k.RELEASE]] = 1e6, 1.0
    for name, value in row.items():
        table[0, getattr(k, name)] = value
    model.load(table, (1, 2, 3))
    model.start()
    return model


def in_c(library: ctypes.CDLL, model: DriveModel, samples: int) -> None:
    """Advance a drive by the C loop."""
    arrays = (model._plant, model.firm, model._table)
    pointers = [a.ctypes.data_as(ctypes.c_void_p) for a in arrays]
    more = [a.ctypes.data_as(ctypes.c_void_p) for a in (model._state, model._meta, model._history)]
    library.drive(*pointers, ctypes.c_int64(model._rows), *more, ctypes.c_int64(samples))


def main(*, short: bool = False) -> int:
    """Print both times and their ratio; return 1 where the bar is missed."""
    missed = 0
    with tempfile.TemporaryDirectory() as folder:
        library = compiled(Path(folder))
        print(f"{'':28}{'kernel ns':>12}{'C ns':>10}{'ratio':>8}   apart")
        for name, row, bridge in CASES:
            ours, theirs = prepared(row, bridge), prepared(row, bridge)
            seen = 8000 if row["REF_W"] > 100.0 else 2000  # until it is beyond; later counts differ
            ours.advance(seen)
            in_c(library, theirs, seen)
            differ = np.abs(ours._state - theirs._state)
            differ[k.INDEX_AT] = 0.0  # the C keeps no index
            apart = float(np.max(differ))
            best = {"kernel": np.inf, "C": np.inf}
            # One after the other, again and again: a busy machine slows both.
            for _ in range(3 if short else 25):
                ours, theirs = prepared(row, bridge), prepared(row, bridge)
                begun = time.perf_counter()
                ours.advance(SAMPLES)
                between = time.perf_counter()
                in_c(library, theirs, SAMPLES)
                best["C"] = min(best["C"], time.perf_counter() - between)
                best["kernel"] = min(best["kernel"], between - begun)
            kernel, c = (1e9 * best[key] / SAMPLES for key in ("kernel", "C"))
            missed += kernel > BAR * c or apart > SAME
            print(f"{name + ', ' + bridge:32}{kernel:8.0f}{c:10.0f}{kernel / c:8.3f}   {apart:.1e}")
    print(f"bar: {BAR}; {'missed' if missed else 'holds'}")
    return int(missed > 0)


if __name__ == "__main__":
    sys.exit(main())
