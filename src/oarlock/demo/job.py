"""The whole job on the demo without a window: sense, identify, tune, verify, hand over.

The same session, experiments, estimators and proof as in the window; only the views are left
out.
"""

import math
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from oarlock.cancel import Cancel
from oarlock.control.compiled import warm
from oarlock.control.current import design_current
from oarlock.control.margins import Margins
from oarlock.demo.position_part import tune_position
from oarlock.demo.project import make_demo
from oarlock.demo.speed_part import tune_speed
from oarlock.drive.canopen_link import CanopenLink
from oarlock.drive.contract.trips import HEARTBEAT
from oarlock.drive.link import Link
from oarlock.drive.practice_process import PracticeProcess
from oarlock.errors import InputError, LinkError
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.identify.experiments import experiment_for
from oarlock.experiments.loops.current_response import CurrentSwept
from oarlock.experiments.loops.current_step import usual_current_step
from oarlock.experiments.loops.current_sweep import CurrentSweep
from oarlock.experiments.loops.step_response import StepResult
from oarlock.experiments.loops.sweep_response import SweepResult
from oarlock.experiments.loops.sweep_table import as_table
from oarlock.files import read_text, write_atomic
from oarlock.handover.header import default_map, header
from oarlock.handover.patch import code_only, patch_file
from oarlock.handover.proof import OUTER, Proof, error_sequence, prove
from oarlock.handover.values import values_for
from oarlock.machine import SensorKind
from oarlock.quantities.display import fixed, sentence, whole_degrees, with_std
from oarlock.records import Finding, Reading, Run
from oarlock.records.csv_file import write_record
from oarlock.records.quantity import BY_KEY, KEYS
from oarlock.session.perform import Performed, perform
from oarlock.session.session import Session
from oarlock.store.project import Project
from oarlock.views.handover import digest
from oarlock.views.sensing import answer, experiment_of, kinds_for, may_adopt, needed_for, steps
from oarlock.views.sensing_experiments import HAND, PULSES, PUSH, REST, SEARCH, SPIN, START, TURN

Say = Callable[[str], None]
_PACE = 8  # times real time
_WATCHDOG = 1.0  # s: nobody stands beside this drive, and the machine may be busy
_TRIES = 4  # of an experiment, where a busy machine could not keep the heartbeat


def run_job(folder: Path, say: Say, *, seed: int = 0) -> int:
    """Do the demo's job in `folder`, for each axis; return 0, or 1 where a check failed.

    Raises
    ------
    InputError, LinkError : it could not be done at all

    """
    path = make_demo(folder)
    warm()
    session = Session(Project.open(path), lambda call: call())
    failures: list[str] = []
    try:
        for name in session.axis_names:
            session.switch(name)
            failures += _with_drive(session, folder, say, seed)
        session.switch(session.axis_names[0])
    finally:
        if not session.close():
            raise InputError("the project could not be saved", place=str(path))
    for failure in failures:
        say(f"FAILED  {failure}")
    say("all checks hold" if not failures else "checks failed: see above")
    return 1 if failures else 0


def _with_drive(session: Session, folder: Path, say: Say, seed: int) -> list[str]:
    name = str(session.screen.practice)
    say(f"== {session.axis.name}, on its practice drive at {_PACE} times real time ==")
    drive = PracticeProcess("--seed", str(seed), "--axis", name, "--watchdog", str(_WATCHDOG),
                          "--pace", str(_PACE))  # fmt: skip
    try:
        job = _Job(session, lambda: CanopenLink(drive.channel), folder, say, name)
        try:
            return job.run()
        finally:
            job.close()
    finally:
        drive.stop()


def connected_again(connect: Callable[[], Link]) -> Link:
    """Connect to a drive that was just lost: it may still be held by what was lost, or too busy.

    Raises
    ------
    LinkError : it does not answer after a few tries either

    """
    for _ in range(_TRIES - 1):
        try:
            return connect()
        except LinkError:
            time.sleep(_WATCHDOG)
    return connect()


