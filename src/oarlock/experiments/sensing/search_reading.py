"""What a bounded search says: direction and zero, with friction and load taken out."""

import math
from dataclasses import replace

import numpy as np

from oarlock.errors import InputError
from oarlock.experiments.common.angles import wrap, wrapped
from oarlock.experiments.sensing.edges import solve
from oarlock.experiments.sensing.evidence import Trials
from oarlock.experiments.sensing.search import BoundedSearch
from oarlock.machine import Axis
from oarlock.quantities import measured
from oarlock.records import Check, Finding, Record
from oarlock.records.settings import number


def read_search(record: Record, axis: Axis) -> Finding:
    """Return direction and zero from a bounded search.

    Parameters
    ----------
    record : one row for each trial, as `BoundedSearch.perform` gives it

    """
    moved = record["theta_m_after"] - record["theta_m"]
    away = record["theta_m_after"] - record["theta_m"][0] if moved.size else np.zeros(1)
    far = float(np.max(np.abs(away)))
    way = number(record.settings, "same_way", 0.0)
    checks = _first_checks(record, far)
    evidence = Trials(
        curve=np.cumsum(moved) if moved.size else np.zeros(1),
        angle=record["theta_e"],
        motion=record["motion"],
    )
    if record.ended != "done" or not way:
        return Finding(quantity=BoundedSearch.name, estimates={}, checks=tuple(checks),
                       remark=record.ended, evidence=evidence)  # fmt: skip
    rows = np.column_stack(
        [record[name] for name in ("theta_e", "id_ref", "motion", "theta_m", "edge", "edge_too")]
    )
    try:
        solved = solve(rows, axis, way)
    except InputError as error:
        checks.append(Check(code="four edges", passed=False, sentence=f"Only {error.cause}"))
        return Finding(quantity=BoundedSearch.name, estimates={}, checks=tuple(checks),
                       remark=error.cause, evidence=evidence)  # fmt: skip
    pairs = axis.machine.pole_pairs.value
    place = wrapped(record["theta_e"] - way * pairs * record["theta_m"] + solved.zero)
    # The edges' own halving, and what psi and Lq - Ld from paper may be wrong by.
    std = math.hypot(0.5 * solved.residual, math.radians(0.55))
    std = math.hypot(std, 0.03 * abs(solved.load) / number(record.settings, "most"))
    apart = f"{solved.edges} edges agree within {math.degrees(solved.residual):.1f}° (8 allowed)"
    agree = solved.residual < math.radians(8.0)
    checks.append(Check(code="edges agree", passed=agree, sentence=apart))
    used = number(record.settings, "side", 1.0)
    most = number(record.settings, "most")
    hides = math.asin(min(solved.friction / most, 1.0))
    torque = axis.machine.torque_constant
    return Finding(
        quantity=BoundedSearch.name,
        estimates={
            "sensor.side": measured(way * used, 0.0, "1"),
            "sensor.zero": measured(wrap(solved.zero), std, "rad"),
        },
        headline="sensor.zero",
        extra={
            "friction": measured(hides, None, "rad"),
            "breakaway": measured(solved.friction * torque, 0.1 * solved.friction * torque, "N m"),
            "load": measured(solved.load * torque, 0.1 * abs(solved.load) * torque, "N m"),
        },
        checks=tuple(checks),
        remark=f"{record.rows} trials, friction hides ±{math.degrees(hides):.0f}°",
        evidence=replace(evidence, place=place),
    )


def _first_checks(record: Record, far: float) -> list[Check]:
    return [
        Check(
            code="search ended",
            passed=record.ended == "done",
            sentence="Motion was seen on both sides of both ends"
            if record.ended == "done"
            else f"{record.ended[0].upper()}{record.ended[1:]}",
        ),
        Check(
            code="travel",
            passed=far <= math.radians(15.0),
            sentence=f"The shaft went {math.degrees(far):.1f}° at most (15 allowed)",
        ),
    ]
