"""The core knows no Qt, whatever is imported."""

import pkgutil
import subprocess
import sys
from pathlib import Path

import oarlock
from oarlock.session.session import Session
from oarlock.store.project import Project


def test_everything_but_the_window_imports_without_qt() -> None:
    names = [
        module.name
        for module in pkgutil.walk_packages(oarlock.__path__, "oarlock.")
        if not module.name.startswith(("oarlock.ui", "oarlock.__main__", "oarlock.practice.__main"))
    ]
    assert len(names) > 50
    program = (
        f"import importlib, sys\nfor n in {names!r}: importlib.import_module(n)\n"
        "sys.exit(any(m.split('.')[0] == 'PySide6' for m in sys.modules))"
    )
    assert subprocess.run([sys.executable, "-c", program], check=False).returncode == 0


def test_starting_the_window_does_not_wait_for_heavy_packages() -> None:
    heavy = ("scipy", "numba", "pint", "canopen", "can", "tomlkit", "pyqtgraph")
    program = (
        "import sys, oarlock.ui.frame.app\n"
        f"found = [m for m in {heavy!r} if m in sys.modules]\n"
        "print(found); sys.exit(bool(found))"
    )
    ran = subprocess.run([sys.executable, "-c", program], check=False, capture_output=True)
    assert ran.returncode == 0, ran.stdout


def test_a_kept_project_opens_without_the_units_package(demo_path: Path) -> None:
    session = Session(Project.open(demo_path), lambda call: call())
    session.enter("machine.R", "1.70 ohm l-l")
    assert session.close()
    program = (
        "import sys\nfrom pathlib import Path\n"
        "from oarlock.session.session import Session\nfrom oarlock.store.project import Project\n"
        f"s = Session(Project.open(Path({str(demo_path)!r})), lambda call: call())\n"
        "assert abs(s.axis.machine.R.value - 0.85) < 1e-12\ns.close()\n"
        "sys.exit('pint' in sys.modules)"
    )
    assert subprocess.run([sys.executable, "-c", program], check=False).returncode == 0
