"""`python -m oarlock.drive.contract`: write the data sheet and the page's tables anew."""

from pathlib import Path

from oarlock.drive.contract.eds import eds
from oarlock.drive.contract.page import filled_in


def main() -> None:
    """Write both files of this checkout."""
    here = Path(__file__).resolve()
    here.parents[1].joinpath("oarlock.eds").write_text(eds())
    page = here.parents[4] / "docs" / "drive-interface.md"
    page.write_text(filled_in(page.read_text()))


if __name__ == "__main__":
    main()
