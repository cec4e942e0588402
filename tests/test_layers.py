"""The core knows no Qt, whatever is imported."""

import pkgutil
import subprocess
import sys

import oarlock


def test_everything_but_the_window_imports_without_qt() -> None:
    names = [
        module.name
        for module in pkgutil.walk_packages(oarlock.__path__, "oarlock.")
        if not module.name.startswith(("oarlock.ui", "oarlock.__main__", "oarlock.practice.__main"))
    ]
    assert len(names) > 50
    program = (
        f"import importlib, sys\nfor n in {names!r}: importlib.import_module(n)\n"
        "sys.exit(any(m.split('.')[0] in ('PySide6', 'pyqtgraph') for m in sys.modules))"
    )
    assert subprocess.run([sys.executable, "-c", program], check=False).returncode == 0


def test_starting_the_window_does_not_wait_for_heavy_packages() -> None:
    heavy = ("scipy", "numba", "pint", "canopen", "can", "tomlkit")
    program = (
        "import sys, oarlock.ui.app\n"
        f"found = [m for m in {heavy!r} if m in sys.modules]\n"
        "print(found); sys.exit(bool(found))"
    )
    ran = subprocess.run([sys.executable, "-c", program], check=False, capture_output=True)
    assert ran.returncode == 0, ran.stdout
