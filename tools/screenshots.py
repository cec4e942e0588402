"""Make the pictures of the documentation from the demo's data: `make screenshots`."""

import shutil
import sys
import tempfile
from pathlib import Path

from oarlock.demo.job import run_job
from oarlock.ui.screenshots import take_screenshots


def main() -> int:
    """Do the demo's job, take its pictures, put them into a folder."""
    target = Path(sys.argv[1] if len(sys.argv) > 1 else "docs/screenshots")
    target.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "demo"
        status = run_job(folder, lambda _text: None)
        made = take_screenshots(
            folder / "river-survey.oarlock", Path(name), dark=("current",), practice=True
        )
        for picture in made:
            shutil.copyfile(picture, target / picture.name)
            print(target / picture.name)
    return status


if __name__ == "__main__":
    sys.exit(main())
