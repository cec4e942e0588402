"""The cache of compiled kernels is a new one whenever any kernel's source changes."""

import shutil
import subprocess
import sys
from pathlib import Path

import oarlock
from oarlock.jit import kernel_sources

PROGRAM = "import os, oarlock.jit as j; j.kernel_folder(); print(os.environ['NUMBA_CACHE_DIR'])"


def folder(source: Path, base: Path) -> Path:
    environment = {"PYTHONPATH": str(source), "NUMBA_CACHE_DIR": str(base), "PATH": ""}
    command = [sys.executable, "-c", PROGRAM]
    ran = subprocess.run(command, env=environment, capture_output=True, text=True, check=True)
    return Path(ran.stdout.strip())


def test_every_kernel_source_names_the_cache(tmp_path: Path) -> None:
    source = tmp_path / "src"
    shutil.copytree(Path(oarlock.__file__).parent, source / "oarlock")
    base = tmp_path / "cache"
    first = folder(source, base)
    assert first.parent == base
    assert folder(source, base) == first
    assert folder(source, first) == first  # a child of a process that has chosen already
    seen = {first}
    for name in ("simulate/plant.py", "simulate/layout.py", "control/_kernels.py"):
        file = source / "oarlock" / name
        file.write_text(file.read_text() + "# changed\n")
        changed = folder(source, base)
        assert changed not in seen
        seen.add(changed)


def test_all_files_that_compile_are_counted() -> None:
    counted = {path.resolve() for path in kernel_sources()}
    root = Path(oarlock.__file__).parent
    for path in root.rglob("*.py"):
        if "njit" in path.read_text():
            assert path.resolve() in counted, path


def test_what_was_compiled_is_not_loaded_to_see_that_it_is_there(tmp_path: Path) -> None:
    """Numba keeps it by its source's place and date: another copy of the program has its own."""
    old, new = tmp_path / "old", tmp_path / "new"
    shutil.copytree(Path(oarlock.__file__).parent, old / "oarlock")
    program = "import sys; from oarlock.warm import done, main; done().touch(); print(done()); "

    def told(source: Path) -> bytes:
        return subprocess.run(
            [sys.executable, "-c", program + "sys.exit(main() or 'numba' in sys.modules)"],
            env={"PYTHONPATH": str(source), "NUMBA_CACHE_DIR": str(tmp_path / "cache"), "PATH": ""},
            capture_output=True, check=True,
        ).stdout  # fmt: skip

    first = told(old)
    assert told(old) == first
    shutil.copytree(old, new)
    assert told(new) != first
    (old / "oarlock/simulate/plant.py").touch()
    assert told(old) != first
