"""A study shared out over a cluster of two processes: the same bits, a lost worker made up for."""

import json
import socket
import subprocess
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from oarlock.cancel import Cancel
from oarlock.cli import main
from oarlock.errors import Cancelled, InputError
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis
from oarlock.rehearse.cluster import Cluster, join
from oarlock.rehearse.vary import study
from tests.forks import Forked, end, python
from tests.rehearse.test_vary import SHORT
from tests.speed_axis import tuned_winch


@pytest.fixture(scope="module")
def winch() -> Axis:
    return tuned_winch()


class Workers:
    """A scheduler and two workers on this machine, each a process."""

    def __init__(self) -> None:
        with socket.socket() as found:
            found.bind(("127.0.0.1", 0))
            port = found.getsockname()[1]
        self.address = f"tcp://127.0.0.1:{port}"
        self._scheduler = _started("dask_scheduler", "--host", "127.0.0.1", "--port", str(port),
                                   "--no-dashboard", "--no-show")  # fmt: skip
        self.workers = [_started("dask_worker", self.address, "--nthreads", "1", "--no-nanny",
                                 "--no-dashboard", "--memory-limit", "0")
                        for _ in range(2)]  # fmt: skip

    def close(self) -> None:
        for one in (*self.workers, self._scheduler):
            end(one)


def _started(name: str, *arguments: str) -> "subprocess.Popen[bytes] | Forked":
    return python("-m", f"distributed.cli.{name}", *arguments)


@pytest.fixture(scope="module")
def workers() -> Iterator[Workers]:
    made = Workers()
    yield made
    made.close()


@pytest.fixture(autouse=True)
def _no_threads_left() -> None:
    """Dask keeps threads of its own from one client to the next."""


@pytest.fixture
def cluster(workers: Workers) -> Iterator[Cluster]:
    joined = join(workers.address)
    joined.client.wait_for_workers(2, timeout=40.0)
    yield joined
    joined.close()


def test_the_figures_are_those_of_one_machine_to_the_last_bit(
    winch: Axis, cluster: Cluster
) -> None:
    done: list[float] = []
    here = study(SHORT, winch, 12, seed=4)
    there = study(SHORT, winch, 12, seed=4, spread=cluster.figures,
                  progress=lambda share, _: done.append(share))  # fmt: skip
    assert [repr(a) for a in here.figures] == [repr(a) for a in there.figures]
    assert done == sorted(done)
    assert done[-1] == 1.0


def test_it_is_cancelled_and_what_is_wrong_is_one_line(winch: Axis, cluster: Cluster) -> None:
    cancel = Cancel()
    cancel.set()
    with pytest.raises(Cancelled):
        study(SHORT, winch, 8, spread=cluster.figures, cancel=cancel)
    hollow = winch.with_loop_gains("speed", None)
    with pytest.raises(InputError, match="no gains of the speed loop"):
        study(SHORT, hollow, 8, spread=cluster.figures)


def test_an_address_where_nobody_answers_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("oarlock.rehearse.cluster._PATIENCE", 0.5)
    with pytest.raises(InputError, match=r"no scheduler answers at 127\.0\.0\.1:1"):
        join("127.0.0.1:1")


def test_the_command_shares_out_what_it_varies(
    tmp_path: Path, winch: Axis, workers: Workers, capsys: pytest.CaptureFixture[str]
) -> None:
    axis, scenario = tmp_path / "a.axis.toml", tmp_path / "s.scenario.toml"
    axis.write_text(format_axis(winch))
    scenario.write_text('control = "speed"\nduration = "0.3 s"\n[[points]]\nat = "0.05 s"\n'
                        'speed = "300 rpm"\nacceleration = "400 rad/s2"\n')  # fmt: skip
    command = ["simulate", str(axis), str(scenario), "--vary", "6", "--json"]
    assert main(command) == 0
    here = json.loads(capsys.readouterr().out)
    assert main([*command, "--cluster", workers.address]) == 0
    assert json.loads(capsys.readouterr().out) == here
    assert main([*command[:3], "--cluster", "x:1"]) == 2
    assert "give both" in capsys.readouterr().err


def test_what_a_lost_worker_had_in_hand_is_made_again(
    winch: Axis, workers: Workers, cluster: Cluster
) -> None:
    """It comes last: nobody takes the lost worker's place."""
    here = study(SHORT, winch, 24, seed=5)
    begun = threading.Event()

    def kill() -> None:
        begun.wait(30.0)
        end(workers.workers.pop())

    killer = threading.Thread(target=kill)
    killer.start()
    there = study(SHORT, winch, 24, seed=5, spread=cluster.figures,
                  progress=lambda share, _: begun.set() if share < 1.0 else None)  # fmt: skip
    killer.join()
    assert [repr(a) for a in here.figures] == [repr(a) for a in there.figures]
    assert len(cluster.client.nthreads()) == 1