class _Job:
    def __init__(
        self, session: Session, connect: Callable[[], Link], folder: Path, say: Say, practice: str
    ) -> None:
        self._session, self._folder, self._say = session, folder, say
        self._practice, self._connect, self._link = practice, connect, connect()
        self._held = self._link.read(["Facts.Shaft held"])["Facts.Shaft held"] > 0.0
        self._failures: list[str] = []

    def close(self) -> None:
        """Leave the drive."""
        self._link.close()

    def run(self) -> list[str]:
        self._sense()
        if self._failures:
            self._say("sensing does not hold: nothing else is begun")
            return self._failures
        self._identify()
        if self._failures:
            self._say("identification does not hold: no loop is tuned")
            return self._failures
        margins = self._design()
        # Along q a free shaft would spin: there the step along d verifies both, by the same law.
        tried = [self._verify(name) for name in (("d", "q") if self._held else ("d",))]
        self._tell_figures(margins, tried)
        if self._held:
            self._sweep()
        self._failures += tune_speed(self._session, self._play, self._say)
        if self._session.axis.sensor.kind is not SensorKind.HALL:  # edges are no place to stand at
            self._failures += tune_position(self._session, self._play, self._say)
        self._hand_over()
        return self._failures

    def _sense(self) -> None:
        """Do what the axis's sensors need, in order; each that holds is used from then on."""
        axis = self._session.axis
        wanted = needed_for(axis)
        order = [k for k in (REST, HAND, PULSES, TURN, PUSH) if k in wanted]
        order += [SEARCH] if SEARCH in kinds_for(axis) else []
        order += [SPIN, START] if START in kinds_for(axis) else []
        for kind in order:
            step = steps(self._session.now)[kind]
            if step.waits_for:
                self._failures.append(f"{step.title} waits for {step.waits_for}")
                return
            run, finding = self._play(
                experiment_of(kind, self._session.now), kind.replace(" ", "-")
            )
            if not isinstance(finding, Finding) or not finding.holds:
                why = finding.failed[0].sentence if isinstance(finding, Finding) else run.ended
                self._say(f"{step.title:32}{why}")
                self._failures.append(f"{kind}: {why}")
                return
            if may_adopt(self._session.now, run, finding):
                self._session.adopt(finding, run)
            self._say(f"{step.title:32}{finding.remark}")
        self._say(answer(self._session.now, steps(self._session.now))[0])
        self._say("")

    def _play(self, experiment: Experiment, name: str) -> tuple[Run, Reading | None]:
        performed, run, lost = None, None, None
        for _ in range(_TRIES):
            try:
                performed = perform(
                    experiment, self._session.axis, self._link, lambda _f, _d: None, Cancel(),
                    self._keep_attempt,
                )  # fmt: skip
            except LinkError as error:
                lost = error
                self._say(f"{name}: {error}; connected again")
                self._link.close()
                self._link = connected_again(self._connect)
                continue
            run = self._session.keep(performed)
            if performed.record.trip != HEARTBEAT.key:
                break
            self._say(f"{name}: {run.ended}, this machine stood still; played again")
            time.sleep(_WATCHDOG)
        if performed is None or run is None:
            assert lost is not None
            raise lost
        record, reading = performed.record, performed.reading
        if isinstance(reading, SweepResult | CurrentSwept):
            record = as_table(run, reading)
        write_record(self._folder / f"{run.id:02d}-{self._practice}-{name}.csv", record)
        return run, reading

    def _keep_attempt(self, performed: Performed) -> None:
        self._session.keep(performed)

    def _identify(self) -> None:
        self._say(f"{'quantity':14}{'datasheet':>14}{'measured':>14}{'±':>9}  check")
        for quantity in KEYS:
            run, finding = self._play(experiment_for(quantity, held=self._held), quantity)
            if not isinstance(finding, Finding):
                self._failures.append(f"{quantity}: {run.ended}")
                continue
            verdict = "holds" if finding.holds else finding.failed[0].sentence
            shown, number, plus = self._values(quantity, finding)
            self._say(f"{BY_KEY[quantity].name:14}{shown:>14}{number:>14}{plus:>9}  {verdict}")
            if finding.holds:
                self._session.adopt(finding, run)
            else:
                self._failures.append(f"{quantity}: {finding.failed[0].sentence}")

    def _values(self, quantity: str, finding: Finding) -> tuple[str, str, str]:
        """Return (printed, measured, ±) of a quantity as texts."""
        path = BY_KEY[quantity].path
        if path not in finding.estimates:
            return "", "-", ""
        old = self._session.axis.optional(path)
        printed = old.printed if old and old.printed.source else None
        found = finding.estimates[path]
        if quantity == "resonance":
            if found.value == 0.0:
                return "", "rigid", ""
            found = replace(found, value=found.value / math.tau, unit="Hz",
                            std=(found.std or 0.0) / math.tau)  # fmt: skip
        number, plus, unit = with_std(found.value, found.std, found.unit)
        return sentence(printed.value, printed.unit, 4) if printed else "", f"{number} {unit}", plus

    def _design(self) -> Margins:
        axis = self._session.axis
        design = design_current(axis)
        self._session.edit("Take the designed gains", axis.with_gains(design.gains))
        g = design.gains
        self._say("")
        self._say(f"gains   Kp d {g.Kp_d:.4g}  Kp q {g.Kp_q:.4g} V/A"
                  f"   Ki d {g.Ki_d:.4g}  Ki q {g.Ki_q:.4g} V/(A s)")  # fmt: skip
        m = design.margins
        margin = whole_degrees(math.degrees(m.phase_margin), 1)
        self._say(
            f"loop    crossover {m.crossover / math.tau:.0f} Hz, bandwidth "
            f"{m.bandwidth / math.tau:.0f} Hz, margin {margin}°, "
            f"{20 * math.log10(m.gain_margin):.1f} dB, Ms {m.Ms:.2f}"
        )
        return m

    def _verify(self, name: str) -> tuple[str, StepResult | None]:
        session = self._session
        step = usual_current_step(session.axis, name)
        run, result = self._play(step, f"step-{name}")
        if not isinstance(result, StepResult):
            self._failures.append(f"step {name}: {run.ended}")
            return name, None
        self._failures += [f"step {name}: {c.sentence}" for c in result.checks if not c.passed]
        return name, result

    def _sweep(self) -> None:
        """Measure the open current loop along q, the shaft held."""
        rated = self._session.axis.rated
        sweep = CurrentSweep(axis_name="q", bias=0.4 * rated, amplitude=0.08 * rated)
        run, result = self._play(sweep, "sweep-q")
        if not isinstance(result, CurrentSwept) or result.found is None:
            self._failures.append(f"sweep q: {run.ended}")
            return
        f = result.found
        self._say(f"sweep   crossover {f.crossover / math.tau:.0f} Hz, margin "
                  f"{math.degrees(f.phase_margin):.1f}°, Ms {fixed(f.Ms, 2)}, "
                  f"{int(result.points.trusted.sum())} points")  # fmt: skip
        self._failures += [f"sweep q: {c.sentence}" for c in result.checks if not c.passed]

    def _tell_figures(self, _m: Margins, steps: list[tuple[str, StepResult | None]]) -> None:
        head = f"{'step':8}{'':11}{'rise µs':>9}{'overshoot %':>13}{'settling µs':>13}"
        self._say("")
        self._say(f"{head}{'fn Hz':>8}{'damping':>9}")
        for name, result in steps:
            if result is None:
                continue
            rows = (
                ("predicted", result.predicted, result.predicted_fit),
                ("measured", result.response, result.fitted),
            )
            for word, f, fit in rows:
                self._say(
                    f"{name + ' axis':8}{word:11}{1e6 * f.rise:9.0f}{100 * f.overshoot:13.1f}"
                    f"{1e6 * f.settling:13.0f}{fit.natural_frequency / math.tau:8.0f}"
                    f"{fit.damping:9.2f}"
                )

    def _hand_over(self) -> None:
        session, folder = self._session, self._folder
        file = f"{self._practice}_gains.h"
        values = values_for(session.axis, code_only(read_text(folder / file)))
        errors = {}
        for name in ("d", "q"):
            found = session.now.verification(name)
            record = session.record(found[0].id) if found else None
            if record:
                errors[name] = error_sequence(record, name)
        for name, kind in (("speed", "speed step"), ("position", "position move")):
            test = session.now.tested(kind)
            if session.axis.loops[name].gains is not None:
                errors[name] = OUTER[name].sequence(session.record(test[0].id) if test else None)
        text = header(session.axis).encode()
        mapping = default_map(read_text(folder / file), values)
        patch = patch_file(folder / file, mapping, values)
        proofs: dict[str, Proof] = {}
        for label, content in (("new header", text), (file, patch.after)):
            named = default_map(content.decode("latin-1"), values)
            proofs[label] = prove(content, named, values, errors)
            self._say(f"\nproof   {label}: {proofs[label].sentence}" if label != file
                      else f"proof   {label}: {proofs[label].sentence}")  # fmt: skip
            if not proofs[label].exact and not proofs[label].missing:
                self._failures.append(f"proof of {label}: {proofs[label].sentence}")
        if proofs[file].exact:
            session.proven(digest(patch.after, values))
        write_atomic(folder / f"{self._practice}_gains_new.h", text, backup=False)
        if any(change.differs for change in patch.changes):
            kept = patch.write()
            session.written(file, {value.key: value.value for value in values})
            changed = sum(change.differs for change in patch.changes)
            self._say(f"wrote   {file}, {changed} values; before: {kept.name if kept else '-'}")
