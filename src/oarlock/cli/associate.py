"""Make the desktop open projects with this program."""

import os
import shutil
import subprocess
import sys
from pathlib import Path

import click

from oarlock.errors import InputError
from oarlock.files import write_atomic

_MIME = """<?xml version="1.0" encoding="UTF-8"?>
<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">
  <mime-type type="application/x-oarlock">
    <comment>Oarlock project</comment>
    <sub-class-of type="application/vnd.sqlite3"/>
    <glob pattern="*.oarlock"/>
  </mime-type>
</mime-info>
"""
_ENTRY = """[Desktop Entry]
Type=Application
Name=Oarlock
Comment=Identify a motor, tune its loops, prove them, hand the gains over
Exec={command} open %f
Terminal=false
Categories=Science;Engineering;Electronics;
MimeType=application/x-oarlock;
"""


@click.command()
@click.option("--remove", is_flag=True, help="Take it back.")
def associate(remove: bool) -> int:
    """Make the desktop open projects with this program."""
    data = Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")
    entry = data / "applications" / "oarlock.desktop"
    mime = data / "mime" / "packages" / "oarlock.xml"
    if remove:
        for path in (entry, mime):
            path.unlink(missing_ok=True)
    else:
        command = _command()
        for path, text in ((entry, _ENTRY.format(command=command)), (mime, _MIME)):
            try:
                path.parent.mkdir(parents=True, exist_ok=True)
            except OSError as error:
                raise InputError(f"cannot be made: {error.strerror}", place=str(path.parent),
                                 remedy="Check its permissions") from error  # fmt: skip
            write_atomic(path, text.encode(), backup=False)
    for tool, folder in (("update-mime-database", data / "mime"),
                         ("update-desktop-database", entry.parent)):  # fmt: skip
        found = shutil.which(tool)
        if found and folder.is_dir():
            subprocess.run([found, str(folder)], check=False, capture_output=True)
    click.echo("Projects are no longer opened with Oarlock" if remove
               else f"Projects are opened with {_command()}")  # fmt: skip
    return 0


def _command() -> str:
    """Return how this program is started, quoted as desktop entries want it."""
    program = Path(sys.argv[0]).absolute()
    plain = str(program).replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%")
    return f'"{plain}"'
