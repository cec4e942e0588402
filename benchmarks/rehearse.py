"""`make bench-rehearse`: simulating scenarios, against what else could do it and against its bars.

Times are ratios within one run where there is something to compare with; one after the other,
again and again, the best of each: a busy machine slows both.
"""

import concurrent.futures
import os
import resource
import statistics
import sys
import time
from collections.abc import Callable
from dataclasses import replace

import numpy as np
from scipy.integrate import solve_ivp
from tests.simulate.test_switching import FAST, TS, drive, plant, stretches
from tests.speed_axis import tuned_winch

from benchmarks.rehearse_window import measured
from oarlock.control.position_design import design_position
from oarlock.lanes.vectors import LANES
from oarlock.machine import Axis
from oarlock.rehearse import vary
from oarlock.rehearse.beside import rehearse_beside
from oarlock.rehearse.bridge import bridged
from oarlock.rehearse.events import Load
from oarlock.rehearse.plant import believed_plant
from oarlock.rehearse.run import Run, begun, plan_of, rehearse
from oarlock.rehearse.scenario import Control, Point, Scenario
from oarlock.rehearse.vary import study
from oarlock.simulate import layout as k
from oarlock.simulate.plant_parameters import Modulation, PlantParameters
from oarlock.simulate.side_by_side import ROWS, Lanes

Row = tuple[str, float, float, bool, str]  # what, value, bar, whether more is better, unit
LIFT = Scenario(
    name="Lift", control=Control.POSITION, duration=10.0, loads=(Load(at=0.0, torque=0.8),),
    points=tuple(Point(at=0.2 + 2.0 * n, value=(-6.0 if n % 2 else 6.0) * 2.0 * np.pi, speed=94.0,
                       acceleration=600.0, jerk_time=0.02) for n in range(5)),
)  # fmt: skip
SPIN = Scenario(name="spin", control=Control.SPEED, duration=1.0,
                points=(Point(at=0.05, value=60.0, acceleration=400.0),))  # fmt: skip


def winch() -> Axis:
    """The demo's winch with all its loops tuned."""
    axis = tuned_winch()
    return axis.with_loop_gains("position", design_position(axis).gains)


def best(work: Callable[[], object], times: int) -> float:
    """Return the least seconds that it takes."""
    found = []
    for _ in range(times):
        begin = time.perf_counter()
        work()
        found.append(time.perf_counter() - begin)
    return min(found)


def against_solver(kind: str, periods: int) -> tuple[float, float]:
    """Return (times as fast, A apart) as RK45 at 1e-6 for speed, as DOP853 at 1e-11 for truth.

    20 A at 500 Hz electrical. The solver is called once a period, or once a stretch between edges;
    it does windings and shaft, the kernel all of the drive.
    """
    made = plant(modulation=kind)
    volts: list[tuple[float, float]] = []
    model = drive(made, speed=FAST, REF_Q=20.0)
    model.advance(400)
    first, currents = model._state.copy(), []  # noqa: SLF001 - the truth inside
    for _ in range(periods):
        volts.append((float(model._state[k.V_ALPHA]), float(model._state[k.V_BETA])))  # noqa: SLF001
        model.advance(1)
        currents.append(float(model._state[k.I_Q]))  # noqa: SLF001
    theta = first[k.THETA] * made.pole_pairs

    def solved(method: str, rtol: float, atol: float) -> list[float]:
        i, found = np.array([first[k.I_D], first[k.I_Q], FAST, theta]), []
        for pair in volts:
            parts = stretches(pair, kind) if kind != "averaged" else [(0.0, TS, complex(*pair))]
            for a, b, vector in parts:

                def slope(t: float, x: np.ndarray, vector: complex = vector) -> np.ndarray:
                    v = vector * np.exp(-1j * x[3])
                    push = 1.5 * made.pole_pairs * (made.psi + (made.Ld - made.Lq) * x[0]) * x[1]
                    w = x[2]
                    return np.array([
                        (v.real - made.R * x[0] + w * made.Lq * x[1]) / made.Ld,
                        (v.imag - made.R * x[1] - w * (made.Ld * x[0] + made.psi)) / made.Lq,
                        made.pole_pairs * push / made.inertia, w,
                    ])  # fmt: skip

                i = solve_ivp(slope, (a, b), i, method=method, rtol=rtol, atol=atol).y[:, -1]
            found.append(float(i[1]))
        return found

    truth = solved("DOP853", 1e-11, 1e-12)
    theirs = best(lambda: solved("RK45", 1e-6, 1e-9), 2) / periods
    again = drive(made, speed=FAST, REF_Q=20.0)
    many = 20_000
    ours = best(lambda: again.advance(many), 5) / many
    return theirs / ours, float(np.max(np.abs(np.array(truth) - currents)))


def real_time(axis: Axis, lift: Scenario, bridge: Modulation) -> tuple[float, float]:
    """Return (share of real time of a lift, MB that it grows by)."""
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    taken = best(lambda: rehearse(lift, axis, bridge=bridge), 3)
    return taken / lift.duration, (
        resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before
    ) / 1e3


def free_cores(axis: Axis, samples: int) -> float:
    """Return how many times as much two threads do that compute without the interpreter's lock."""
    believed = believed_plant(axis)

    def work(_: int) -> int:
        model = begun(plan_of(SPIN, axis), axis, believed)
        model.advance(samples)
        return model.recorded

    one = best(lambda: [work(n) for n in range(2)], 1)
    with concurrent.futures.ThreadPoolExecutor(2) as pool:
        return one / best(lambda: list(pool.map(work, range(2))), 1)


def threads(
    axis: Axis, scenario: Scenario, variants: int, samples: int, rounds: int
) -> tuple[float, float]:
    """Return what two threads do here at best, and how many times as fast variants are on two.

    In turn, again and again, the median of each: what else the machine does slows both.
    """
    cores, free, found = os.cpu_count, [], []
    try:
        for _ in range(rounds):
            free.append(free_cores(axis, samples))
            taken = []
            for many in (1, 2):
                vary.os.cpu_count = lambda many=many: many  # type: ignore[attr-defined]
                taken.append(best(lambda: study(scenario, axis, variants), 1))
            found.append(taken[0] / taken[1])
    finally:
        vary.os.cpu_count = cores  # type: ignore[attr-defined]
    return statistics.median(free), statistics.median(found)


def lanes(axis: Axis, lift: Scenario, repeats: int) -> tuple[float, float]:
    """Return how many times as fast eight variants are side by side as one after another.

    The drive's loop alone, and whole rehearsals: set out, bins, figures' columns.
    """
    known = vary.tolerances(axis)
    rng = np.random.default_rng(7)
    plants = vary.plants_of(axis, 1.0 + 0.02 * rng.normal(size=(LANES, len(known))))
    loops = []
    for _ in range(repeats):
        models = [Run(lift, axis, plant).model for plant in plants]
        together = Lanes(models)
        for model in models:
            model.advance(ROWS)
        together.advance(ROWS)
        begin = time.perf_counter()
        for model in models:
            model.advance(ROWS)
        between = time.perf_counter()
        together.advance(ROWS)
        loops.append((between - begin, time.perf_counter() - between))
    times = min(repeats, 5)
    alone = best(lambda: [rehearse(lift, axis, plant=plant) for plant in plants], times)
    beside = best(lambda: rehearse_beside(lift, axis, plants), times)
    return min(a for a, _ in loops) / min(b for _, b in loops), alone / beside


def each(axis: Axis, few: int, many: int) -> float:
    """Return the cost of a variant among many over that of one among few."""
    short = Scenario(name="s", control=Control.SPEED, duration=0.2,
                     points=(Point(at=0.02, value=30.0, acceleration=600.0),))  # fmt: skip
    one = min(best(lambda: study(short, axis, few), 1) for _ in range(3)) / few
    return best(lambda: study(short, axis, many), 1) / many / one


def bare(axis: Axis, believed: PlantParameters) -> float:
    """Return what the bins cost: a rehearsal over the kernel alone."""

    def alone() -> None:
        model = begun(plan_of(SPIN, axis), axis, believed)
        model.advance(round(SPIN.duration / axis.inverter.Ts))

    return best(lambda: rehearse(SPIN, axis), 7) / best(alone, 7)


def rows_of(short: bool) -> list[Row]:
    """Return every measured figure with its bar."""
    axis, rows = winch(), []
    lift = replace(LIFT, duration=1.0, points=LIFT.points[:1]) if short else LIFT
    variants, few, many = (16, 16, 32) if short else (64, 100, 10_000)
    samples, repeats, moves = (6000, 1, 6) if short else (60_000, 12, 60)
    rehearse(SPIN, axis)
    for kind, bar, apart_bar in (("averaged", 1500.0, 1e-4), ("space vector", 2500.0, 1e-5)):
        times, apart = against_solver(kind, 10 if short else 200)
        rows.append((f"solve_ivp of the plant over the kernel, {kind}", times, bar, True, "×"))
        rows.append((f"iq beside DOP853, {kind}", apart, apart_bar, False, "A"))
    share, grown = real_time(axis, lift, Modulation.AVERAGED)
    rows.append((f"a lift of {lift.duration:g} s, of real time, averaged", share, 0.1, False, ""))
    rows.append(("memory that it takes", grown, 20.0, False, "MB"))
    share, _ = real_time(axis, lift, Modulation.SPACE_VECTOR)
    rows.append(("the same, space vector", share, 1.0, False, ""))
    believed = bridged(believed_plant(axis), axis, Modulation.AVERAGED)
    rows.append(("a rehearsal over its kernel alone", bare(axis, believed), 2.0, False, "×"))
    free, twice = threads(axis, lift, variants, samples, 1 if short else 5)
    rows.append(("what two threads do here at best", free, 1.7, True, "×"))
    rows.append((f"{variants} variants of it on two threads over one", twice, 1.7, True, "×"))
    loop, whole = lanes(axis, lift, repeats)
    rows.append(("the loop, eight in lanes over eight alone", loop, 5.0, True, "×"))
    rows.append(("rehearsals of eight variants, likewise", whole, 5.0, True, "×"))
    rows.append((f"a variant of {many} over one of {few}", each(axis, few, many), 1.3, False, "×"))
    rows += window_rows(axis, moves)
    return rows


def window_rows(axis: Axis, many: int) -> list[Row]:
    """Return what the window does with long runs and with points that are dragged."""
    shown, dragged = measured(axis, many=many)
    return [("frames a second, 8 channels of 200 000 points", shown, 30.0, True, ""),
            ("a point of 5 s is dragged, until drawn", dragged, 100.0, False, "ms")]  # fmt: skip


def main(*, short: bool = False) -> None:
    """Print the table."""
    for name, value, bar, more, unit in rows_of(short):
        missed = value < bar if more else value > bar
        sign = "≥" if more else "≤"
        print(f"{name:52}{value:12.3g} {unit:3}{sign} {bar:<8g}{'  MISSED' if missed else ''}")


if __name__ == "__main__":
    main(short="--short" in sys.argv)
